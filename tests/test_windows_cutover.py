"""Whole changes of Windows machines from a seat: the installed program, an `ssh`, a real PowerShell, and its tasks."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.powershell import needs_powershell
from tests.test_commands import run
from tests.test_windows import MACHINES
from tests.windows_seat import WindowsSeat, windows_seat

pytestmark = needs_powershell

#: Whom the machine has found: its gateway, and nobody at the address to come.
NEIGHBOURS = [
    {"index": 4, "address": "198.51.100.1", "mac": "00-00-5E-00-53-04", "state": "Reachable"},
    {"index": 4, "address": "198.51.100.20", "mac": "00-00-00-00-00-00", "state": "Unreachable"},
]
#: Behind the router there is nothing in a test.
UNATTENDED = ("--unattended", "--patience", "8", "--accept", "forwarding-not-proven", "--because", "it is a test")
PLAN = """\
plan: 1
segments: {labs: {subnet: 198.51.100.0/24, gateway: 198.51.100.1, resolvers: 198.51.100.2, pools: []}}
hosts:
  gannet-ws:
    reach: ssh:gannet-ws
    interfaces:
      Ethernet: {mac: "00:00:5e:00:53:31", segment: labs, hold: 198.51.100.20}
"""


@pytest.fixture
def seat(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[WindowsSeat]:
    said = {**MACHINES["leased"]["machine"], "neighbours": NEIGHBOURS}
    (tmp_path / "plan.yaml").write_text(PLAN)
    with windows_seat(tmp_path / "w", monkeypatch, said) as there:
        yield there


def test_there_and_back(seat: WindowsSeat, tmp_path: Path) -> None:
    """Cutover, status, history, restore: as on all other hosts."""
    before = seat.lines()
    done = run(tmp_path, "cutover", "plan.yaml", "--host", "gannet-ws", *UNATTENDED)
    assert done.returncode == 0, done.stdout + done.stderr + seat.log()
    assert "answers-anew" in done.stdout
    assert "change 0001: confirmed" in done.stdout
    assert "198.51.100.20" in [a["address"] for a in seat.state()["adapters"][0]["addresses"]]
    told = run(tmp_path, "status", "--plan", "plan.yaml", "--host", "gannet-ws")
    assert "the last change, 0001 on Ethernet, is confirmed" in told.stdout, told.stdout + told.stderr
    past = run(tmp_path, "history", "--plan", "plan.yaml", "--host", "gannet-ws")
    assert "0001    confirmed" in past.stdout, past.stdout + past.stderr
    whole = run(tmp_path, "history", "--plan", "plan.yaml", "gannet-ws:0001")
    assert "EnableStatic of adapter 4" in whole.stdout, whole.stdout + whole.stderr
    restore = ("restore", "--plan", "plan.yaml", "--host", "gannet-ws", "--unattended", "--patience", "8")
    back = run(tmp_path, *restore)
    assert back.returncode == 0, back.stdout + back.stderr + seat.log("0002")
    assert seat.lines() == before


@pytest.mark.beyond_cover
def test_nobody_confirms(seat: WindowsSeat, tmp_path: Path) -> None:
    before = seat.lines()
    done = run(tmp_path, "cutover", "plan.yaml", "--host", "gannet-ws", "--confirm-within", "10", "--patience", "3")
    assert done.returncode == 3, done.stdout + done.stderr + seat.log()
    assert "nobody confirmed it in time" in done.stdout + done.stderr
    assert seat.lines() == before
