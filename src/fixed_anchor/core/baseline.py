"""What was in force and answering before a change, and what of it excuses a check that fails afterwards.

The same check means the same kind, target and place. What worked before must work afterwards; what did not is said,
and is no fault of the change; what is new works or fails.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import msgspec

from fixed_anchor.core.config import Bare, InterfaceConfig
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.core.verification import FAIL, PASS, SKIPPED, VerifyCheck

#: Checks on what the network gave: where it gave nothing before, nobody need wait for it afterwards.
_GIVEN = frozenset({"address-leased", "default-route", "resolvers-in-force"})
#: Checks on a gateway or resolver: what was so before counts only where the host used that very one.
_OF_GATEWAY = frozenset({"gateway-answers-arp", "gateway-answers-nd", "gateway-is-one", "gateway-forwards"})
_OF_RESOLVER = frozenset({"resolver-answers"})
_OF_TARGET = frozenset({"reachable"})


class FamilyBefore(msgspec.Struct, frozen=True):
    """One IP version of an interface: how its files configure it, and what was in force.

    ``method`` is that of :class:`~fixed_anchor.core.config.InterfaceConfig`, empty where no file declares the
    interface. ``fixed`` are its fixed addresses with their prefix lengths, ``given`` the origins of the others
    (``dhcp``, ``slaac``), ``gateways`` the next hops of its default routes.
    """

    method: str = ""
    fixed: tuple[str, ...] = ()
    given: tuple[str, ...] = ()
    gateways: tuple[str, ...] = ()


class InterfaceBefore(msgspec.Struct, frozen=True):
    """One interface before the change. ``reachable`` is what its users need, by the plan of that change.

    ``carrier_changes`` is how often its carrier had changed by then, where the kernel counts it; ``category`` that of
    its network, where there is such a thing. ``mtu`` is that in force, in bytes. ``bare`` is how it was where no file
    declared it. ``leased_resolvers`` are those that its lease gave, in force or not: of two links the lease client that
    came last may have written resolv.conf.
    """

    interface: str
    ipv4: FamilyBefore = FamilyBefore()
    ipv6: FamilyBefore = FamilyBefore()
    resolvers: tuple[str, ...] = ()
    reachable: tuple[str, ...] = ()
    carrier_changes: int | None = None
    category: str = ""
    mtu: int | None = None
    bare: Bare | None = None
    leased_resolvers: tuple[str, ...] = ()

    def family(self, version: int) -> FamilyBefore:
        """What there was of IP ``version`` (4 or 6)."""
        return self.ipv4 if version == 4 else self.ipv6

    @property
    def is_usable(self) -> bool:
        """Whether it had an address that others can answer; a link-local one is none."""
        return any(f.fixed or f.given for f in (self.ipv4, self.ipv6))


class Baseline(msgspec.Struct, frozen=True):
    """What was before a change: by interface, and each network check, made up to three times until it passed.

    ``answers`` says how each resolver answered each question (``RESOLVER NAME KIND``), in the words of
    :mod:`fixed_anchor.core.resolving`. ``peers`` are ``ADDRESS PORT`` of those that the host talked to, over
    routers, nearest first.
    """

    interfaces: tuple[InterfaceBefore, ...] = ()
    checks: tuple[VerifyCheck, ...] = ()
    answers: dict[str, str] = {}
    peers: tuple[str, ...] = ()
    at: str = ""

    def interface(self, name: str) -> InterfaceBefore | None:
        """What there was of the interface ``name``, or ``None``."""
        return next((i for i in self.interfaces if i.interface == name), None)

    def check(self, code: str, interface: str, target: str) -> VerifyCheck | None:
        """The same check as it was before, or ``None``."""
        found = (c for c in self.checks if (c.code, c.interface, c.target) == (code, interface, target))
        return next(found, None)


def interface_before(
    found: SurveyedInterface, reachable: tuple[str, ...] = (), carrier: int | None = None
) -> InterfaceBefore:
    """What a survey says of an interface."""
    families = []
    for version in (4, 6):
        held = [a for a in found.addresses if a.address.version == version and a.origin != "link-local"]
        families.append(
            FamilyBefore(
                method=found.declared.method(version) if found.declared is not None else "",
                fixed=tuple(str(a.address) for a in held if a.origin == "fixed"),
                given=tuple(dict.fromkeys(a.origin for a in held if a.origin != "fixed")),
                gateways=tuple(str(r.next_hop) for r in found.default_routes(version) if r.next_hop is not None),
            )
        )
    resolvers = tuple(map(str, found.resolvers))
    return InterfaceBefore(
        found.name,
        families[0],
        families[1],
        resolvers,
        reachable,
        carrier,
        found.category,
        found.link.mtu,
        found.link.bare,
        tuple(map(str, found.lease.resolvers)) if found.lease is not None else (),
    )


def baseline_of_facts(text: str) -> Baseline:
    """What the engine observed: ``address A/N leased on IF``, ``address A/N fixed on IF``, ``gateway A on IF``.

    It says nothing of how the interfaces were configured: what was not there was perhaps asked for.
    """
    found: dict[str, dict[int, dict[str, list[str]]]] = {}
    for line in text.splitlines():
        words = line.split()
        if len(words) < 4 or words[0] not in ("address", "gateway"):
            continue
        families = found.setdefault(words[-1], {4: {}, 6: {}})
        kind = "gateways" if words[0] == "gateway" else "given" if words[2] == "leased" else "fixed"
        families[6 if ":" in words[1] else 4].setdefault(kind, []).append("dhcp" if kind == "given" else words[1])
    befores = []
    for name, families in found.items():
        made = [FamilyBefore("dhcp", **{k: tuple(v) for k, v in families[version].items()}) for version in (4, 6)]
        befores.append(InterfaceBefore(name, made[0], made[1], resolvers=("not recorded",)))
    return Baseline(tuple(befores))


class Judge(msgspec.Struct, frozen=True):
    """What checks are judged against: what was right before this change, and where it undoes others, before those.

    ``undone`` is the baseline of the first change that is undone: what was not there then is not required.
    ``let_pass`` are checks of which somebody accepted beforehand that they cannot be made.
    """

    before: Baseline | None = None
    undone: Baseline | None = None
    let_pass: frozenset[str] = frozenset()

    def excuse(self, check: VerifyCheck) -> str | None:
        """Why a check that did not pass is no fault of the change; ``None`` where it is one."""
        if check.outcome == PASS or not check.required:
            return None
        if check.outcome == SKIPPED and check.code in self.let_pass:
            return "that was accepted"
        if self.undone is not None and _was_so(self.undone, check, is_return=True):
            return "it was so before the change that this undoes"
        if self.before is not None and _was_so(self.before, check, is_return=False):
            return "it was so before the change"
        return None

    def judged(self, checks: Iterable[VerifyCheck]) -> tuple[VerifyCheck, ...]:
        """The checks, with those excused that failed before, too."""
        return tuple(self._judged(check) for check in checks)

    def _judged(self, check: VerifyCheck) -> VerifyCheck:
        excuse = self.excuse(check)
        if excuse is None:
            return check
        why = f"{check.why}; {excuse}" if check.why else excuse
        return msgspec.structs.replace(check, as_before=True, why=why)

    @property
    def interfaces(self) -> Iterator[InterfaceBefore]:
        """What interfaces had to keep: before the changes that are undone, else before this one."""
        known = self.undone or self.before
        return iter(known.interfaces if known is not None else ())

    @property
    def peers(self) -> tuple[str, ...]:
        """Whom the host talked to over routers."""
        every = [*(self.before.peers if self.before else ()), *(self.undone.peers if self.undone else ())]
        return tuple(dict.fromkeys(every))

    @property
    def answers(self) -> dict[str, str]:
        """How resolvers answered before."""
        return (self.undone.answers if self.undone else {}) | (self.before.answers if self.before else {})


def _was_so(baseline: Baseline, check: VerifyCheck, is_return: bool) -> bool:
    """Whether the same check failed before, each time, where that counts."""
    then = baseline.interface(check.interface)
    if then is None or (not then.is_usable and not is_return):
        # Without a usable address nothing could answer: that is no baseline.
        return False
    if check.code in _GIVEN:
        return _was_not_given(then, check)
    same = baseline.check(check.code, check.interface, check.target)
    if same is None or same.outcome == PASS or same.seen_from != check.seen_from:
        return False
    if check.code in _OF_GATEWAY:
        return check.target in (*then.ipv4.gateways, *then.ipv6.gateways)
    if check.code in _OF_RESOLVER:
        return check.target in (*then.resolvers, *then.leased_resolvers)
    return check.code in _OF_TARGET


def _was_not_given(then: InterfaceBefore, check: VerifyCheck) -> bool:
    """Whether the same method brought nothing before, either. A check of a fixed configuration has no such target."""
    family = {"leased IPv4": then.ipv4, "leased IPv6": then.ipv6}.get(check.target)
    if family is None or family.method != "dhcp":
        return False
    if check.code == "address-leased":
        return "dhcp" not in family.given
    if check.code == "default-route":
        return not family.gateways
    return not then.resolvers


def kept_checks(
    host: str, wanted: InterfaceConfig, found: SurveyedInterface, seen_from: str, before: InterfaceBefore
) -> Iterator[VerifyCheck]:
    """Whether an IP version that the change leaves to itself, or to routers, has what it had before.

    Stacks drop both versions of an interface for some seconds, although a change is about one.
    """
    now = interface_before(found)
    for version in (4, 6):
        then, has = before.family(version), now.family(version)
        if wanted.method(version) not in ("untouched", "ra") or not (then.fixed or then.given or then.gateways):
            continue
        missing = [address for address in then.fixed if address not in has.fixed]
        missing += [_GIVEN_BY[origin] for origin in then.given if origin not in has.given]
        missing += [f"default via {hop}" for hop in then.gateways if hop not in has.gateways]
        shown = [*then.fixed, *(_GIVEN_BY[o] for o in then.given), *(f"default via {hop}" for hop in then.gateways)]
        yield VerifyCheck(
            "family-kept",
            True,
            host,
            wanted.interface,
            seen_from,
            f"IPv{version} as before: {', '.join(shown)}",
            f"not there: {', '.join(missing)}" if missing else f"IPv{version} as before: {', '.join(shown)}",
            FAIL if missing else PASS,
            f"the change is not about IPv{version}, and this has gone" if missing else None,
            target=f"IPv{version}",
        )
    if before.category:
        # One that lets in more is no harm to who wants in.
        same = _openness(found.category) >= _openness(before.category)
        is_other = same and found.category != before.category
        yield VerifyCheck(
            "category-kept",
            True,
            host,
            wanted.interface,
            seen_from,
            f"the network profile is {before.category}, as before, or lets in more",
            f"it is {found.category or 'not identified'}" + (f", and was {before.category}" if is_other else ""),
            PASS if same else FAIL,
            None if same else "its firewall may let nobody in any more",
        )


def _openness(category: str) -> int:
    """How much a firewall of Windows lets in by the category of its network; nothing where it is not known."""
    known = ("", "Public", "Private", "DomainAuthenticated")
    return known.index(category) if category in known else 0


#: What an address that nobody fixed comes from, in words.
_GIVEN_BY = {"dhcp": "an address by DHCP", "slaac": "an address of a router's prefix"}
