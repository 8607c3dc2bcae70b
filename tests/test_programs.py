"""What the programs of a host are told to be, and what is written and run for those of another age."""

from __future__ import annotations

import msgspec
import pytest

from fixed_anchor.change.files import FileText
from fixed_anchor.core.addresses import default_network, parse_address, with_prefix
from fixed_anchor.core.config import InterfaceConfig, LinkFacts, Route
from fixed_anchor.core.errors import NotSupported
from fixed_anchor.core.programs import (
    ABILITIES,
    DEFAULT_ROUTES,
    DHCPV4_SECTION,
    IPV6_DISABLED,
    NETWORKD_RELOAD,
    PROMISED,
    TRIED,
    Program,
    is_untried,
    lacking,
    ordered,
    too_old,
)
from fixed_anchor.core.rules.survey import stock_findings, survey_findings
from fixed_anchor.core.survey import HostSurvey, SurveyedInterface
from fixed_anchor.daemons import interface_steps, programs
from fixed_anchor.formats import FORMATS
from fixed_anchor.formats.rewriting import rewrite
from fixed_anchor.planfile.reader import plan_from_text
from tests.judging import interface_case

DEBIAN_11 = """\
installed ifupdown 0.8.36
installed iproute2 5.10.0-4
installed isc-dhcp-client 4.4.1-2.3+deb11u2
installed netplan.io 0.101-4
installed network-manager 1.30.6-1+deb11u1
not-installed resolvconf
installed systemd 247.3-7+deb11u8
"""
FEATURES = "netplan.io:\n  website: x\n  features:\n  - activation-mode\n  - default-routes\n"
OF_11 = {
    "systemd": "247.3",
    "netplan": "0.101",
    "NetworkManager": "1.30.6",
    "ifupdown": "0.8.36",
    "dhclient": "4.4.1",
    "iproute2": "5.10.0",
}


def told(**said: str) -> dict[str, str]:
    """What ran and what it printed, as the names and versions that are told of it."""
    found = programs.that_run(lambda argv: said.get(argv[0].replace("-", "_"), ""))
    return {program.name: program.version for program in found}


def test_by_the_package_manager() -> None:
    assert told(dpkg_query=DEBIAN_11) == OF_11
    others = "installed systemd 239\ninstalled NetworkManager 1.40.16\npackage netplan is not installed\n"
    assert told(rpm=others) == {"systemd": "239", "NetworkManager": "1.40.16"}
    assert told(dpkg_query="installed network-manager 1:1.52.1-1\n") == {"NetworkManager": "1.52.1"}


def test_by_the_programs_themselves() -> None:
    """Where no package manager answers; what one says counts before that."""
    said = {
        "systemctl": "systemd 247 (247.3-7+deb11u8)\n+PAM\n",
        "NetworkManager": "1.30.6\n",
        "ip": "ip utility, iproute2-5.9.0, libbpf 0.3.0\n",
    }
    assert told(**said) == {"systemd": "247", "NetworkManager": "1.30.6", "iproute2": "5.9.0"}
    assert told(ip="ip utility, iproute2-ss200127\n") == {"iproute2": "200127"}
    assert told(dpkg_query=DEBIAN_11, **said) == OF_11
    assert told() == {}


def test_in_a_file_tree() -> None:
    status = (
        "Package: systemd\nStatus: install ok installed\nVersion: 252.39-1~deb12u2\nDescription: x\n y\n\n"
        "Package: netplan.io\nStatus: deinstall ok config-files\nVersion: 0.106-2\n\n"
        "Package: ifupdown\nStatus: install ok installed\nVersion: 0.8.41\n"
    )
    assert [p.shown for p in programs.in_tree(status)] == ["systemd 252.39", "ifupdown 0.8.41"]
    assert programs.in_tree("") == ()


def netplan_of(version: str, info: str = "") -> frozenset[str]:
    said = {"dpkg-query": f"installed netplan.io {version}\n", "netplan": info}
    return lacking(programs.that_run(lambda argv: said.get(argv[0], "")))


@pytest.mark.parametrize(
    ("version", "info", "lacks"),
    [
        ("0.101-4", "", True),
        ("0.106-2+deb12u1", "", False),
        ("1.1.2-7", FEATURES, False),
        # What it lists itself counts before its number.
        ("0.101-4", FEATURES, False),
        ("0.106-2", "netplan.io:\n  features:\n  - activation-mode\n", True),
        # Of one that answers nothing of the kind, the number does.
        ("0.106-2", "Traceback\n", False),
    ],
)
def test_what_netplan_lacks(version: str, info: str, lacks: bool) -> None:
    assert (DEFAULT_ROUTES in netplan_of(version, info)) is lacks


def test_the_table_is_whole() -> None:
    assert {a.program for a in ABILITIES} | set(PROMISED) <= set(TRIED)
    assert all(ordered(v) for tried in TRIED.values() for v in tried)
    assert all(list(tried) == sorted(tried, key=ordered) for tried in TRIED.values())
    assert lacking([Program(name, tried[-1]) for name, tried in TRIED.items()]) == frozenset()
    assert not any(too_old(Program(name, tried[0])) for name, tried in TRIED.items())


@pytest.mark.parametrize(
    ("name", "version", "untried"),
    [
        ("systemd", "257.7", False),
        ("systemd", "258", True),
        ("netplan", "1.1.2", False),
        ("netplan", "1.1.1", False),
        ("netplan", "1.2", True),
        ("NetworkManager", "1.52.1", False),
        ("NetworkManager", "1.54", True),
        ("resolvconf", "99", False),
        ("iproute2", "", False),
    ],
)
def test_newer_than_what_was_tried(name: str, version: str, untried: bool) -> None:
    assert is_untried(Program(name, version)) is untried


PLAN = plan_from_text(
    "plan: 1\nsegments: {quay: {subnet: 203.0.113.0/24}}\n"
    "hosts: {tide-db: {interfaces: {eth0: {segment: quay, hold: 203.0.113.20}}}}\n",
    "plan.yaml",
)
NETPLAN = "network:\n  version: 2\n  ethernets:\n    eth0:\n      dhcp4: true\n"
FIXED = InterfaceConfig(
    "eth0",
    ipv4="fixed",
    ipv6="fixed",
    addresses=(with_prefix(parse_address("203.0.113.20"), 24), with_prefix(parse_address("2001:db8:7e:1::20"), 64)),
    routes=tuple(
        Route(default_network(a.version), a) for a in (parse_address("203.0.113.1"), parse_address("2001:db8:7e:1::1"))
    ),
)


@pytest.mark.parametrize("lacks", [frozenset(), frozenset({DEFAULT_ROUTES})])
def test_default_routes_for_an_old_netplan(lacks: frozenset[str]) -> None:
    """In an entry that is there, and in a new one; both read back the same."""
    form = FORMATS["netplan"]
    link = LinkFacts("eth0", lacks=lacks)
    file = FileText("/etc/netplan/50-tide.yaml", NETPLAN, 0o600)
    (edited,) = rewrite(form, {file.path: file}, link, FIXED, (link,))
    (made,) = rewrite(form, {}, link, FIXED, (link,), "systemd-networkd")
    for edit in (edited, made):
        text = edit.after.text if edit.after is not None else ""
        routes = [line.split("to: ")[1] for line in text.splitlines() if " to: " in line]
        assert [r.strip('"') for r in routes] == (["0.0.0.0/0", "::/0"] if lacks else ["default"] * 2), text


def test_a_gateway_of_an_old_file_stays() -> None:
    """`gateway4` is what an old netplan knows, and a new one still reads: it goes only with the gateway itself."""
    form = FORMATS["netplan"]
    text = NETPLAN.replace("dhcp4: true", "addresses: [203.0.113.9/24]\n      gateway4: 203.0.113.1")
    file = FileText("/etc/netplan/50-tide.yaml", text, 0o600)
    link = LinkFacts("eth0", lacks=frozenset({DEFAULT_ROUTES}))
    wanted = InterfaceConfig("eth0", ipv4="fixed", addresses=FIXED.addresses[:1], routes=FIXED.routes[:1])
    (edit,) = rewrite(form, {file.path: file}, link, wanted, (link,))
    assert edit.after is not None
    assert "gateway4: 203.0.113.1" in edit.after.text
    assert " to: " not in edit.after.text


def network_file(text: str) -> dict[str, FileText]:
    path = "/etc/systemd/network/20-quay.network"
    return {path: FileText(path, f"[Match]\nName=eth0\n\n[Network]\n{text}\n", 0o644)}


@pytest.mark.parametrize(
    ("lacks", "first"),
    [
        (frozenset(), ("networkctl", "reload")),
        (frozenset({NETWORKD_RELOAD}), ("systemctl", "restart", "systemd-networkd.service")),
    ],
)
def test_a_networkd_that_cannot_reload_is_started_again(lacks: frozenset[str], first: tuple[str, ...]) -> None:
    files = network_file("DHCP=ipv4")
    steps = interface_steps("networkd", files, files, LinkFacts("eth0", lacks=lacks))
    assert (steps.activate[0], steps.reload[0]) == (first, first)


@pytest.mark.parametrize(("lacks", "section"), [(frozenset(), "[DHCPv4]"), (frozenset({DHCPV4_SECTION}), "[DHCP]")])
def test_the_section_of_an_old_networkd(lacks: frozenset[str], section: str) -> None:
    files = network_file("DHCP=no\nAddress=203.0.113.9/24")
    resolver = (parse_address("203.0.113.2"),)
    wanted = InterfaceConfig("eth0", ipv4="dhcp", resolvers=resolver, lease_resolvers=False)
    link = LinkFacts("eth0", lacks=lacks)
    (edit,) = rewrite(FORMATS["networkd"], files, link, wanted, (link,))
    assert edit.after is not None
    assert f"{section}\nUseDNS=no" in edit.after.text


def test_ipv6_off_with_an_old_networkmanager() -> None:
    path = "/etc/NetworkManager/system-connections/quay.nmconnection"
    connection = "[connection]\nuuid=6b1d4b4e-0000-4000-8000-000000000001\ntype=ethernet\ninterface-name=eth0\n"
    files = {path: FileText(path, f"{connection}\n[ipv4]\nmethod=auto\n\n[ipv6]\nmethod=auto\n", 0o600)}
    wanted = msgspec.structs.replace(FIXED, ipv6="off", addresses=FIXED.addresses[:1], routes=FIXED.routes[:1])
    link, old = LinkFacts("eth0"), LinkFacts("eth0", lacks=frozenset({IPV6_DISABLED}))
    (edit,) = rewrite(FORMATS["NetworkManager"], files, link, wanted, (link,))
    assert edit.after is not None
    assert "method=disabled" in edit.after.text
    with pytest.raises(NotSupported, match=r"older than 1\.20"):
        rewrite(FORMATS["NetworkManager"], files, old, wanted, (old,))


def survey_with(*found: Program, stack: str = "netplan", daemon: str = "systemd-networkd") -> HostSurvey:
    interface = SurveyedInterface(LinkFacts("eth0"), "up", stack=stack, daemon=daemon)
    return HostSurvey("tide-db", stack, (), (interface,), programs=found)


@pytest.mark.parametrize(
    ("program", "stack", "daemon", "stops"),
    [
        (Program("iproute2", "4.9"), "ifupdown", "ifupdown", True),
        (Program("NetworkManager", "1.0.12"), "NetworkManager", "NetworkManager", True),
        (Program("NetworkManager", "1.0.12"), "netplan", "systemd-networkd", False),
        (Program("systemd", "215"), "networkd", "systemd-networkd", True),
        (Program("systemd", "215"), "ifupdown", "ifupdown", False),
        (Program("netplan", "0.106"), "netplan", "systemd-networkd", False),
    ],
)
def test_too_old_for_a_way_back(program: Program, stack: str, daemon: str, stops: bool) -> None:
    """It speaks against a change only where the program is at work, and then by name."""
    survey = survey_with(program, stack=stack, daemon=daemon)
    found = [f for f in stock_findings(interface_case(PLAN, survey=survey)) if f.code == "too-old"]
    assert bool(found) is stops
    assert all(f.stops and program.shown in f.message for f in found)


def test_an_untried_release_is_told() -> None:
    (found,) = (f for f in survey_findings(survey_with(Program("systemd", "260"))) if f.code == "untried-release")
    assert "systemd 260 (up to 257)" in found.message
    assert found.severity == "note"
