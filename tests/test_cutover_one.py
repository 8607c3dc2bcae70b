"""One host in one command, without a plan: from a script, and every question of a terminal."""

from __future__ import annotations

import json
import os
from pathlib import Path

import pexpect
import pytest

from tests.test_commands import ALONE, PROGRAM, heeds_interrupts, run

HOST = ("--host", "standin:station.yaml/tide-db")
POOL = ("--pool", "203.0.113.100-203.0.113.199")
FILE = "hosts/tide-db/etc/netplan/50-tide.yaml"


def untouched(site: Path, before: bytes) -> None:
    """Nothing was changed, and nothing was left behind."""
    assert (site / FILE).read_bytes() == before
    changes = site / "hosts/tide-db/state/changes"
    assert not changes.exists() or not list(changes.iterdir())
    assert not (site / ".fixed-anchor/plans").exists()
    assert not (site / "own.yaml").exists()


@pytest.mark.parametrize(
    ("words", "held"),
    [
        (("--at", "203.0.113.20"), "203.0.113.20"),
        (("--pick",), "203.0.113."),
        (("--at", "203.0.113.20/24", "-o", "own.yaml"), "203.0.113.20"),
    ],
)
def test_from_a_script(site: Path, words: tuple[str, ...], held: str) -> None:
    told = run(site, "cutover", *words, *HOST, *POOL, "--yes", "--unattended", "--json")
    assert told.returncode == 0, told.stdout + told.stderr
    document = json.loads(told.stdout)
    assert document["hosts"][0]["change"]["state"] == "confirmed"
    assert held in (site / FILE).read_text()
    plans = list((site / ".fixed-anchor/plans").glob("tide-db-*.yaml")) if "-o" not in words else [site / "own.yaml"]
    assert len(plans) == 1
    # The plan is kept with the change, and is of use from anywhere.
    about = json.loads((site / "hosts/tide-db/state/changes/0001/about.json").read_text())
    assert about["plan_text"] == plans[0].read_text()
    back = run(site, "restore", "--plan", str(plans[0]), "tide-db:1", "--patience", "3")
    assert back.returncode == 0, back.stdout + back.stderr


@pytest.mark.parametrize(
    ("words", "status", "says"),
    [
        ((), 2, "name a PLAN"),
        (("--keep", "--pick"), 2, "name a PLAN"),
        (("--keep", "--all"), 2, "name a PLAN"),
        (("plan.yaml", "--keep"), 2, "a plan says the address"),
        (("--at", "203.0.113.20", *HOST, *POOL), 2, "say --yes"),
        (("--at", "203.0.113.20", *HOST, *POOL, "--no-pool", "--yes"), 2, "exclude each other"),
        (("--at", "198.51.100.9", *HOST, *POOL, "--yes"), 2, "is not in 203.0.113.0/24"),
        (("--at", "203.0.113.20", "--host", "tide-db", "--yes"), 2, "ssh:tide-db"),
        (("--at", "203.0.113.20", *HOST, *POOL, "--yes", "-o", "plan.yaml"), 2, "exists already"),
        # A lease that its server may give to others; and without a pool nobody knows whether the address is in one.
        (("--keep", *HOST, *POOL, "--yes"), 1, "lease-not-reserved"),
        (("--at", "203.0.113.20", *HOST, "--yes"), 6, "undetermined"),
        (("--at", "203.0.113.20", *HOST, *POOL, "--dry-run"), 0, "nothing was done"),
    ],
)
def test_what_ends_without_a_change(site: Path, words: tuple[str, ...], status: int, says: str) -> None:
    before = (site / FILE).read_bytes()
    done = run(site, "cutover", *words)
    assert done.returncode == status, done.stdout + done.stderr
    assert says in done.stdout + done.stderr
    assert "Traceback" not in done.stderr
    untouched(site, before)


def terminal(site: Path, *words: str) -> pexpect.spawn:
    environment = os.environ | {"COLUMNS": "200"}
    argv = [*ALONE, str(PROGRAM), "--color", "never", "cutover", "--at", "203.0.113.20", *HOST, *words]
    opened = pexpect.spawn(
        argv[0], argv[1:], cwd=str(site), env=environment, encoding="utf-8", timeout=120, preexec_fn=heeds_interrupts
    )
    opened.setwinsize(50, 200)
    return opened


@pytest.mark.parametrize("question", ["DHCP pools", "Begin the change"])
@pytest.mark.parametrize("answer", ["no", "ctrl-c", "end", "closed"])
def test_answers_that_change_nothing(site: Path, question: str, answer: str) -> None:
    before = (site / FILE).read_bytes()
    seat = terminal(site)
    seat.expect("DHCP pools")
    if question == "Begin the change":
        seat.sendline("203.0.113.100-203.0.113.199")
        seat.expect("Begin the change of enp1s0 on tide-db")
    if answer == "closed":
        seat.close(force=True)
        untouched(site, before)
        return
    {"no": lambda: seat.sendline(""), "ctrl-c": seat.sendintr, "end": seat.sendeof}[answer]()
    seat.expect(pexpect.EOF)
    seat.close()
    said = seat.before
    if answer == "no" and question == "DHCP pools":
        # Who does not know the pools gets what was found, and no change.
        assert "undetermined" in said
        assert seat.exitstatus == 6
    else:
        assert "nothing was changed" in said
        assert seat.exitstatus == (0 if answer == "no" else 130)
    assert "Traceback" not in said
    untouched(site, before)


def test_on_a_terminal(site: Path) -> None:
    seat = terminal(site, "--unattended")
    for wrong, says in (("200", "expected|not"), ("198.51.100.1-198.51.100.9", "is not in 203.0.113.0/24")):
        seat.expect("DHCP pools")
        seat.sendline(wrong)
        seat.expect(says)
    seat.expect("DHCP pools")
    seat.sendline("203.0.113.100-203.0.113.199")
    # One screen: the plan, the verdict, the diff.
    for shown in ("hold: \\[203.0.113.20\\]", ": clear", "\\+ +- 203.0.113.20/24", "Begin the change"):
        seat.expect(shown)
    seat.sendline("y")
    seat.expect("change 0001: confirmed")
    seat.expect(pexpect.EOF)
    seat.close()
    assert seat.exitstatus == 0
