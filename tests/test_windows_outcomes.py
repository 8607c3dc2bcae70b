"""How a change of a Windows machine ends there: never as before while something is left, never as a public network."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Any

import pytest

from fixed_anchor.change import states
from fixed_anchor.core.errors import Stuck
from fixed_anchor.engine import windows_data
from fixed_anchor.engine.windows_data import engine_source, part
from fixed_anchor.machines.ssh import windows_store
from fixed_anchor.machines.windows import house_source
from fixed_anchor.standins.windows.lines import differing, in_force
from tests.powershell import needs_powershell, powershell
from tests.test_windows import MACHINES
from tests.test_windows_drafts import CASES, drafted
from tests.test_windows_engine import FIXED, changed, draft_of, draft_with_grace
from tests.windows_seat import WindowsSeat, windows_seat

pytestmark = [needs_powershell, pytest.mark.one_in(3)]

LEASED = MACHINES["leased"]["machine"]


@pytest.fixture
def impatient(monkeypatch: pytest.MonkeyPatch) -> None:
    """The engine with shorter patience."""
    monkeypatch.setattr(windows_data, "LEASE_PATIENCE", 2)
    monkeypatch.setattr(windows_data, "IDENTIFICATION", 4)
    quicker = engine_source().replace("Take-Back 30", "Take-Back 2")
    monkeypatch.setattr(windows_data, "engine_source", lambda: quicker)


def guids(seat: WindowsSeat) -> list[str]:
    return [a["guid"] for a in seat.state()["adapters"]]


# --- the way back -------------------------------------------------------------------------------------

#: Calls of the way back, and whether the change can end as it was before without them.
FAILING = {
    "remove_route": "198.51.100.1",
    "remove_address": "198.51.100.20",
    "set_resolvers": "resolvers",
    "set_interface": "ipv4 dhcp",
    "register": "",
}


@pytest.mark.parametrize("machine", ["leased", pytest.param("left over", marks=pytest.mark.beyond_cover)])
@pytest.mark.parametrize("once", [False, pytest.param(True, marks=pytest.mark.beyond_cover)])
@pytest.mark.parametrize(
    "fails", [pytest.param(c, marks=() if c == "remove_address" else pytest.mark.beyond_cover) for c in FAILING]
)
def test_an_act_of_the_way_back_that_fails(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, impatient: None, fails: str, once: bool, machine: str
) -> None:
    """It is as it was before, or the change is stuck and says what is left."""
    case = CASES[FIXED] | {"machine": machine}
    with windows_seat(tmp_path / "w", monkeypatch, MACHINES[machine]["machine"]) as seat:
        before, was = seat.lines(), in_force(seat.state(), guids(seat))
        seat.begin(drafted(case, tmp_path))
        seat.until("waiting")
        changed(seat, fails={fails: 1 if once else -1})
        try:
            seat.target.decide("0001", states.ROLL_BACK, "wren")
            ended = "rolled-back"
        except Stuck:
            ended = "stuck"
        same = not differing(seat.lines(), before) and in_force(seat.state(), guids(seat)) == was
        assert (ended == "rolled-back") == same, seat.log()
        # A command that fails once, or one that changes nothing, is no obstacle.
        assert (ended == "stuck") == (not once and fails != "register"), seat.log()
        if ended == "stuck":
            left = seat.log().split("the former state was not reached:")[1]
            assert FAILING[fails] in left.splitlines()[1], left
            # Nothing of it needs an adapter taken down, but a lease that does not come.
            assert ("taken down" in seat.log()) == (fails == "set_interface")


@pytest.mark.parametrize("more", [{"keeps_gateway": True}, {"keeps_names": True}], ids=lambda more: next(iter(more)))
def test_what_some_releases_leave(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, impatient: None, more: dict[str, Any]
) -> None:
    """A gateway in the registry, a suffix that was to be empty: looked at, and taken away."""
    case = CASES["to fixed, the leased address"]
    with windows_seat(tmp_path / "w", monkeypatch, LEASED) as seat:
        before = seat.lines()
        changed(seat, **more)
        seat.begin(drafted(case, tmp_path))
        seat.until("waiting")
        seat.target.decide("0001", states.ROLL_BACK, "wren")
        assert seat.lines() == before
        key = next(v for k, v in seat.state()["registry"].items() if "Tcpip\\" in k)
        assert (key["DefaultGateway"], key["Domain"]) == ([], "")


def test_another_lease(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, impatient: None) -> None:
    with windows_seat(tmp_path / "w", monkeypatch, LEASED) as seat:
        seat.begin(draft_of(FIXED, tmp_path))
        seat.until("waiting")
        with seat.server.changing() as state:
            state["wire"]["leases"][state["adapters"][0]["guid"]]["address"] = "198.51.100.80/24"
        seat.target.decide("0001", states.ROLL_BACK, "wren")
        assert seat.target.status("0001").why == (
            "wren asked for it; Ethernet has the lease of 198.51.100.80 now, before the change it was 198.51.100.77"
        )


def test_the_system_disk_comes_over_the_network(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, impatient: None
) -> None:
    """No adapter is taken down, whatever is left."""
    with windows_seat(tmp_path / "w", monkeypatch, LEASED) as seat:
        seat.begin(draft_of(FIXED, tmp_path))
        seat.until("waiting")
        with seat.server.changing() as state:
            state["disks"] = [{"boot": True, "bus": "iSCSI"}]
            del state["wire"]["leases"]
        with pytest.raises(Stuck):
            seat.target.decide("0001", states.ROLL_BACK, "wren")
        assert "no adapter is taken down, since the system's disk comes over the network" in seat.log()
        assert "is taken down and up again" not in seat.log()


# --- the category of the network ------------------------------------------------------------------------


@pytest.mark.parametrize("how", ["kept", "rolled back", "confirmed after the hold"])
@pytest.mark.parametrize("seconds", [0.1, pytest.param(0.8, marks=pytest.mark.beyond_cover), 3.0])
def test_a_network_that_is_identified_late(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, impatient: None, seconds: float, how: str
) -> None:
    """After 1, 8 or 30 s, a tenth of it here, and public each time: in the end it is private, whatever was decided."""
    with windows_seat(tmp_path / "w", monkeypatch, LEASED, networks={}, identification=seconds) as seat:
        monkeypatch.setattr(windows_data, "CATEGORY_STEADY", 1.5)
        monkeypatch.setattr(windows_data, "CATEGORY_WATCH", 9)
        draft = draft_with_grace(seat, tmp_path) if how == "confirmed after the hold" else draft_of(FIXED, tmp_path)
        seat.begin(draft)
        assert seat.until("waiting", "rolled-back") == "waiting", seat.log()
        is_private(seat, seconds)
        seat.target.decide("0001", states.ROLL_BACK if how == "rolled back" else states.KEEP, "wren")
        is_private(seat, seconds)
        assert "was Public, and is set back to Private" in seat.log()


def is_private(seat: WindowsSeat, seconds: float) -> None:
    """Within some seconds of its identification its network is private, and stays so."""
    time.sleep(seconds + 4)
    adapter = seat.state()["adapters"][0]
    assert (adapter.get("identified"), adapter["category"]) == (None, "Private"), seat.log()


@pytest.mark.parametrize(("before", "after"), [("Public", "DomainAuthenticated"), ("Public", "Private")])
def test_a_category_that_lets_in_more(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, impatient: None, before: str, after: str
) -> None:
    said = {"adapters": {"Ethernet": LEASED["adapters"]["Ethernet"] | {"category": before}}}
    with windows_seat(tmp_path / "w", monkeypatch, said, networks={"198.51.100.1": after}) as seat:
        seat.begin(draft_of(FIXED, tmp_path))
        assert seat.until("waiting", "rolled-back") == "waiting", seat.log()
        assert f"the network profile of Ethernet is {after} now, and was {before}" in seat.log()
        assert seat.state()["adapters"][0]["category"] == after
        seat.target.decide("0001", states.KEEP, "wren")
        assert seat.target.status("0001").state == "confirmed"


# --- files, power and time --------------------------------------------------------------------------------


def test_scanners_hold_what_is_fresh(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Each rename fails for some seconds: of the seat's files, and of the engine's."""
    held = "if (Ask 'scanned' @{}) { throw (New-Object System.IO.IOException 'it is being used by another process') }"

    def scanned(text: str) -> str:
        assert "# (about to rename)" in text
        return text.replace("# (about to rename)", held)

    engine = scanned(engine_source())
    monkeypatch.setattr(windows_data, "engine_source", lambda: engine)
    monkeypatch.setattr(windows_store, "house_source", lambda: scanned(house_source()))
    with windows_seat(tmp_path / "w", monkeypatch, LEASED) as seat:
        seat.server.scans = 2.0
        seat.begin(draft_of(FIXED, tmp_path))
        assert seat.until("waiting", "rolled-back") == "waiting", seat.log()
        seat.target.decide("0001", states.KEEP, "wren")
        assert seat.server.scanned >= 10


def test_the_last_rename_is_lost(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """In a power cut: by its record nothing was begun, and the address has been changed all the same."""
    with windows_seat(tmp_path / "w", monkeypatch, LEASED) as seat:
        before = seat.lines()
        seat.begin(draft_of(FIXED, tmp_path))
        seat.until("waiting")
        seat.machine.close()
        seat.server.power_cut()
        (seat.change() / "state").write_text("prepared\n")
        seat.server.boot()
        assert seat.until("rolled-back", "stuck") == "rolled-back"
        assert seat.lines() == before, seat.log()


@pytest.mark.parametrize("answers", [["84", "84"], ["2147786788"]])
def test_a_call_that_must_be_made_again(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, answers: list[str]) -> None:
    """Right after another one, or while somebody has a dialog open."""
    with windows_seat(tmp_path / "w", monkeypatch, LEASED) as seat:
        changed(seat, busy=answers, fails={"set_address": 2}, fails_with="No matching MSFT_NetIPAddress objects found")
        seat.begin(drafted(CASES["to fixed, several addresses"], tmp_path))
        assert seat.until("waiting", "rolled-back") == "waiting", seat.log()
        seat.target.decide("0001", states.ROLL_BACK, "wren")


def test_a_dialog_that_stays_open(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    with windows_seat(tmp_path / "w", monkeypatch, LEASED) as seat:
        changed(seat, busy=["2147786788"] * 400)
        seat.begin(draft_of(FIXED, tmp_path))
        seat.until("rolled-back")
        assert "EnableStatic answered 2147786788: somebody else is changing" in seat.target.status("0001").why


SLEPT = "{text}\n(Slept 0.2 0.2 0.2), (Slept 0.2 3600 3600.1), (Slept 0.2 3600 0.2), (Slept 0.2 -3600 0.2) -join ' '\n"


def test_what_was_slept_counts_and_a_clock_that_is_set_does_not(tmp_path: Path) -> None:
    """By ticks, clock and count since the start: where the clock alone has moved, somebody has set it."""
    text = part("guard")
    at = text.index("function Slept")
    done = powershell(SLEPT.replace("{text}", text[at : text.index("\n}", at) + 3]), tmp_path)
    slept = [float(number) for number in done.stdout.decode().split()]
    assert slept == pytest.approx([0, 3599.9, 0, 0]), done.stderr


def test_a_task_of_its_name(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """It would keep its rights: it goes first. The one that is made has a folder of its own, and its priority."""
    with windows_seat(tmp_path / "w", monkeypatch, LEASED) as seat:
        changed(seat, tasks={"FixedAnchor change 0001": {"TaskPath": "\\FixedAnchor\\", "Actions": [], "Triggers": []}})
        seat.begin(draft_of(FIXED, tmp_path))
        task = seat.state()["tasks"]["FixedAnchor change 0001"]
        assert (task["TaskPath"], task["Settings"]["Priority"], task["Principal"]["UserId"]) == (
            "\\FixedAnchor\\", 4, "S-1-5-18",
        )  # fmt: skip
        assert "a task of its name was there, and was removed" in seat.log()
        seat.until("waiting")
        seat.target.decide("0001", states.ROLL_BACK, "wren")


# --- calls that do not come back -----------------------------------------------------------------------------

#: From which state on a call of which kind hangs, how often, how the change ends, and why.
HANGING = {
    "before the address": ("", {"set_resolvers": 1}, "rolled-back", "this failed: Set-DnsClientServerAddress"),
    "the address itself": ("", {"enable_static": 1}, "rolled-back", "this failed: EnableStatic"),
    "a question": ("waiting", {"state": 1}, "rolled-back", "wren asked for it"),
    "on the way back": ("waiting", {"set_interface": -1}, "stuck", "wren asked for it"),
    "the last one": ("waiting", {"register": -1}, "rolled-back", "wren asked for it"),
    "every question": ("waiting", {"state": -1}, "stuck", "wren asked for it"),
}


@pytest.mark.parametrize(
    "what", [pytest.param(w, marks=() if w == "on the way back" else pytest.mark.beyond_cover) for w in HANGING]
)
def test_a_call_that_does_not_come_back(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, impatient: None, what: str
) -> None:
    """The guard ends itself and begins anew, without that call; reason, status and history say which it was."""
    monkeypatch.setattr(windows_data, "CALL_LIMIT", 12)
    at, hangs, ends, why = HANGING[what]
    with windows_seat(tmp_path / "w", monkeypatch, LEASED) as seat:
        before = seat.lines()
        if not at:
            changed(seat, hangs=hangs)
        seat.begin(draft_of(FIXED, tmp_path))
        if at:
            assert seat.until("waiting", "rolled-back") == "waiting", seat.log()
            (seat.change() / "decision").write_text("roll-back: wren asked for it\n")
            changed(seat, hangs=hangs)
        assert seat.until("rolled-back", "stuck", unless=seat.minute_passes) == ends, seat.log()
        changed(seat, hangs={})
        assert "the last one ended itself" in seat.log()
        # A question is asked anew; another call is named, and is not made again.
        named = "Windows did not say" if "question" in what else "it did not come back"
        assert f"{named} within 12 s" in seat.log()
        if ends == "rolled-back":
            assert seat.lines() == before
        assert (seat.target.status("0001").why or "").startswith(why)
