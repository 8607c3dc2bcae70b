"""Verifying a change with patience: stacks, switch ports and gateways take their time after an activation."""

from __future__ import annotations

import time
from functools import partial

from fixed_anchor.change.change import Patience
from fixed_anchor.change.target import Waiting
from fixed_anchor.core.baseline import Judge
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.errors import AnchorError, InputError
from fixed_anchor.core.verification import FAIL, PASS, VerifyCheck, VerifyResult
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe.kernel import carrier_changes
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.workflow.hosts.looks import Looks
from fixed_anchor.workflow.reached.site import own_vantage

#: What waiting does not mend: somebody has answered. A file may still come: NetworkManager writes its automatic
#: profile as it starts.
_FINAL = frozenset({"sole-owner", "gateway-is-one", "interface-present"})
#: Seconds between two looks, and those before the deadline that are left to say what came of it.
_PAUSE, _LAST = 0.3, 2.0


def verify_when_settled(
    host: str,
    machine: Machine,
    wanted: tuple[InterfaceConfig, ...],
    hostname: str | None,
    judge: Judge,
    patience: Patience,
    left: float | None = None,
    told: Waiting | None = None,
) -> VerifyResult:
    """Verifies interfaces, each from itself, again and again until all required checks pass.

    Gives up ``patience`` after the beginning, or after the last change of a carrier, whichever is later, and in any
    case before ``left`` seconds are over. Tells the neighbours where the addresses are now.
    """
    every = {config.interface: config for config in wanted}
    befores = judge.before.interfaces if judge.before is not None else ()
    reachable = {before.interface: before.reachable for before in befores}
    looks = Looks(host, machine, every, hostname, judge, partial(own_vantage, machine), reachable, change=True)
    begun = time.monotonic()
    end = begun + max(1.0, left - _LAST) if left is not None else None
    carrier = _Carrier(machine, judge, [config.interface for config in wanted])
    while True:
        result = _look(looks)
        until = begun + patience.checks
        if (changed := carrier.last_change()) is not None:
            until = max(until, changed + patience.carrier)
        until = min(until, end) if end is not None else until
        open_ones = tuple(c for c in result.checks if c.counts and c.outcome != PASS)
        settled = not open_ones or any(c.outcome == FAIL and c.code in _FINAL for c in open_ones)
        if settled or time.monotonic() >= until:
            return result if looks.is_whole else _look(looks, at_last=True)
        if told is not None:
            told(open_ones, until - time.monotonic())
        time.sleep(_PAUSE)


class _Carrier:
    """When the carrier of an interface last changed, as far as the kernel counts it."""

    def __init__(self, machine: Machine, judge: Judge, names: list[str]) -> None:
        self._machine = machine
        self._counts = {n: _count_before(judge, n) for n in names}
        self._last: float | None = None

    def last_change(self) -> float | None:
        for name, before in self._counts.items():
            now = carrier_changes(self._machine, name)
            if now is not None and before is not None and now != before:
                self._last = time.monotonic()
            self._counts[name] = now
        return self._last


def _count_before(judge: Judge, name: str) -> int | None:
    before = judge.before.interface(name) if judge.before is not None else None
    return before.carrier_changes if before is not None else None


def _look(looks: Looks, at_last: bool = False) -> VerifyResult:
    """One look, by a stock-taking of its own; a file that is broken by then is what it tells."""
    try:
        survey = take_stock(looks.machine, beside=False)
    except InputError as error:
        looks.is_whole = True
        return VerifyResult((_failed_look(looks.host, next(iter(looks.every), ""), error),))
    return VerifyResult(looks.once(survey, at_last))


def _failed_look(host: str, interface: str, error: AnchorError) -> VerifyCheck:
    return VerifyCheck(
        "files-as-planned", True, host, interface, "here", "readable files", str(error), FAIL, "a file is broken"
    )
