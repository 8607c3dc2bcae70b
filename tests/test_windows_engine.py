"""The engine for Windows in a real PowerShell, over simulated machines: states, verbs, refusals, crashes, parity."""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from fixed_anchor.change import states
from fixed_anchor.change.change import Draft, Terms
from fixed_anchor.change.content import settings_in
from fixed_anchor.change.kept_lines import kept_lines
from fixed_anchor.core.addresses import parse_address
from fixed_anchor.core.errors import AnchorError, ChangeOpen, NoAccess, Refused, Stuck
from fixed_anchor.engine import windows_data
from fixed_anchor.engine.windows_data import PARTS, change_data, engine_source, part
from fixed_anchor.machines.windows import house_source
from fixed_anchor.observe.windows import windows_survey
from fixed_anchor.standins.windows.lines import lines_of
from fixed_anchor.standins.windows.told import facts_of
from fixed_anchor.workflow.windows.draft_settings import draft_windows
from tests.powershell import COMMANDS as READING
from tests.powershell import RUN_ALL, needs_powershell, powershell, tree_of
from tests.test_windows import MACHINES, NEWER, NEWER_TOKENS, NEWER_VARIABLES, state_of
from tests.test_windows_acts import settings_of
from tests.test_windows_drafts import CASES, drafted, site_of
from tests.windows_seat import WindowsSeat, windows_seat

pytestmark = needs_powershell

FILING = Path(windows_data.__file__).parent.parent / "machines/ssh/filing.ps1"
#: All that the engine may call, beside its own functions.
COMMANDS = {
    "ConvertFrom-Json", "ConvertTo-Json", "Disable-NetAdapterBinding", "Enable-NetAdapterBinding",
    "ForEach-Object", "Get-CimInstance", "Get-DnsClientGlobalSetting", "Get-ExecutionPolicy",
    "Export-ScheduledTask", "Get-Acl", "Get-Disk",
    "Get-ItemProperty", "Get-NetAdapter", "Get-NetAdapterBinding", "Get-NetConnectionProfile",
    "Get-NetIPAddress", "Get-NetIPInterface", "Get-NetNeighbor", "Get-NetRoute", "Get-ScheduledTask",
    "Invoke-CimMethod", "New-Item", "New-NetIPAddress", "New-NetRoute", "New-Object",
    "New-ScheduledTaskAction", "New-ScheduledTaskPrincipal", "New-ScheduledTaskSettingsSet",
    "New-ScheduledTaskTrigger", "New-TimeSpan", "Out-Null", "Register-DnsClient", "Register-ScheduledTask",
    "Remove-Item", "Remove-ItemProperty", "Remove-NetIPAddress", "Remove-NetRoute", "Rename-Computer",
    "Restart-NetAdapter", "Select-Object", "Set-DnsClient", "Set-DnsClientGlobalSetting",
    "Set-DnsClientServerAddress", "Set-ItemProperty", "Set-NetConnectionProfile", "Set-NetIPAddress",
    "Set-NetIPInterface", "Set-StrictMode", "Start-ScheduledTask", "Start-Sleep", "Test-Connection",
    "Test-Path", "Unregister-ScheduledTask", "Where-Object", "Write-VolumeCache",
    # One of the console, by the full path that Of-System makes.
    "by Ampersand ParenExpressionAst",
}  # fmt: skip
#: Commands that are functions of modules: they do not see what the engine prefers on errors.
OF_MODULES = re.compile(r"-(Net|Dns|Cim|ScheduledTask$)")


@pytest.mark.parametrize("what", ["engine", "filing"])
def test_what_it_is_made_of(tmp_path: Path, what: str) -> None:
    """Plain ASCII that both versions read, no program made of text, and nothing called that is not listed here."""
    script = tmp_path / f"{what}.ps1"
    script.write_text(engine_source() if what == "engine" else house_source() + FILING.read_text("ascii"), "ascii")
    assert set(re.findall(r"& \((.{10})", script.read_text())) == {"Of-System "}
    tree = tree_of(script, tmp_path)
    assert tree["errors"] == []
    assert not NEWER & set(tree["kinds"])
    assert not NEWER_TOKENS & set(tree["tokens"])
    assert not NEWER_VARIABLES & set(tree["variables"])
    own = set(re.findall(r"^function ([\w-]+)", script.read_text(), re.MULTILINE))
    for command in tree["commands"]:
        assert command["name"] in COMMANDS | own, command
        if command["name"] in own or command["name"].startswith("New-ScheduledTask"):
            continue
        if OF_MODULES.search(command["name"]):
            assert "ErrorAction" in command["parameters"], command
        if command["name"].startswith(("Remove-Net", "Unregister-")):
            assert "Confirm" in command["parameters"], command
    assert not {"[scriptblock]::Create", "InvokeScript", "NewScriptBlock"} & set(tree["members"])
    for name in PARTS:
        assert len(part(name).splitlines()) <= 300


def test_every_state_it_sets_is_of_the_table() -> None:
    """It moves a change only between states that the table knows."""
    text = engine_source()
    said = set(re.findall(r"(?:Set-To|Finish) '([a-z-]+)'", text))
    assert said == set(states.STATES) - {states.NOT_BEGUN}


#: The engine without its last lines, told to print what it reads.
READS = "".join(map(part, PARTS)) + "\nKept-Lines\n"


def test_it_reads_what_is_kept_as_a_draft_tells_it(tmp_path: Path) -> None:
    """The same lines by the engine, by the simulated one, and of a draft's settings: for each machine."""
    # Where two adapters have one name a draft is refused.
    names = [name for name, one in MACHINES.items() if "mode" not in one and name != "two of a name"]
    every: list[list[str]] = []
    program = tmp_path / "reads.ps1"
    program.write_text(READS.replace("$words = @($args)", "$words = @('x', ($env:FIXED_ANCHOR_WINDOWS + '.change'))"))
    for number, name in enumerate(names):
        state = state_of(name)
        shown = {i.name for i in windows_survey("", facts_of(state)).interfaces}
        adapters = [{"guid": a["guid"], "name": a["name"]} for a in state["adapters"] if a["name"] in shown and a["ip"]]
        every.append([a["guid"] for a in adapters])
        file = tmp_path / f"{number:03d}.json"
        file.write_text(json.dumps(state))
        folder = tmp_path / f"{number:03d}.json.change"
        folder.mkdir()
        data = json.dumps({"form": 1, "adapters": adapters, "was": []})
        (folder / "change.json").write_text(data)
        (folder / "digest").write_text(hashlib.sha256(data.encode()).hexdigest())
    done = powershell(RUN_ALL, tmp_path, str(READING), str(program), str(tmp_path))
    assert done.returncode == 0, done.stderr.decode()
    for number, name in enumerate(names):
        state = state_of(name)
        read = (tmp_path / f"{number:03d}.json.out").read_text().split("\n")[:-1]
        guids = every[number]
        assert sorted(read) == sorted(lines_of(state, guids, ())), name
        settings = settings_of(state, tuple(a["name"] for a in state["adapters"] if a["guid"] in guids))
        raw = {k.guid: k.alternate for k in facts_of(state).kept if k.alternate and k.active_configurations}
        told = [line for line in kept_lines(settings, raw) if " mtu " not in line]
        assert sorted(read) == sorted(told), name


# --- one change, from its beginning to its end ----------------------------------------------------------


@pytest.fixture
def seat(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[WindowsSeat]:
    with windows_seat(tmp_path / "w", monkeypatch, MACHINES["leased"]["machine"]) as there:
        yield there


def draft_of(name: str, folder: Path) -> Draft:
    """The draft of one of the cases."""
    return drafted(CASES[name], folder)


FIXED = "to fixed, another address, with a metric"


def moves(log: str) -> list[str]:
    """The states that a log tells of."""
    return re.findall(r" state: ([a-z-]+)", log)


def test_kept(seat: WindowsSeat, tmp_path: Path) -> None:
    """Begun, in force, kept by a person; and what each verb says meanwhile and afterwards."""
    draft, target = draft_of(FIXED, tmp_path), seat.target
    assert target.never_begun().startswith("no change was ever begun on gannet-ws")
    number = seat.begin(draft, within=600)
    assert number == "0001"
    assert target.open_change() == "0001"
    # A second one is refused, and leaves the first one alone.
    with pytest.raises(ChangeOpen, match="change 0001 is open on this machine"):
        seat.begin(draft)
    seat.until("waiting")
    now = target.status("0001")
    assert (now.state, now.guard_alive, now.interface, now.gateway_answered) == ("waiting", True, "Ethernet", True)
    assert now.left is not None
    assert 300 < now.left <= 601
    target.more_time("0001", 1000)
    later = target.status("0001").left
    assert later is not None
    assert later > 1000
    with pytest.raises(ChangeOpen, match="only a change that is stuck can be closed"):
        target.close("0001", "wren", "for once")
    target.give_verdict("0001", "as-planned", ("pass: all of it",), "")
    assert target.status("0001").verdict == "as-planned"
    target.decide("0001", states.KEEP, "wren")
    now = target.status("0001")
    assert (now.state, now.guard_alive) == ("confirmed", False)
    assert now.why == "wren confirmed it, in a session on 203.0.113.20"
    assert target.open_change() is None
    for decision, said in ((states.KEEP, "is confirmed already"), (states.ROLL_BACK, "restore it as a change of its")):
        with pytest.raises(ChangeOpen, match=said):
            target.decide("0001", decision, "wren")
    log = seat.log()
    assert moves(log) == ["prepared", "leaving", "writing", "activating", "waiting", "committing", "confirmed"]
    assert "check: pass: all of it" in log
    # Resolvers first: a member of a domain has none for a moment otherwise.
    assert log.index("Set-DnsClientServerAddress") < log.index("EnableStatic of adapter")
    assert sorted(lines_of(seat.state(), [seat.state()["adapters"][0]["guid"]], ())) == wanted_lines(draft)
    assert seat.state()["records"] == ["198.51.100.20"]
    assert seat.state()["tasks"] == {}
    saved = next((seat.change() / "saved").glob("Tcpip-*.reg")).read_text("utf-16")
    assert '"EnableDHCP"="1"' in saved
    # And back, as a change of its own.
    back = target.restore_draft("0001")
    seat.begin(back)
    seat.until("waiting", number="0003")
    target.decide("0003", states.KEEP, "wren")
    assert seat.state()["adapters"][0]["addresses"][-1]["address"] == "198.51.100.77"


def wanted_lines(draft: Draft) -> list[str]:
    lines = change_data("gannet-ws", settings_in(draft.content), terms())["wanted"]
    return sorted(line for line in lines if " mtu " not in line)


@pytest.mark.parametrize(
    "how", [pytest.param("a person", marks=pytest.mark.beyond_cover), "the deadline", "its verification"]
)
def test_rolled_back(seat: WindowsSeat, tmp_path: Path, how: str) -> None:
    before = seat.lines()
    seat.begin(draft_of(FIXED, tmp_path), within=3 if how == "the deadline" else 600)
    seat.until("waiting", "rolled-back")
    if how == "a person":
        seat.target.decide("0001", states.ROLL_BACK, "wren")
    elif how == "its verification":
        seat.target.give_verdict("0001", "not-as-planned", (), "the gateway does not answer")
    seat.until("rolled-back")
    assert seat.lines() == before
    state = seat.state()
    assert [a["address"] for a in state["adapters"][0]["addresses"] if a["store"] == "ActiveStore"][1:] == [
        "198.51.100.77"
    ]
    why = {"a person": "wren asked for it", "the deadline": "nobody confirmed it in time"}
    assert seat.target.status("0001").why == why.get(
        how, "its verification was not-as-planned: the gateway does not answer"
    )
    # Registered again with what it has now.
    assert state["records"][-1] == "198.51.100.77"


def test_unattended_and_the_old_address_beside(seat: WindowsSeat, tmp_path: Path) -> None:
    """The address of the session stays until the decision; confirming over it proves nothing."""
    draft = draft_with_grace(seat, tmp_path)
    assert [str(g.address) for g in draft.grace] == ["198.51.100.77/24"]
    seat.begin(draft, unattended=True)
    seat.until("waiting")
    active = {a["address"]: a for a in seat.state()["adapters"][0]["addresses"] if a["store"] == "ActiveStore"}
    assert active["198.51.100.77"]["skip_as_source"]
    assert not active["198.51.100.20"]["skip_as_source"]
    assert seat.target.status("0001").grace_facts == ("address 198.51.100.77/24 fixed on Ethernet",)
    seat.target.give_verdict("0001", "as-planned", (), "")
    seat.until("confirmed")
    assert sorted(lines_of(seat.state(), [seat.state()["adapters"][0]["guid"]], ())) == wanted_lines(draft)
    assert "198.51.100.77" not in [a["address"] for a in seat.state()["adapters"][0]["addresses"]]


def test_a_session_over_the_address_that_goes(
    seat: WindowsSeat, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("CONNECTION", "203.0.113.9 40000 198.51.100.77 22")
    seat.begin(draft_with_grace(seat, tmp_path))
    seat.until("waiting")
    with pytest.raises(Refused, match=r"your session uses 198\.51\.100\.77, the address that goes"):
        seat.target.decide("0001", states.KEEP, "wren")
    seat.target.decide("0001", states.KEEP, "wren", over_old=True)
    assert seat.target.status("0001").state == "confirmed"


def draft_with_grace(seat: WindowsSeat, folder: Path) -> Draft:
    site = site_of(CASES[FIXED], folder)
    survey = seat.target.survey()
    old = frozenset({parse_address("198.51.100.77")})
    return draft_windows(site.plan, site.plan.hosts["gannet-ws"], seat.target.facts, survey, old)


# --- refused before anything is changed, and what goes wrong --------------------------------------------


def changed(seat: WindowsSeat, **more: Any) -> None:
    """Describes the machine anew, without a call to it."""
    with seat.server.changing() as state:
        state.update(more)


def another_gateway(seat: WindowsSeat) -> None:
    with seat.server.changing() as state:
        state["registry"][next(k for k in state["registry"] if "Tcpip\\" in k)]["NameServer"] = "198.51.100.9"


def other_mac(seat: WindowsSeat) -> None:
    with seat.server.changing() as state:
        state["adapters"][0]["mac"] = "00-00-5E-00-53-99"


REFUSED: dict[str, tuple[Any, type[AnchorError], str]] = {
    "a policy lets no script run": (
        lambda seat: changed(seat, execution_policy={"MachinePolicy": "AllSigned"}), Refused,
        "the guard could not run here: MachinePolicy says AllSigned",
    ),
    "the session is not elevated": (lambda seat: changed(seat, elevated=False), NoAccess, "needs an elevated session"),
    "the task is taken otherwise": (
        lambda seat: changed(seat, task_policy={"StopIfGoingOnBatteries": True}), Refused,
        "registered otherwise than it was asked for: it would stop on battery",
    ),
    "the task would be ended": (
        lambda seat: changed(seat, task_policy={"ExecutionTimeLimit": "PT1H"}), Refused, "it would be ended after PT1H",
    ),
    "the task would run as somebody else": (
        lambda seat: changed(seat, tasks_run_as="S-1-5-21-77-88-99-1004"), Refused, "it would not run as SYSTEM",
    ),
    "the task would wait for others": (
        lambda seat: changed(seat, task_policy={"Priority": 7}), Refused, "it would run with the priority 7",
    ),
    "nothing starts": (lambda seat: changed(seat, tasks_fail=True), Refused, "the guard did not come up"),
    "set since the draft": (another_gateway, Refused, "not what the draft was made from: - Ethernet resolvers -"),
    "another machine": (other_mac, Refused, "Ethernet has the MAC 00:00:5e:00:53:99, the draft was made for"),
}  # fmt: skip


@pytest.mark.one_in(3)
@pytest.mark.parametrize("what", REFUSED)
def test_refused(seat: WindowsSeat, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, what: str) -> None:
    """Before anything is changed, with the reason in one line; and nothing is left in the way."""
    draft = draft_of(FIXED, tmp_path)
    does, kind, said = REFUSED[what]
    quicker = engine_source().replace("(Ticks) + 60", "(Ticks) + 2")
    monkeypatch.setattr(windows_data, "engine_source", lambda: quicker)
    assert seat.target.numbers() == []
    does(seat)
    before = seat.lines()
    with pytest.raises(kind, match=re.escape(said)):
        seat.begin(draft)
    assert seat.lines() == before
    assert seat.target.open_change() is None
    assert seat.state().get("tasks", {}) == {}
    assert "refused: " in seat.log()


def terms() -> Terms:
    return Terms(60, False, {"host": "gannet-ws"})


WRONG: dict[str, tuple[str, dict[str, Any], str]] = {
    "a duplicate": (FIXED, {"taken": ["198.51.100.20"]}, "another machine has 198.51.100.20: Windows found it twice"),
    "a category that becomes public": (
        FIXED, {"networks": {}}, "the network profile of Ethernet is Public, and was Private",
    ),
    "no DHCP server answers": ("back to DHCP", {"leases": {}}, "no DHCP server has answered on Ethernet"),
}  # fmt: skip


@pytest.mark.one_in(3)
@pytest.mark.parametrize("what", WRONG)
def test_what_goes_wrong_is_rolled_back(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, what: str) -> None:
    """By its guard, alone, with the reason in one line."""
    case, wire, why = WRONG[what]
    monkeypatch.setattr(windows_data, "LEASE_PATIENCE", 2)
    monkeypatch.setattr(windows_data, "IDENTIFICATION", 2)
    with windows_seat(tmp_path / "w", monkeypatch, MACHINES[CASES[case]["machine"]]["machine"], **wire) as seat:
        if "networks" in wire:
            changed(seat, category_policy=True)
        before = seat.lines()
        seat.begin(drafted(CASES[case], tmp_path))
        # A network that is still a public one lets nobody in: then it is not as it was before.
        ended = "stuck" if "networks" in wire else "rolled-back"
        assert seat.until("rolled-back", "stuck", "waiting") == ended, seat.log()
        assert why in seat.target.status("0001").why
        assert seat.lines() == before
        if ended == "stuck":
            assert f"  {why}" in seat.log()


def test_a_category_is_set_back(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The network is identified anew, and public: set back before it is in force."""
    with windows_seat(tmp_path / "w", monkeypatch, MACHINES["leased"]["machine"], networks={}) as seat:
        seat.begin(draft_of(FIXED, tmp_path))
        assert seat.until("waiting", "rolled-back") == "waiting"
        assert "the network profile of Ethernet was Public, and is set back to Private" in seat.log()
        assert seat.state()["adapters"][0]["category"] == "Private"
        seat.target.decide("0001", states.ROLL_BACK, "wren")


def test_stuck(seat: WindowsSeat, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """No server answers any more after a rollback: it says what is left to do, tries again, and can be closed."""
    monkeypatch.setattr(windows_data, "LEASE_PATIENCE", 1)
    quicker = engine_source().replace("Take-Back 30", "Take-Back 2")
    monkeypatch.setattr(windows_data, "engine_source", lambda: quicker)
    seat.begin(draft_of(FIXED, tmp_path))
    seat.until("waiting")
    with seat.server.changing() as state:
        leases = state["wire"].pop("leases")
    with pytest.raises(Stuck, match="could not be rolled back"):
        seat.target.decide("0001", states.ROLL_BACK, "wren")
    log = seat.log()
    assert "no DHCP server has answered on Ethernet" in log
    assert "Ethernet is taken down and up again" in log
    assert "left to do by hand" in log
    with pytest.raises(ChangeOpen, match="is stuck: it cannot be confirmed"):
        seat.target.decide("0001", states.KEEP, "wren")
    # A server answers again: asked once more it gets there.
    with seat.server.changing() as state:
        state["wire"]["leases"] = leases
    seat.target.decide("0001", states.ROLL_BACK, "wren")
    assert seat.target.status("0001").state == "rolled-back"


@pytest.mark.beyond_cover
def test_closed(seat: WindowsSeat, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A person accepts what is there."""
    monkeypatch.setattr(windows_data, "LEASE_PATIENCE", 1)
    quicker = engine_source().replace("Take-Back 30", "Take-Back 1")
    monkeypatch.setattr(windows_data, "engine_source", lambda: quicker)
    seat.begin(draft_of(FIXED, tmp_path))
    seat.until("waiting")
    with seat.server.changing() as state:
        del state["wire"]["leases"]
    with pytest.raises(Stuck):
        seat.target.decide("0001", states.ROLL_BACK, "wren")
    seat.target.close("0001", "wren", "the server comes tomorrow")
    now = seat.target.status("0001")
    assert (now.state, now.closed_by) == ("closed", "wren, because the server comes tomorrow")
    assert seat.target.open_change() is None
    assert seat.state()["tasks"] == {}
