"""What is drafted for Windows machines: settings before and after, what runs, what is refused and what is found."""

from __future__ import annotations

import difflib
import json
from pathlib import Path
from typing import Any

import msgspec
import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st

from fixed_anchor.change.acts import Act
from fixed_anchor.change.change import Draft
from fixed_anchor.change.settings import SettingsContent
from fixed_anchor.core.addresses import parse_address, parse_interface_address
from fixed_anchor.core.config import Fallback
from fixed_anchor.core.errors import AnchorError
from fixed_anchor.machines.tree import Tree
from fixed_anchor.machines.windows.alternate import decode, encode
from fixed_anchor.planfile.reader import plan_from_text
from fixed_anchor.standins.windows.state import machine
from fixed_anchor.standins.windows.told import facts_of
from fixed_anchor.workflow.drafts import draft
from fixed_anchor.workflow.reached.site import Site
from fixed_anchor.workflow.verify import verify
from tests.judging import check
from tests.test_commands import run
from tests.test_windows import HOSTILE, state_of

CASES: dict[str, dict[str, Any]] = yaml.safe_load(Path(__file__).with_name("windows_drafts.yaml").read_text("utf-8"))

LABS = {
    "subnet": ["198.51.100.0/24", "2001:db8:7e:2::/64"],
    "gateway": ["198.51.100.1", "2001:db8:7e:2::1"],
    "resolvers": ["198.51.100.2"],
    "search": ["ternpoint.example"],
    "pools": [],
}
QUAY = {"subnet": "203.0.113.0/24", "gateway": "203.0.113.1", "pools": []}


def site_of(case: dict[str, Any], folder: Path) -> Site:
    """A plan for the machine of a case, which is a collection in ``folder``."""
    (folder / "x.collection").write_bytes(
        msgspec.json.encode(facts_of(state_of(case["machine"]) | {"missing": case.get("missing", {})}))
    )
    interfaces = {}
    for name, said in case["of"].items():
        interfaces[name] = {"segment": "labs", "mac": "00:00:5e:00:53:31" if name != "Ethernet 2" else None} | said
        if interfaces[name]["mac"] is None:
            del interfaces[name]["mac"]
    plan = {
        "plan": 1,
        "segments": {"labs": {**LABS, **case.get("segment", {})}, "quay": QUAY},
        "hosts": {"gannet-ws": {"reach": "collected:x.collection", "interfaces": interfaces, **case.get("host", {})}},
    }
    if "segment" in case:
        plan["segments"].pop("quay")
    text = yaml.safe_dump(plan, allow_unicode=True, sort_keys=False)
    return Site(plan_from_text(text, str(folder / "plan.yaml")), Tree(folder))


def drafted(case: dict[str, Any], folder: Path) -> Draft:
    (made,), _ = draft(site_of(case, folder))
    return made


@pytest.mark.parametrize("name", CASES)
def test_a_draft(name: str, tmp_path: Path) -> None:
    case = CASES[name]
    if "refuses" in case:
        with pytest.raises(AnchorError) as refused:
            drafted(case, tmp_path)
        assert case["refuses"] in str(refused.value)
        assert "plan.yaml:" in str(refused.value)
    else:
        made = drafted(case, tmp_path)
        content = made.content
        assert isinstance(content, SettingsContent)
        diff = list(difflib.ndiff(content.before.lines(), content.after.lines()))
        plain = [" ".join((line[:1] + " " + line[2:].strip()).split("\n")) for line in diff if line[0] != "?"]
        shown = [act.shown for act in content.acts]
        for line in case.get("becomes", ()):
            assert line[0] + " " + line[2:].strip() in plain, "\n".join(plain)
        assert shown == case.get("runs", shown), "\n".join(shown)
        assert content.is_empty == (not shown)
        assert content.restart == case.get("restart", "")
        # Every act is data that an engine can read.
        for act in content.acts:
            assert msgspec.json.decode(msgspec.json.encode(act), type=Act) == act
    if "finds" in case:
        findings = check(site_of(case, tmp_path), wire=False).findings
        found = {f.code for f in findings}
        assert case.get("tells", findings[0].message) in [f.message for f in findings]
        assert set(case["finds"]) <= found, found
        if "refuses" not in case:
            assert "cannot-be-drafted" not in found


@pytest.mark.parametrize("name", [name for name, case in CASES.items() if "refuses" in case])
def test_what_cannot_be_drafted_is_verified_all_the_same(name: str, tmp_path: Path) -> None:
    """It is not as planned, or nobody can tell: a refusal of one host ends the verification of no other."""
    assert verify(site_of(CASES[name], tmp_path)).verdict != "as planned"


def test_there_are_enough_of_them() -> None:
    assert len([c for c in CASES.values() if "runs" in c]) >= 20
    # Each act is drafted by one of them at least.
    acts = {kind.__struct_config__.tag for kind in Act.__args__}
    assert len(acts) == 18


@pytest.mark.parametrize("name", [text for text in HOSTILE if text], ids=range(len(HOSTILE) - 1))
def test_an_adapter_of_a_hostile_name(name: str, tmp_path: Path) -> None:
    """It is planned by its name as it is, or refused by the plan; what is printed of it moves no terminal."""
    adapters = {name: {"mac": "00:00:5e:00:53:31", "asks": True, "lease": {"address": "198.51.100.77/24"}}}
    (tmp_path / "x.collection").write_bytes(msgspec.json.encode(facts_of(machine({"adapters": adapters}))))
    interface = {"segment": "labs", "mac": "00:00:5e:00:53:31", "hold": "198.51.100.20"}
    hosts = {"gannet-ws": {"reach": "collected:x.collection", "interfaces": {name: interface}}}
    text = yaml.safe_dump({"plan": 1, "segments": {"labs": LABS}, "hosts": hosts}, allow_unicode=True)
    (tmp_path / "plan.yaml").write_text(text)
    done = run(tmp_path, "draft", "plan.yaml", "--json")
    shown = run(tmp_path, "draft", "plan.yaml")
    if len(name) > 256 or any(ord(c) < 32 for c in name):
        assert (done.returncode, shown.returncode) == (2, 2)
        assert "cannot be an interface's name" in shown.stderr
    else:
        assert (done.returncode, shown.returncode) == (0, 0), shown.stderr
        (host,) = json.loads(done.stdout)["hosts"]
        assert host["interfaces"] == [name]
        assert len(name) < 3 or not any(name in act for act in host["settings"]["acts"])
    for char in ("\x1b", "\u202e", "\r"):
        assert char not in shown.stdout + shown.stderr


def test_an_alternate_configuration_as_it_is_kept() -> None:
    """By hand, after the page of facts: five numbers, and the value."""
    fallback = Fallback(parse_interface_address("198.51.100.190/24"), parse_address("198.51.100.1"))
    data = encode(fallback)
    assert data.hex() == (
        "32000000" "00000000" "04000000" "00000000" "ffffff7f" "c63364be"
        "01000000" "00000000" "04000000" "00000000" "ffffff7f" "ffffff00"
        "03000000" "00000000" "04000000" "00000000" "ffffff7f" "c6336401"
    )  # fmt: skip
    assert decode(data) == fallback
    # Others write 0 for the last number.
    assert decode(bytes.fromhex(data.hex().replace("ffffff7f", "00000000"))) == fallback
    with pytest.raises(ValueError, match="cut short"):
        decode(data[:-2])


_V4 = st.ip_addresses(v=4)


@given(_V4, st.integers(0, 32), st.none() | _V4, st.lists(_V4, max_size=5))
def test_an_alternate_configuration_there_and_back(address: Any, prefix: int, gateway: Any, resolvers: Any) -> None:
    said = Fallback(parse_interface_address(f"{address}/{prefix}"), gateway, tuple(resolvers))
    assert decode(encode(said)) == said


@given(st.binary(max_size=120))
def test_an_alternate_configuration_of_any_bytes(data: bytes) -> None:
    try:
        assert isinstance(decode(data), Fallback)
    except ValueError:
        return
