"""The part of a change's document that tells the order of many hosts."""

from __future__ import annotations

from msgspec import Struct

from fixed_anchor.core.order.turn import Order


class OrderedTurn(Struct, frozen=True):
    """One change of a host in its ``wave``, which counts from 1; ``part`` is ``whole``, ``first`` or ``second``.

    ``after`` are the turns that it waits for; ``why`` the reasons for its place.
    """

    wave: int
    host: str
    part: str
    after: list[str]
    why: list[str]
    parked: dict[str, str]
    beside: list[str]


class LeftOutHost(Struct, frozen=True):
    """A host that is not changed, or not to its end, and why."""

    host: str
    why: str
    begun: bool


def ordered_turns(order: Order) -> list[OrderedTurn]:
    """Every turn, wave by wave."""
    return [
        OrderedTurn(
            number,
            turn.host,
            turn.key.part,
            sorted(str(key) for key in turn.after),
            list(turn.why),
            {str(address): str(park) for address, park in turn.parked.items()},
            sorted(str(address) for address in turn.beside),
        )
        for number, wave in enumerate(order.waves, 1)
        for turn in wave
    ]


def ordered_hosts(order: Order) -> list[LeftOutHost]:
    """Those that are left out."""
    return [LeftOutHost(one.host, one.why, one.is_begun) for one in order.left_out]
