"""Verifying a change with patience: stacks, switch ports and gateways take their time after an activation."""

from __future__ import annotations

import time

from fixed_anchor.change.change import Patience
from fixed_anchor.change.target import Waiting
from fixed_anchor.core.baseline import Judge
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.errors import AnchorError, InputError
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.core.verification import FAIL, PASS, VerifyCheck, VerifyResult
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe.kernel import carrier_changes
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.workflow.hosts.host_state import hostname_checks, state_of
from fixed_anchor.workflow.network.asking import asking_for
from fixed_anchor.workflow.network.network_checks import Key, network_checks
from fixed_anchor.workflow.network.sole_owner import announced_checks, sole_owner_checks
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
    looks = _Looks(host, machine, wanted, hostname, judge)
    begun = time.monotonic()
    end = begun + max(1.0, left - _LAST) if left is not None else None
    carrier = _Carrier(machine, judge, [config.interface for config in wanted])
    while True:
        result = looks.once()
        until = begun + patience.checks
        if (changed := carrier.last_change()) is not None:
            until = max(until, changed + patience.carrier)
        until = min(until, end) if end is not None else until
        open_ones = tuple(c for c in result.checks if c.counts and c.outcome != PASS)
        settled = not open_ones or any(c.outcome == FAIL and c.code in _FINAL for c in open_ones)
        if settled or time.monotonic() >= until:
            return result if looks.is_whole else looks.once(at_last=True)
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


class _Looks:
    """One look after the other: what the host says each time, over the network only what has not passed yet."""

    def __init__(
        self,
        host: str,
        machine: Machine,
        wanted: tuple[InterfaceConfig, ...],
        hostname: str | None,
        judge: Judge,
    ) -> None:
        self.host, self.machine, self.hostname, self.judge = host, machine, hostname, judge
        self.every = {config.interface: config for config in wanted}
        self._network: dict[str, dict[Key, VerifyCheck]] = {name: {} for name in self.every}
        self._announced: set[str] = set()
        #: Whether the network has been asked, too.
        self.is_whole = False

    def once(self, at_last: bool = False) -> VerifyResult:
        """What is so now. The network is asked where the host is as wanted, or ``at_last``."""
        try:
            survey = take_stock(self.machine, beside=False)
        except InputError as error:
            self.is_whole = True
            return VerifyResult((_failed_look(self.host, next(iter(self.every), ""), error),))
        states = {
            name: self.judge.judged(state_of(self.host, self.machine, survey, self.every, name, self.judge))
            for name in self.every
        }
        is_settled = all(c.outcome == PASS or not c.counts for checks in states.values() for c in checks)
        if is_settled or at_last:
            self.is_whole = True
            for name in self.every:
                self._ask(survey, name)
        checks: list[VerifyCheck] = []
        for name, state in states.items():
            checks += [*state, *self.judge.judged(self._network[name].values())]
        return VerifyResult((*checks, *hostname_checks(self.host, self.machine, survey, self.hostname)))

    def _ask(self, survey: HostSurvey, name: str) -> None:
        """Asks over the network what has not passed so far; once it is alone with its addresses, it says so."""
        found = survey.interface(name)
        if found is None or not survey.running:
            return
        wanted, known = self.every[name], self._network[name]
        vantage = own_vantage(self.machine, survey, name)
        asking = asking_for(self.host, wanted, found, survey, vantage, _reachable(self.judge, name), self.judge)
        passed = {key for key, check in known.items() if check.outcome == PASS}
        made: list[VerifyCheck] = []
        looked = None
        if name not in self._announced:
            owned, sole, looked = sole_owner_checks(self.host, wanted, survey, vantage, asking.gateways)
            told = announced_checks(self.host, self.machine, wanted, survey, vantage, sole)
            made += [*owned, *told]
            if all(c.outcome == PASS for c in owned):
                self._announced.add(name)
        made += network_checks(asking, looked, passed)
        # What is asked anew is said anew: a gateway that is two machines only once is one again.
        for key in [k for k in known if k not in passed]:
            del known[key]
        known.update({(check.code, check.target): check for check in made})


def _reachable(judge: Judge, name: str) -> tuple[str, ...]:
    before = judge.before.interface(name) if judge.before is not None else None
    return before.reachable if before is not None else ()


def _failed_look(host: str, interface: str, error: AnchorError) -> VerifyCheck:
    return VerifyCheck(
        "files-as-planned", True, host, interface, "here", "readable files", str(error), FAIL, "a file is broken"
    )
