"""The map of a segment: its stretches, and what the command shows of them."""

from __future__ import annotations

import ipaddress
import itertools
import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from jsonschema import Draft202012Validator

from fixed_anchor.core.addresses import AddressRange, parse_network
from fixed_anchor.core.segment_map import ASIDE, FREE, HOSTS, OTHERS, POOL, _stretches
from tests.test_commands import run

NET = parse_network("203.0.113.0/26")
BEGIN = int(NET.network_address)
_ORDER = (POOL, ASIDE, HOSTS, OTHERS)
PARTS = st.lists(
    st.tuples(st.integers(-8, 70), st.integers(0, 30), st.sampled_from(_ORDER), st.sampled_from(["", "a", "b"])),
    max_size=12,
)


@given(PARTS)
def test_stretches_cover_a_subnet_once(rows: list[tuple[int, int, str, str]]) -> None:
    parts = [(AddressRange(4, BEGIN + first, BEGIN + first + more), kind, w) for first, more, kind, w in rows]
    found = list(_stretches(NET, parts))
    numbers = [n for one in found for n in range(one.range.first, one.range.last + 1)]
    assert numbers == list(range(BEGIN, BEGIN + 64))
    for before, after in itertools.pairwise(found):
        assert (before.kind, before.words) != (after.kind, after.words)
    for one in found:
        for number in (one.range.first, one.range.last):
            said = [kind for part, kind, _ in parts if part.first <= number <= part.last]
            assert one.kind == min(said, key=_ORDER.index, default=FREE)


def test_a_large_subnet_costs_what_is_in_it() -> None:
    net = parse_network("2001:db8:7e:1::/64")
    first = int(net.network_address) + 0x20
    found = list(_stretches(net, [(AddressRange(6, first, first), HOSTS, "tide-db")]))
    assert [one.kind for one in found] == [FREE, HOSTS, FREE]
    assert sum(one.range.size for one in found) == 2**64


def document(folder: Path, *words: str) -> Any:
    done = run(folder, "map", *words, "--json")
    read = json.loads(done.stdout)
    assert done.returncode == read["exit_status"], done.stderr
    schema = json.loads((Path(__file__).parents[1] / "docs/schemas/map.json").read_text())
    Draft202012Validator(schema).validate(read)
    return read


def test_the_map_of_the_quay(site: Path) -> None:
    told = document(site, "plan.yaml", "quay")
    assert told["exit_status"] == 1
    (quay,) = told["segments"]
    (subnet,) = quay["subnets"]
    kinds = {one["first"]: one["kind"] for one in subnet["stretches"]}
    assert kinds["203.0.113.0"] == kinds["203.0.113.255"] == "edge"
    assert kinds["203.0.113.1"] == kinds["203.0.113.2"] == "others"
    assert kinds["203.0.113.20"] == "hosts"
    assert ("203.0.113.30", ["answers-on-wire"]) in [(one["address"], one["codes"]) for one in subnet["conflicts"]]
    moves = {one["host"]: (one["before"], one["after"]) for one in subnet["moves"]}
    assert moves["kelp-files"] == ("203.0.113.142", "203.0.113.30")
    assert {"address": "203.0.113.30", "kind": "answers", "words": "00:00:5e:00:53:5a"} in subnet["sightings"]
    assert all(ipaddress.ip_address(one["first"]) <= ipaddress.ip_address(one["last"]) for one in subnet["stretches"])


def test_in_a_terminal(site: Path) -> None:
    done = run(site, "map", "plan.yaml", "quay")
    assert done.returncode == 1, done.stderr
    assert "1 CONFLICT" in done.stdout
    assert "leaves for 203.0.113.20" in done.stdout
    bar = next(line for line in done.stdout.splitlines() if line.endswith(".255"))
    assert "====" in bar
    assert len(bar) <= 80
    assert "!" in done.stdout.splitlines()[3]


def test_what_is_free(site: Path) -> None:
    done = run(site, "map", "plan.yaml", "lofts", "--free", "--no-wire")
    rows = [line.split("   ")[0] for line in done.stdout.splitlines()]
    assert "198.18.6.0 - 198.18.7.254" in rows
    # Neither the gateway nor the resolver of the plan is free.
    assert not any(row.startswith(("198.18.4.1 ", "198.18.4.2 ")) for row in rows)


@pytest.mark.parametrize(
    ("words", "said"), [(("plan.yaml", "moon"), "there is no segment moon"), (("no.yaml",), "no.yaml")]
)
def test_bad_usage(site: Path, words: tuple[str, ...], said: str) -> None:
    done = run(site, "map", *words)
    assert done.returncode == 2
    assert said in done.stderr
