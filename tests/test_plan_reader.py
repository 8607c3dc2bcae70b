from __future__ import annotations

import json
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fixed_anchor.core.errors import InputError
from fixed_anchor.core.wanted import wanted_config
from fixed_anchor.planfile import shape
from fixed_anchor.planfile.reader import plan_from_text
from fixed_anchor.planfile.writer import ProposedPlan, plan_text, scalar

ROOT = Path(__file__).resolve().parents[1]

WHOLE = """\
plan: 1
site: Tern Point Marine Station
segments:
  quay:
    subnet: [203.0.113.0/24, 2001:db8:7e:1::/64]
    gateway: [203.0.113.1, {address: "2001:db8:7e:1::1", metric: 50}]
    resolvers: [203.0.113.2, 203.0.113.3]
    search: [ternpoint.example]
    pools: [203.0.113.100 - 203.0.113.199]
    reservations: {00:00:5e:00:53:2a: 203.0.113.60}
    set_aside: [203.0.113.240/28]
    reachable: [gull.ternpoint.example, 198.51.100.7:443]
  labs: {subnet: 198.51.100.0/24}
sources:
  - kea: dhcp/kea-dhcp4.conf
hosts:
  tide-db:
    hostname: tide-db.ternpoint.example
    reach: tree:trees/tide-db
    interfaces:
      enp1s0:
        mac: 00:00:5e:00:53:11
        segment: quay
        hold: [203.0.113.20, 203.0.113.21/32, {address: "2001:db8:7e:1::20", prefix: 128}]
        leave_alone: [203.0.113.250]
        mtu: 9000
        routes: [{destination: 198.18.4.0/22, next_hop: 203.0.113.9, on_link: true}]
      enp2s0:
        segment: labs
        ipv4: dhcp
        gateway: none
        expect: 198.51.100.60
"""


def test_a_whole_plan() -> None:
    plan = plan_from_text(WHOLE, "plan.yaml")
    first, second = plan.hosts["tide-db"].interfaces
    assert (first.ipv4, first.ipv6, second.ipv4, second.ipv6) == ("fixed", "fixed", "dhcp", "untouched")
    assert first.line == 21
    config = wanted_config(plan, first)
    assert [str(a) for a in config.addresses] == ["203.0.113.20/24", "203.0.113.21/32", "2001:db8:7e:1::20/128"]
    assert [str(r) for r in config.routes] == [
        "default via 203.0.113.1",
        "default via 2001:db8:7e:1::1 metric 50 on-link",
        "198.18.4.0/22 via 203.0.113.9 on-link",
    ]
    other = wanted_config(plan, second)
    assert (other.lease_routes, other.lease_resolvers, other.routes) == (False, False, ())
    assert plan.segments["labs"].pools is None
    assert plan.sources[0].kind == "kea"


SMALL = """\
plan: 1
segments:
  quay: {{subnet: 203.0.113.0/24}}
hosts:
  tide-db:
    interfaces:
      enp1s0:
        segment: quay
        {line}
"""


@pytest.mark.parametrize(
    ("text", "where", "said"),
    [
        ("plan: 1\n\tsegments: {}\n", "2:1", "a tab stands where YAML wants spaces"),
        ("plan: 1\nsegmets: {}\n", "2:1", "Did you mean 'segments'"),
        ("plan: 2\nsegments: {}\nhosts: {}\n", "1:7", "no plan of format 1"),
        ("plan: 1\nhosts: {}\n", None, "the plan has no `segments:`"),
        ("plan: 1\nsegments: 3\nhosts: {}\n", "2:11", "'3' stands here; expected segments by name"),
        ("plan: 1\n  segments: {}\n", "2:11", "indented differently"),
        ("- a\n- b\n", "1:1", "a list stands here"),
        ("", None, "the file is empty"),
        (SMALL.format(line="hold: 203.0.113.256"), "9:15", "hosts.tide-db.interfaces.enp1s0.hold: .*octet 4 is 256"),
        (SMALL.format(line="hold: [203.0.113.7, 203.0.113]"), "9:29", r"hold\[1\]: .*has 3 octets"),
        (SMALL.format(line="mac: 52:54:00:12:34:56"), "9:14", "is not quoted"),
        (SMALL.format(line="mtu: big"), "9:14", "expected a number from 68 to 65535"),
        (SMALL.format(line="ipv4: static"), "9:15", "expected one of fixed, dhcp, off, untouched"),
        (SMALL.format(line="ipv4: fixed"), "9:15", "`hold` names no IPv4 address"),
        (SMALL.format(line="hold:"), "9:14", "nothing stands here"),
        (SMALL.format(line="mac: {a: b}"), "9:14", "a mapping stands here; expected a MAC address"),
        (SMALL.format(line="segment: labs"), "9:9", "the key 'segment' stands twice, first in line 8"),
        (SMALL.replace("segment: quay", "segment: labs").format(line="mtu: 9000"), "8:18", "no segment 'labs'"),
        (SMALL.format(line="routes: [{destination: 198.18.4.0/22, next_hop: '2001:db8::1'}]"), "9:18", "families"),
        ("plan: 1\nsegments: {a: {}}\nhosts: {}\n", "2:12", "segment a has no subnet"),
        ("plan: &a [*a\n", "1:7", "a list stands here; expected the number"),
    ],
)
def test_errors_say_where_and_what(text: str, where: str | None, said: str) -> None:
    with pytest.raises(InputError, match=said) as raised:
        plan_from_text(text, "plan.yaml")
    assert raised.value.where == ("plan.yaml" if where is None else f"plan.yaml:{where}")


_fragments = st.sampled_from(
    [
        "plan: 1\n",
        "segments:",
        " quay",
        ": ",
        "\n",
        "  ",
        "- ",
        "{",
        "}",
        "[",
        "]",
        "hosts:",
        "\t",
        "&a ",
        "*a",
        "'",
        '"',
        "|\n",
        "!!int ",
    ]
)


@given(st.one_of(st.text(), st.lists(_fragments).map("".join)))
def test_no_text_raises_anything_else(text: str) -> None:
    try:
        plan_from_text(text, "plan.yaml")
    except InputError as error:
        assert "\n" not in str(error)


def test_the_schema_is_current() -> None:
    assert json.loads((ROOT / "docs/plan.schema.json").read_text()) == json.loads(json.dumps(shape.json_schema()))


@given(st.text(min_size=1, max_size=40))
def test_scalars_mean_what_was_meant(text: str) -> None:
    import yaml

    if text.isprintable():
        assert yaml.safe_load(f"a: {scalar(text)}") == {"a": text}


def test_a_proposed_plan_reads_back() -> None:
    from fixed_anchor.core.addresses import parse_address, parse_network, parse_range

    proposed = ProposedPlan(
        host="tide-db",
        interface="enp1s0",
        mac="52:54:00:12:34:56",
        subnet=parse_network("203.0.113.0/24"),
        gateways=(parse_address("203.0.113.1"),),
        resolvers=(parse_address("2001:db8:7e:1::2"),),
        search=("ternpoint.example",),
        pools=(parse_range("203.0.113.100-203.0.113.199"),),
        hold=(parse_address("203.0.113.20"),),
    )
    plan = plan_from_text(plan_text([proposed]), "plan.yaml")
    assert plan.hosts["tide-db"].interfaces[0].mac == "52:54:00:12:34:56"
    assert plan.segments["lan"].pools == proposed.pools
