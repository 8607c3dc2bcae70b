"""The folder from which SYSTEM runs a change of a Windows machine: of SYSTEM and administrators alone, or nothing."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from fixed_anchor.change import states
from fixed_anchor.core.errors import AnchorError, NoAccess
from fixed_anchor.standins.windows.rights import SOMEBODY, described, get_acl
from tests.powershell import needs_powershell, powershell
from tests.test_windows import MACHINES
from tests.test_windows_engine import FIXED, draft_of
from tests.test_windows_runbook import runbook_file, runs
from tests.windows_seat import WindowsSeat, windows_seat

pytestmark = needs_powershell

#: Everything for SYSTEM and administrators, and nothing from above.
TWO = {"owner": "BA", "inherits": False, "entries": ["(A;OICI;FA;;;SY)", "(A;OICI;FA;;;BA)"]}
#: What the folder of somebody without rights looks like.
FOREIGN = {"owner": SOMEBODY, "entries": [f"(A;OICI;FA;;;{SOMEBODY})"]}


@pytest.fixture
def seat(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[WindowsSeat]:
    with windows_seat(tmp_path / "w", monkeypatch, MACHINES["leased"]["machine"]) as there:
        yield there


def made(seat: WindowsSeat, path: str, **rights: Any) -> Path:
    """A folder that somebody has made there."""
    folder = seat.folder / path
    folder.mkdir(parents=True)
    with seat.server.changing() as state:
        described(state, folder, **rights)
    return folder


def junction(seat: WindowsSeat) -> None:
    made(seat, "elsewhere", **TWO)
    (seat.folder / "FixedAnchor").symlink_to(seat.folder / "elsewhere")


def junction_below(seat: WindowsSeat) -> None:
    made(seat, "FixedAnchor", **TWO)
    made(seat, "elsewhere", **TWO)
    (seat.folder / "FixedAnchor/changes").symlink_to(seat.folder / "elsewhere")


def changes_foreign(seat: WindowsSeat) -> None:
    made(seat, "FixedAnchor", **TWO)
    made(seat, "FixedAnchor/changes", **FOREIGN)


def entry_below(seat: WindowsSeat) -> None:
    made(seat, "FixedAnchor", **TWO)
    made(seat, "FixedAnchor/changes", entries=[f"(A;;FA;;;{SOMEBODY})"])


BEFOREHAND: dict[str, tuple[Callable[[WindowsSeat], Any], str]] = {
    "a user made it": (lambda seat: made(seat, "FixedAnchor", **FOREIGN), "FixedAnchor belongs to GANNET-WS\\smew"),
    "it has an entry more": (
        lambda seat: made(seat, "FixedAnchor", **{**TWO, "entries": [*TWO["entries"], f"(A;;0x1301bf;;;{SOMEBODY})"]}),
        f"FixedAnchor has an entry for {SOMEBODY} in its list of rights",
    ),
    "everybody may write it": (
        lambda seat: made(seat, "FixedAnchor", **{**TWO, "entries": []}),
        "FixedAnchor has no list of rights that can be read",
    ),
    "it is a junction": (junction, "FixedAnchor is a link to another place"),
    "changes alone is foreign": (changes_foreign, "changes belongs to GANNET-WS\\smew"),
    "changes has an entry more": (entry_below, f"changes has an entry for {SOMEBODY}"),
    "changes is a junction": (junction_below, "changes is a link to another place"),
}  # fmt: skip


@pytest.mark.one_in(3)
@pytest.mark.parametrize("by", ["a seat", "a runbook"])
@pytest.mark.parametrize("what", BEFOREHAND)
def test_made_beforehand(seat: WindowsSeat, tmp_path: Path, what: str, by: str) -> None:
    """Refused by its path and owner before anything is written; what a link leads to keeps its rights."""
    draft = draft_of(FIXED, tmp_path)
    survey = seat.target.survey()
    assert survey.interfaces
    before = seat.lines()
    does, said = BEFOREHAND[what]
    does(seat)
    there = sorted(str(path) for path in seat.folder.rglob("*") if path.name != "said")
    rights = seat.state().get("rights")
    if by == "a seat":
        with pytest.raises(NoAccess) as refused:
            seat.begin(draft)
        told = f"{refused.value} {refused.value.remedy}"
    else:
        status, _, told = runs(runbook_file(seat, tmp_path), typed="begin\n")
        assert status == 4
    assert said in told
    assert "remove or rename it" in told
    assert seat.lines() == before
    assert sorted(str(path) for path in seat.folder.rglob("*") if path.name != "said") == there
    assert seat.state().get("rights") == rights
    assert seat.state().get("tasks", {}) == {}


@pytest.mark.parametrize("by", ["a seat", pytest.param("a runbook", marks=pytest.mark.beyond_cover)])
def test_an_icacls_that_fails_once(seat: WindowsSeat, tmp_path: Path, by: str) -> None:
    """The folder that it leaves is not taken for a good one, and is no obstacle: nobody else could have made it."""
    draft, book = draft_of(FIXED, tmp_path), runbook_file(seat, tmp_path)
    with seat.server.changing() as state:
        state["icacls_fails"] = 1
    if by == "a seat":
        with pytest.raises(NoAccess, match="Access is denied"):
            seat.begin(draft)
        seat.begin(draft)
        seat.until("waiting")
        seat.target.decide("0001", states.KEEP, "wren")
    else:
        status, _, err = runs(book, typed="begin\n")
        assert (status, "Access is denied" in err) == (4, True)
        status, out, err = runs(book, typed="begin\nkeep\n")
        assert status == 0, out + err
    told = get_acl(seat.state(), str(seat.change()))["Sddl"]
    assert told == "O:BAG:BAD:AI(A;OICIID;FA;;;SY)(A;OICIID;FA;;;BA)"


def test_a_foreign_file_in_a_change(seat: WindowsSeat, tmp_path: Path) -> None:
    """Neither a verb nor the guard loads anything then; without it the change is rolled back."""
    before = seat.lines()
    seat.begin(draft_of(FIXED, tmp_path))
    seat.until("waiting")
    foreign = seat.change() / "checks"
    foreign.write_text("pass: all of it\n")
    with seat.server.changing() as state:
        described(state, foreign, owner=SOMEBODY)
    with pytest.raises(AnchorError, match=re.escape("checks belongs to GANNET-WS\\smew")) as refused:
        seat.target.decide("0001", states.KEEP, "wren")
    assert refused.value.exit_status == 4
    seat.machine.close()
    seat.server.boot()
    process = next(iter(seat.server.running.values()))
    assert process.wait(60) == 4, seat.log()
    assert (seat.change() / "state").read_text() == "waiting\n"
    foreign.unlink()
    seat.until("rolled-back", unless=seat.minute_passes)
    assert seat.lines() == before


def test_whoever_makes_a_file_it_belongs_to_administrators(seat: WindowsSeat, tmp_path: Path) -> None:
    """Where a policy has each administrator own what he makes, too."""
    with seat.server.changing() as state:
        state["makes_as"] = "S-1-5-21-77-88-99-500"
    seat.begin(draft_of(FIXED, tmp_path))
    seat.until("waiting")
    seat.target.decide("0001", states.KEEP, "wren")
    for path in [seat.change(), *seat.change().rglob("*")]:
        assert get_acl(seat.state(), str(path))["Sddl"].startswith("O:BA"), path


HOUSE = r"""
{text}
House
(Of-System 'icacls.exe')
"""


def test_no_environment_moves_it(tmp_path: Path) -> None:
    """On Windows: neither the folder, nor which program of the console is asked."""
    from fixed_anchor.machines.windows import house_source

    text = house_source().replace("[System.IO.Path]::DirectorySeparatorChar", "'\\'")
    text = text.replace("[System.Environment]::GetFolderPath('ProgramFiles')", "'C:\\Program Files'")
    text = text.replace("[System.Environment]::SystemDirectory", "'C:\\Windows\\system32'")
    moved = {"FIXED_ANCHOR_STATE": str(tmp_path), "ProgramFiles": str(tmp_path), "SystemRoot": str(tmp_path)}
    done = powershell(HOUSE.replace("{text}", text), tmp_path, **moved)
    assert done.stdout.decode().split("\n")[:2] == [
        "C:\\Program Files/FixedAnchor",
        "C:\\Windows\\system32/icacls.exe",
    ]
