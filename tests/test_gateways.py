"""The planned gateway against what is known of the segment: today's default route, the DHCP offer, the sources."""

from __future__ import annotations

from ipaddress import IPv4Address

import pytest

from fixed_anchor.core.addresses import default_network, parse_address, parse_interface_address, parse_network
from fixed_anchor.core.baseline import Judge, baseline_of_facts
from fixed_anchor.core.claims import Claims, SubnetClaim
from fixed_anchor.core.config import LinkFacts, Place, Route
from fixed_anchor.core.knowledge import Knowledge
from fixed_anchor.core.rules.gateways import gateway_findings
from fixed_anchor.core.survey import FoundAddress, HostSurvey, SurveyedInterface
from fixed_anchor.core.wire import DhcpServerSeen
from tests.judging import interface_case
from tests.test_baseline import made
from tests.test_rules import plan


def host_with(gateway: str, address: str = "203.0.113.107/24") -> SurveyedInterface:
    routes = (Route(default_network(4), parse_address(gateway)),) if gateway else ()
    held = (FoundAddress(parse_interface_address(address), "dhcp", 600),)
    return SurveyedInterface(LinkFacts("enp1s0"), "up", addresses=held, routes=routes)


def offer(router: str) -> DhcpServerSeen:
    return DhcpServerSeen(
        IPv4Address("203.0.113.1"), "00:00:5e:00:53:01", IPv4Address("203.0.113.107"), 24, (IPv4Address(router),), (),
        (), 600, "a wire", "02:00:00",
    )  # fmt: skip


def source(router: str) -> Claims:
    said = SubnetClaim(parse_network("203.0.113.0/24"), Place("dhcp.conf", 3), (parse_address(router),))
    return Claims("kea", "dhcp.conf", subnets=(said,))


@pytest.mark.parametrize(
    ("today", "offered", "told", "others", "severity"),
    [
        # Nobody says anything, or somebody agrees.
        ("", "", "", "", None),
        ("203.0.113.1", "", "", "", None),
        ("203.0.113.254", "203.0.113.1", "", "", None),
        ("", "", "203.0.113.1", "", None),
        # A host that moves here from another network knows nothing of this one.
        ("198.51.100.1", "", "", "", None),
        ("203.0.113.254", "", "", "", "blocker"),
        ("", "203.0.113.254", "", "", "blocker"),
        ("", "", "203.0.113.254", "", "blocker"),
        # Another host has it in force.
        ("203.0.113.254", "", "", "203.0.113.1", "warning"),
        ("203.0.113.254", "", "", "203.0.113.9", "blocker"),
    ],
)
def test_who_knows_the_gateway(today: str, offered: str, told: str, others: str, severity: str | None) -> None:
    planned = plan("hold: 203.0.113.20")
    known = Knowledge(planned, [source(told)] if told else [], (), (), 0)
    around = HostSurvey("kelp-files", None, (), (host_with(others, "203.0.113.9/24"),)) if others else None
    servers = [offer(offered)] if offered else []
    surveys = (around,) if around is not None else ()
    here = host_with(today)
    found = list(gateway_findings(interface_case(known, here, servers=servers, around=surveys)))
    assert [f.severity for f in found] == ([severity] if severity else []), found
    if found:
        assert "203.0.113.254" in found[0].message
        assert ("in force on kelp-files" in found[0].message) == (severity == "warning")


def test_what_an_earlier_version_recorded() -> None:
    """No IPv6 lease was there, so none is waited for; the IPv4 one was."""
    known = baseline_of_facts("address 203.0.113.107/24 leased on eth0\ngateway 203.0.113.1 on eth0\nnonsense\n")
    judge = Judge(undone=known)
    assert judge.judged([made("address-leased", "leased IPv6")])[0].as_before
    assert not judge.judged([made("address-leased", "leased IPv4")])[0].as_before
    assert not judge.judged([made("default-route", "leased IPv4")])[0].as_before
