"""A hypervisor's network as a source; its real daemon is asked in ``tests/lab/test_hypervisor_network.py``."""

from __future__ import annotations

from pathlib import Path

import pytest

from fixed_anchor.core.addresses import parse_address
from fixed_anchor.core.claims import Claims
from fixed_anchor.core.errors import InputError
from fixed_anchor.core.knowledge import Knowledge
from fixed_anchor.core.rules.spoken_for import source_findings
from fixed_anchor.planfile.reader import plan_from_text
from fixed_anchor.sources import RESERVE, SOURCES
from fixed_anchor.sources.protocol import Origin, Reader, Reservation
from tests.hypervisor_networks import ACCEPTED, RANGE, REFUSED, SIX, network
from tests.judging import site_case

PLAN = plan_from_text("plan: 1\nsegments: {quay: {subnet: 203.0.113.0/24}}\nhosts: {}\n", "plan.yaml")


def read(text: str) -> Claims:
    return SOURCES["libvirt"].claims(text.encode(), Origin("libvirt", "quay.xml", "quay.xml"), Reader(Path("/")))


@pytest.mark.parametrize("name", REFUSED)
def test_what_its_daemon_refuses_is_refused_at_its_line(name: str) -> None:
    text, line = REFUSED[name]
    with pytest.raises(InputError) as raised:
        read(text)
    assert raised.value.line == line, raised.value


@pytest.mark.parametrize(
    ("name", "said"),
    [
        ("natted-to", [("203.0.113.1", "the bridge of quay"),
                       ("198.51.100.60 - 198.51.100.61", "address translation of quay")]),
        ("next-hop", [("203.0.113.1", "the bridge of quay"), ("203.0.113.9", "the next hop of a route of quay")]),
        ("second-address", [("198.51.100.1", "the bridge of quay"), ("203.0.113.1", "the bridge of quay")]),
        ("host-bridge", []),
    ],
)  # fmt: skip
def test_what_a_network_holds_itself(name: str, said: list[tuple[str, str]]) -> None:
    assert [(str(row.range), row.name) for row in read(ACCEPTED[name]).listed] == said


@pytest.mark.parametrize(
    ("name", "routers", "resolvers"),
    [
        ("isolated", "[]", "['203.0.113.1']"),
        ("natted", "['203.0.113.1']", "['203.0.113.1']"),
        ("no-names", "['203.0.113.1']", "[]"),
        ("options", "['203.0.113.9']", "['203.0.113.1']"),
    ],
)
def test_what_its_clients_are_told(name: str, routers: str, resolvers: str) -> None:
    (subnet,) = read(ACCEPTED[name]).subnets
    assert (str([str(r) for r in subnet.routers or ()]), str([str(r) for r in subnet.resolvers or ()])) == (
        routers, resolvers,
    )  # fmt: skip


@pytest.mark.parametrize("name", ["no-dhcp", "empty-dhcp", "ipv6-range", "host-bridge", "host-interface"])
def test_what_it_does_not_serve_it_says_nothing_of(name: str) -> None:
    """The pools of IPv4 are not known from a network without DHCP for IPv4."""
    text = ACCEPTED[name] if name != "ipv6-range" else ACCEPTED[name].replace(RANGE, "")
    known = Knowledge(PLAN, [read(text)])
    assert not known.pools_known("quay")
    assert any(n.source == "DHCP pools" for n in known.not_consulted("quay"))
    remarks = [f.message for f in source_findings(site_case(known))]
    assert len(remarks) == name.startswith("host-"), remarks


def test_evidence_names_all_that_it_says() -> None:
    text = network(f"{RANGE}<host name='a' ip='203.0.113.1'/>")
    known = Knowledge(PLAN, [read(text)])
    (said,) = (c.said for c in known.consulted("quay", parse_address("203.0.113.1")) if c.source.startswith("libvirt"))
    assert said == "reserved for a, listed for the bridge of quay"


@pytest.mark.parametrize(
    ("dhcp", "address", "line"),
    [
        (RANGE, "203.0.113.50", "<host mac='00:00:5e:00:53:21' name='tide-db' ip='203.0.113.50'/>"),
        ("", "203.0.113.50", "<host mac='00:00:5e:00:53:21' name='tide-db' ip='203.0.113.50'/>"),
        (None, "203.0.113.50", "<host mac='00:00:5e:00:53:21' name='tide-db' ip='203.0.113.50'/>"),
        (RANGE, "2001:db8:7e:1::20", "<host name='tide-db' ip='2001:db8:7e:1::20'/>"),
    ],
)
@pytest.mark.parametrize("status", [False, True])
def test_a_reservation_goes_into_its_service(dhcp: str | None, address: str, line: str, status: bool) -> None:
    """``None`` stands for an element without content; the daemon's own file of a network that runs has it deeper."""
    text = network(dhcp, more=SIX.format("<dhcp/>")).replace("<dhcp>\n\n</dhcp>", "<dhcp>\n</dhcp>")
    if dhcp is None:
        text = text.replace("prefix='24'></ip>", "prefix='24'><dhcp /></ip>")
    if status:
        text = f"<networkstatus>\n{text}</networkstatus>\n"
    insert = RESERVE["libvirt"].insert
    assert insert is not None
    after = insert(text, "quay.xml", Reservation("00:00:5e:00:53:21", address, "tide-db"))
    assert after.count(line) == 1
    added = set(read(after).reservations) - set(read(text).reservations)
    assert [str(r.address) for r in added] == [address]
