"""Windows machines: the collector is plain PowerShell of both versions, and what it tells becomes a survey."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec
import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st

from fixed_anchor.core.errors import InputError
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.machines.windows.windows_facts import WindowsFacts, is_of_windows, read_facts
from fixed_anchor.machines.windows_collected import WindowsCollected, collector_source
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.observe.windows import windows_survey
from fixed_anchor.standins.windows.state import machine
from fixed_anchor.standins.windows.told import facts_of
from tests.powershell import needs_powershell, run_over, run_over_all, tree_of
from tests.test_commands import run

COLLECTOR = Path(__file__).parent.parent / "src/fixed_anchor/machines/windows/collector.ps1"
MACHINES: dict[str, dict[str, Any]] = yaml.safe_load(
    Path(__file__).with_name("windows_machines.yaml").read_text("utf-8")
)

#: All that the collector may call: commands with their parameters, members of .NET, and types.
COMMANDS: dict[str, set[str]] = {
    "Get-CimInstance": {"ClassName", "ErrorAction"}, "Get-Command": {"Name", "ErrorAction"},
    "Get-DnsClient": {"ErrorAction"}, "Get-DnsClientGlobalSetting": {"ErrorAction"},
    "Get-DnsClientServerAddress": {"ErrorAction"}, "Get-ExecutionPolicy": {"List"},
    "Get-ItemProperty": {"LiteralPath", "ErrorAction"}, "Get-NetAdapter": {"IncludeHidden", "ErrorAction"},
    "Get-NetAdapterBinding": {"IncludeHidden", "ErrorAction"}, "Get-Disk": {"ErrorAction"},
    "Get-NetConnectionProfile": {"ErrorAction"}, "Get-NetIPAddress": {"PolicyStore", "ErrorAction"},
    "Get-NetIPInterface": {"ErrorAction"}, "Get-NetLbfoTeam": {"ErrorAction"},
    "Get-NetRoute": {"PolicyStore", "ErrorAction"}, "Get-NetTCPConnection": {"State", "ErrorAction"},
    "Get-NetUDPEndpoint": {"ErrorAction"}, "Get-Process": {"ErrorAction"}, "Get-Service": {"ErrorAction"},
    "Get-VMSwitch": {"ErrorAction"}, "Test-Path": {"LiteralPath"},
    # whoami.exe, by its full path.
    "by Ampersand ParenExpressionAst": set(),
    "ConvertTo-Json": {"Compress", "Depth", "InputObject"}, "ForEach-Object": set(), "Where-Object": set(),
}  # fmt: skip
OWN = {"Miss", "Value", "Text", "Texts", "Has", "Seconds", "Hexadecimal"}
MEMBERS = {"[regex]::Replace", "[System.IO.Path]::Combine"}
TYPES = {"string", "bool", "int", "int64", "char", "regex", "ordered", "system.environment", "system.io.path"}
#: What Windows PowerShell 5.1 does not have, or what runs text.
NEWER = {"TernaryExpressionAst", "PipelineChainAst", "UsingExpressionAst"}
NEWER_TOKENS = {"QuestionQuestion", "QuestionQuestionEquals", "QuestionDot", "QuestionLBracket", "AndAnd", "OrOr"}
NEWER_VARIABLES = {"IsWindows", "IsLinux", "IsMacOS", "IsCoreCLR", "PSStyle"}


@needs_powershell
def test_what_the_collector_is_made_of(tmp_path: Path) -> None:
    tree = tree_of(COLLECTOR, tmp_path)
    assert tree["errors"] == []
    assert not NEWER & set(tree["kinds"])
    assert not NEWER_TOKENS & set(tree["tokens"])
    assert not NEWER_VARIABLES & set(tree["variables"])
    for command in tree["commands"]:
        # A command by another way than its name would be one that nobody can list.
        assert command["name"] in COMMANDS or command["name"] in OWN, command
        assert set(command["parameters"]) <= COMMANDS.get(command["name"], set()), command
    assert set(tree["members"]) <= MEMBERS
    assert {name.lower() for name in tree["types"]} <= TYPES
    assert collector_source().isascii()


def state_of(name: str) -> dict[str, Any]:
    """The state of one of the machines."""
    one = MACHINES[name]
    return machine(one["machine"]) | ({"language_mode": one["mode"]} if "mode" in one else {})


def in_words(survey: HostSurvey) -> Iterator[str]:
    yield f"hostname {survey.hostname}"
    yield f"system {survey.system}"
    yield from (f"told {text}" for text in survey.stack_evidence)
    for found in survey.interfaces:
        of = f", of {found.link.master}" if found.link.master else ""
        yield f"{found.name} {found.link.kind} {found.link.mac} {found.state}{of}"
        yield from (f"{found.name} address {a.address} {a.origin} {a.seconds_left}" for a in found.addresses)
        yield from (f"{found.name} route {route}" for route in found.routes)
        resolvers = ", ".join(map(str, found.resolvers)) or "none"
        yield f"{found.name} resolvers {resolvers}; search {', '.join(found.search) or 'none'}"
        if found.lease is not None:
            yield f"{found.name} lease {found.lease.address} of {found.lease.server}"
        if found.declared is not None:
            yield f"{found.name} declared {found.declared.in_words(4)}; {found.declared.in_words(6)}"


@needs_powershell
def test_machines_through_their_commands(tmp_path: Path) -> None:
    """The real collector in a real PowerShell, over each simulated machine: our survey says what is so."""
    names = [name for name, one in MACHINES.items() if "mode" not in one]
    printed = dict(zip(names, run_over_all([state_of(name) for name in names], COLLECTOR, tmp_path), strict=True))
    for name in names:
        assert read_facts(printed[name], name).missing == {}, name
    # A restricted mode keeps methods from being called, and ends the collector.
    for name in MACHINES.keys() - printed.keys():
        printed[name] = run_over(state_of(name), COLLECTOR, tmp_path, MACHINES[name]["mode"])
    for name, data in printed.items():
        assert data.isascii()
        assert is_of_windows(data)
        facts = read_facts(data, name)
        # One state, and two ways in: what it tells without a PowerShell is the same.
        told = facts_of(state_of(name))
        assert msgspec.structs.replace(facts, edition=told.edition, version=told.version) == told, name
        said = list(in_words(windows_survey("", facts)))
        for line in MACHINES[name]["says"]:
            assert line in said, name + "\n" + "\n".join(said)
        # As `>` writes it in Windows PowerShell 5.1.
        (tmp_path / "gannet-ws.collection").write_bytes(b"\xff\xfe" + data.decode().encode("utf-16-le"))
        assert list(in_words(take_stock(WindowsCollected(tmp_path / "gannet-ws.collection"))))[1:] == said[1:], name


HOSTILE = [
    "'", '"', "$(calc)", "`whoami`", "a\nb\r\nc", "\u202eabc", "\x1b[31mred", "%PATH%", "]]>", "\\", "x" * 10_000,
    "\u00e9\U0001f41f", "",
]  # fmt: skip


@needs_powershell
def test_hostile_values_arrive_as_they_are(tmp_path: Path) -> None:
    adapters = {
        (text or "none"): {
            "mac": f"00:00:5e:00:53:{number:02x}", "description": text, "suffix": text, "network": text,
            "fixed": [f"203.0.113.{number + 1}/24"], "alternate": "ff",
        }
        for number, text in enumerate(HOSTILE)
    }  # fmt: skip
    state = machine(
        {"name": "x", "dns_name": HOSTILE[2], "domain": HOSTILE[0], "search": HOSTILE, "adapters": adapters}
    )
    facts = read_facts(run_over(state, COLLECTOR, tmp_path), "printed")
    assert [a.name for a in facts.adapters] == [text or "none" for text in HOSTILE]
    assert [a.description for a in facts.adapters] == HOSTILE
    assert [d.suffix for d in facts.dns] == HOSTILE
    assert [k.domain for k in facts.kept] == HOSTILE
    assert facts.search == HOSTILE
    assert facts.domain == HOSTILE[0]
    # What is printed of it moves no terminal.
    (tmp_path / "x.collection").write_bytes(run_over(state, COLLECTOR, tmp_path))
    shown = run(tmp_path, "survey", "--host", "collected:x.collection")
    assert shown.returncode == 0, shown.stderr
    assert "\x1b" not in shown.stdout
    assert "\u202e" not in shown.stdout


def document(**more: Any) -> bytes:
    return json.dumps({"fixed_anchor_windows": 1, "language_mode": "FullLanguage", **more}).encode()


ETHERNET = {"name": "Ethernet", "guid": "{1}", "index": 4, "mac": "00-00-5E-00-53-31"}


@pytest.mark.parametrize(
    ("data", "says"),
    [
        (document()[:-4], "no whole JSON document"),
        (b"{}", "fixed_anchor_windows"),
        (document(adapters=7), "adapters"),
        (document(adapters=[{}]), "name"),
        (b'{"fixed_anchor_windows": 2, "language_mode": "x"}', "is of form 2"),
        (
            document(
                adapters=[ETHERNET], addresses=[{"store": "ActiveStore", "index": 4, "address": "1.2.3", "prefix": 24}]
            ),
            "cannot be right: '1.2.3' has 3 octets",
        ),
        (
            document(adapters=[ETHERNET], kept=[{"guid": "{1}", "addresses": ["203.0.113.9"], "masks": ["tide"]}]),
            "cannot be right",
        ),
    ],
)
def test_a_document_that_is_broken(tmp_path: Path, data: bytes, says: str) -> None:
    (tmp_path / "broken.collection").write_bytes(data)
    with pytest.raises(InputError, match=says):
        take_stock(WindowsCollected(tmp_path / "broken.collection"))


@given(st.binary(max_size=200))
def test_no_other_error_of_any_bytes(data: bytes) -> None:
    try:
        facts = read_facts(document()[:1] + data, "x")
    except InputError:
        return
    assert isinstance(facts, WindowsFacts)


def test_the_commands_for_a_collection(tmp_path: Path) -> None:
    """It is surveyed; what is not known of it is refused by name."""
    (tmp_path / "gannet-ws.collection").write_bytes(
        document(host="GANNET-WS", system="Windows 11", elevated=True, adapters=[ETHERNET])
    )
    printed = run(tmp_path, "survey", "--collector", "windows")
    assert printed.stdout == collector_source()
    shown = run(tmp_path, "survey", "--host", "collected:gannet-ws.collection")
    assert shown.returncode == 0, shown.stderr
    assert "Windows 11" in shown.stdout
    (tmp_path / "plan.yaml").write_text(
        "plan: 1\nsegments: {labs: {subnet: 198.51.100.0/24, gateway: 198.51.100.1}}\nhosts:\n  gannet-ws:\n"
        "    reach: collected:gannet-ws.collection\n    interfaces:\n"
        '      Ethernet: {mac: "00:00:5e:00:53:31", segment: labs, hold: 198.51.100.20}\n'
    )
    refused = run(tmp_path, "draft", "plan.yaml")
    assert refused.returncode == 2, refused.stdout + refused.stderr
    assert "what is kept of Ethernet is not known: nothing was told of it" in refused.stderr
    checked = run(tmp_path, "check", "plan.yaml", "--no-wire")
    assert checked.returncode in (1, 6), checked.stdout + checked.stderr
    assert "Traceback" not in checked.stderr
