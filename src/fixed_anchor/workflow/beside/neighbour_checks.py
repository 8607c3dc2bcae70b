"""What a neighbour sees of a host: whether it is found at its addresses, alone, and takes connections there."""

from __future__ import annotations

import time
from collections.abc import Iterable, Mapping

import msgspec

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.errors import NoAccess
from fixed_anchor.core.reaching import ACCEPTS
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.core.verification import FAIL, PASS, VerifyCheck
from fixed_anchor.packets.arp_probes import AFTERWARDS
from fixed_anchor.workflow.beside.on_segment import Neighbour
from fixed_anchor.workflow.network.look import Looked, look

#: Seconds that a connection may take.
_TO_CONNECT = 2.0
#: How often it is looked, with a pause of so many seconds between, until a check passes.
_TRIES, _PAUSE = 4, 1.0


class _Before(msgspec.Struct, frozen=True):
    """Whether the neighbour found the host before a change, and by which IP versions its SSH port took connections.

    By the other one the neighbour itself may have no address there, or no way.
    """

    found: bool
    accepts: frozenset[int]


class NeighbourChecks:
    """The checks that one neighbour makes of an interface of a host, whose MACs are ``own``.

    ``port`` is that at which its sshd is reached, ``None`` where nobody knows. What the neighbour did not see
    :meth:`before` a change, or where that was never asked, is not required afterwards: ports may be isolated from
    one another, and firewalls let in whom they are told to.
    """

    def __init__(self, host: str, interface: str, own: frozenset[str], neighbour: Neighbour, port: int | None) -> None:
        self.host, self.interface = host, interface
        self.neighbour = neighbour
        self._own, self._port = own, port
        self._before = _Before(False, frozenset())

    def before(self, addresses: Iterable[IPAddress]) -> None:
        """Looks for the host at ``addresses`` that it has today."""
        today = tuple(addresses)
        try:
            looked = self._look(today, ())
            found = any(self._has(looked, address) for address in today)
            accepts = frozenset(address.version for address in today if self._connect(address) == ACCEPTS)
        except NoAccess:
            return
        self._before = _Before(found, accepts)

    def made(self, wanted: InterfaceConfig) -> list[VerifyCheck]:
        """The checks on the fixed addresses of ``wanted``; where the neighbour itself is lost there are none."""
        addresses = tuple(a.ip for a in wanted.addresses if wanted.method(a.version) == "fixed")
        if not addresses:
            return []
        gateways = tuple(r.next_hop for r in wanted.default_routes() if r.next_hop is not None)
        checks: list[VerifyCheck] = []
        for number in range(_TRIES):
            if number:
                time.sleep(_PAUSE)
            try:
                checks = list(self._once(addresses, gateways))
            except NoAccess:
                return []
            # Switches may still have to learn where the host is; a second owner does not go by waiting.
            if all(c.outcome == PASS or not c.required for c in checks) or any(c.why == _TWO for c in checks):
                break
        return checks

    def _once(self, addresses: tuple[IPAddress, ...], gateways: tuple[IPAddress, ...]) -> Iterable[VerifyCheck]:
        begun = time.monotonic()
        looked = self._look(addresses, gateways)
        seconds = round(time.monotonic() - begun, 3)
        # A neighbour that hears no gateway any more may be cut off itself: its silence says nothing.
        hears = not gateways or any(self._macs(looked, gateway) for gateway in gateways)
        for address in addresses:
            yield self._finds(address, looked, hears, seconds)
            if self._port is not None:
                begun = time.monotonic()
                said = self._connect(address)
                took = round(time.monotonic() - begun, 3)
                expected = f"{address} port {self._port} takes connections of {self.neighbour.host}"
                why = None if said == ACCEPTS else "nobody connects to the SSH port from there"
                observed = expected if why is None else said
                required = address.version in self._before.accepts and hears
                yield self._check("neighbour-ssh", required, str(address), expected, observed, why, took)
        for gateway in gateways:
            macs = self._macs(looked, gateway)
            expected = f"{self.neighbour.host} finds the gateway {gateway}"
            observed = f"it is at {' and '.join(sorted(macs))}" if macs else "it does not"
            why = None if len(macs) == 1 else "nobody answers for it there" if not macs else "two machines answer there"
            yield self._check("neighbour-gateway", False, str(gateway), expected, observed, why, seconds)

    def _finds(self, address: IPAddress, looked: Looked, hears: bool, seconds: float) -> VerifyCheck:
        macs = self._macs(looked, address)
        others = sorted(macs - self._own)
        expected = f"{self.neighbour.host} finds {address} at this host alone"
        if others:
            seen = "as well" if macs & self._own else "instead"
            return self._check(
                "neighbour-finds", True, str(address), expected, f"{', '.join(others)} has it {seen}", _TWO, seconds
            )
        if not macs:
            why = looked.why_not.get(address, "nobody answers for it there")
            required = self._before.found and hears
            return self._check("neighbour-finds", required, str(address), expected, "it does not", why, seconds)
        return self._check("neighbour-finds", True, str(address), expected, expected, None, seconds)

    def _look(self, addresses: tuple[IPAddress, ...], gateways: tuple[IPAddress, ...]) -> Looked:
        every = (*addresses, *gateways)
        return look(self.neighbour.vantage, every, pattern=AFTERWARDS, in_use=every)

    def _has(self, looked: Looked, address: IPAddress) -> bool:
        return bool(self._macs(looked, address) & self._own)

    @staticmethod
    def _macs(looked: Looked, address: IPAddress) -> frozenset[str]:
        answer = looked.answers.get(address)
        return frozenset(h.mac for h in answer.holders) if answer is not None else frozenset()

    def _connect(self, address: IPAddress) -> str:
        if self._port is None:
            return ""
        return self.neighbour.vantage.connect(address, self._port, None, _TO_CONNECT)

    def _check(
        self, code: str, required: bool, target: str, expected: str, observed: str, why: str | None, seconds: float
    ) -> VerifyCheck:
        said = (code, required, self.host, self.interface, self.neighbour.vantage.name, expected, observed)
        return VerifyCheck(*said, PASS if why is None else FAIL, why, seconds, target)


_TWO = "another machine answers there"


def seen_by(neighbours: Mapping[str, NeighbourChecks], wanted: Iterable[InterfaceConfig]) -> tuple[VerifyCheck, ...]:
    """What the ``neighbours``, one an interface, see of what is in force."""
    return tuple(
        check
        for config in wanted
        if config.interface in neighbours
        for check in neighbours[config.interface].made(config)
    )


def addresses_today(survey: HostSurvey, interface: str) -> tuple[IPAddress, ...]:
    """The addresses by which others reach an interface today."""
    found = survey.interface(interface)
    return tuple(a.address.ip for a in found.addresses if a.origin != "link-local") if found is not None else ()
