"""Telling a machine that answers for every address (proxy ARP, RFC 1027) from one that has the address asked for."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterable

import msgspec

from fixed_anchor.core.addresses import IPAddress, with_prefix
from fixed_anchor.core.wire import WireAnswer

#: How many addresses beside the one in question are asked for: who answers for all of them stands in for others.
_CONTROLS = 3
#: The bits in which they differ from it: that much of a network is one segment's nearly everywhere.
_NEAR = {4: 24, 6: 64}


def without_proxies(
    answers: dict[IPAddress, WireAnswer],
    suspects: Iterable[IPAddress],
    ask: Callable[[list[IPAddress]], dict[IPAddress, WireAnswer]],
    chance: random.Random | None = None,
) -> dict[IPAddress, WireAnswer]:
    """The answers, with those of proxies told apart, for the ``suspects`` among the addresses.

    ``ask`` asks for other addresses of the same networks, from the same place.
    """
    drawn = chance or random.Random()
    controls = {target: _beside(target, frozenset(answers), drawn) for target in suspects}
    if not controls:
        return answers
    every = ask(list(dict.fromkeys(a for beside in controls.values() for a in beside)))
    found = dict(answers)
    for target, beside in controls.items():
        answering = [{h.mac for h in every[a].holders} if a in every else set() for a in beside]
        proxies = set.intersection(*answering) if answering else set()
        holders = answers[target].holders
        found[target] = msgspec.structs.replace(
            answers[target],
            holders=tuple(h for h in holders if h.mac not in proxies),
            proxies=tuple(h.mac for h in holders if h.mac in proxies),
        )
    return found


def _beside(target: IPAddress, asked: frozenset[IPAddress], drawn: random.Random) -> list[IPAddress]:
    network = with_prefix(target, _NEAR[target.version]).network
    first, size = int(network.network_address), network.num_addresses
    found: list[IPAddress] = []
    while len(found) < _CONTROLS:
        # Not the first and the last ones, which are the network's own and often routers'.
        address = type(target)(first + drawn.randrange(8, size - 8))
        if address not in asked and address not in found:
            found.append(address)
    return found
