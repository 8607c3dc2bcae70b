"""The order of many hosts: which one before which, and in which waves."""

from __future__ import annotations

from collections.abc import Sequence
from ipaddress import IPv4Address

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.order.turn import FIRST, Order, Standing, Turn
from fixed_anchor.core.order.waves import order_of
from fixed_anchor.core.plan import Plan
from fixed_anchor.planfile.reader import plan_from_text

QUAY = "203.0.113."


def a(last: int) -> IPAddress:
    return IPv4Address(f"{QUAY}{last}")


def plan_of(hosts: dict[str, int], resolvers: Sequence[int] = (2,), apart: Sequence[Sequence[str]] = ()) -> Plan:
    """A plan with one segment, and what each host is to hold there."""
    groups = ", ".join("[" + ", ".join(group) + "]" for group in apart)
    lines = ["plan: 1", f"apart: [{groups}]", "segments:"]
    shown = ", ".join(f"{QUAY}{r}" for r in resolvers)
    lines += [f"  quay: {{subnet: {QUAY}0/24, gateway: {QUAY}1, resolvers: [{shown}]}}", "hosts:"]
    lines += [f"  {n}: {{interfaces: {{eth0: {{segment: quay, hold: {QUAY}{new}}}}}}}" for n, new in hosts.items()]
    return plan_from_text("\n".join(lines) + "\n", "plan.yaml")


def standings_of(plan: Plan, today: dict[str, int], kinds: dict[str, str] | None = None) -> dict[str, Standing]:
    found = {}
    for name, old in today.items():
        host = plan.hosts[name]
        planned = {h.address for i in host.interfaces for h in i.hold}
        found[name] = Standing(
            host, frozenset({a(old)}), frozenset({a(old)} - planned), (kinds or {}).get(name, "netplan")
        )
    return found


def shown(order: Order) -> list[str]:
    return [" ".join(str(turn.key) for turn in wave) for wave in order.waves]


#: Hosts with the address that each is to hold and that of today; what else is given; the waves, and who is left out.
CASES: dict[str, tuple[dict[str, tuple[int, int]], dict[str, object], list[str], dict[str, str]]] = {
    "one, then doubled": (
        {n: (20 + i, 100 + i) for i, n in enumerate("abcdefghi")},
        {"at_once": 4},
        ["a", "b c", "d e f g", "h i"],
        {},
    ),
    "one of each kind": (
        {n: (20 + i, 100 + i) for i, n in enumerate("abcdef")},
        {"kinds": {"c": "ifupdown", "d": "networkd", "e": "ifupdown"}},
        ["a", "c d", "b e f"],
        {},
    ),
    "no wave is larger than allowed": (
        {n: (20 + i, 100 + i) for i, n in enumerate("abc")},
        {"at_once": 1},
        list("abc"),
        {},
    ),
    "a chain of three": ({"a": (21, 20), "b": (22, 21), "c": (23, 22)}, {}, ["c", "b", "a"], {}),
    "a swap is refused by name": (
        {"a": (20, 21), "b": (21, 20), "c": (22, 102)},
        {},
        ["c"],
        {"a": "a circle: a takes 203.0.113.20 from b; b takes 203.0.113.21 from a", "b": "a circle"},
    ),
    "a swap with a parking address": (
        {"a": (20, 21), "b": (21, 20), "c": (22, 102)},
        {"parks": [240]},
        ["a (first change)", "b c", "a (second change)"],
        {},
    ),
    "a parking address of another segment is none": (
        {"a": (20, 21), "b": (21, 20)},
        {"parks": ["198.51.100.9"]},
        [],
        {"a": "a circle", "b": "a circle"},
    ),
    "two swaps, one parking address after the other": (
        {"a": (20, 21), "b": (21, 20), "c": (22, 23), "d": (23, 22)},
        {"parks": [240]},
        ["a (first change)", "b", "a (second change)", "c (first change)", "d", "c (second change)"],
        {},
    ),
    "a resolver that moves": (
        {"b": (21, 101), "ns": (2, 103), "c": (22, 102)},
        {},
        ["ns (first change)", "b c", "ns (second change)"],
        {},
    ),
    "a resolver that moves and lets nothing go": (
        {"b": (21, 101), "ns": (2, 2)},
        {"held": {"ns": ()}},
        ["ns", "b"],
        {},
    ),
    "a resolver that stays": ({"ns": (2, 2), "b": (21, 101), "c": (22, 102)}, {}, ["b", "c", "ns"], {}),
    "one moves, the other stays": (
        {"n2": (3, 3), "ns": (2, 103), "b": (21, 101)},
        {"resolvers": (2, 3)},
        ["ns (first change)", "b", "n2", "ns (second change)"],
        {},
    ),
    "a gateway that moves": (
        {"b": (21, 101), "gw": (1, 103)},
        {},
        ["gw (first change)", "b", "gw (second change)"],
        {},
    ),
    "a resolver that moves to the address of one that it serves": (
        {"ns": (2, 103), "b": (21, 2)},
        {},
        [],
        {"ns": "a circle", "b": "a circle"},
    ),
    "a host takes the resolver's old address": (
        {"ns": (2, 103), "b": (103, 22)},
        {"parks": [240]},
        ["ns (first change)", "b (first change)", "ns (second change)", "b (second change)"],
        {},
    ),
    "who depends on a host that is left out is left out": (
        {"a": (21, 20), "b": (22, 21), "c": (23, 22), "d": (24, 103)},
        {"out": {"c": "it has a blocker"}},
        ["d"],
        {
            "a": "b has 203.0.113.21 today, and is left out",
            "b": "c has 203.0.113.22 today, and is left out",
            "c": "it has a blocker",
        },
    ),
    "the users of a resolver that is left out": (
        {"ns": (2, 103), "b": (21, 101)},
        {"out": {"ns": "not reached"}},
        [],
        {"b": "its resolver 203.0.113.2 is to be ns, which is left out", "ns": "not reached"},
    ),
    "a resolver waits with its second change for one that is left out": (
        {"ns": (2, 103), "b": (21, 101), "c": (22, 102)},
        {"out": {"c": "it has a blocker"}},
        ["ns (first change)", "b"],
        {"c": "it has a blocker", "ns": "keeps 203.0.113.103 beside: not changed, and may still use it: c"},
    ),
    "those that are as planned are passed over": (
        {"a": (20, 20), "b": (21, 101), "c": (22, 102)},
        {"settled": ("a",)},
        ["b", "c"],
        {},
    ),
    "apart, in two waves": (
        {n: (20 + i, 100 + i) for i, n in enumerate("abcd")},
        {"apart": [("b", "c")]},
        ["a", "b d", "c"],
        {},
    ),
}


@pytest.mark.parametrize("name", CASES)
def test_the_order(name: str) -> None:
    hosts, more, waves, left_out = CASES[name]
    given: dict[str, object] = dict(more)
    plan = plan_of(
        {n: new for n, (new, _) in hosts.items()},
        given.pop("resolvers", (2,)),  # type: ignore[arg-type]
        given.pop("apart", ()),  # type: ignore[arg-type]
    )
    standings = standings_of(plan, {n: old for n, (_, old) in hosts.items()}, given.pop("kinds", None))  # type: ignore[arg-type]
    for name_, held in given.pop("held", {}).items():  # type: ignore[attr-defined]
        standings[name_] = Standing(plan.hosts[name_], frozenset(held), frozenset(), "netplan")
    parks = [IPv4Address(p) if isinstance(p, str) else a(p) for p in given.pop("parks", ())]  # type: ignore[attr-defined]
    at_once = given.pop("at_once", 8)
    made = order_of(
        plan,
        standings,
        list(hosts),
        given.pop("settled", ()),
        given.pop("out", {}),
        parks,
        at_once,  # type: ignore[arg-type]
    )
    assert not given
    assert shown(made) == waves
    assert {one.host for one in made.left_out} == set(left_out)
    for one in made.left_out:
        assert left_out[one.host] in one.why
    # Nothing has a place without a reason.
    assert all(turn.why for turn in made.turns)


def test_who_alone_can_look_at_a_host_is_not_changed_with_it() -> None:
    plan = plan_of({n: 20 + i for i, n in enumerate("abcd")})
    standings = standings_of(plan, {n: 100 + i for i, n in enumerate("abcd")})
    for name, lookers in (("b", {"c"}), ("c", {"b", "d"})):
        standings[name] = Standing(
            plan.hosts[name], standings[name].held, standings[name].going, "x", frozenset(lookers)
        )
    assert shown(order_of(plan, standings, list("abcd"))) == ["a", "b", "c d"]


@settings(max_examples=200, deadline=None)
@given(st.data())
def test_no_address_is_held_twice_and_nobody_loses_a_service(data: st.DataObject) -> None:
    count = data.draw(st.integers(1, 8))
    names = [f"h{number}" for number in range(count)]
    pool = range(2, 14)
    today = dict(zip(names, data.draw(st.permutations(pool)), strict=False))
    planned = dict(zip(names, data.draw(st.permutations(pool)), strict=False))
    resolvers = data.draw(st.lists(st.sampled_from(pool), min_size=1, max_size=2, unique=True))
    parks = data.draw(st.lists(st.sampled_from((240, 241)), max_size=2, unique=True))
    out = {name: "left" for name in data.draw(st.lists(st.sampled_from(names), max_size=2, unique=True))}
    plan = plan_of(planned, resolvers)
    standings = standings_of(plan, today)
    settled = tuple(name for name in names if today[name] == planned[name])
    order = order_of(plan, standings, names, settled, out, [a(p) for p in parks], data.draw(st.integers(1, 4)))
    _play(plan, standings, order, frozenset(settled), [a(r) for r in resolvers])
    kept = {turn.host for turn in order.turns}
    # Each host ends somewhere, and never twice.
    assert kept | {one.host for one in order.left_out} | set(settled) == set(names)
    assert len(order.turns) == len({turn.key for turn in order.turns})
    for host in kept - {one.host for one in order.left_out}:
        assert any(turn.host == host and turn.is_last for turn in order.turns)


def _play(
    plan: Plan, standings: dict[str, Standing], order: Order, settled: frozenset[str], resolvers: list[IPAddress]
) -> None:
    """Carries an order out: all of a wave at the same time, each with its old and new addresses until it is over."""
    held = {name: set(standing.held) for name, standing in standings.items()}
    converted: set[str] = set(settled)
    owners = {address: name for name, standing in standings.items() for address in standing.planned}
    was = {address: standings[name].held for address, name in owners.items() if address in resolvers}

    def holds(turn: Turn) -> set[IPAddress]:
        planned = standings[turn.host].planned
        return {turn.parked.get(address, address) for address in planned} | set(turn.beside)

    movers = {turn.host for turn in order.turns}
    for wave in order.waves:
        for turn in wave:
            held[turn.host] |= holds(turn)
        every = [address for addresses in held.values() for address in addresses]
        assert len(every) == len(set(every)), (shown(order), held)
        for turn in wave:
            held[turn.host] = holds(turn)
            # What was configured with it must be there: where its owner is one of those that are changed.
            for address in resolvers:
                owner = owners.get(address)
                if owner in movers and owner != turn.host and turn.key.part in (FIRST, "whole"):
                    mine_too = any(t.host == turn.host and turn.host in owners.values() for t in order.turns)
                    assert address in held[owner] or (mine_too and turn.alone), (shown(order), turn)
            converted.add(turn.host)
        for address, old in was.items():
            owner = owners[address]
            waiting = [n for n in standings if n not in converted and n != owner and n in movers]
            if waiting and owner in movers and address not in standings[owner].held:
                assert old <= held[owner], (shown(order), owner, waiting)
