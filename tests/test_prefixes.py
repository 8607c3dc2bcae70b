"""The prefix of an address against its subnet, today's network, and what the DHCP server says."""

from __future__ import annotations

from ipaddress import IPv4Address

import pytest

from fixed_anchor.core.addresses import parse_interface_address
from fixed_anchor.core.config import LinkFacts
from fixed_anchor.core.rules.host import host_findings
from fixed_anchor.core.rules.prefixes import prefix_findings
from fixed_anchor.core.survey import FoundAddress, HostSurvey, SurveyedInterface
from fixed_anchor.core.wire import DhcpServerSeen
from tests.judging import interface_case
from tests.test_rules import plan

HOLD = "hold: 203.0.113.20"


def offer(prefix: int) -> DhcpServerSeen:
    return DhcpServerSeen(
        IPv4Address("203.0.113.1"), "00:00:5e:00:53:01", IPv4Address("203.0.113.107"), prefix, (), (), (), 600,
        "a wire", "02:00:00",
    )  # fmt: skip


def own(prefix: int, more: str = "") -> str:
    return f"hold: [{{address: 203.0.113.20, prefix: {prefix}}}{more}]"


@pytest.mark.parametrize(
    ("interface", "segment", "today", "offered", "said"),
    [
        (HOLD, "", "203.0.113.107/24", 24, ""),
        # Of its own: neither the subnet's nor full length.
        (own(16), "", "", None, "the prefix /16 of its own, and its subnet is 203.0.113.0/24"),
        (own(28), "", "", None, "the prefix /28 of its own"),
        (own(24), "", "", None, ""),
        # Full length: with a gateway on link, or beside a first address.
        (own(32), "", "", None, ""),
        (own(32) + "\n        gateway: none", "", "", None, "the prefix /32 of its own"),
        (own(32, ", 203.0.113.21") + "\n        gateway: none", "", "", None, ""),
        # Today's network.
        (HOLD, "", "203.0.113.107/16", None, "would be in 203.0.113.0/24, and enp1s0 is in 203.0.0.0/16 today"),
        (HOLD, "", "203.0.113.17/28", None, "and enp1s0 is in 203.0.113.16/28 today"),
        (HOLD, "", "203.0.113.107/32", None, ""),
        (HOLD, "", "198.51.100.7/24", None, ""),
        # Widening a segment is ordinary work, where the plan says so.
        (HOLD, "was: 203.0.113.0/25", "203.0.113.107/25", 25, ""),
        (HOLD, "was: 203.0.113.0/26", "203.0.113.107/25", None, "is in 203.0.113.0/25 today"),
        # The offer of the DHCP server.
        (HOLD, "", "", 28, "and the DHCP server 203.0.113.1 says 203.0.113.96/28"),
        (HOLD, "", "", 22, "says 203.0.112.0/22"),
        (HOLD, "", "", 32, ""),
    ],
)
def test_prefixes(interface: str, segment: str, today: str, offered: int | None, said: str) -> None:
    made = plan(interface, segment)
    held = (FoundAddress(parse_interface_address(today), "dhcp", 600),) if today else ()
    found = SurveyedInterface(LinkFacts("enp1s0"), "up", addresses=held)
    findings = list(prefix_findings(interface_case(made, found, servers=[offer(offered)] if offered else [])))
    assert [f.code for f in findings] == (["prefix-differs"] if said else []), findings
    if said:
        assert said in findings[0].message


@pytest.mark.parametrize(
    ("planned", "now", "differs"),
    [
        ("tide-db.ternpoint.example", "tide-db", False),
        ("tide-db.ternpoint.example", "tide-db.ternpoint.example", False),
        ("tide-db.ternpoint.example", "gannet", True),
    ],
)
def test_a_hostname_that_differs_is_said(planned: str, now: str, differs: bool) -> None:
    made = plan(host=f"hostname: {planned}")
    found = SurveyedInterface(LinkFacts("enp1s0", mac="00:00:5e:00:53:11"), "up")
    survey = HostSurvey("tide-db", "netplan", (), (found,), hostname=now)
    codes = [f.code for f in host_findings(interface_case(made, survey=survey))]
    assert ("hostname-differs" in codes) == differs
