"""What goes wrong around a change of a Windows machine: data that is not what it was, files that are damaged while it
waits, a disk that fills up. In a real PowerShell, over a simulated machine.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from fixed_anchor.change import states
from fixed_anchor.change.content import settings_in
from fixed_anchor.engine.windows_data import as_windows_files
from tests.disks import fill, mounted
from tests.powershell import needs_powershell
from tests.test_windows import MACHINES
from tests.test_windows_engine import FIXED, draft_of, terms, wanted_lines
from tests.windows_seat import WindowsSeat, windows_seat

pytestmark = needs_powershell


@pytest.fixture
def seat(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[WindowsSeat]:
    with windows_seat(tmp_path / "w", monkeypatch, MACHINES["leased"]["machine"]) as there:
        yield there


def altered(folder: Path) -> None:
    file = folder / "change.json"
    file.write_text(file.read_text().replace("198.51.100.20", "198.51.100.21"))


def cut_short(folder: Path) -> None:
    file = folder / "change.json"
    file.write_text(file.read_text()[:-40])


@pytest.mark.one_in(3)
@pytest.mark.parametrize("does", [altered, cut_short, lambda folder: (folder / "digest").unlink()])
def test_corrupt_data(seat: WindowsSeat, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, does: Any) -> None:
    """Every verb refuses it; before it began nothing is changed."""
    before = seat.lines()
    number = seat.target.machine.store
    files = as_windows_files("gannet-ws", settings_in(draft_of(FIXED, tmp_path).content), terms(), seat.target.facts)
    folder = seat.change()
    number.put_all(str(folder), files)
    does(folder)
    for verb in ("start", "status", "confirm"):
        ran = seat.machine.store.ask_engine(str(folder), verb, (), 30)
        if verb == "start":
            assert ran.status == 2, ran
            assert "the data of change 0001 is not" in ran.err
        else:
            assert ran.status in (2, 7), ran
    assert seat.lines() == before


#: A file of the change, and whether its guard dies as well.
DAMAGED = {
    "what was saved": ("saved.json", True),
    "the state": ("state", True),
    "the start of the machine": ("boot", True),
    "the deadline": ("deadline", True),
    "the deadline, under a guard that lives": ("deadline", False),
}


@pytest.mark.one_in(3)
@pytest.mark.parametrize("what", DAMAGED)
def test_damaged_while_it_waits(seat: WindowsSeat, tmp_path: Path, what: str) -> None:
    """Whatever of its files is damaged: at once where nobody can decide it any more, else at its deadline."""
    file, dies = DAMAGED[what]
    before = seat.lines()
    seat.begin(draft_of(FIXED, tmp_path), within=20 if file in ("saved.json", "boot") else 600)
    seat.until("waiting")
    if dies:
        seat.server.power_cut()
    (seat.change() / file).write_bytes(b"{ 1 2")
    assert seat.until("rolled-back", unless=seat.minute_passes) == "rolled-back"
    assert seat.lines() == before, seat.log()


# --- a disk that fills up -----------------------------------------------------------------------------


@pytest.fixture
def small(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[WindowsSeat]:
    """A machine whose folder of changes lies on a small disk."""
    with windows_seat(tmp_path / "w", monkeypatch, MACHINES["leased"]["machine"]) as there:
        folder = there.folder / "FixedAnchor"
        folder.mkdir()
        with mounted(folder, "size=12m"):
            yield there


@pytest.mark.one_in(3)
@pytest.mark.parametrize("how", [states.KEEP, states.ROLL_BACK, "the deadline"])
def test_a_disk_that_fills_up(small: WindowsSeat, tmp_path: Path, how: str) -> None:
    """The decision and the states that follow need no room that was not kept for them."""
    draft, before = draft_of(FIXED, tmp_path), small.lines()
    small.begin(draft, within=20 if how == "the deadline" else 600)
    small.until("waiting")
    fill(small.folder / "FixedAnchor")
    if how != "the deadline":
        small.target.decide("0001", how, "wren")
    ended = "confirmed" if how == states.KEEP else "rolled-back"
    assert small.until(ended, "stuck") == ended
    assert small.lines() == (wanted_lines(draft) if how == states.KEEP else before), small.log()
    # Its task goes just after its last word.
    small.until("gone", unless=lambda: not small.state()["tasks"])


def test_a_disk_that_takes_nothing(small: WindowsSeat, tmp_path: Path) -> None:
    """Nothing can be recorded: it is rolled back at its deadline all the same, and is over as soon as there is room."""
    before = small.lines()
    small.begin(draft_of(FIXED, tmp_path), within=20)
    small.until("waiting")
    (small.change() / "reserve").unlink()
    fill(small.folder / "FixedAnchor")
    end = time.monotonic() + 240
    while small.lines() != before:
        assert time.monotonic() < end, small.log()
        time.sleep(0.2)
    (small.folder / "FixedAnchor" / "fill").unlink()
    assert small.until("rolled-back", "stuck") == "rolled-back"
    assert small.target.open_change() is None
