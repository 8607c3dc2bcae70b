"""A power cut, or a guard that dies, at every write of the engine for Windows; and drafts there and back through it."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import pytest

from fixed_anchor.change import states
from fixed_anchor.change.content import settings_in
from fixed_anchor.core.errors import AnchorError
from fixed_anchor.engine import windows_data
from fixed_anchor.engine.windows_data import as_windows_files, engine_source
from fixed_anchor.standins.station import read_station
from fixed_anchor.standins.windows.lines import differing, lines_of
from fixed_anchor.standins.windows_engine import WindowsStandinEngine
from fixed_anchor.standins.windows_machine import WindowsStandin
from tests.powershell import needs_powershell
from tests.test_windows import MACHINES
from tests.test_windows_drafts import CASES, drafted
from tests.test_windows_engine import FIXED, moves, terms, wanted_lines
from tests.windows_seat import WindowsSeat, windows_seat

pytestmark = [needs_powershell, pytest.mark.one_in(3)]

#: More writes than a change makes (26), there and back.
WRITES = 32
COVER = (2, 5, 9)


def crashing() -> str:
    """The engine, in which each file on the disk counts as a change to the machine as well."""
    text = engine_source()
    assert text.count("# (on disk)") == 1
    return text.replace("# (on disk)", "Ask 'wrote' @{} | Out-Null")


@pytest.fixture
def seat(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[WindowsSeat]:
    monkeypatch.setattr(windows_data, "engine_source", crashing)
    with windows_seat(tmp_path / "w", monkeypatch, MACHINES["leased"]["machine"]) as there:
        yield there


@pytest.mark.parametrize("decision", [states.KEEP, states.ROLL_BACK])
@pytest.mark.parametrize(
    "at", [pytest.param(n, marks=() if n in COVER else pytest.mark.beyond_cover) for n in range(1, WRITES + 1)]
)
def test_a_crash_at_every_write(seat: WindowsSeat, tmp_path: Path, at: int, decision: str) -> None:
    """Whoever makes it dies; the machine boots, or its scheduler begins the guard anew: all as before, or as wanted."""
    draft = drafted(CASES[FIXED], tmp_path)
    before, wanted = seat.lines(), wanted_lines(draft)
    seat.server.dies_at = at
    with suppress(AnchorError):
        seat.begin(draft)
        seat.until("waiting", "rolled-back", unless=lambda: seat.server.changes >= at)
        if seat.server.changes < at:
            seat.target.decide("0001", decision, "wren")
    if seat.server.changes < at:
        # It was over before: then it is as it was decided.
        seat.until("confirmed" if decision == states.KEEP else "rolled-back")
    seat.server.dies_at = None
    # A power cut ends the session, too; else the scheduler's next minute has come.
    boots = at % 2 == 0
    if boots:
        seat.machine.close()
        seat.server.boot()
    state_file = seat.change() / "state"
    if seat.state().get("tasks"):
        ended = ("confirmed", "rolled-back", *(() if boots else ("waiting",)))
        if seat.until(*ended, unless=seat.minute_passes) == "waiting":
            with suppress(AnchorError):
                seat.target.decide("0001", decision, "wren")
            seat.until("confirmed", "rolled-back", unless=seat.minute_passes)
    state = state_file.read_text().strip() if state_file.exists() else ""
    assert state in ("", "confirmed", "rolled-back"), seat.log()
    guid = seat.state()["adapters"][0]["guid"]
    now = sorted(lines_of(seat.state(), [guid], ()))
    if state == "confirmed":
        assert now == wanted, seat.log()
    else:
        assert now == before, seat.log()
    # Nothing of it is in the way of the next one; where it was cut short in its beginning a person can end it, too.
    seat.machine.close()
    if not state and at % 3 == 0:
        seat.target.decide("0001", states.ROLL_BACK, "wren")
        assert seat.target.status("0001").state == "rolled-back"
    if state or at % 3 == 0:
        assert seat.target.open_change() is None
    else:
        number = seat.begin(draft)
        seat.until("waiting", number=number)
        seat.target.decide(number, states.ROLL_BACK, "wren")
        assert seat.lines() == before


#: What bites on Windows, by its number, and the drafts that meet it on the way there or back. The others are met in
#: every change (13, 17), or in tests of their own: duplicates (5), the category (6), DNS (8), resolvers first (14).
TRAPS = {
    1: "to fixed, another address, with a metric",
    2: "a default route that an earlier address left",
    3: "back to DHCP",
    4: "no gateway",
    7: "to fixed, several addresses",
    9: "an address for when no server answers",
    10: "several gateways",
    11: "two adapters, two gateways with metrics",
    12: "an adapter without a carrier",
    15: "to fixed, the leased address",
    16: "one address of several goes",
}
RUNS = [name for name, case in CASES.items() if case.get("runs")]
assert set(TRAPS.values()) <= set(RUNS)
THERE_AND_BACK = ("to fixed, several addresses", "back to DHCP")


@pytest.mark.parametrize(
    "name", [pytest.param(n, marks=() if n in THERE_AND_BACK else pytest.mark.beyond_cover) for n in RUNS]
)
def test_there_and_back(name: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Each draft carried out, kept, and restored; the simulated engine ends the same, by the same states."""
    case = CASES[name]
    draft = drafted(case, tmp_path)
    content = settings_in(draft.content)
    names = [a.guid for a in content.before.adapters]
    with windows_seat(tmp_path / "w", monkeypatch, MACHINES[case["machine"]]["machine"]) as seat:
        # A server answers whoever asks.
        with seat.server.changing() as state:
            lease = {"address": "198.51.100.77/24", "gateway": "198.51.100.1"}
            state["wire"]["leases"] = dict.fromkeys(names, lease) | state["wire"]["leases"]
        before = lines_of(seat.state(), names, ())
        simulated = simulate(tmp_path, seat, draft)
        seat.begin(draft)
        if "on-another-interface" in case.get("finds", ()):
            seat.until("rolled-back")
            assert "rolling back: another adapter of this machine has 198.51.100.20" in seat.log()
            assert (moves(seat.log()), sorted(lines_of(seat.state(), names, ()))) == simulated
            return
        seat.until("waiting", "rolled-back", "stuck")
        seat.target.decide("0001", states.KEEP, "wren")
        assert sorted(lines_of(seat.state(), names, ())) == wanted_lines(draft), seat.log()
        assert (moves(seat.log()), sorted(lines_of(seat.state(), names, ()))) == simulated
        back = seat.target.restore_draft("0001")
        seat.begin(back)
        seat.until("waiting", "rolled-back", "stuck", number="0002")
        seat.target.decide("0002", states.KEEP, "wren")
        assert differing(lines_of(seat.state(), names, ()), before) == [], seat.log("0002")


def simulate(folder: Path, seat: WindowsSeat, draft: object) -> tuple[list[str], list[str]]:
    """The same change by the simulated engine, over a copy of the machine: its states, and what is kept then."""
    from fixed_anchor.change.change import Draft

    assert isinstance(draft, Draft)
    place = folder / "station"
    tree = place / "gannet-ws"
    (tree / "state/changes/0001").mkdir(parents=True)
    (place / "station.yaml").write_text(
        "segments: {labs: {subnet: 198.51.100.0/24}}\nhosts: {gannet-ws: {tree: gannet-ws, interfaces: {}}}\n"
    )
    (tree / "windows.yaml").write_text("adapters: {}\n")
    (tree / "machine.json").write_bytes(seat.file.read_bytes())
    machine = WindowsStandin(read_station(place / "station.yaml"), "gannet-ws")
    wire = seat.state()["wire"]
    machine.host._wire = lambda state: wire  # type: ignore[method-assign]
    change = tree / "state/changes/0001"
    for path, (data, _) in as_windows_files(
        "gannet-ws", settings_in(draft.content), terms(), seat.target.facts
    ).items():
        (change / path).write_bytes(data)
    engine = WindowsStandinEngine(machine.host, tree, change)
    assert engine.verb("start", "") == (0, "", "")
    if moves((change / "log").read_text())[-1] != "rolled-back":
        assert engine.verb("confirm", "wren")[0] == 0
    guids = [a.guid for a in settings_in(draft.content).before.adapters]
    return moves((change / "log").read_text()), sorted(lines_of(machine.host.state(), guids, ()))
