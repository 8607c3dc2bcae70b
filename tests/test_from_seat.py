"""Commands on several hosts from one seat, on the demo's hosts that are reached over SSH: one of them is down."""

from __future__ import annotations

import json
import subprocess
import time
from pathlib import Path

import pytest

from fixed_anchor.planfile.reader import read_plan
from fixed_anchor.standins.layout import lay_out
from tests.test_commands import PROGRAM, run
from tests.test_habits import plain

SEAT = ("--plan", "seat.yaml")


@pytest.fixture
def site(tmp_path: Path) -> Path:
    lay_out(tmp_path / "site")
    return tmp_path / "site"


def begin(site: Path, host: str) -> subprocess.Popen[bytes]:
    """A cutover that waits for its confirmation."""
    argv = [str(PROGRAM), "cutover", "seat.yaml", "--host", host]
    process = subprocess.Popen(argv, cwd=site, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=plain())
    until = time.monotonic() + 120
    while not (site / f"hosts/{host}/state/changes/0001/verdict").exists():
        assert time.monotonic() < until
        assert process.poll() is None
        time.sleep(0.05)
    return process


@pytest.mark.parametrize(
    ("words", "status", "said"),
    [
        ("survey --plan seat.yaml", 4, "auk-store is not reached"),
        ("survey --plan seat.yaml --host tide-ns1 --host tide-ns2", 0, "203.0.113.114/24"),
        ("survey --host tide-ns1", 2, "--host ssh:tide-ns1"),
        ("survey --host ssh:-oX=y", 2, "begins with `-`"),
        ("survey --host tree:hosts/tide-ns1", 0, "files only"),
        ("check seat.yaml", 4, "host-not-reached"),
        ("check seat.yaml --host tide-ns1", 0, "seat.yaml: clear"),
        ("check seat.yaml --host auk-store", 4, "is not reached"),
        ("check seat.yaml --address 203.0.113.23", 4, "from enp1s0 of tide-ns2\n"),
        ("draft seat.yaml", 4, "203.0.113.23/24"),
        ("verify seat.yaml", 1, "auk-store is not reached"),
        ("cutover seat.yaml", 2, "tide-ns1, tide-ns2, puffin-web, auk-store"),
        ("cutover seat.yaml --host auk-store", 4, "is not reached"),
        ("status --plan seat.yaml", 4, "never changed"),
        ("history --plan seat.yaml --host tide-ns1", 0, "no change on tide-ns1"),
        ("confirm --plan seat.yaml", 2, "or with --all: tide-ns1"),
        ("restore --plan seat.yaml", 2, "or with --all: tide-ns1"),
        ("confirm --all", 2, "goes with --plan"),
        ("confirm --host tide-ns1", 2, "goes with --plan"),
        ("confirm tide-ns1:1", 2, "goes with --plan"),
        ("confirm --plan seat.yaml 1", 2, "Write HOST:1"),
        ("confirm --plan seat.yaml tide-ns1:", 2, "write HOST:NUMBER"),
        ("confirm --plan seat.yaml tide-ns1:1 --host tide-ns2", 2, "names the host already"),
        ("confirm --plan seat.yaml --all --host tide-ns2", 2, "exclude each other"),
        ("confirm --plan seat.yaml nobody:1", 2, "the plan has no host nobody"),
        ("confirm --plan seat.yaml tide-ns1:1", 2, "no change 0001 on tide-ns1"),
        ("restore --plan seat.yaml --all", 4, "there was no change on tide-ns1"),
        ("probe 203.0.113.32 --plan seat.yaml --from tide-ns1", 1, "taken"),
        ("probe 203.0.113.32 --plan seat.yaml", 2, "--from HOST"),
        ("probe 203.0.113.32 --from tide-ns1", 2, "ssh:tide-ns1"),
        ("propose --plan seat.yaml --host tide-ns1 --host tide-ns2 --at 203.0.113.9 -o -", 2, "--keep or --pick"),
        ("propose --plan seat.yaml --host auk-store --keep -o -", 4, "is not reached"),
        ("close --plan seat.yaml tide-ns1:1 --because x", 2, "no change 0001"),
    ],
)
def test_which_hosts(site: Path, words: str, status: int, said: str) -> None:
    done = run(site, *words.split())
    assert done.returncode == status, done.stdout + done.stderr
    assert said in done.stdout + done.stderr
    assert "Traceback" not in done.stderr


def test_two_changes_at_once(site: Path) -> None:
    """Each is told with what to type; both are kept together, and taken back one after the other."""
    waiting = [begin(site, host) for host in ("tide-ns1", "tide-ns2")]
    told = run(site, "status", *SEAT)
    assert told.returncode == 4
    for host in ("tide-ns1", "tide-ns2"):
        assert f"fixed-anchor confirm --plan seat.yaml {host}:0001" in told.stdout
    refused = run(site, "cutover", "seat.yaml", "--host", "tide-ns1")
    assert refused.returncode == 7
    assert "confirm --plan seat.yaml tide-ns1:0001" in refused.stderr
    later = run(site, "confirm", *SEAT, "--host", "tide-ns1", "--host", "tide-ns2", "--more-time", "60")
    assert later.returncode == 0, later.stderr
    assert later.stdout.count("automatic rollback at") == 2
    kept = run(site, "confirm", *SEAT, "--all", "--at-once", "2", "--json")
    assert kept.returncode == 4
    hosts = {one["host"]: one for one in json.loads(kept.stdout)["hosts"]}
    assert {name for name, one in hosts.items() if one["change"]} == {"tide-ns1", "tide-ns2"}
    assert hosts["puffin-web"]["error"]["exit_status"] == 7
    assert hosts["auk-store"]["error"]["exit_status"] == 4
    for process in waiting:
        assert process.wait(120) == 0
    told = run(site, "history", *SEAT, "tide-ns1:1")
    assert "over SSH" in told.stdout
    back = run(site, "restore", *SEAT, "--host", "tide-ns1", "--host", "tide-ns2")
    assert back.returncode == 0, back.stdout + back.stderr
    assert back.stdout.count("change 0002: confirmed") == 2


def test_unattended_is_over_a_new_connection(site: Path) -> None:
    done = run(site, "cutover", "seat.yaml", "--host", "tide-ns1", "--unattended")
    assert done.returncode == 0, done.stdout + done.stderr
    assert "203.0.113.23 is this host, by its host key and its MAC" in done.stdout
    assert "tide-ns2 finds 203.0.113.23 at this host alone" in done.stdout
    assert "203.0.113.23 port 22 takes connections of tide-ns2" in done.stdout
    log = (site / "hosts/tide-ns1/state/changes/0001/log").read_text()
    assert ", unattended confirmed it" in log
    assert not (site / "hosts/tide-ns1/state/changes/0001/unattended").exists()


def test_an_open_change_is_rolled_back(site: Path) -> None:
    process = begin(site, "tide-ns1")
    done = run(site, "restore", *SEAT, "tide-ns1:0001")
    assert done.returncode == 0, done.stderr
    assert "rolled back, because" in done.stdout
    assert process.wait(120) == 3


@pytest.mark.parametrize("how", ["--keep", "--pick"])
def test_one_plan_of_several_hosts(site: Path, tmp_path: Path, how: str) -> None:
    """Hosts of one subnet share a segment; nobody is given what another one is; the plan works where it is written."""
    words = [word for name in ("tide-ns1", "puffin-web", "tide-ns2") for word in ("--host", name)]
    made = run(site, "propose", *SEAT, *words, how, "-o", str(tmp_path / "plans" / "new.yaml"))
    assert made.returncode == 0, made.stderr
    plan = read_plan(tmp_path / "plans" / "new.yaml")
    assert set(plan.segments) == {"quay", "lofts"}
    held = {name: str(host.interfaces[0].hold[0].address) for name, host in plan.hosts.items()}
    assert len(set(held.values())) == 3
    if how == "--keep":
        assert held == {"tide-ns1": "203.0.113.113", "puffin-web": "198.18.5.22", "tide-ns2": "203.0.113.114"}
    drafted = run(tmp_path, "draft", "plans/new.yaml")
    assert drafted.returncode == 0, drafted.stdout + drafted.stderr
    assert drafted.stdout.count("as drafted") == 3


def test_without_a_plan_segments_are_named(site: Path) -> None:
    ways = [word for name in ("tide-ns1", "puffin-web") for word in ("--host", f"standin:station.yaml/{name}")]
    made = run(site, "propose", *ways, "--keep", "-o", "-")
    assert made.returncode == 0, made.stderr
    assert "  lan:\n" in made.stdout
    assert "  lan2:\n" in made.stdout
