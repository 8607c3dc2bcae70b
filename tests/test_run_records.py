"""The records of runs, and the way back from a whole run."""

from __future__ import annotations

import json
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest

from fixed_anchor.core.errors import InputError, NoAccess
from fixed_anchor.workflow.going_back import HostChange, in_force
from fixed_anchor.workflow.run import Run
from fixed_anchor.workflow.run_records import CUTOVER, RunStore, recorded
from tests.test_commands import heeds_interrupts, run
from tests.test_many_hosts import QUAY, SWAP, THREE, Hosts, document, go, held, numbers, site
from tests.test_run import happens, member

C, R, OUT = "cutover", "restore", "rolled-back"


@pytest.mark.parametrize(
    ("rows", "expected"),
    [
        ([], ""),
        ([(C, "")], "1"),
        ([(C, ""), (C, "")], "1 2"),
        ([(C, ""), (R, "1")], "2"),
        ([(C, ""), (C, ""), (R, "2")], "1 3"),
        ([(C, ""), (C, ""), (R, "1")], "3"),
        # A restore that is restored brings back what it had undone.
        ([(C, ""), (R, "1"), (R, "2")], "1 3"),
        ([(C, ""), (R, "1"), (C, "")], "2 3"),
        ([(OUT, ""), (C, "")], "2"),
    ],
)
def test_which_changes_are_in_force(rows: list[tuple[str, str]], expected: str) -> None:
    changes = [
        HostChange(str(n), OUT if kind == OUT else "confirmed", kind, of, "") for n, (kind, of) in enumerate(rows, 1)
    ]
    assert " ".join(sorted(in_force(changes))) == expected


def test_a_number_is_nobody_elses(tmp_path: Path) -> None:
    store = RunStore(tmp_path / "runs")
    assert store.numbers() == []
    made = [store.make(CUTOVER, "/plan.yaml") for _ in range(3)]
    assert [one.number for one in made] == ["0001", "0002", "0003"]
    assert len({one.id for one in made}) == 3
    # One whose seat died before anything was written is none, and its number stays taken.
    assert store.numbers() == []
    with recorded(store, made[1], None, []):
        assert store.numbers() == ["0002"]
        assert store.is_held("0002")
    assert not store.is_held("0002")
    assert (tmp_path / "runs").stat().st_mode & 0o077 == 0
    assert (tmp_path / "runs/0002/run.json").stat().st_mode & 0o077 == 0


@pytest.mark.parametrize("text", ["", "{", "[]", '{"number": 1}', "\x00\xff", '{"number": "0001", "id": "\x1b[2J"'])
def test_a_broken_record_is_named(tmp_path: Path, text: str) -> None:
    store = RunStore(tmp_path)
    (tmp_path / "0001").mkdir()
    (tmp_path / "0001/run.json").write_text(text)
    with pytest.raises(InputError) as caught:
        store.read("0001")
    assert caught.value.file == str(tmp_path / "0001/run.json")
    assert "\x1b" not in str(caught.value)


def test_what_is_written_comes_before_what_is_done(tmp_path: Path) -> None:
    """After each event the disk has what a seat that dies now must have told."""
    store = RunStore(tmp_path)
    kept = store.make(CUTOVER, "/plan.yaml")
    going = Run([member("tide-db", "looks")])
    going.start()
    seen = []
    with recorded(store, kept, "ticket 7", []) as recorder:
        recorder.expect([member("tide-db", "looks")], {"tide-db": "tide-db"}, {"tide-db": ("one host first",)})
        for word in ("baseline", "begun", "waiting", "good", "heard", "rolled back"):
            event = happens(word, "tide-db", 0.0)
            going.step(event)
            recorder.hear(going, event)
            turns = store.read(kept.number).turns
            seen.append([(one.begun is not None, one.change, one.state, one.ended is not None) for one in turns])
        recorder.end(going)
    assert seen[0] == [(True, "", "", False)]
    assert seen[1] == [(True, "0001", "", False)]
    assert seen[-1] == [(True, "0001", "rolled-back", True)]
    read = store.read(kept.number)
    assert (read.sittings[0].note, read.sittings[0].ended is not None) == ("ticket 7", True)
    assert read.turns[0].words == "nobody confirmed it in time"
    assert store.unfinished("/plan.yaml") is not None
    assert store.unfinished("/other.yaml") is None


@pytest.fixture(autouse=True)
def own_state(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))


def back(folder: Path, *words: str) -> subprocess.CompletedProcess[str]:
    done = run(folder, "restore", "--patience", "1", *words)
    assert "Traceback" not in done.stderr, done.stderr
    return done


def runs(folder: Path, *words: str) -> Any:
    return document(run(folder, "history", "--runs", *words, "--json"))["runs"]


def test_a_whole_run_is_restored(tmp_path: Path) -> None:
    folder = site(tmp_path, THREE)
    assert go(folder, "--note", "ticket 8").returncode == 0
    shown = run(folder, "history", "--runs").stdout
    assert "3 of 3" in shown
    assert "ticket 8" in shown
    dry = back(folder, "--run", "1", "--dry-run")
    assert dry.returncode == 0, dry.stderr
    assert f"regains {QUAY}50" in dry.stdout
    assert [held(folder, name) for name in THREE] == [[planned] for _, planned in THREE.values()]
    done = back(folder, "--run", "1")
    assert done.returncode == 0, done.stdout + done.stderr
    assert [held(folder, name) for name in THREE] == [[today] for today, _ in THREE.values()]
    first, second = runs(folder)
    assert (first["restored_by"], second["restores"], second["kind"]) == ("0002", "0001", "restore")
    assert [turn["host"] for turn in second["turns"]] == ["puffin-web", "kelp-files", "tide-db"]
    assert "run 0001" in run(folder, "history", "--plan", "plan.yaml", "--host", "tide-db", "1").stdout
    # Nothing is left to undo; and the way back has a way back itself.
    again = back(folder, "--run", "1")
    assert (again.returncode, "nothing of run 0001 is in force" in again.stdout) == (0, True)
    assert back(folder, "--run", "2").returncode == 0
    assert [held(folder, name) for name in THREE] == [[planned] for _, planned in THREE.values()]


def test_a_swap_is_restored_over_its_parking_address(tmp_path: Path) -> None:
    folder = site(tmp_path, SWAP)
    assert go(folder, "--park", f"{QUAY}240").returncode == 0
    done = back(folder, "--run", "1")
    assert done.returncode == 0, done.stdout + done.stderr
    assert [held(folder, name) for name in SWAP] == [[today] for today, _ in SWAP.values()]


def test_the_same_command_goes_on_with_the_same_run(tmp_path: Path) -> None:
    """A host that rolled back is corrected, the run goes on, and all of it is restored."""
    hosts = {"gannet-ws": ("198.51.100.50", "198.51.100.40")} | THREE
    folder = site(tmp_path, hosts)
    assert go(folder).returncode == 3
    station = (folder / "station.yaml").read_text()
    (folder / "station.yaml").write_text(station.replace("    forwards_after: 600\n", ""))
    assert "this goes on with run 0001" in go(folder, "--dry-run").stdout
    again = go(folder)
    assert again.returncode == 0, again.stdout + again.stderr
    (one,) = runs(folder)
    assert len(one["sittings"]) == 2
    assert "3 of 3" not in run(folder, "history", "--runs").stdout
    assert "4 of 4" in run(folder, "history", "--runs").stdout
    done = back(folder, "--run", "1")
    assert done.returncode == 0, done.stdout + done.stderr
    assert [held(folder, name) for name in hosts] == [[today] for today, _ in hosts.values()]


def test_one_whose_address_another_host_has_cannot_go_back(tmp_path: Path) -> None:
    chain: Hosts = {"tide-db": (f"{QUAY}20", f"{QUAY}21"), "kelp-files": (f"{QUAY}51", f"{QUAY}51")}
    folder = site(tmp_path, chain)
    assert go(folder).returncode == 0
    plan = (folder / "plan.yaml").read_text()
    (folder / "plan.yaml").write_text(plan.replace(f"hold: {QUAY}51", f"hold: {QUAY}20"))
    assert go(folder).returncode == 0
    done = back(folder, "--run", "1", "--json")
    assert done.returncode == 1, done.stdout + done.stderr
    by_host = {one["host"]: one for one in document(done)["hosts"]}
    assert by_host["tide-db"]["done"] == f"stays: kelp-files holds {QUAY}20, which it would regain"
    assert held(folder, "tide-db") == [f"{QUAY}21"]
    # The same of one host alone.
    alone = run(folder, "restore", "--plan", "plan.yaml", "--host", "tide-db")
    assert alone.returncode == 1, alone.stdout
    assert f"kelp-files holds {QUAY}20" in alone.stderr
    assert "Restore kelp-files first" in alone.stderr


def test_a_host_that_is_gone_is_named_before(tmp_path: Path) -> None:
    folder = site(tmp_path, THREE)
    assert go(folder).returncode == 0
    plan = (folder / "plan.yaml").read_text()
    (folder / "plan.yaml").write_text(plan[: plan.index("  puffin-web:")])
    done = back(folder, "--run", "1")
    assert done.returncode == 1, done.stdout + done.stderr
    assert "stays: the plan does not name it any more" in done.stdout
    assert held(folder, "tide-db") == [THREE["tide-db"][0]]
    assert held(folder, "puffin-web") == [THREE["puffin-web"][1]]


def test_a_seat_that_is_killed_leaves_a_true_record(tmp_path: Path) -> None:
    folder = site(tmp_path, THREE)
    words = ("--unattended", "--patience", "1", "--confirm-within", "10")
    argv = [sys.executable, "-m", "fixed_anchor", "cutover", "plan.yaml", "--all", *words]
    seat = subprocess.Popen(argv, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    turn = tmp_path / "state/fixed-anchor/runs/0001/turn-00001.json"
    until = time.monotonic() + 60
    while not (turn.exists() and json.loads(turn.read_text())["change"]) and time.monotonic() < until:
        time.sleep(0.01)
    seat.kill()
    seat.wait()
    # As long as somebody carries it out, nobody else does.
    held_by_another = RunStore(tmp_path / "state/fixed-anchor/runs").hold("0001")
    assert held_by_another is not None
    for other in (go(folder), back(folder, "--run", "1")):
        assert other.returncode == 1, other.stdout
        assert "run 0001 is under way in another session" in other.stderr
    held_by_another.close()
    (one,) = runs(folder)
    assert not one["under_way"]
    assert one["sittings"][0]["ended"] is None
    assert "its seat has gone" in run(folder, "history", "--runs").stdout
    time.sleep(1)
    until = time.monotonic() + 60
    while go(folder).returncode and time.monotonic() < until:
        time.sleep(0.5)
    assert [held(folder, name) for name in THREE] == [[planned] for _, planned in THREE.values()]
    (one,) = runs(folder)
    for name in THREE:
        last = [turn for turn in one["turns"] if turn["host"] == name][-1]
        assert (last["change"], last["state"]) == (numbers(folder, name)[-1], "confirmed")
    assert one["sittings"][-1]["ended"] is not None


def test_where_no_record_can_be_written_nothing_is_begun(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    folder = site(tmp_path, THREE)
    (tmp_path / "file").write_text("")
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "file"))
    done = go(folder)
    assert done.returncode == 4, done.stdout + done.stderr
    assert "XDG_STATE_HOME" in done.stderr
    assert not any(numbers(folder, name) for name in THREE)
    with pytest.raises(NoAccess):
        RunStore(tmp_path / "file").make(CUTOVER, "/plan.yaml")


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("restore", "--run", "7"), "there is no run 0007 of this seat"),
        (("restore", "--run", "1", "--all"), "--run names every change already"),
        (("history", "--runs", "tide-db:1"), "is not the number of a run"),
        (("history", "--runs", "--plan", "plan.yaml"), "--runs is about this seat"),
        (("history", "--runs", "7"), "there is no run 0007 of this seat"),
    ],
)
def test_bad_usage(tmp_path: Path, words: tuple[str, ...], said: str) -> None:
    done = run(site(tmp_path, THREE), *words)
    assert done.returncode == 2
    assert said in done.stderr


def test_ctrl_c_leaves_the_hosts_to_their_guards(tmp_path: Path) -> None:
    """Whoever watched goes home; from another session the wave is kept, and the run goes on."""
    folder = site(tmp_path, THREE)
    argv = [sys.executable, "-m", "fixed_anchor", "cutover", "plan.yaml", "--all", "--patience", "1"]
    with open(tmp_path / "out", "wb") as out:
        seat = subprocess.Popen(
            argv,
            cwd=folder,
            stdin=subprocess.DEVNULL,
            stdout=out,
            stderr=subprocess.STDOUT,
            preexec_fn=heeds_interrupts,
        )
    until = time.monotonic() + 60
    while "wave 1 is in force" not in (tmp_path / "out").read_text() and time.monotonic() < until:
        time.sleep(0.05)
    seat.send_signal(signal.SIGINT)
    assert seat.wait(30) == 130
    said = (tmp_path / "out").read_text()
    assert "tide-db go on without this terminal" in said
    assert "fixed-anchor status --plan plan.yaml" in said
    (one,) = runs(folder)
    assert (one["turns"][0]["change"], one["turns"][0]["ended"], one["under_way"]) == ("0001", None, False)
    assert "waiting" in run(folder, "status", "--plan", "plan.yaml").stdout
    kept = run(folder, "confirm", "--plan", "plan.yaml", "--all")
    assert kept.returncode == 0, kept.stdout + kept.stderr
    assert go(folder).returncode == 0
    (one,) = runs(folder)
    assert [(turn["host"], turn["state"]) for turn in one["turns"] if turn["change"]] == [
        ("tide-db", "confirmed"),
        ("kelp-files", "confirmed"),
        ("puffin-web", "confirmed"),
    ]
