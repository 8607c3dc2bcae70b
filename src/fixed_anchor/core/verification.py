"""Proving that what is wanted is in force: the checks on facts that somebody else gathered."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import msgspec

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.aside import Unreadable
from fixed_anchor.core.config import InterfaceConfig, says
from fixed_anchor.core.survey import FoundAddress, SurveyedInterface

PASS, FAIL, SKIPPED = "pass", "fail", "skipped"

AS_PLANNED, NOT_AS_PLANNED, UNDETERMINED = "as planned", "not as planned", "undetermined"


class VerifyCheck(msgspec.Struct, frozen=True):
    """One check and its outcome. ``seen_from`` names the machine or vantage; ``seconds`` how long it took.

    ``why`` says why a check failed or was skipped, ``None`` where it passed. ``target`` is what was asked or looked
    for, in a form that is the same before and after a change. ``as_before`` marks a failure that was there before.
    """

    code: str
    required: bool
    host: str
    interface: str
    seen_from: str
    expected: str
    observed: str
    outcome: str
    why: str | None = None
    seconds: float = 0.0
    target: str = ""
    as_before: bool = False

    @property
    def counts(self) -> bool:
        """Whether the verdict depends on it."""
        return self.required and not self.as_before


def skipped_check(code: str, host: str, interface: str, why: str, expected: str = "looked at") -> VerifyCheck:
    """A required check that could not be made."""
    return VerifyCheck(code, True, host, interface, "here", expected, "not looked at", SKIPPED, why, target=expected)


def verdict_of(checks: Iterable[VerifyCheck]) -> str:
    """``not as planned`` if a required check failed, ``undetermined`` if one was skipped, else ``as planned``."""
    required = [c for c in checks if c.counts]
    if any(c.outcome == FAIL for c in required):
        return NOT_AS_PLANNED
    if any(c.outcome == SKIPPED for c in required):
        return UNDETERMINED
    return AS_PLANNED


class VerifyResult(msgspec.Struct, frozen=True):
    """All checks that were made, and what they amount to."""

    checks: tuple[VerifyCheck, ...]

    @property
    def verdict(self) -> str:
        """``as planned``, ``not as planned`` or ``undetermined``."""
        return verdict_of(self.checks)

    @property
    def against(self) -> str:
        """What is not as planned, or where nothing is, what could not be looked at; the checks' codes and words."""
        for outcome in (FAIL, SKIPPED):
            found = [_in_words(c) for c in self.checks if c.counts and c.outcome == outcome]
            if found:
                return "; ".join(found[:3]) + (f"; and {len(found) - 3} more" if len(found) > 3 else "")
        return ""

    @property
    def unheard(self) -> tuple[str, ...]:
        """The checks by which nobody on the segment answers the host, where all is as planned on the host itself.

        Empty where anything else has failed, or anybody on the segment has answered.
        """
        failed = [c for c in self.checks if c.counts and c.outcome == FAIL]
        answered = any(c.outcome == PASS and c.code in _ON_THE_SEGMENT for c in self.checks)
        if answered or not all(c.code in _OVER_THE_SEGMENT for c in failed):
            return ()
        return tuple(dict.fromkeys(c.code for c in failed if c.code in _ON_THE_SEGMENT))

    def lines(self) -> Iterator[str]:
        """Each check in a line, for a log."""
        for check in self.checks:
            yield f"{check.outcome}: {_in_words(check)}"


#: Checks that pass where anybody on the segment answers the new address, or finds it.
_ON_THE_SEGMENT = frozenset({"gateway-answers-arp", "gateway-answers-nd", "neighbour-finds", "neighbour-ssh"})
#: Checks that fail where nothing that the host sends from its new address is answered.
_OVER_THE_SEGMENT = _ON_THE_SEGMENT | {"gateway-forwards", "resolver-answers", "reachable"}


def _in_words(check: VerifyCheck) -> str:
    what = check.observed if check.expected in check.observed else f"{check.expected}: {check.observed}"
    if check.outcome != PASS:
        what += f" ({check.why})"
    where = f" on {check.interface}" if check.interface else ""
    return f"{check.code}{where}: {what}"


class Beside(msgspec.Struct, frozen=True):
    """What other interfaces of the host bring into force, where that is one for all of them.

    ``default_routes`` are the IP versions for which a lease adds no second default route.
    """

    resolvers: frozenset[IPAddress] = frozenset()
    search: frozenset[str] = frozenset()
    default_routes: frozenset[int] = frozenset()


def state_checks(
    host: str, wanted: InterfaceConfig, found: SurveyedInterface, seen_from: str, beside: Beside = Beside()
) -> Iterator[VerifyCheck]:
    """What the kernel, the resolver and the files say, held against ``wanted``; ``beside`` is of other interfaces."""

    def outcome(code: str, expected: str, observed: str, good: bool, why: str, target: str = "") -> VerifyCheck:
        return VerifyCheck(
            code,
            True,
            host,
            wanted.interface,
            seen_from,
            expected,
            observed,
            PASS if good else FAIL,
            None if good else why,
            target=target,
        )

    # What routers and DHCPv6 give beside that is not the plan's, and goes on coming.
    files, files4 = (wanted if wanted.touches(version) else found.declared for version in (6, 4))
    heard = files is not None and files.hears_routers
    # Nor is what an IPv4 lease names, where the plan leaves that version alone.
    leased4 = not wanted.touches(4) and files4 is not None and files4.ipv4 == "dhcp" and files4.lease_resolvers
    kernel = {a.address: a for a in found.addresses}
    for version in (4, 6):
        method, given = wanted.method(version), f"leased IPv{version}"
        held = [a for a in found.addresses if a.address.version == version and a.origin != "link-local"]
        shown = ", ".join(f"{a.address} ({a.origin})" for a in held) or "none"
        if method == "fixed":
            for address in wanted.of_family(version):
                seen = kernel.get(address)
                yield outcome(
                    "address-present",
                    str(address),
                    str(address) if seen else shown,
                    seen is not None,
                    "the kernel does not hold it",
                )
                if seen is not None:
                    fixed = seen.seconds_left is None and seen.origin == "fixed"
                    observed = f"{address} fixed" if fixed else f"{seen.origin}, {seen.seconds_left} s left"
                    yield outcome(
                        "address-not-leased", f"{address} fixed", observed, fixed, "it still comes from a lease"
                    )
            yield outcome("no-leased-address", *_leftover(wanted, version, held))
        elif method == "dhcp":
            leased = [a for a in held if a.origin == "dhcp"]
            yield outcome(
                "address-leased", f"a leased IPv{version} address", shown, bool(leased), "no lease was obtained", given
            )
        elif method == "off":
            yield outcome("family-off", f"no IPv{version} address", shown, not held, "an address is left")
        if method == "fixed" or (method == "dhcp" and wanted.default_routes(version)):
            want = {(r.next_hop, r.metric) for r in wanted.default_routes(version)}
            have = {
                (r.next_hop, r.metric if any(m == r.metric for _, m in want) else None)
                for r in found.default_routes(version)
            }
            more = version == 6 and wanted.accepts_ra
            yield outcome(
                "default-route",
                ", ".join(str(r) for r in wanted.default_routes(version)) or "none",
                ", ".join(str(r) for r in found.default_routes(version)) or "none",
                want == have or (more and want <= have),
                "the default route is not the one wanted",
            )
        elif method == "dhcp":
            yield outcome(
                "default-route",
                "one from the lease",
                ", ".join(str(r) for r in found.default_routes(version)) or "none",
                bool(found.default_routes(version)) or not wanted.lease_routes or version in beside.default_routes,
                "the lease brought no default route",
                given,
            )
    if wanted.resolvers:
        yield outcome(
            "resolvers-in-force",
            ", ".join(map(str, wanted.resolvers)),
            ", ".join(map(str, found.resolvers)) or "none",
            tuple(
                r
                for r in found.resolvers
                if r in wanted.resolvers
                or not (r in beside.resolvers or (heard and r.version == 6) or (leased4 and r.version == 4))
            )
            == wanted.resolvers,
            "the resolver uses others",
        )
    elif wanted.ipv4 == "dhcp" and wanted.lease_resolvers:
        yield outcome(
            "resolvers-in-force",
            "those of the lease",
            ", ".join(map(str, found.resolvers)) or "none",
            bool(found.resolvers),
            "no resolver is in force",
            "leased IPv4",
        )
    if wanted.time_servers:
        yield time_servers_check(host, wanted, found, seen_from)
    if wanted.search:
        yield outcome(
            "search-in-force",
            " ".join(wanted.search),
            " ".join(found.search) or "none",
            tuple(d for d in found.search if d in wanted.search or not (d in beside.search or heard or leased4))
            == wanted.search,
            "the resolver searches others",
        )


def time_servers_check(host: str, wanted: InterfaceConfig, found: SurveyedInterface, seen_from: str) -> VerifyCheck:
    """Whether the time daemon follows the servers that are wanted, by its own word; others may be its own."""
    servers = wanted.time_servers or ()
    expected = ", ".join(servers)
    if found.time_servers is None:
        why = "no time daemon that runs can be asked"
        said = ("time-servers-in-force", False, host, wanted.interface, seen_from, expected)
        return VerifyCheck(*said, "not looked at", SKIPPED, why)
    good = set(servers) <= set(found.time_servers)
    return VerifyCheck(
        "time-servers-in-force",
        True,
        host,
        wanted.interface,
        seen_from,
        expected,
        ", ".join(found.time_servers) or "none",
        PASS if good else FAIL,
        None if good else "the time daemon follows others",
    )


def _leftover(wanted: InterfaceConfig, version: int, held: list[FoundAddress]) -> tuple[str, str, bool, str]:
    """What is expected and observed of addresses that nobody fixed, whether that is good, and why not."""
    origins = ("dhcp",) if version == 4 or wanted.accepts_ra else ("dhcp", "slaac")
    left = [a for a in held if a.address not in wanted.addresses and a.origin in origins]
    expected = "no leased address left" if version == 4 else "no address of a lease or of routers left"
    observed = ", ".join(str(a.address) for a in left) or expected
    heard = any(a.origin == "slaac" for a in left)
    why = "router advertisements are still listened to" if heard else "a DHCP client still holds a lease"
    return expected, observed, not left, why


def files_check(
    host: str, wanted: InterfaceConfig, found: SurveyedInterface, seen_from: str, broken: Unreadable | None = None
) -> VerifyCheck:
    """Whether the files, which a reboot will load, declare what is wanted; ``broken`` is one that it would not load."""
    where = str(found.declared_in[0]) if found.declared_in else "no file"
    # What no file declares has nothing of either version, where nothing else gives it something.
    said = found.declared if found.declared is not None else InterfaceConfig(wanted.interface, ipv4="off", ipv6="off")
    good = broken is None and says(said, wanted)
    told = "; ".join(found.declared.in_words(v) for v in (4, 6) if wanted.touches(v)) if found.declared else "nothing"
    if found.declared is None and good:
        where, told = "no file", "nothing, as is wanted"
    observed = f"{where}, which a reboot loads: {told or 'nothing of what is wanted'}"
    return VerifyCheck(
        "files-as-planned",
        True,
        host,
        wanted.interface,
        seen_from,
        "what a reboot loads is as planned",
        observed if broken is None else f"{broken.where}: {broken.what}",
        PASS if good else FAIL,
        None if good else "the next boot would load something else",
    )
