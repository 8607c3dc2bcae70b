"""One question: is this address free? Answered by looking at the wire, with what was looked at."""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.errors import InputError, NoAccess
from fixed_anchor.core.findings import Consulted, NotConsulted
from fixed_anchor.core.survey import HostSurvey, SurveyedInterface
from fixed_anchor.core.times import utc
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe.stocktaking import look_at_kernel
from fixed_anchor.vantages import across_router
from fixed_anchor.vantages.nowhere import Nowhere
from fixed_anchor.vantages.protocol import Vantage
from fixed_anchor.workflow.network import names
from fixed_anchor.workflow.network.look import look
from fixed_anchor.workflow.targets import HostTarget

FREE, TAKEN, UNDETERMINED = "free", "taken", "undetermined"


class SeenHolder(msgspec.Struct, frozen=True):
    """A machine that holds the address: its MAC, ``None`` beyond a router, and how it was seen."""

    mac: str | None
    seen_by: str


class ProbedAddress(msgspec.Struct, frozen=True):
    """The answer for one address: ``free``, ``taken`` or ``undetermined``, and what it rests on."""

    address: IPAddress
    interface: str | None
    verdict: str
    holders: tuple[SeenHolder, ...]
    consulted: tuple[Consulted, ...]
    not_consulted: tuple[NotConsulted, ...]


class ProbeResult(msgspec.Struct, frozen=True):
    """The answers for all addresses that were asked for, in order."""

    addresses: tuple[ProbedAddress, ...]

    @property
    def verdict(self) -> str:
        """``taken`` if any is, else ``undetermined`` if any is, else ``free``."""
        verdicts = {a.verdict for a in self.addresses}
        return next((v for v in (TAKEN, UNDETERMINED) if v in verdicts), FREE)


def probe(target: HostTarget, addresses: Iterable[IPAddress], interface: str | None = None) -> ProbeResult:
    """Asks for ``addresses`` from ``target``; each on the interface of its subnet, or on ``interface``.

    Raises :class:`InputError` for an interface that is not there.
    """
    machine = target.machine
    survey = look_at_kernel(machine)
    wanted = list(dict.fromkeys(addresses))
    by_interface: dict[str, list[IPAddress]] = {}
    beyond: list[IPAddress] = []
    for address in wanted:
        found = _interface_for(survey, address, interface)
        if found is None:
            beyond.append(address)
        else:
            by_interface.setdefault(found.name, []).append(address)
    answers: dict[IPAddress, ProbedAddress] = {}
    for name, targets in by_interface.items():
        on = survey.interface(name)
        assert on is not None
        for answer in _on_segment(machine, survey, on, targets):
            answers[answer.address] = answer
    for address in beyond:
        answers[address] = _across_router(machine, survey, address)
    return ProbeResult(tuple(answers[a] for a in wanted))


def _interface_for(survey: HostSurvey, address: IPAddress, name: str | None) -> SurveyedInterface | None:
    if name is not None:
        found = survey.interface(name)
        if found is None:
            raise InputError(survey.missing(name))
        return found
    return next((i for i in survey.interfaces if _on_link(i, address)), None)


def _on_link(interface: SurveyedInterface, address: IPAddress) -> bool:
    return any(
        a.address.version == address.version and address in a.address.network and a.origin != "link-local"
        for a in interface.addresses
    )


def _on_segment(
    machine: Machine, survey: HostSurvey, interface: SurveyedInterface, targets: list[IPAddress]
) -> list[ProbedAddress]:
    vantage = machine.vantage(interface)
    foreign = [t for t in targets if t not in survey.own_addresses()]
    why: dict[IPAddress, str] = {}
    seen = {}
    try:
        looked = look(vantage, foreign)
        seen, why = looked.answers, looked.why_not
    except NoAccess as error:
        why = dict.fromkeys(foreign, f"{error.what}; {error.remedy}" if error.remedy else error.what)
    answers = []
    for target in targets:
        if target in survey.own_addresses():
            answers.append(_own(survey, target))
            continue
        consulted: list[Consulted] = []
        missing: list[NotConsulted] = []
        holders: tuple[SeenHolder, ...] = ()
        if target in seen:
            answer = seen[target]
            consulted.append(answer.consulted(survey.own_macs()))
            holders = tuple(SeenHolder(h.mac, h.seen_by) for h in answer.foreign(survey.own_macs()))
        else:
            missing.append(NotConsulted("wire", why.get(target, "not asked")))
        _names(consulted, missing, vantage, interface.resolvers, target)
        missing.append(NotConsulted("DHCP pools, leases and lists", "`fixed-anchor check` asks them, with a plan"))
        verdict = TAKEN if holders else UNDETERMINED if target not in seen else FREE
        if verdict == FREE and seen[target].probers:
            verdict = UNDETERMINED
        if verdict == FREE and not _on_link(interface, target):
            # Asked where the operator said; whether that is its segment, nobody knows here.
            verdict = UNDETERMINED
            missing.append(NotConsulted("its segment", f"{target} lies in no subnet of {interface.name}"))
        answers.append(ProbedAddress(target, interface.name, verdict, holders, tuple(consulted), tuple(missing)))
    return answers


def _own(survey: HostSurvey, target: IPAddress) -> ProbedAddress:
    on = next(i for i in survey.interfaces if any(a.address.ip == target for a in i.addresses))
    said = Consulted(f"kernel of {survey.host}", f"this machine holds it on {on.name}", utc())
    return ProbedAddress(target, on.name, TAKEN, (SeenHolder(on.link.mac or "", "this machine itself"),), (said,), ())


def _names(
    consulted: list[Consulted],
    missing: list[NotConsulted],
    vantage: Vantage,
    resolvers: tuple[IPAddress, ...],
    target: IPAddress,
) -> None:
    """What the resolvers in force call the address: a remark, no proof that anybody is there."""
    for resolver in resolvers if vantage.why_not is None else ():
        found = names.records(vantage, resolver, [target], [])
        if found is not None:
            called = ", ".join(dict.fromkeys(r.name for r in found.records)) or "no name"
            consulted.append(Consulted(f"resolver {resolver}", called, utc()))
            return
    missing.append(NotConsulted("DNS", "no resolver answered" if resolvers else "no resolver is in force"))


def _across_router(machine: Machine, survey: HostSurvey, address: IPAddress) -> ProbedAddress:
    """An address that is on no segment of this machine: only proof of a holder is possible, none of its absence."""
    missing = [NotConsulted("wire", f"no interface of {survey.host} is on the segment of {address}")]
    holders: tuple[SeenHolder, ...] = ()
    at = utc()
    first = survey.interfaces[0] if survey.interfaces else None
    vantage = machine.vantage(first) if first is not None else Nowhere(f"{survey.host} has no interface")
    answered, not_asked = vantage.across_router(address)
    consulted = [Consulted(what, said, at) for what, said in answered]
    missing += [NotConsulted(what, why) for what, why in not_asked]
    if across_router.anybody(answered):
        holders = (SeenHolder(None, next(w for w, s in answered if across_router.anybody([(w, s)]))),)
    resolvers = tuple(dict.fromkeys(r for i in survey.interfaces for r in i.resolvers))
    _names(consulted, missing, vantage, resolvers, address)
    verdict = TAKEN if holders else UNDETERMINED
    return ProbedAddress(address, None, verdict, holders, tuple(consulted), tuple(missing))
