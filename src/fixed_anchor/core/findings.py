"""Findings, evidence, and the verdict they add up to."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cached_property

import msgspec

from fixed_anchor.core.errors import InputError, Refused, Undetermined

CLEAR = "clear"
BLOCKED = "blocked"
UNDETERMINED = "undetermined"
BLOCKER = "blocker"
WARNING = "warning"
NOTE = "note"


class FindingKind(msgspec.Struct, frozen=True):
    """One kind of finding.

    ``undetermined`` marks those that say that something could not be looked at.
    ``why`` and ``do`` are for a reader who meets the code for the first time.
    """

    code: str
    family: str
    severity: str
    title: str
    why: str
    do: str
    undetermined: bool = False

    @property
    def shown_severity(self) -> str:
        """``undetermined`` where something could not be looked at, else the severity."""
        return "undetermined" if self.undetermined else self.severity


class Finding(msgspec.Struct, frozen=True, gc=False):
    """One fact that speaks against a plan, or a remark on it.

    ``seen_in`` says where it was seen (a file with its line, or a vantage);
    ``remedy`` is concrete. ``host``, ``interface`` and ``address`` are ``None``
    where they do not apply. One of no host concerns every host of its ``segment``,
    or of the plan where it names none.
    ``undetermined`` is one which says that something could not be looked at.
    """

    code: str
    severity: str
    host: str | None
    interface: str | None
    address: str | None
    message: str
    seen_in: str
    remedy: str
    segment: str | None = None
    undetermined: bool = False

    @property
    def shown_severity(self) -> str:
        """``undetermined`` where something could not be looked at, else the severity."""
        return "undetermined" if self.undetermined else self.severity

    @property
    def stops(self) -> bool:
        """Whether a cutover refuses while this stands."""
        return self.severity == BLOCKER or self.undetermined


def finding(
    kind: FindingKind,
    message: str,
    *,
    seen_in: str,
    remedy: str | None = None,
    host: str | None = None,
    interface: str | None = None,
    address: object | None = None,
    severity: str | None = None,
    segment: str | None = None,
) -> Finding:
    """A finding of a kind; its severity and its remedy are those of the kind, unless others are given."""
    return Finding(
        code=kind.code,
        severity=severity or kind.severity,
        host=host,
        interface=interface,
        address=None if address is None else str(address),
        message=message,
        seen_in=seen_in,
        remedy=remedy or kind.do,
        segment=segment,
        undetermined=kind.undetermined,
    )


class Consulted(msgspec.Struct, frozen=True, gc=False):
    """A source or vantage that was asked, what it said, and where or when (``at``).

    A time is UTC, as 2026-11-28T19:23:09Z.
    """

    source: str
    said: str
    at: str


class NotConsulted(msgspec.Struct, frozen=True, gc=False):
    """A source or vantage that could not be asked, and why."""

    source: str
    why: str


class Evidence(msgspec.Struct, frozen=True, gc=False):
    """Everything that was consulted for one address, and what could not be."""

    address: str
    host: str | None
    interface: str | None
    consulted: tuple[Consulted, ...] = ()
    not_consulted: tuple[NotConsulted, ...] = ()


class Acceptance(msgspec.Struct, frozen=True):
    """A finding let pass on purpose: its code, optionally one address only, and the reason."""

    code: str
    address: str | None
    because: str

    def covers(self, found: Finding) -> bool:
        """Whether this overrides ``found``: by its code, and its address where one is named."""
        return found.code == self.code and (self.address is None or self.address == found.address)


class Judgement:
    """The outcome of a check: findings, evidence, and their verdict.

    ``segments`` are those of every host that was checked, ``vantages`` the places from which each segment was looked
    at. ``evidence`` is gathered when it is first
    asked for: of a large plan it is much, and not every view shows it.
    """

    def __init__(
        self,
        findings: tuple[Finding, ...],
        evidence: Callable[[], Iterable[Evidence]] = tuple,
        segments: Mapping[str, frozenset[str]] | None = None,
        vantages: Mapping[str, Sequence[str]] | None = None,
    ) -> None:
        self.findings = findings
        self.segments = segments or {}
        self.vantages = vantages or {}
        self._gather = evidence
        self._of_segments: dict[frozenset[str], list[Finding]] = {}
        self._verdicts: dict[str, str] = {}

    @cached_property
    def evidence(self) -> tuple[Evidence, ...]:
        """The evidence for every address, made when it is asked for."""
        return tuple(self._gather())

    def with_more(self, findings: Iterable[Finding]) -> Judgement:
        """The same with further findings."""
        return Judgement(sorted_findings((*self.findings, *findings)), self._gather, self.segments, self.vantages)

    @property
    def verdict(self) -> str:
        """``blocked``, ``undetermined`` or ``clear``."""
        return verdict_of(self.findings)

    @cached_property
    def by_host(self) -> dict[str | None, list[Finding]]:
        """The findings of every host, and below ``None`` those of no host."""
        found: dict[str | None, list[Finding]] = {}
        for one in self.findings:
            found.setdefault(one.host, []).append(one)
        return found

    @property
    def elsewhere(self) -> list[Finding]:
        """The findings of no host that was checked: of none at all, or of another one."""
        return [f for f in self.findings if f.host not in self.segments]

    @cached_property
    def _of_all(self) -> list[Finding]:
        return [f for f in self.by_host.get(None, ()) if f.stops]

    def _general(self, host: str) -> list[Finding]:
        """What stops every host of a segment, or of the plan, and so this one."""
        mine = self.segments.get(host, frozenset())
        if mine not in self._of_segments:
            self._of_segments[mine] = [f for f in self._of_all if f.segment is None or f.segment in mine]
        return self._of_segments[mine]

    def standing(self, host: str, accepted: Sequence[Acceptance]) -> list[Finding]:
        """What stops the change of one host of several, and is accepted by none of ``accepted``."""
        stops = [f for f in (*self.by_host.get(host, ()), *self._general(host)) if f.stops]
        return [f for f in stops if not any(a.covers(f) for a in accepted)]

    def unless_accepted(self, accepted: Sequence[Acceptance]) -> list[Acceptance]:
        """The acceptances of ``accepted`` by which a change may begin, each once.

        Raises :class:`Refused` or :class:`Undetermined` where a finding that stops a change is accepted by none of
        them, and :class:`InputError` where one of them accepts what was not found.
        """
        used: list[Acceptance] = []
        standing = []
        for found in self.findings:
            covering = [a for a in accepted if a.covers(found)] if found.stops else []
            used += covering
            standing += [found] if found.stops and not covering else []
        if standing:
            blockers = [f for f in standing if not f.undetermined]
            codes = ", ".join(dict.fromkeys(f.code for f in blockers or standing))
            remedy = "see the findings above; nothing was changed"
            if blockers:
                raise Refused(f"the change is refused: {codes}", remedy=remedy)
            raise Undetermined(f"the change is refused because this is undetermined: {codes}", remedy=remedy)
        unused = [a for a in accepted if a not in used]
        if unused:
            raise InputError(
                f"--accept {unused[0].code}: the check did not find this",
                remedy="accept only what the check names",
            )
        return list(dict.fromkeys(used))

    def verdict_of_host(self, host: str) -> str:
        """What the check of ``host`` alone amounts to."""
        if host not in self._verdicts:
            self._verdicts[host] = verdict_of([*self.by_host.get(host, ()), *self._general(host)])
        return self._verdicts[host]

    def verdict_of_address(self, host: str, address: str) -> str:
        """What is to be said of one address: what speaks against it, and what was not looked at for every address."""
        if host not in self.by_host:
            return self.verdict_of_host(host)
        about = [f for f in self.by_host.get(host, ()) if f.address == address or (f.undetermined and not f.address)]
        return verdict_of([*about, *self._general(host)])


def verdict_of(findings: Iterable[Finding]) -> str:
    """``blocked`` if any blocker stands, else ``undetermined`` if something was not seen, else ``clear``."""
    found = list(findings)
    if any(f.severity == BLOCKER for f in found):
        return BLOCKED
    if any(f.undetermined for f in found):
        return UNDETERMINED
    return CLEAR


def without_lesser(findings: Iterable[Finding]) -> list[Finding]:
    """Each once; where the same is said as a blocker and as less, the blocker alone."""
    found = list(dict.fromkeys(findings))
    worst = {(f.code, f.host, f.interface, f.message) for f in found if f.severity == BLOCKER}
    return [f for f in found if f.severity == BLOCKER or (f.code, f.host, f.interface, f.message) not in worst]


_ORDER = {"blocker": 0, "undetermined": 1, "warning": 2, "note": 3}


def sorted_findings(findings: Iterable[Finding]) -> tuple[Finding, ...]:
    """Blockers first, then what is undetermined, warnings and notes; the given order within each."""
    return tuple(sorted(findings, key=lambda f: _ORDER[f.shown_severity]))
