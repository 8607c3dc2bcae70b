"""What is drafted, carried out on a simulated machine: it ends as the draft says, and nothing else has changed."""

from __future__ import annotations

import copy
from pathlib import Path
from typing import Any

import msgspec
import pytest
import yaml
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from fixed_anchor.change.acts import Rename
from fixed_anchor.change.settings import AdapterSettings, Settings, SettingsContent
from fixed_anchor.core.errors import NotSupported
from fixed_anchor.observe.windows import windows_survey
from fixed_anchor.observe.windows_settings import settings_now
from fixed_anchor.planfile.reader import plan_from_text
from fixed_anchor.standins.windows.acting import perform, reach
from fixed_anchor.standins.windows.addressing import boot_adapter
from fixed_anchor.standins.windows.by_itself import settled
from fixed_anchor.standins.windows.lines import differing, lines_of
from fixed_anchor.standins.windows.told import facts_of
from fixed_anchor.workflow.windows.draft_settings import draft_windows
from tests.test_windows import state_of
from tests.test_windows_drafts import CASES, LABS, drafted

pytestmark = pytest.mark.one_in(2)

#: Nothing takes its time.
AT_ONCE = {"detection": 0.0, "lease": 0.0, "no_lease": 0.0, "identification": 0.0}


def settings_of(state: dict[str, Any], names: tuple[str, ...]) -> Settings:
    """What is kept of the machine by now; a name that waits for a restart counts."""
    facts = msgspec.structs.replace(facts_of(state), host=state.get("coming_name", state["name"]))
    return settings_now(facts, windows_survey("", facts), names)


def others(state: dict[str, Any], names: tuple[str, ...]) -> list[Any]:
    return [a for a in state["adapters"] if a["name"] not in names]


@pytest.mark.parametrize("name", [name for name, case in CASES.items() if case.get("runs")])
def test_a_draft_is_carried_out(name: str, tmp_path: Path) -> None:
    case = CASES[name]
    content = drafted(case, tmp_path).content
    assert isinstance(content, SettingsContent)
    state = state_of(case["machine"]) | {"wire": AT_ONCE}
    beside = msgspec.json.encode(others(state, content.interfaces))
    for act in content.acts:
        perform(state, act)
    after = settings_of(settled(state), content.interfaces)
    taken = [a["address"] for one in state["adapters"] for a in one["addresses"] if a["state"] == "Duplicate"]
    assert bool(taken) == ("on-another-interface" in CASES[name].get("finds", ()))
    # A size of which the plan says nothing is not told.
    plain = [
        msgspec.structs.replace(now, mtu=None if wanted.mtu is None else now.mtu)
        for now, wanted in zip(after.adapters, content.after.adapters, strict=True)
    ]
    assert msgspec.structs.replace(after, adapters=tuple(plain)) == content.after
    assert msgspec.json.encode(others(state, content.interfaces)) == beside
    # A restart brings the same.
    for adapter in state["adapters"]:
        boot_adapter(state, adapter)
    assert settings_of(settled(state), content.interfaces) == after


def lines_and_lease(state: dict[str, Any]) -> tuple[list[str], list[str]]:
    """What is kept on all adapters, and what of it comes from DHCP."""
    state = settled(state)
    # No adapter came to one that another had at that moment.
    assert "Duplicate" not in {a["state"] for one in state["adapters"] for a in one["addresses"]}
    leased = [a["address"] for one in state["adapters"] for a in one["addresses"] if a["prefix_origin"] == "Dhcp"]
    return sorted(lines_of(state, [a["guid"] for a in state["adapters"]], ())), leased


def comes_back(state: dict[str, Any], content: SettingsContent) -> None:
    """From wherever a change has got, its way back leads to what was: after none of its acts, after one, after all."""
    before = lines_and_lease(state)
    for count in range(len(content.acts) + 1):
        there = copy.deepcopy(state)
        for act in content.acts[:count]:
            if not isinstance(act, Rename):
                reach(there, act)
        settled(there)
        for act in content.back:
            if not isinstance(act, Rename):
                reach(there, act)
        lines, leased = lines_and_lease(there)
        assert differing(lines, before[0]) == [], (content.acts[:count], content.back)
        # What comes by itself where nothing was leased is not of this change.
        assert leased == before[1] or not before[1], (content.acts[:count], content.back)


def with_leases(state: dict[str, Any]) -> dict[str, Any]:
    """Whoever has a lease gets the same one again."""
    leases = {}
    for adapter in state["adapters"]:
        for held in adapter["addresses"]:
            if held["prefix_origin"] == "Dhcp":
                leases[adapter["guid"]] = {"address": f"{held['address']}/{held['prefix']}", "gateway": "198.51.100.1"}
    return state | {"wire": AT_ONCE | {"leases": leases}}


@pytest.mark.parametrize("name", [name for name, case in CASES.items() if case.get("runs")])
def test_it_comes_back_from_wherever_it_got(name: str, tmp_path: Path) -> None:
    content = drafted(CASES[name], tmp_path).content
    assert isinstance(content, SettingsContent)
    comes_back(with_leases(state_of(CASES[name]["machine"])), content)


_GATEWAYS = ["198.51.100.1", "198.51.100.254", "2001:db8:7e:2::1", "fe80::1"]
_RESOLVERS = ["198.51.100.2", "198.51.100.3", "2001:db8:7e:2::2"]


@st.composite
def plans(draw: st.DrawFn) -> dict[str, Any]:
    """What a plan may say of the one adapter, and Windows offers."""
    four = draw(st.sampled_from(["fixed", "fixed", "dhcp", "off", "untouched"]))
    six = draw(st.sampled_from(["fixed", "ra", "off", "untouched"]))
    said: dict[str, Any] = {"ipv4": four, "ipv6": six}
    held = draw(st.lists(st.sampled_from([20, 21, 22, 23]), min_size=1, max_size=3, unique=True))
    hold = [{"address": f"198.51.100.{n}", "prefix": draw(st.sampled_from([24, 25]))} for n in held if four == "fixed"]
    hold += [f"2001:db8:7e:2::{n}" for n in held if six == "fixed"]
    if hold:
        said["hold"] = hold
    gateways = draw(st.lists(st.sampled_from(_GATEWAYS), max_size=3, unique=True))
    metrics = [{"address": g, "metric": draw(st.sampled_from([1, 9, 256]))} for g in gateways]
    # One outside a longer prefix is refused by name.
    metrics = [
        g
        for g in metrics
        if g["address"] != "198.51.100.254" or all(h["prefix"] == 24 for h in hold[:1] if four == "fixed")
    ]
    said["gateway"] = metrics or "none"
    resolvers = draw(st.lists(st.sampled_from(_RESOLVERS), max_size=2, unique=True))
    said["resolvers"] = resolvers or (["198.51.100.2"] if four == "dhcp" and not metrics else [])
    said["search"] = draw(st.lists(st.sampled_from(["ternpoint.example", "labs.ternpoint.example"]), unique=True))
    if four == "dhcp" and draw(st.booleans()):
        said["fallback"] = draw(st.sampled_from(["198.51.100.190", "none"]))
    return said


BEGINNINGS = ["leased", "several addresses", "ipv6", "self-assigned", "left over"]


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(st.sampled_from(BEGINNINGS), st.lists(plans(), min_size=1, max_size=3))
def test_one_plan_after_another(name: str, every: list[dict[str, Any]]) -> None:
    """Whatever is planned after whatever was: it ends as it was drafted, and then nothing is left to be done."""
    state = with_leases(state_of(name))
    for said in every:
        try:
            content = drafted_for(settled(state), said)
        except NotSupported:
            continue
        comes_back(state, content)
        for act in content.acts:
            perform(state, act)
        after = settings_of(settled(state), content.interfaces)
        # Of an interface that is untouched nothing is told.
        for now, wanted in zip(after.adapters, content.after.adapters, strict=True):
            for field in AdapterSettings.__struct_fields__:
                assert field == "mtu" or getattr(now, field) == getattr(wanted, field), (field, content.acts)
        assert after.machine == content.after.machine
        assert drafted_for(settled(state), said).acts == ()


def drafted_for(state: dict[str, Any], said: dict[str, Any]) -> SettingsContent:
    interface = {"segment": "labs", "mac": "00:00:5e:00:53:31", **said}
    hosts = {"gannet-ws": {"interfaces": {"Ethernet": interface}}}
    plan = plan_from_text(yaml.safe_dump({"plan": 1, "segments": {"labs": LABS}, "hosts": hosts}), "plan.yaml")
    facts = facts_of(state)
    content = draft_windows(plan, plan.hosts["gannet-ws"], facts, windows_survey("", facts)).content
    assert isinstance(content, SettingsContent)
    return content
