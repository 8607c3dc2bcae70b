"""What is asked over the network for one interface: the same before a change and after it."""

from __future__ import annotations

import time
from collections.abc import Iterable

import msgspec

from fixed_anchor.core.addresses import IPAddress, IPNetwork, parse_address
from fixed_anchor.core.baseline import Baseline, Judge
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.survey import HostSurvey, SurveyedInterface
from fixed_anchor.core.verification import FAIL, PASS, SKIPPED, VerifyCheck
from fixed_anchor.vantages.protocol import Vantage


class Asking(msgspec.Struct, frozen=True):
    """For whom is asked, from where, and for what.

    ``sources`` are the addresses, one of a family, that questions come from. ``on_link`` are the networks to which
    no router is needed. ``gateways`` are in the order in which the kernel prefers them. ``own`` are the host's
    addresses and ``names`` its names. ``tries`` is how often a resolver is asked each question; ``is_before`` says
    that it is asked before a change, while the resolvers of ``in_force`` are those that programs ask.
    """

    host: str
    interface: str
    vantage: Vantage
    sources: dict[int, IPAddress]
    on_link: tuple[IPNetwork, ...]
    gateways: tuple[IPAddress, ...]
    resolvers: tuple[IPAddress, ...]
    reachable: tuple[str, ...]
    search: tuple[str, ...]
    own: tuple[IPAddress, ...]
    names: tuple[str, ...]
    judge: Judge
    tries: int = 2
    is_before: bool = False
    in_force: tuple[IPAddress, ...] = ()

    @property
    def looks_up_at(self) -> tuple[IPAddress, ...]:
        """The resolvers that programs of the host go by now: before a change those of today, not those to come."""
        return self.in_force if self.is_before else self.resolvers

    def check(
        self,
        code: str,
        target: str,
        expected: str,
        observed: str,
        why: str | None,
        begun: float | None = None,
        required: bool = True,
    ) -> VerifyCheck:
        """A check that passed, or failed for the reason ``why``; ``begun`` is when by the monotonic clock."""
        return VerifyCheck(
            code,
            required,
            self.host,
            self.interface,
            self.vantage.name,
            expected,
            observed,
            PASS if why is None else FAIL,
            why,
            round(time.monotonic() - begun, 3) if begun is not None else 0.0,
            target,
        )

    def not_made(self, code: str, target: str, expected: str, why: str, required: bool = True) -> VerifyCheck:
        """A check that could not be made, for the reason ``why``."""
        seen = "not looked at" if required else "not asked"
        said = (code, required, self.host, self.interface, self.vantage.name, expected, seen, SKIPPED, why)
        return VerifyCheck(*said, target=target)


def asking_for(
    host: str,
    wanted: InterfaceConfig,
    found: SurveyedInterface,
    survey: HostSurvey,
    vantage: Vantage,
    reachable: tuple[str, ...] = (),
    judge: Judge = Judge(),
    is_own: bool = True,
) -> Asking:
    """What is to be asked once ``wanted`` is in force. ``is_own`` says that the vantage has the host's addresses."""
    gateways = [r.next_hop for v in (4, 6) for r in sorted(wanted.default_routes(v), key=lambda r: r.metric or 0)]
    if wanted.ipv4 == "dhcp":
        gateways += [r.next_hop for r in found.default_routes(4)]
    if wanted.ipv6 in ("dhcp", "ra"):
        gateways += [r.next_hop for r in found.default_routes(6)]
    return Asking(
        host,
        found.name,
        vantage,
        _sources(found, [a.ip for a in wanted.addresses]) if is_own else {},
        on_link(survey),
        tuple(dict.fromkeys(g for g in gateways if g is not None)),
        wanted.resolvers or (found.resolvers if "dhcp" in (wanted.ipv4, wanted.ipv6) else ()),
        reachable,
        wanted.search or found.search,
        tuple(a.ip for a in wanted.addresses) or tuple(_usable(found)),
        names_of(survey.hostname or host, wanted.search or found.search),
        judge,
    )


def asking_before(
    host: str,
    wanted: InterfaceConfig | None,
    found: SurveyedInterface,
    survey: HostSurvey,
    vantage: Vantage,
    reachable: tuple[str, ...],
    known: Baseline,
) -> Asking:
    """The same before a change that brings ``wanted`` about: what is in force today, and what is to come.

    ``known`` has those that the host talks to.
    """
    now = [r.next_hop for v in (4, 6) for r in sorted(found.default_routes(v), key=lambda r: r.metric or 0)]
    coming = [r.next_hop for r in wanted.default_routes()] if wanted is not None else []
    resolvers = (*found.resolvers, *((wanted.resolvers or ()) if wanted is not None else ()))
    search = tuple(dict.fromkeys((*found.search, *((wanted.search or ()) if wanted is not None else ()))))
    own = [*_usable(found), *(a.ip for a in (wanted.addresses if wanted is not None else ()))]
    return Asking(
        host,
        found.name,
        vantage,
        _sources(found, []),
        on_link(survey),
        tuple(dict.fromkeys(g for g in (*now, *coming) if g is not None)),
        tuple(dict.fromkeys(resolvers)),
        reachable,
        search,
        tuple(dict.fromkeys(own)),
        names_of(survey.hostname or host, search),
        Judge(known),
        tries=1,
        is_before=True,
        in_force=found.resolvers,
    )


def names_of(hostname: str, search: tuple[str, ...]) -> tuple[str, ...]:
    """The full name of a host: as it is, or with the first search domain behind it."""
    domains = [d for d in search if d.strip("~.")]
    name = hostname.rstrip(".")
    if "." in name or not domains:
        return (name,)
    return (f"{name}.{domains[0].lstrip('~')}",)


def on_link(survey: HostSurvey) -> tuple[IPNetwork, ...]:
    """The networks that some interface of a host has an address in."""
    return tuple(dict.fromkeys(a.address.network for i in survey.interfaces for a in i.addresses))


def _usable(found: SurveyedInterface) -> Iterable[IPAddress]:
    return (a.address.ip for a in found.addresses if a.origin != "link-local")


def _sources(found: SurveyedInterface, first: list[IPAddress]) -> dict[int, IPAddress]:
    held = list(_usable(found))
    ordered = [a for a in first if a in held] + held
    return {version: next(a for a in ordered if a.version == version) for version in {a.version for a in held}}


def peer(text: str) -> tuple[IPAddress, int]:
    """``ADDRESS PORT`` of a baseline."""
    address, _, port = text.partition(" ")
    return parse_address(address), int(port)
