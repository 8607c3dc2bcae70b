"""IPv6 from router advertisements and DHCPv6: what files say of it, what it gave, and what becomes of that."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import msgspec
import pytest

from fixed_anchor.change.files import FileText, apply_edits
from fixed_anchor.core.addresses import default_network, parse_address, parse_interface_address
from fixed_anchor.core.config import InterfaceConfig, LinkFacts, Route
from fixed_anchor.core.errors import InputError
from fixed_anchor.core.findings import Finding
from fixed_anchor.core.rules.survey import survey_findings
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.core.verification import state_checks
from fixed_anchor.formats import FORMATS
from fixed_anchor.formats.rewriting import rewrite
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.planfile.reader import read_plan
from fixed_anchor.planfile.writer import plan_text
from fixed_anchor.reporting.documents.stock import host_stock
from fixed_anchor.vantages.nowhere import Nowhere
from fixed_anchor.workflow.propose import propose, with_pick
from fixed_anchor.workflow.reached.site import Site
from tests.judging import check
from tests.machines import Told

HELD = "2001:db8:7e:1::20"
ROUTER = parse_address("fe80::1")


def stock(survey: HostSurvey) -> dict[str, Any]:
    """The survey as it is saved and read again."""
    made: dict[str, Any] = msgspec.to_builtins(host_stock(survey))
    return made


LINK = LinkFacts("eth0", "00:00:5e:00:53:11", "00:00:5e:00:53:11")
NETWORK = "[Match]\nName=eth0\n[Network]\nAddress=2001:db8:7e:1::20/64\n"
NETPLAN = 'network:\n  ethernets:\n    eth0:\n      addresses: ["2001:db8:7e:1::20/64"]\n'
IFUPDOWN = "auto eth0\niface eth0 inet6 static\n    address 2001:db8:7e:1::20/64\n"
KEYFILE = "[connection]\nid=quay\ntype=ethernet\ninterface-name=eth0\n[ipv4]\nmethod=disabled\n[ipv6]\n"
IFCFG = "DEVICE=eth0\nBOOTPROTO=none\nIPV6INIT=yes\nIPV6ADDR=2001:db8:7e:1::20/64\n"
PATHS = {
    "networkd": "/etc/systemd/network/20-quay.network",
    "netplan": "/etc/netplan/50-quay.yaml",
    "ifupdown": "/etc/network/interfaces",
    "NetworkManager": "/etc/NetworkManager/system-connections/quay.nmconnection",
    "ifcfg": "/etc/sysconfig/network-scripts/ifcfg-eth0",
}


@pytest.mark.parametrize(
    ("stack", "text", "hears"),
    [
        ("networkd", NETWORK, True),
        ("networkd", NETWORK + "IPv6AcceptRA=yes\n", True),
        ("networkd", NETWORK + "IPv6AcceptRA=no\n", False),
        ("netplan", NETPLAN, True),
        ("netplan", NETPLAN + "      accept-ra: true\n", True),
        ("netplan", NETPLAN + "      accept-ra: false\n", False),
        ("netplan", NETPLAN.replace("network:\n", "network:\n  renderer: NetworkManager\n"), False),
        ("ifupdown", IFUPDOWN, True),
        ("ifupdown", IFUPDOWN + "    accept_ra 0\n", False),
        ("ifupdown", IFUPDOWN + "    accept_ra 2\n", True),
        ("ifupdown", "iface eth0 inet6 auto\n" + IFUPDOWN, True),
        ("NetworkManager", KEYFILE + f"method=manual\naddress1={HELD}/64\n", False),
        ("ifcfg", IFCFG, True),
        ("ifcfg", IFCFG + "IPV6_AUTOCONF=no\n", False),
    ],
)
def test_a_fixed_address_is_drafted_so_that_nothing_listens(stack: str, text: str, hears: bool) -> None:
    """Also where the very address was there before; by a link-local gateway, which is on link by itself."""
    form, path = FORMATS[stack], PATHS[stack]
    files = {path: FileText(path, text, 0o600)}
    (found,) = form.read(files, (LINK,))
    assert (found.config.ipv6, found.config.accepts_ra) == ("fixed", hears)
    wanted = InterfaceConfig(
        "eth0", ipv6="fixed", addresses=(parse_interface_address(f"{HELD}/64"),),
        routes=(Route(default_network(6), ROUTER),),
    )  # fmt: skip
    edits = rewrite(form, files, LINK, wanted, (LINK,))
    after = apply_edits(files, edits)
    (again,) = form.read(after, (LINK,))
    assert not again.config.accepts_ra
    assert again.config.default_routes(6) == wanted.routes
    written = "".join(file.text for file in after.values())
    assert "nlink" not in written.lower().replace("on-link", "onlink"), written
    assert ("fe80::1%eth0" in written) == (stack == "ifcfg")
    # And what is so already is left alone.
    assert not rewrite(form, after, LINK, wanted, (LINK,))


# --- what was announced -----------------------------------------------------------------


def host(
    *infos: tuple[str, int, bool],
    routes: str = "",
    files: dict[str, str] | None = None,
    resolvers: str = "2001:db8:7e:1::53",
    four: bool = False,
) -> Told:
    """A host of systemd-networkd with IPv6 addresses (each with prefix, and whether it has a lifetime), and a lease."""
    said = [
        {"local": a, "prefixlen": n, "scope": "global"} | ({"dynamic": True, "valid_life_time": 3000} if d else {})
        for a, n, d in infos
    ]
    if four:
        said.insert(0, {"local": "203.0.113.107", "prefixlen": 24, "dynamic": True, "valid_life_time": 3000})
    link = {
        "ifname": "eth0", "ifindex": 2, "address": "00:00:5e:00:53:11", "link_type": "ether", "mtu": 1500,
        "operstate": "UP", "addr_info": [*said, {"local": "fe80::200:5eff:fe00:5311", "prefixlen": 64}],
    }  # fmt: skip
    default4 = '[{"dst": "default", "gateway": "203.0.113.1", "dev": "eth0", "protocol": "dhcp", "metric": 100}]'
    units = "systemctl is-active systemd-networkd.service NetworkManager.service networking.service network.service"
    servers = ("203.0.113.2 " if four else "") + resolvers
    commands = {
        "ip -j -d address show": json.dumps([link]),
        "ip -j route show": default4 if four else "[]",
        "ip -j -6 route show": routes or RA_ROUTES,
        f"{units} systemd-resolved.service": "active\n" + "inactive\n" * 3 + "active\n",
        "resolvectl dns eth0": f"Link 2 (eth0): {servers}\n",
        "resolvectl domain eth0": "Link 2 (eth0): ternpoint.example lofts.ternpoint.example\n",
        "ss -H -l -n -t -u -p": "",
    }  # fmt: skip
    there = {PATHS["networkd"]: "[Match]\nName=eth0\n[Network]\nDHCP=yes\n"}
    if four:
        there["/run/systemd/netif/leases/2"] = "ADDRESS=203.0.113.107\nDNS=203.0.113.2\nDOMAINNAME=ternpoint.example\n"
    links = {"/etc/resolv.conf": "../run/systemd/resolve/stub-resolv.conf"}
    return Told(commands, there | (files or {}), links)


RA_ROUTES = json.dumps(
    [
        {"dst": "2001:db8:7e:1::/64", "dev": "eth0", "protocol": "ra", "metric": 1024},
        {"dst": "2001:db8:7e:20::/64", "gateway": "fe80::1", "dev": "eth0", "protocol": "ra", "metric": 1024},
        {
            "dst": "default", "gateway": "fe80::1", "dev": "eth0", "protocol": "ra", "metric": 1024,
            "metrics": [{"mtu": 1400}],
        },
    ]
)  # fmt: skip
SLAAC, DHCP = ("2001:db8:7e:1:200:5eff:fe00:5311", 64, True), ("2001:db8:7e:1::1df", 128, True)
PLAN = """\
plan: 1
segments:
  quay:
    subnet: [203.0.113.0/24, "2001:db8:7e:1::/64"]
    gateway: {gateway}
    resolvers: [203.0.113.2]
    search: [ternpoint.example]
    pools: []
  labs: {{subnet: 198.51.100.0/24, gateway: [198.51.100.1, "fe80::1"], resolvers: 198.51.100.2, pools: []}}
hosts:
  tide-db:
    interfaces:
      eth0:
        mac: 00:00:5e:00:53:11
        segment: quay
        {what}
"""


def told(folder: Path, machine: Told, what: str, gateway: str = "203.0.113.1") -> dict[str, Finding]:
    (folder / "plan.yaml").write_text(PLAN.format(gateway=gateway, what=what))
    result = check(Site(read_plan(folder / "plan.yaml"), machine), wire=False)  # type: ignore[arg-type]
    return {f.code: f for f in result.findings}


HOLD = f'hold: [203.0.113.20, "{HELD}"]'


@pytest.mark.parametrize("address", [SLAAC, DHCP])
def test_what_was_announced_is_told_until_the_plan_has_it(address: tuple[str, int, bool], tmp_path: Path) -> None:
    machine = host(address, four=True)
    more = told(tmp_path, machine, HOLD, '[203.0.113.1, "fe80::1"]')["lease-supplied-more"]
    assert "MTU 1400" in more.message
    for key in (
        "mtu: 1400",
        'resolvers: [203.0.113.2, "2001:db8:7e:1::53"]',
        "search: [ternpoint.example, lofts.ternpoint.example]",
        'routes: [{destination: "2001:db8:7e:20::/64", next_hop: "fe80::1"}]',
    ):
        assert key in more.remedy
    # What the remedy says, word for word, is what the plan takes.
    keys = more.remedy.partition(": ")[2].split("; ")
    again = told(tmp_path, machine, "\n        ".join([HOLD, *keys]), '[203.0.113.1, "fe80::1"]')
    assert not {"lease-supplied-more", "gateway-outside-subnet", "no-default-route"} & set(again)
    # Where IPv6 is left to the routers, all that goes on coming.
    assert "lease-supplied-more" not in told(tmp_path, machine, "hold: 203.0.113.20")


def test_the_only_way_out_that_routers_announce(tmp_path: Path) -> None:
    machine = host(SLAAC, four=True)
    lost = told(tmp_path, machine, HOLD)["no-default-route"]
    assert lost.severity == "blocker"
    assert 'gateway: "fe80::1"' in lost.remedy
    assert "no-default-route" not in told(tmp_path, machine, HOLD + "\n        gateway: none")
    without = host(SLAAC, four=True, routes="[]")
    assert told(tmp_path, without, HOLD)["no-default-route"].severity == "warning"


@pytest.mark.parametrize(("method", "told_of"), [("dhcp", False), ("static\n    address 2001:db8:7e:1::20/64", True)])
def test_a_lease_client_is_that_of_its_family(method: str, told_of: bool) -> None:
    """The client of IPv6 is no leftover where IPv6 is leased, and no client of IPv4."""
    machine = host(DHCP, files={PATHS["ifupdown"]: f"auto eth0\niface eth0 inet6 {method}\n"})
    units = next(key for key in machine.commands if key.startswith("systemctl is-active"))
    running = {units: "inactive\ninactive\nactive\ninactive\nactive\n", "ps -eo args": "dhclient -6 -v eth0\n"}
    survey = take_stock(Told({**machine.commands, **running}, machine.files, machine.links))
    (found,) = survey.interfaces
    assert (found.stack, found.client, found.link.client) == ("ifupdown", None, None)
    assert ("still-asks-dhcp" in {f.code for f in survey_findings(survey)}) is told_of


# --- verification -----------------------------------------------------------------------


def test_what_routers_give_beside_a_plan_for_ipv4_fails_nothing() -> None:
    files = {PATHS["networkd"]: "[Match]\nName=eth0\n[Network]\nAddress=203.0.113.20/24\nDNS=203.0.113.2\n"}
    machine = host(SLAAC, files=files, resolvers="203.0.113.2 2001:db8:7e:1::53")
    (found,) = take_stock(machine).interfaces
    search = ("ternpoint.example",)
    wanted = InterfaceConfig("eth0", ipv4="fixed", resolvers=(parse_address("203.0.113.2"),), search=search)
    outcomes = {c.code: c.outcome for c in state_checks("tide-db", wanted, found, "here")}
    assert (outcomes["resolvers-in-force"], outcomes["search-in-force"]) == ("pass", "pass")
    fixed = InterfaceConfig("eth0", ipv6="fixed", resolvers=wanted.resolvers, search=search)
    outcomes = {c.code: c.outcome for c in state_checks("tide-db", fixed, found, "here")}
    assert set(outcomes.values()) == {"fail"}, outcomes
    assert {"no-leased-address", "default-route", "resolvers-in-force", "search-in-force"} == set(outcomes)


# --- a plan made from it ----------------------------------------------------------------


@pytest.mark.parametrize(
    ("address", "at", "hold"),
    [
        (SLAAC, None, SLAAC[0]),
        (DHCP, None, DHCP[0]),
        (DHCP, HELD, HELD),
        ((HELD, 64, False), None, HELD),
    ],
)
def test_a_plan_for_a_host_with_ipv6_alone(
    address: tuple[str, int, bool], at: str | None, hold: str, tmp_path: Path
) -> None:
    survey = stock(take_stock(host(address)))
    text = plan_text([propose(survey, None, parse_address(at) if at else None, None)])
    (tmp_path / "plan.yaml").write_text(text)
    plan = read_plan(tmp_path / "plan.yaml")
    (segment,) = plan.segments.values()
    assert [str(s) for s in segment.subnets] == ["2001:db8:7e:1::/64"]
    assert [g.address for g in segment.gateways] == [ROUTER]
    assert [str(r) for r in segment.resolvers] == ["2001:db8:7e:1::53"]
    (interface,) = plan.hosts["tide-db"].interfaces
    assert ([str(h.address) for h in interface.hold], interface.ipv6) == ([hold], "fixed")


def test_a_free_ipv6_address_is_picked(tmp_path: Path) -> None:
    proposed = propose(stock(take_stock(host(DHCP))), None, None, ())
    picked = with_pick(proposed, None, tmp_path, Nowhere("nobody looks"))
    assert picked.hold[0] in picked.subnet
    assert picked.hold != proposed.hold
    assert "not probed: nobody looks" in picked.reasons


def test_what_goes_on_coming_is_not_written_down() -> None:
    survey = stock(take_stock(host(SLAAC, four=True)))
    made = propose(survey, None, None, None)
    assert [str(h) for h in made.hold] == ["203.0.113.107"]
    assert ([str(r) for r in made.resolvers], made.search) == (["203.0.113.2"], ("ternpoint.example",))
    assert [str(g) for g in made.gateways] == ["203.0.113.1"]
    # The other way round, the lease goes on.
    six = propose(survey, None, parse_address(HELD), None)
    assert ([str(r) for r in six.resolvers], list(map(str, six.gateways))) == (["2001:db8:7e:1::53"], ["fe80::1"])
    with pytest.raises(InputError, match="has no IPv4 address"):
        propose(stock(take_stock(host(SLAAC))), None, parse_address("203.0.113.20"), None)
    with pytest.raises(InputError, match="no router says"):
        propose(stock(take_stock(host(DHCP, routes="[]"))), None, None, None)
