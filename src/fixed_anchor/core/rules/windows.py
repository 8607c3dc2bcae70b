"""What a Windows machine has beside its addresses that a change of them concerns."""

from __future__ import annotations

from collections.abc import Iterator

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.aside import (
    ABSENT,
    CATEGORY,
    POLICY_RESOLVERS,
    POLICY_SEARCH,
    PROFILE_RESOLVERS,
    REGISTERS,
    ROLE,
    WIRELESS,
    Aside,
)
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.findings import BLOCKER, NOTE, WARNING, Finding, FindingKind, finding
from fixed_anchor.core.foreseen import Foreseen
from fixed_anchor.core.rules.asides import aside_finding
from fixed_anchor.core.rules.case import HostCase
from fixed_anchor.core.survey import HostSurvey

RESOLVERS_OF_PROFILE = FindingKind(
    "profile-resolvers",
    "host",
    WARNING,
    "resolvers are set for one network alone",
    "The Settings of Windows 11 can set them for a network. Whether they win over those of the adapter differs.",
    "Look what is in force (Get-DnsClientServerAddress), and take them out in the Settings.",
)
ROLE_MOVES = FindingKind(
    "role-moves",
    "host",
    WARNING,
    "a server role here goes by the address that goes",
    "Domain controllers, DNS, DHCP and the like are found by their addresses, by others and in their own settings.",
    "Change what names the address together with it, and look at the role's own log afterwards.",
)
POLICY_WINS = FindingKind(
    "policy-wins",
    "host",
    BLOCKER,
    "a group policy says otherwise, and wins",
    "What the machine's own settings say of resolvers or search domains has no effect beside the policy.",
    "Have the policy changed, or plan what it says.",
)
POLICY_SAYS = FindingKind(
    "policy-says",
    "host",
    NOTE,
    "a group policy sets resolvers or search domains",
    "They come from the policy whatever is set on the machine.",
    "Plan what the policy says.",
)
CATEGORY_MAY_CHANGE = FindingKind(
    "category-may-change",
    "host",
    WARNING,
    "the network of an adapter may become a public one",
    "By another gateway, or none, the network is identified anew. In a public one the firewall shuts out "
    "remote desktop, SSH and file sharing, although every ping from the machine works.",
    "Have somebody at the console, or firewall rules that let you in from public networks as well.",
)
KEPT_FOR_ABSENT_ADAPTER = FindingKind(
    "kept-for-absent-adapter",
    "host",
    WARNING,
    "the address is kept for an adapter that is not there",
    "An adapter that was taken out keeps its settings. When it comes back, two adapters have the address.",
    "Remove the absent adapter (Device Manager, hidden devices), or its address.",
)
OLD_RECORD_STAYS = FindingKind(
    "old-record-stays",
    "host",
    NOTE,
    "the machine's own DNS record of an address that goes stays for a while",
    "It registers its name by itself; the record of the old address is left until DNS scavenges it.",
    "Remove the old record, and have the machine register again after the change (ipconfig /registerdns).",
)

#: The category of a network in which the firewall lets nobody in.
_PUBLIC = "Public"


def windows_findings(case: HostCase) -> Iterator[Finding]:
    """All findings about what only Windows machines have; none for a host without such asides."""
    host, survey, foreseen = case.host.name, case.survey, case.foreseen
    for aside in foreseen.asides:
        if aside.kind == ROLE and foreseen.going:
            gone = ", ".join(sorted(map(str, foreseen.going)))
            yield finding(ROLE_MOVES, f"{aside.text}, and {gone} goes", host=host, seen_in=str(aside.place))
        elif aside.kind == POLICY_RESOLVERS:
            yield from _policy(host, foreseen, aside, "resolvers", tuple(map(str, aside.addresses)))
        elif aside.kind == POLICY_SEARCH:
            yield from _policy(host, foreseen, aside, "search", tuple(aside.text.split()))
        elif aside.kind == CATEGORY and aside.interface in foreseen.wanted:
            yield from _category(host, survey, aside, foreseen.wanted[aside.interface])
        elif aside.kind == WIRELESS and aside.interface in foreseen.wanted:
            if foreseen.wanted[aside.interface].addresses:
                yield aside_finding(host, aside)
        elif aside.kind == PROFILE_RESOLVERS and aside.interface in foreseen.wanted:
            yield from _profile(host, foreseen.wanted[aside.interface], aside)
        elif aside.kind == ABSENT:
            yield from _absent(host, foreseen, aside)
        elif aside.kind == REGISTERS and aside.interface in foreseen.wanted:
            yield from _registers(host, survey, foreseen.going, aside)


def _policy(host: str, foreseen: Foreseen, aside: Aside, what: str, says: tuple[str, ...]) -> Iterator[Finding]:
    """A policy that differs from the plan makes it fail; one that says the same is worth knowing."""
    differing = [
        config.interface
        for config in foreseen.wanted.values()
        if (wanted := getattr(config, what)) and tuple(map(str, wanted)) != says
    ]
    # As their administrators call them.
    shown = {"resolvers": "the DNS servers", "search": "the DNS suffix search list"}[what]
    said = f"a group policy sets {shown} {', '.join(says)}"
    if differing:
        message = f"{said}, and the plan wants others for {differing[0]}: the policy wins"
        yield finding(POLICY_WINS, message, host=host, interface=differing[0], seen_in=str(aside.place))
    else:
        yield finding(POLICY_SAYS, said, host=host, seen_in=str(aside.place))


def _profile(host: str, wanted: InterfaceConfig, aside: Aside) -> Iterator[Finding]:
    """Whether resolvers of one network win over the adapter's is not documented: told where they differ."""
    if wanted.resolvers is None or tuple(wanted.resolvers) == aside.addresses:
        return
    yield finding(
        RESOLVERS_OF_PROFILE,
        f"DNS servers {', '.join(map(str, aside.addresses))} are set for the network of {aside.interface} alone, and "
        "the plan wants others: they may win",
        host=host,
        interface=aside.interface,
        seen_in=str(aside.place),
    )


def _category(host: str, survey: HostSurvey, aside: Aside, wanted: InterfaceConfig) -> Iterator[Finding]:
    """A network is known by its gateway: by another one, or none, it is another network."""
    found = survey.interface(aside.interface)
    if aside.text == _PUBLIC or found is None or wanted.ipv4 != "fixed":
        return
    today = {route.next_hop for route in found.default_routes(4)}
    coming = {route.next_hop for route in wanted.default_routes(4)}
    if coming and today == coming:
        return
    by = f"by another gateway ({', '.join(map(str, coming))})" if coming else "without a gateway"
    yield finding(
        CATEGORY_MAY_CHANGE,
        f"the network profile of {aside.interface} ({aside.of}) is {aside.text} today; {by} the network is identified "
        "anew, and may become Public",
        host=host,
        interface=aside.interface,
        seen_in=str(aside.place),
    )


def _absent(host: str, foreseen: Foreseen, aside: Aside) -> Iterator[Finding]:
    for name, config in foreseen.wanted.items():
        for address in config.addresses:
            if address.ip in aside.addresses:
                yield finding(
                    KEPT_FOR_ABSENT_ADAPTER,
                    f"{address.ip} is kept for {aside.of}, an adapter that is not there",
                    host=host,
                    interface=name,
                    address=address.ip,
                    seen_in=str(aside.place),
                )


def _registers(host: str, survey: HostSurvey, going: frozenset[IPAddress], aside: Aside) -> Iterator[Finding]:
    gone = [address for address in aside.addresses if address in going]
    if gone:
        which = "and this address goes" if len(gone) == 1 else "and these addresses go"
        yield finding(
            OLD_RECORD_STAYS,
            f"{survey.hostname or host} registers {', '.join(map(str, gone))} in DNS by itself, {which}",
            host=host,
            interface=aside.interface,
            address=gone[0],
            seen_in=str(aside.place),
        )
