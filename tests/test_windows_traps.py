"""What bites on Windows, on the simulated machine: each as it is known from documentation and long practice."""

from __future__ import annotations

import json
import time
from pathlib import Path
from typing import Any

import pytest

from fixed_anchor.machines.windows.alternate import encode
from fixed_anchor.observe.windows import windows_survey
from fixed_anchor.standins.windows.addressing import ACTIVE, NOT_ENABLED, PERSISTENT, Failed, boot_adapter
from fixed_anchor.standins.windows.by_itself import settled
from fixed_anchor.standins.windows.calls import call
from fixed_anchor.standins.windows.naming import effective_resolvers
from fixed_anchor.standins.windows.server import WindowsServer
from fixed_anchor.standins.windows.state import ALTERNATES, INTERFACES, machine
from fixed_anchor.standins.windows.told import facts_of
from tests.powershell import COMMANDS, needs_powershell, powershell
from tests.test_fallback import FALLBACK
from tests.test_windows import MACHINES, state_of
from tests.test_windows_acts import AT_ONCE

pytestmark = pytest.mark.one_in(2)

FIRST = 4
CHANGING = COMMANDS.with_name("changing.psm1")


@pytest.fixture
def leased() -> dict[str, Any]:
    return state_of("leased") | {"wire": AT_ONCE}


def held(state: dict[str, Any], store: str = ACTIVE, index: int = FIRST) -> list[str]:
    adapter = next(a for a in state["adapters"] if a["index"] == index)
    return [a["address"] for a in adapter["addresses"] if a["store"] == store and "%" not in a["address"]]


def routes(state: dict[str, Any], store: str = ACTIVE) -> list[tuple[str, int]]:
    return [(r["next_hop"], r["metric"]) for r in state["adapters"][0]["routes"] if r["store"] == store]


def new_address(state: dict[str, Any], address: str, gateway: str | None = None, index: int = FIRST) -> None:
    arguments = {"index": index, "address": address, "prefix": 24, "gateway": gateway, "skip": False, "store": None}
    call(state, "new_address", arguments)


def test_1_an_address_on_an_adapter_that_asks_dhcp_ends_that_at_once(leased: dict[str, Any]) -> None:
    new_address(leased, "198.51.100.20")
    assert held(leased) == held(leased, PERSISTENT) == ["198.51.100.20"]
    adapter = leased["adapters"][0]
    assert adapter["ip"][0]["dhcp"] == "Disabled"
    assert routes(leased) == []
    assert effective_resolvers(leased, adapter)[:1] != ["198.51.100.2"]


def test_2_a_default_route_outlives_its_address_and_is_in_the_way(leased: dict[str, Any]) -> None:
    new_address(leased, "198.51.100.20", "198.51.100.1")
    call(leased, "remove_address", {"index": FIRST, "address": "198.51.100.20", "store": None})
    assert routes(leased, PERSISTENT) == [("198.51.100.1", 256)]
    with pytest.raises(Failed, match="Instance DefaultGateway already exists"):
        new_address(leased, "198.51.100.21", "198.51.100.1")
    call(leased, "remove_route", {"index": FIRST, "destination": "0.0.0.0/0", "next_hop": None, "store": None})
    new_address(leased, "198.51.100.21", "198.51.100.1")
    assert routes(leased) == [("198.51.100.1", 256)]


def test_3_enabling_dhcp_alone_leaves_the_route_and_the_resolvers() -> None:
    state = state_of("several addresses") | {"wire": AT_ONCE}
    call(state, "set_interface", {"index": FIRST, "version": 4, "settings": {"dhcp": "Enabled"}})
    assert routes(settled(state), PERSISTENT) == [("198.51.100.1", 256)]
    assert effective_resolvers(state, state["adapters"][0])[:2] == ["198.51.100.2", "198.51.100.3"]


def test_4_cim_sets_all_at_once_and_cannot_take_the_last_gateway_away(leased: dict[str, Any]) -> None:
    addresses = {"addresses": ["198.51.100.20", "198.51.100.21"], "masks": ["255.255.255.0"] * 2}
    assert call(leased, "enable_static", {"index": FIRST, **addresses}) == 0
    skip = {"index": FIRST, "address": "198.51.100.21", "skip": True, "prefix": None, "store": None}
    call(leased, "set_address", skip)
    assert call(leased, "set_gateways", {"index": FIRST, "gateways": ["198.51.100.1"], "metrics": [10]}) == 0
    assert call(leased, "set_gateways", {"index": FIRST, "gateways": [], "metrics": []}) == 0
    assert routes(leased) == [("198.51.100.1", 10)]
    # Who may be a source is forgotten.
    assert call(leased, "enable_static", {"index": FIRST, **addresses}) == 0
    assert not any(a["skip_as_source"] for a in leased["adapters"][0]["addresses"])


def test_5_an_address_is_tentative_first_and_duplicate_where_somebody_has_it(leased: dict[str, Any]) -> None:
    leased["wire"] = {"detection": 0.05, "taken": ["198.51.100.20"]}
    new_address(leased, "198.51.100.20")
    new_address(leased, "198.51.100.21")

    def states() -> list[str]:
        return [a["state"] for a in settled(leased)["adapters"][0]["addresses"] if a["store"] == ACTIVE][1:]

    assert states() == ["Tentative", "Tentative"]
    time.sleep(0.06)
    assert states() == ["Duplicate", "Preferred"]


def test_6_and_14_another_gateway_makes_the_network_public_and_identification_takes_its_time(
    leased: dict[str, Any],
) -> None:
    leased["wire"] = {**AT_ONCE, "identification": 0.05, "networks": {"198.51.100.1": "Private"}}
    adapter = leased["adapters"][0]
    assert adapter["category"] == "Private"
    call(leased, "enable_static", {"index": FIRST, "addresses": ["198.51.100.20"], "masks": ["255.255.255.0"]})
    call(leased, "set_gateways", {"index": FIRST, "gateways": ["198.51.100.254"], "metrics": [1]})
    with pytest.raises(Failed, match="is being identified"):
        call(leased, "set_category", {"index": FIRST, "category": "Private"})
    time.sleep(0.06)
    assert settled(leased)["adapters"][0]["category"] == "Public"
    call(leased, "set_category", {"index": FIRST, "category": "Private"})
    with pytest.raises(Failed, match="cannot be set to DomainAuthenticated"):
        call(leased, "set_category", {"index": FIRST, "category": "DomainAuthenticated"})


def test_7_and_8_what_is_never_a_source_is_not_registered_and_old_records_stay(leased: dict[str, Any]) -> None:
    call(leased, "register", {})
    new_address(leased, "198.51.100.20")
    arguments = {"address": "198.51.100.21", "prefix": 24, "gateway": None, "skip": True, "store": None}
    call(leased, "new_address", {"index": FIRST, **arguments})
    settled(leased)
    call(leased, "register", {})
    assert leased["records"] == ["198.51.100.77", "198.51.100.20"]


def test_9_the_alternate_configuration_is_taken_where_no_server_answers() -> None:
    state = state_of("self-assigned") | {"wire": AT_ONCE}
    guid = state["adapters"][0]["guid"]
    call(state, "new_key", {"key": f"{ALTERNATES}\\Alternate_{guid}"})
    options = list(encode(FALLBACK))
    call(state, "set_value", {"key": f"{ALTERNATES}\\Alternate_{guid}", "name": "Options", "value": options})
    name = {"name": "ActiveConfigurations", "value": [f"Alternate_{guid}"]}
    call(state, "set_value", {"key": f"{INTERFACES}\\{guid}", **name})
    # Writing it is not picked up by itself.
    assert "198.51.100.190" not in held(settled(state))
    boot_adapter(state, state["adapters"][0])
    assert held(settled(state)) == ["198.51.100.190"]
    assert routes(state) == [("198.51.100.1", 0)]


def test_10_and_11_a_static_gateway_counts_for_less_than_a_leased_one() -> None:
    lease = {"address": "203.0.113.131/24", "gateway": "203.0.113.1"}
    said = {"A": {"mac": "00:00:5e:00:53:31", "lease": {"address": "198.51.100.77/24", "gateway": "198.51.100.1"}}}
    state = machine({"adapters": {**said, "B": {"mac": "00:00:5e:00:53:32", "lease": lease}}}) | {"wire": AT_ONCE}
    new_address(state, "198.51.100.20", "198.51.100.1")
    metrics = {i.name: i.default_routes(4)[0].metric for i in windows_survey("", facts_of(state)).interfaces}
    assert metrics == {"A": 281, "B": 25}


def test_12_addresses_of_disconnected_adapters_stay_tentative() -> None:
    state = state_of("wireless") | {"wire": AT_ONCE}
    adapter = settled(state)["adapters"][1]
    assert [a["state"] for a in adapter["addresses"] if a["store"] == ACTIVE] == ["Tentative", "Tentative"]


def test_15_the_leased_address_exists_already_and_cim_takes_it(leased: dict[str, Any]) -> None:
    with pytest.raises(Failed, match="already exists"):
        new_address(leased, "198.51.100.77")
    arguments = {"addresses": ["198.51.100.77"], "masks": ["255.255.255.0"]}
    assert call(leased, "enable_static", {"index": FIRST, **arguments}) == 0
    state = state_of("wireless") | {"wire": AT_ONCE}
    assert call(state, "enable_static", {"index": 5, **arguments}) == NOT_ENABLED
    # And without CIM it must be told first that it asks nobody.
    call(state, "set_interface", {"index": 5, "version": 4, "settings": {"dhcp": "Enabled"}})
    with pytest.raises(Failed, match="Inconsistent parameters"):
        call(
            state,
            "new_address",
            {"index": 5, "address": "198.51.100.9", "prefix": 24, "gateway": None, "skip": False, "store": None},
        )


def test_16_what_goes_from_one_store_comes_back_at_boot() -> None:
    state = state_of("several addresses") | {"wire": AT_ONCE}
    call(state, "remove_address", {"index": FIRST, "address": "198.51.100.21", "store": ACTIVE})
    assert "198.51.100.21" not in held(state)
    boot_adapter(state, state["adapters"][0])
    assert "198.51.100.21" in held(state)


def test_17_link_local_addresses_carry_the_number_of_their_adapter(leased: dict[str, Any]) -> None:
    local = leased["adapters"][0]["addresses"][0]["address"]
    assert local.endswith(f"%{FIRST}")
    assert str(windows_survey("", facts_of(leased)).interfaces[0].addresses[0].address) == "fe80::5c1:4/64"


#: What a script meets there; each line that it prints is checked.
SCRIPT = r"""
Import-Module $args[0] -DisableNameChecking
Import-Module $args[1] -DisableNameChecking
function Said([scriptblock] $what) { try { & $what; 'done' } catch { "thrown: $($_.Exception.Message)" } }
# 13: it asks, and nobody is there; and it does not see what the script prefers on errors.
Said { Remove-NetIPAddress -InterfaceIndex 4 -IPAddress 198.51.100.22 }
function Quiet {
    $ErrorActionPreference = 'Stop'
    Remove-NetIPAddress -InterfaceIndex 4 -IPAddress 198.51.100.99 -Confirm:$false 2>$null
    'went on'
}
Quiet
Said { Remove-NetIPAddress -InterfaceIndex 4 -IPAddress 198.51.100.99 -Confirm:$false -ErrorAction Stop }
# 15: real arrays alone.
$adapter = [pscustomobject] @{ InterfaceIndex = 4 }
$of = @{ InputObject = $adapter; ErrorAction = 'Stop' }
$texts = @{ IPAddress = '198.51.100.20'; SubnetMask = '255.255.255.0' }
Said { Invoke-CimMethod @of -MethodName EnableStatic -Arguments $texts }
$arrays = @{ DefaultIPGateway = [string[]] @('198.51.100.1'); GatewayCostMetric = [uint16[]] @(7) }
Said { (Invoke-CimMethod @of -MethodName SetGateways -Arguments $arrays).ReturnValue }
# 16: what was got is removed from its own store.
Get-NetIPAddress -PolicyStore ActiveStore -IPAddress 198.51.100.21 | Remove-NetIPAddress -Confirm:$false
(@(Get-NetIPAddress -IPAddress 198.51.100.21) | ForEach-Object { $_.Store }) -join ','
"""


@needs_powershell
def test_13_15_and_16_as_a_script_meets_them(tmp_path: Path) -> None:
    """In a real PowerShell, by the modules that stand for Windows' commands."""
    file = tmp_path / "machine.json"
    file.write_text(json.dumps(machine(MACHINES["several addresses"]["machine"]) | {"wire": AT_ONCE}))
    with WindowsServer(file, tmp_path / "socket") as server:
        there = {"FIXED_ANCHOR_WINDOWS": str(file), "FIXED_ANCHOR_WINDOWS_SERVER": str(server.address)}
        done = powershell(SCRIPT, tmp_path, str(COMMANDS), str(CHANGING), **there)
        lines = done.stdout.decode().splitlines()
        assert "NonInteractive" in lines[0], done.stderr
        assert lines[1] == "went on"
        assert lines[2].startswith("thrown: No matching MSFT_NetIPAddress")
        assert lines[3].startswith("thrown: Type mismatch for parameter")
        assert lines[4:7] == ["0", "done", "PersistentStore"]
        # Whoever makes the change that is named dies with it, and the change is made.
        server.dies_at = server.changes + 1
        script = "Import-Module $args[0]; Set-DnsClient -InterfaceIndex 4 -ConnectionSpecificSuffix x.example; 'alive'"
        died = powershell(script, tmp_path, str(CHANGING), **there)
        assert (died.returncode, died.stdout) == (137, b"")
        assert server.state()["adapters"][0]["suffix"] == "x.example"
