from __future__ import annotations

from ipaddress import IPv4Address, IPv6Address, ip_address

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fixed_anchor.core.addresses import (
    AddressRange,
    RangeSet,
    parse_address,
    parse_domain,
    parse_interface_address,
    parse_mac,
    parse_network,
    parse_prefix,
    parse_range,
)
from fixed_anchor.core.errors import printable


@pytest.mark.parametrize(
    ("parse", "text", "said"),
    [
        (parse_address, "203.0.113.256", "octet 4 is 256"),
        (parse_address, "203.0.113", "has 3 octets instead of 4"),
        (parse_address, "203.0.113.020", "leading zero"),
        (parse_address, "203.0.113.20/24", "carries a prefix"),
        (parse_address, "fe80::1%eth0", "carries a zone"),
        (parse_address, "gull", "is not an IP address"),
        (parse_network, "203.0.113.7/24", "the subnet is 203.0.113.0/24"),
        (parse_network, "203.0.113.0", "has no prefix"),
        (parse_network, "203.0.113.0/33", "not a prefix length from 0 to 32"),
        (parse_range, "203.0.113.9 - 203.0.113.1", "ends before it begins"),
        (parse_range, "203.0.113.9 - 2001:db8::1", "mixes IPv4 and IPv6"),
        (parse_mac, "00:00:5e:00:53", "is not a MAC"),
        (parse_mac, "00-00:5e-00-53-11", "is not a MAC"),
        (parse_domain, "-a.example", "is not a domain name"),
    ],
)
def test_what_is_wrong_is_said(parse, text, said) -> None:
    with pytest.raises(ValueError, match=said.replace("(", r"\(")):
        parse(text)


@pytest.mark.parametrize(("mask", "length"), [("255.255.255.0", 24), ("255.255.252.0", 22), ("0.0.0.0", 0), ("24", 24)])
def test_masks(mask: str, length: int) -> None:
    assert parse_prefix(mask, 4) == length


def test_a_mask_with_a_hole_is_refused() -> None:
    with pytest.raises(ValueError, match="not contiguous"):
        parse_prefix("255.0.255.0", 4)


def test_ordinary_values() -> None:
    assert parse_mac("00-00-5E-00-53-11") == "00:00:5e:00:53:11"
    assert str(parse_range("203.0.113.240/28")) == "203.0.113.240 - 203.0.113.255"
    assert str(parse_interface_address("203.0.113.20/255.255.255.0")) == "203.0.113.20/24"
    assert parse_domain("Gull.TernPoint.example.") == "gull.ternpoint.example"
    assert printable("a\x1b[31mb\nc\u202e") == "a?[31mb c?"


@given(st.text())
def test_parsers_raise_nothing_but_value_errors(text: str) -> None:
    for parse in (parse_address, parse_network, parse_range, parse_mac, parse_domain, parse_interface_address):
        try:
            parse(text)
        except ValueError:
            pass


@given(st.ip_addresses())
def test_addresses_round_trip(address: IPv4Address | IPv6Address) -> None:
    if getattr(address, "scope_id", None) is None:
        assert parse_address(str(address)) == address


_range = st.tuples(st.integers(0, 300), st.integers(0, 60)).map(lambda t: AddressRange(4, t[0], t[0] + t[1]))


@given(st.lists(_range, max_size=12), st.integers(0, 400))
def test_range_sets_agree_with_looking_at_each(ranges: list[AddressRange], number: int) -> None:
    address = ip_address(number)
    expected = next((r for r in ranges if address in r), None)
    assert RangeSet(ranges).find(address) == expected
