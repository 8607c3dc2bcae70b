"""What is known of addresses, put together: the findings it leads to, evidence that is carried, and the pick."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from fixed_anchor.core.addresses import parse_address, parse_network, parse_range
from fixed_anchor.core.claims import (
    Claims,
    LeaseClaim,
    LeaseList,
    ListedClaim,
    PoolClaim,
    RecordClaim,
    Remark,
    ReservationClaim,
    SubnetClaim,
)
from fixed_anchor.core.config import Place
from fixed_anchor.core.errors import InputError, Refused
from fixed_anchor.core.findings import Judgement, finding
from fixed_anchor.core.knowledge import Knowledge, Unread
from fixed_anchor.core.plan import Plan
from fixed_anchor.core.rules.spoken_for import free_addresses, knowledge_findings, segment_findings, source_findings
from fixed_anchor.core.rules.wire import server_findings
from fixed_anchor.core.wire import DhcpServerSeen
from fixed_anchor.planfile.reader import plan_from_text
from fixed_anchor.reporting.catalogue import CATALOGUE
from fixed_anchor.vantages.nowhere import Nowhere
from fixed_anchor.workflow import evidence
from fixed_anchor.workflow.pick import pick
from tests.judging import holding, interface_case, segment_case, site_case

OWN, OTHER = "00:00:5e:00:53:11", "00:00:5e:00:53:5a"
AT = Place("dhcp.conf", 7)
NOW = 5000
TEXT = """\
plan: 1
segments:
  quay:
    subnet: 203.0.113.0/24
    gateway: 203.0.113.1
    resolvers: 203.0.113.2
    search: ternpoint.example
    {segment}
hosts:
  tide-db:
    interfaces:
      enp1s0:
        mac: 00:00:5e:00:53:11
        segment: quay
        {what}
  tide-db2:
    interfaces:
      enp1s0: {{mac: "00:00:5e:00:53:12", segment: quay, hold: 203.0.113.60}}
"""


def plan(what: str = "hold: 203.0.113.20", segment: str = "") -> Plan:
    return plan_from_text(TEXT.format(what=what, segment=segment), "plan.yaml")


def server(*pools: str, keeps: bool = True, **reserved: str) -> Claims:
    """The configuration of a DHCP server for the quay; ``reserved`` maps ``own`` and ``other`` to addresses."""
    macs = {"own": OWN, "other": OTHER}
    kept = [ReservationClaim(parse_address(a), AT, macs[who], "", keeps) for who, a in reserved.items()]
    router = (parse_address("203.0.113.1"),)
    return Claims(
        "kea",
        "kea.conf",
        pools=tuple(PoolClaim(parse_range(p), AT) for p in pools),
        subnets=(SubnetClaim(parse_network("203.0.113.0/24"), AT, router),),
        reservations=tuple(kept),
    )


def lease(address: str, mac: str | None, state: str = "active", ends: int | None = 9000, name: str = "") -> Claims:
    return Claims("kea-leases", "l", leases=LeaseList([LeaseClaim(parse_address(address), AT, mac, state, ends, name)]))


def record(address: str, name: str, kind: str = "A") -> Claims:
    return Claims("zone", "z", records=(RecordClaim(parse_address(address), name, kind, AT),))


def listed(range_: str, name: str, mac: str | None = None) -> Claims:
    return Claims("address-list", "a.csv", listed=(ListedClaim(parse_range(range_), AT, name, mac),))


POOL = "203.0.113.100 - 203.0.113.199"
ME = "203.0.113.20"


@pytest.mark.parametrize(
    ("claims", "what", "leased", "codes"),
    [
        ([server(POOL)], f"hold: {ME}", (), []),
        ([server()], f"hold: {ME}", (), []),
        ([lease(ME, OWN)], f"hold: {ME}", (), ["pool-unknown", "lease-not-reserved"]),
        ([server(POOL)], "hold: 203.0.113.120", (), ["in-dhcp-pool"]),
        ([server(POOL, own="203.0.113.120")], "hold: 203.0.113.120", ("203.0.113.120",), []),
        ([server(POOL, own="203.0.113.120", keeps=False)], "hold: 203.0.113.120", (), ["in-dhcp-pool"]),
        ([server(own=ME, keeps=False)], f"hold: {ME}", (ME,), []),
        ([server(POOL)], f"hold: {ME}", (ME,), []),  # the server's own file leaves it out: it cannot lease it again
        ([server(POOL)], "hold: 203.0.113.120", ("203.0.113.120",), ["lease-not-reserved"]),
        ([server(other=ME)], f"hold: {ME}", (), ["reserved-for-another"]),
        ([server(), lease(ME, OTHER)], f"hold: {ME}", (), ["leased-to-another"]),
        ([server(), lease(ME, OTHER, ends=4000)], f"hold: {ME}", (), []),
        ([server(), lease(ME, OTHER, "free")], f"hold: {ME}", (), []),
        ([server(), lease(ME, None, "declined")], f"hold: {ME}", (), ["leased-to-another"]),
        ([server(), lease(ME, None, name="tide-db")], f"hold: {ME}", (), []),
        ([server(), record(ME, "tide-db.ternpoint.example")], f"hold: {ME}", (), []),
        ([server(), record(ME, "gull.ternpoint.example")], f"hold: {ME}", (), ["dns-says-otherwise"]),
        ([server(), record("203.0.113.9", "tide-db.ternpoint.example")], f"hold: {ME}", (), ["dns-says-otherwise"]),
        ([server(), listed(ME, "tide-db")], f"hold: {ME}", (), []),
        ([server(), listed(ME, "gull", OWN)], f"hold: {ME}", (), []),
        ([server(), listed(ME, "gull")], f"hold: {ME}", (), ["listed-for-another"]),
        ([server(), listed("203.0.113.16/29", "cameras")], f"hold: {ME}", (), ["listed-for-another"]),
        ([server(), listed("203.0.113.0/24", "the quay")], f"hold: {ME}", (), []),
        ([server(own="203.0.113.50")], "ipv4: dhcp\n        expect: 203.0.113.50", (), []),
        ([server(other="203.0.113.51")], "ipv4: dhcp\n        expect: 203.0.113.50", (), ["expected-not-reserved"]),
        (
            [server(other="203.0.113.50")],
            "ipv4: dhcp\n        expect: 203.0.113.50",
            (),
            ["reserved-for-another", "expected-not-reserved"],
        ),
    ],
)
def test_what_is_known_of_an_address(
    claims: list[Claims], what: str, leased: tuple[str, ...], codes: list[str]
) -> None:
    made = plan(what)
    host = made.hosts["tide-db"]
    known = Knowledge(made, claims, now=NOW)
    now = tuple(parse_address(a) for a in leased)
    found = list(knowledge_findings(interface_case(known, holding(*now))))
    assert [f.code for f in found] == codes
    assert all(f.seen_in for f in found)
    for address in [h.address for h in host.interfaces[0].hold]:
        told = known.consulted("quay", address)
        assert {c.label for c in claims} <= {c.source for c in told}
        if known.nothing_known("quay", address):
            assert all("no" in c.said or c.said.startswith("outside") for c in told)


def test_a_lease_without_a_mac_is_not_ours_for_want_of_one() -> None:
    """Neither the plan nor the lease names a MAC: that makes them no pair."""
    text = TEXT.format(what="hold: 203.0.113.20", segment="").replace(f"        mac: {OWN}\n", "")
    made = plan_from_text(text, "plan.yaml")
    known = Knowledge(made, [server(), lease(ME, None, name="gull")], now=NOW)
    assert [f.code for f in knowledge_findings(interface_case(known))] == ["leased-to-another"]


def test_a_declined_address_that_is_our_own() -> None:
    made = plan()
    known = Knowledge(made, [server(), lease(ME, None, "declined")], now=NOW)
    assert list(knowledge_findings(interface_case(known, holding(parse_address(ME), origin="static")))) == []


def test_where_a_server_and_the_plan_disagree() -> None:
    made = plan(segment="pools: [203.0.113.100 - 203.0.113.149]")
    wrong = SubnetClaim(
        parse_network("203.0.113.0/25"),
        AT,
        (parse_address("203.0.113.254"),),
        (parse_address("203.0.113.2"), parse_address("203.0.113.9")),
        ("old.example",),
    )
    claims = Claims("dhcpd", "d", pools=(PoolClaim(parse_range(POOL), AT),), subnets=(wrong,))
    found = list(segment_findings(segment_case(Knowledge(made, [claims]))))
    assert {f.code for f in found} == {"source-disagrees"}
    assert [w for w in ("subnet", "gateway", "resolvers", "search", "cover") if any(w in f.message for f in found)] == [
        "subnet", "gateway", "resolvers", "search", "cover",
    ]  # fmt: skip
    assert list(segment_findings(segment_case(Knowledge(made, [server("203.0.113.110 - 203.0.113.120")])))) == []


def test_a_pool_that_is_nearly_full() -> None:
    leases = LeaseList(LeaseClaim(parse_address(f"203.0.113.{n}"), AT, OTHER, "active", 9000) for n in range(100, 110))
    full = Claims("kea-leases", "l", leases=leases)
    known = Knowledge(plan(), [server("203.0.113.100 - 203.0.113.109", "203.0.113.200/29"), full], now=NOW)
    (found,) = segment_findings(segment_case(known))
    assert (found.code, found.message.split()[:3]) == ("pool-nearly-full", ["10", "of", "10"])


def test_what_could_not_be_read_is_named() -> None:
    broken = Claims(
        "kea-leases", "l", broken=(Remark("the file ends in the middle of a lease", AT),), untidy=(Remark("x", AT),)
    )
    known = Knowledge(plan(), [broken], unread=(Unread("kea kea.conf", "kea.conf:3:4", "a comma"),))
    codes = [(f.code, f.seen_in) for f in source_findings(site_case(known))]
    assert codes == [
        ("source-unreadable", "kea.conf:3:4"),
        ("source-unreadable", "dhcp.conf:7"),
        ("source-untidy", "dhcp.conf:7"),
    ]
    missing = [m.source for m in known.not_consulted("quay")]
    assert missing == ["kea kea.conf", "kea-leases l", "DHCP pools", "DNS records"]


def seen(
    address: str = "203.0.113.1", offered: str | None = "203.0.113.120", router: str = "203.0.113.1"
) -> DhcpServerSeen:
    return DhcpServerSeen(
        parse_address(address),
        OTHER,
        offered and parse_address(offered),
        24,
        (parse_address(router),),
        (),
        (),
        60,
        "wire",
        "now",
    )  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("segment", "claims", "answer", "codes"),
    [
        ("", [server(POOL)], seen(), []),
        ("", [], seen(), []),  # nothing is known that it could be held against
        ("", [server(POOL)], seen(offered="203.0.113.50"), ["unknown-dhcp-server"]),
        ("", [server(POOL, other="203.0.113.50")], seen(offered="203.0.113.50"), []),
        ("", [server(POOL)], seen(router="203.0.113.254"), ["unknown-dhcp-server"]),
        ("pools: []", [], seen(), ["unknown-dhcp-server"]),
        ("dhcp_servers: 203.0.113.1", [], seen(), []),
        ("dhcp_servers: 203.0.113.3", [server(POOL)], seen(), ["unknown-dhcp-server"]),
        ("dhcp_servers: 203.0.113.1", [], seen(router="203.0.113.254"), ["source-disagrees"]),
    ],
)
def test_dhcp_servers_that_answer(segment: str, claims: list[Claims], answer: DhcpServerSeen, codes: list[str]) -> None:
    made = plan(segment=segment)
    found = server_findings(segment_case(Knowledge(made, claims), [answer]))
    assert [f.code for f in found] == codes


def test_free_addresses_step_over_what_is_known() -> None:
    made = plan(segment="set_aside: 203.0.113.24/29")
    known = Knowledge(made, [server("203.0.113.4 - 203.0.113.19"), record("203.0.113.21", "gull.example")], now=NOW)
    near = parse_address("203.0.113.20")
    found = free_addresses(near, made.segments["quay"], known)
    assert [str(next(found)) for _ in range(4)] == ["203.0.113.22", "203.0.113.23", "203.0.113.32", "203.0.113.33"]
    assert "203.0.113.3" in {str(a) for a in found}


def test_the_pick_is_next_to_its_likes() -> None:
    made = plan()
    known = Knowledge(made, [server(POOL)], now=NOW)
    segment = made.segments["quay"]
    picked = pick(known, segment, "tide-db", parse_address("203.0.113.131"), Nowhere("no vantage"))
    assert str(picked.address) == "203.0.113.61"
    assert any("next to tide-db2 (203.0.113.60)" in r for r in picked.reasons)
    assert any("not probed: no vantage" in r for r in picked.reasons)
    full = Knowledge(made, [server("203.0.113.0/24")], now=NOW)
    with pytest.raises(Refused, match="no free address"):
        pick(full, segment, "tide-db", parse_address("203.0.113.131"), Nowhere("no vantage"))


def test_carried_evidence_says_the_same(tmp_path: Path) -> None:
    (tmp_path / "plan.yaml").write_text(TEXT.format(what="hold: 203.0.113.20", segment=""))
    made = plan_from_text((tmp_path / "plan.yaml").read_text(), str(tmp_path / "plan.yaml"))
    claims = [
        server(POOL, own="203.0.113.20", keeps=False),
        lease("203.0.113.30", OTHER, name="x"),
        lease("198.51.100.9", OTHER),
        record("203.0.113.9", "gull.ternpoint.example"),
        listed("203.0.113.40 - 203.0.113.49", "cameras", OWN),
    ]
    file = tmp_path / "evidence.json"
    evidence.save(file, made, Judgement(()), Knowledge(made, claims, now=NOW), 1_795_572_000)
    assert file.stat().st_mode & 0o077 == 0
    carried = evidence.load(file, 1_795_572_000 + 7300)
    assert carried.age(1_795_572_000 + 7300) == "2 h old"
    for before in (claims[0], claims[3], claims[4]):
        after = carried.claims[before.label]
        assert after.read_at == "2 h old, from evidence.json"
        assert (after.pools, after.subnets, after.reservations) == (before.pools, before.subnets, before.reservations)
        assert (after.records, after.listed) == (before.records, before.listed)
    # What lies outside the plan's segments does not travel.
    assert [str(c.address) for c in carried.claims["kea-leases l"].leases] in (["203.0.113.30"], [])
    document = json.loads(file.read_text())
    for wrong in (
        {},
        [],
        {**document, "made": "yesterday"},
        {**document, "claims": [{"kind": "kea"}]},
        {**document, "format": 3},
        {key: value for key, value in document.items() if key != "about"},
    ):
        file.write_text(json.dumps(wrong))
        with pytest.raises(InputError, match="not evidence in format 2"):
            evidence.load(file, 1_795_572_000)


def test_what_is_of_no_host_counts_for_the_hosts_of_its_segment() -> None:
    """A host is clear only where everything was looked at that its own check looks at."""
    found = (
        finding(CATALOGUE["in-dhcp-pool"], "x", seen_in="x", host="a", interface="eth0", address="203.0.113.5"),
        finding(CATALOGUE["pool-unknown"], "x", seen_in="x", segment="labs"),
    )
    result = Judgement(found, segments={"a": frozenset({"quay"}), "b": frozenset({"quay"}), "c": frozenset({"labs"})})
    assert [result.verdict_of_host(h) for h in "abc"] == ["blocked", "clear", "undetermined"]
    assert [result.verdict_of_address("a", f"203.0.113.{n}") for n in (5, 6)] == ["blocked", "clear"]
    assert result.verdict_of_address("c", "198.51.100.9") == "undetermined"
    everywhere = result.with_more([finding(CATALOGUE["not-probed"], "x", seen_in="x")])
    assert [everywhere.verdict_of_host(h) for h in "abc"] == ["blocked", "undetermined", "undetermined"]
    assert everywhere.verdict_of_address("b", "203.0.113.7") == "undetermined"
