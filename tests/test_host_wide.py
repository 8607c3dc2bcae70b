"""What a host has once is composed of all its interfaces, and verified as such."""

from __future__ import annotations

from pathlib import Path

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fixed_anchor.change.steps import route_words
from fixed_anchor.core.addresses import default_network, parse_address, parse_interface_address, parse_network
from fixed_anchor.core.config import InterfaceConfig, LinkFacts, Route
from fixed_anchor.core.errors import NotSupported
from fixed_anchor.core.survey import NOBODY, HostSurvey, Lease, SurveyedInterface
from fixed_anchor.core.verification import PASS, state_checks
from fixed_anchor.formats.interfaces_hooks import Added, adds_something, read_hook
from fixed_anchor.planfile.reader import read_plan
from fixed_anchor.workflow.hosts.host_wide import beside, host_configs
from tests.corpus_hosts import PLAN

QUAY, LABS = parse_address("203.0.113.2"), parse_address("198.51.100.2")
OLD = parse_address("203.0.113.77")


def interface(name: str, method: str, *resolvers: str, leased: str = "", default: bool = False) -> SurveyedInterface:
    """An interface of ifupdown whose files say ``method``; ``resolvers`` are those in /etc/resolv.conf now."""
    found = Lease(parse_address("203.0.113.107"), 60, resolvers=(parse_address(leased),)) if leased else None
    routes = (Route(default_network(4), parse_address("203.0.113.1")),) if default else ()
    return SurveyedInterface(
        LinkFacts(name), "up", routes=routes, resolvers=tuple(map(parse_address, resolvers)), lease=found,
        declared=InterfaceConfig(name, ipv4=method), stack="ifupdown", daemon="ifupdown",
    )  # fmt: skip


def host(*interfaces: SurveyedInterface, writer: str = NOBODY) -> HostSurvey:
    return HostSurvey("tide-db", "ifupdown", (), interfaces, resolv_conf_by=writer)


def planned(folder: Path, interfaces: str) -> tuple[object, object]:
    (folder / "plan.yaml").write_text(PLAN.replace("{interfaces}", interfaces))
    plan = read_plan(folder / "plan.yaml")
    return plan, plan.hosts["tide-db"]


ETH1_ALONE = "{eth1: {segment: labs, hold: 198.51.100.20, gateway: none}}"
BOTH = "{eth1: {segment: labs, hold: 198.51.100.20, gateway: none}, eth0: {segment: quay, hold: 203.0.113.20}}"


@pytest.mark.parametrize(
    ("interfaces", "survey", "expected"),
    [
        # The interface with the default route comes first, whatever the order of the plan.
        (BOTH, host(interface("eth0", "dhcp"), interface("eth1", "dhcp")), "203.0.113.2 203.0.113.3 198.51.100.2"),
        # What an interface outside the plan leases stays, behind.
        (ETH1_ALONE, host(interface("eth0", "dhcp", leased="203.0.113.77"), interface("eth1", "dhcp")),
         "198.51.100.2 203.0.113.77"),
        # So does what a fixed one outside the plan has there; what the changing one leased goes.
        (ETH1_ALONE, host(interface("eth0", "fixed", "203.0.113.77", "198.51.100.9"),
                          interface("eth1", "dhcp", "203.0.113.77", "198.51.100.9", leased="198.51.100.9")),
         "198.51.100.2 203.0.113.77"),
    ],
)  # fmt: skip
def test_resolvers_of_all_interfaces(interfaces: str, survey: HostSurvey, expected: str, tmp_path: Path) -> None:
    plan, planned_host = planned(tmp_path, interfaces)
    wanted = host_configs(plan, planned_host, survey)  # type: ignore[arg-type]
    assert {" ".join(map(str, c.resolvers or ())) for c in wanted.values()} == {expected}


def test_more_resolvers_than_are_used(tmp_path: Path) -> None:
    plan, planned_host = planned(
        tmp_path, BOTH.replace("gateway: none", "gateway: none, resolvers: [198.51.100.2, 198.51.100.3]")
    )
    survey = host(interface("eth0", "dhcp"), interface("eth1", "dhcp"))
    with pytest.raises(NotSupported, match="4 resolvers for tide-db"):
        host_configs(plan, planned_host, survey)  # type: ignore[arg-type]


def test_what_another_interface_brings_is_no_fault_of_this_one() -> None:
    wanted = InterfaceConfig(
        "eth0",
        "fixed",
        addresses=(parse_interface_address("203.0.113.20/24"),),
        resolvers=(QUAY,),
        search=("a.example",),
    )
    now = msgspec.structs.replace(interface("eth0", "fixed"), resolvers=(QUAY, LABS), search=("a.example", "b.example"))
    other = msgspec.structs.replace(
        interface("eth1", "fixed"), declared=InterfaceConfig("eth1", resolvers=(LABS,), search=("b.example",))
    )
    survey = host(now, other)

    def outcomes(found: SurveyedInterface) -> dict[str, str]:
        around = beside(survey, {"eth0": wanted}, "eth0")
        return {c.code: c.outcome for c in state_checks("tide-db", wanted, found, "here", around)}

    assert (outcomes(now)["resolvers-in-force"], outcomes(now)["search-in-force"]) == (PASS, PASS)
    stale = msgspec.structs.replace(now, resolvers=(QUAY, OLD))
    assert outcomes(stale)["resolvers-in-force"] != PASS
    missing = msgspec.structs.replace(now, resolvers=(LABS,))
    assert outcomes(missing)["resolvers-in-force"] != PASS


def test_a_second_lease_need_not_bring_a_default_route() -> None:
    wanted = InterfaceConfig("eth1", "dhcp")
    found = interface("eth1", "dhcp")
    first = interface("eth0", "dhcp", default=True)

    def outcome(daemon: str) -> str:
        survey = host(first, msgspec.structs.replace(found, daemon=daemon))
        checks = state_checks("tide-db", wanted, found, "here", beside(survey, {"eth1": wanted}, "eth1"))
        return next(c.outcome for c in checks if c.code == "default-route")

    assert outcome("ifupdown") == PASS
    assert outcome("systemd-networkd") != PASS


# --- the hooks of interfaces(5) ---------------------------------------------------------

VIA = parse_address("203.0.113.5")
AWAY = Route(parse_network("198.18.4.0/22"), VIA)
HOOKS: dict[str, Added | None] = {
    "ip addr add 203.0.113.8/24 dev $IFACE": Added(parse_interface_address("203.0.113.8/24"), None, "eth0"),
    "/sbin/ip -4 a add 203.0.113.8/24 brd + dev eth0 label eth0:1 || true": Added(
        parse_interface_address("203.0.113.8/24"), None, "eth0"
    ),
    "ip address del 203.0.113.8/24 dev eth1": Added(parse_interface_address("203.0.113.8/24"), None, "eth1", False),
    "ip -6 addr add 2001:db8:7e:1::8/64 dev ${IFACE}": Added(
        parse_interface_address("2001:db8:7e:1::8/64"), None, "eth0"
    ),
    "ip route add default via 203.0.113.5": Added(None, Route(default_network(4), VIA)),
    "ip r replace 198.18.4.0/22 via 203.0.113.5 dev eth0": Added(None, AWAY, "eth0"),
    "ip route del 198.18.4.0/22 via 203.0.113.5": Added(None, AWAY, "", False),
    "route add -net 198.18.4.0 netmask 255.255.252.0 gw 203.0.113.5 eth0": Added(None, AWAY, "eth0"),
    "route add -net 198.18.4.0/22 gw 203.0.113.5": Added(None, AWAY),
    "/sbin/route add default gw 203.0.113.5 dev eth0": Added(None, Route(default_network(4), VIA), "eth0"),
    "route add -host 198.18.4.9 gw 203.0.113.5": Added(None, Route(parse_network("198.18.4.9/32"), VIA)),
    "ip route add 198.18.4.0/22 via 203.0.113.5 table 100": None,
    "ip rule add from 203.0.113.9 table 100": None,
    "ip addr add 203.0.113.8/24 dev eth0 && echo done": None,
    "ifconfig eth0:1 203.0.113.8 netmask 255.255.255.0": None,
    "ip route add": None,
    "/usr/local/sbin/routes": None,
}


@pytest.mark.parametrize("command", HOOKS)
def test_what_a_hook_adds(command: str) -> None:
    assert read_hook(command, "eth0") == HOOKS[command]


@pytest.mark.parametrize(
    ("command", "adds"),
    [
        ("ifconfig eth0:1 203.0.113.8", True), ("ifconfig eth0 up", False), ("ip link set eth0 up", False),
        ("ip route append default via 203.0.113.5", True), ("ip route show", False), ("iptables -A INPUT", False),
        ("[ -x /x ] && /sbin/ip addr add 203.0.113.8 dev x", True), ("if ! ip a add 203.0.113.8 dev x", True),
        ("route add default gw 203.0.113.5", True), ("logger -t add route", False), ("", False),
    ],
)  # fmt: skip
def test_what_looks_as_if_it_added_something(command: str, adds: bool) -> None:
    assert adds_something(command) is adds


@given(st.text(alphabet="ipadrouetghslm -/$.:0123456789|&{}", max_size=60))
def test_no_hook_breaks_the_reader(command: str) -> None:
    read_hook(command, "eth0")
    adds_something(command)


@given(st.integers(0, 2**32 - 1), st.integers(0, 32), st.none() | st.integers(1, 2**31), st.booleans())
def test_a_route_that_is_written_as_a_hook_is_read_back(
    number: int, prefix: int, metric: int | None, on_link: bool
) -> None:
    destination = parse_network(
        f"{parse_address('0.0.0.0') + (number >> (32 - prefix) << (32 - prefix) if prefix else 0)}/{prefix}"
    )
    route = Route(destination, VIA, metric, on_link)
    assert read_hook("ip route add " + " ".join(route_words(route, "eth0")), "eth0") == Added(None, route, "eth0")
