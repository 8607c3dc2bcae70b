"""Looking whether what is wanted of a host is in force: what it says itself, and what is seen over the network."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from fixed_anchor.core.baseline import Judge
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.core.verification import PASS, VerifyCheck
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.vantages.protocol import Vantage
from fixed_anchor.workflow.hosts.host_state import hostname_checks, state_of
from fixed_anchor.workflow.network.asking import asking_for
from fixed_anchor.workflow.network.network_checks import Key, network_checks
from fixed_anchor.workflow.network.sole_owner import announced_checks, sole_owner_checks


class Looks:
    """One look after the other: what the host says each time, over the network only what has not passed yet.

    ``every`` is what is wanted of its interfaces, and ``vantage`` from where each is looked at. ``judge`` knows what
    there was before. What the host says of itself is held against that in a ``change`` alone, in which it is also
    announced where the addresses are now.
    """

    def __init__(
        self,
        host: str,
        machine: Machine,
        every: Mapping[str, InterfaceConfig],
        hostname: str | None,
        judge: Judge,
        vantage: Callable[[HostSurvey, str], Vantage],
        reachable: Mapping[str, tuple[str, ...]],
        change: bool,
    ) -> None:
        self.host, self.machine, self.every, self.hostname = host, machine, every, hostname
        self.judge, self.vantage, self.reachable, self.change = judge, vantage, reachable, change
        self._network: dict[str, dict[Key, VerifyCheck]] = {name: {} for name in every}
        self._announced: set[str] = set()
        #: Whether the network has been asked, too.
        self.is_whole = False

    def once(self, survey: HostSurvey, at_last: bool = False, unread: str = "") -> tuple[VerifyCheck, ...]:
        """What is so now. The network is asked where the host is as wanted, or ``at_last``.

        ``unread`` says why no file of the host could be read.
        """
        before = self.judge if self.change else Judge()
        states = {
            name: before.judged(state_of(self.host, self.machine, survey, self.every, name, before, unread))
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
        return (*checks, *hostname_checks(self.host, self.machine, survey, self.hostname))

    def _ask(self, survey: HostSurvey, name: str) -> None:
        """Asks over the network what has not passed so far; once it is alone with its addresses, it says so."""
        found = survey.interface(name)
        if found is None or not survey.running:
            return
        wanted, known, vantage = self.every[name], self._network[name], self.vantage(survey, name)
        is_own = not self.machine.is_afar
        reachable = self.reachable.get(name, ())
        asking = asking_for(self.host, wanted, found, survey, vantage, reachable, self.judge, is_own)
        passed = {key for key, check in known.items() if check.outcome == PASS}
        made: list[VerifyCheck] = []
        looked = None
        if name not in self._announced:
            owned, sole, looked = sole_owner_checks(self.host, wanted, survey, vantage, asking.gateways)
            made += owned
            if self.change:
                made += announced_checks(self.host, self.machine, wanted, survey, vantage, sole)
            if all(c.outcome == PASS for c in owned):
                self._announced.add(name)
        made += network_checks(asking, looked, passed)
        # What is asked anew is said anew: a gateway that is two machines only once is one again.
        for key in [k for k in known if k not in passed]:
            del known[key]
        known.update({(check.code, check.target): check for check in made})
