"""The waves of an order: one host, then one of each kind, then twice as many each time."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

import msgspec

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.order.before import Before
from fixed_anchor.core.order.turn import Key, Order, Standing, Turn
from fixed_anchor.core.plan import Plan

#: The reason of a turn that has no other.
_USUAL = "next in the plan"


def order_of(
    plan: Plan,
    standings: Mapping[str, Standing],
    chosen: Sequence[str],
    settled: Sequence[str] = (),
    left_out: Mapping[str, str] | None = None,
    parks: Sequence[IPAddress] = (),
    at_once: int = 8,
) -> Order:
    """The order in which ``chosen`` hosts are changed.

    ``standings`` are those of every host of the plan that is known; ``settled`` of them are as planned. Of those
    chosen ``left_out`` are not to be changed, each for its reason. ``parks`` are free addresses at which a host of a
    circle may wait. No wave has more than ``at_once`` turns.
    """
    out = dict(left_out or {})
    movers = {name: standings[name] for name in chosen if name not in settled and name not in out}
    others = {name: standing for name, standing in standings.items() if name not in movers}
    before = Before(plan, movers, others, frozenset(settled), out, parks)
    waves = _Waves(plan, before.turns, standings, at_once)
    return Order(tuple(waves.all()), before.left_out, tuple(name for name in chosen if name in settled))


class _Waves:
    def __init__(self, plan: Plan, turns: Mapping[Key, Turn], standings: Mapping[str, Standing], at_once: int) -> None:
        self._turns = dict(turns)
        self._standings = standings
        self._at_once = at_once
        self._apart = [frozenset(group) for group in plan.apart]
        self._done: set[Key] = set()
        self._kinds: set[str] = set()
        self._size = 0

    def all(self) -> Iterable[tuple[Turn, ...]]:
        """The waves, one after the other."""
        while self._turns:
            ready = [turn for turn in self._turns.values() if turn.after <= self._done]
            assert ready, "turns wait for one another"
            wave = self._next(ready)
            for turn in wave:
                self._done.add(turn.key)
                del self._turns[turn.key]
            self._kinds.update(self._kind(turn) for turn in wave)
            yield wave

    def _kind(self, turn: Turn) -> str:
        return self._standings[turn.host].kind

    def _next(self, ready: Sequence[Turn]) -> tuple[Turn, ...]:
        # What others are to use comes first; what comes last is not ready before.
        alone = next((turn for turn in ready if turn.alone), None)
        if alone is not None:
            self._size = max(self._size, 1)
            return (_saying(alone, "alone"),)
        fresh = self._of_fresh_kinds(ready)
        if not self._size:
            size, of, why = 1, ready, "one host first, alone"
        elif fresh:
            size, of, why = self._at_once, fresh, "the first of its kind: {kind}"
        else:
            size, of, why = min(self._at_once, max(2, 2 * self._size)), ready, _USUAL
        wave: list[Turn] = []
        for turn in of:
            if len(wave) < size and self._fits(turn, wave):
                wave.append(_saying(turn, why.format(kind=self._kind(turn))))
        self._size = max(self._size, len(wave))
        return tuple(wave)

    def _of_fresh_kinds(self, turns: Sequence[Turn]) -> list[Turn]:
        found: dict[str, Turn] = {}
        for turn in turns:
            if self._kind(turn) not in self._kinds:
                found.setdefault(self._kind(turn), turn)
        return list(found.values())

    def _fits(self, turn: Turn, wave: Sequence[Turn]) -> bool:
        """Whether a turn may be under way with those of a wave."""
        for other in wave:
            if any(turn.host in group and other.host in group for group in self._apart):
                return False
            if self._is_only_looker(turn.host, other.host) or self._is_only_looker(other.host, turn.host):
                return False
        return True

    def _is_only_looker(self, looker: str, at: str) -> bool:
        return self._standings[at].lookers == frozenset((looker,))


def _saying(turn: Turn, why: str) -> Turn:
    if turn.why and why == _USUAL:
        return turn
    return msgspec.structs.replace(turn, why=(*turn.why, why))
