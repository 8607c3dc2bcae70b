"""Findings about what stands beside the addressing of a host: in its interface files, and outside the stacks."""

from __future__ import annotations

from collections.abc import Iterator

from fixed_anchor.core.aside import (
    AGENT,
    BALANCED,
    CLUSTER,
    CONFIGURES,
    DUPLICATE,
    HOOK,
    MAY_CONFIGURE,
    NAME_TWICE,
    NAMES,
    NETWORK_DISK,
    NO_REMARK,
    NOT_AT_BOOT,
    OTHER_TABLE,
    PORT,
    RENAMED,
    REWRITTEN,
    SWITCH,
    TEAM,
    TYPED_ROUTES,
    UNCLEAR,
    WIRELESS,
    Aside,
    Unreadable,
)
from fixed_anchor.core.findings import Finding, finding
from fixed_anchor.core.secrets import masked_line

#: Code, message and remedy of each kind. ``{i}`` is the interface, ``{t}`` what stands there, ``{p}`` where.
_KINDS: dict[str, tuple[str, str, str]] = {
    PORT: ("is-port", "{i} is a port of {of}, and takes no addresses of its own", "plan them for {of} instead of {i}"),
    OTHER_TABLE: (
        "gateway-not-used",
        "`{t}` puts the default route of {i} into another table than the one that is used",
        "remove it from {p}, or say `gateway: none` where that is meant",
    ),
    NAMES: (
        "names-old-address",
        "`{t}` names {a}, which the host would not hold any more",
        "write the new address there, or remove it: {p}",
    ),
    HOOK: (
        "hook-configures",
        "a command of the interface files adds addresses or routes by itself: `{t}`",
        "look whether it still fits the plan: {p}",
    ),
    NOT_AT_BOOT: (
        "not-up-at-boot",
        "nothing brings {i} up at boot: {t}",
        "see that it is brought up at boot: {p}",
    ),
    NO_REMARK: (
        "remark-is-read",
        "`{t}`: to ifupdown what stands behind the # is a part of the value, and goes into its command",
        "put the remark on a line of its own: {p}",
    ),
    RENAMED: (
        "name-changes",
        "{i} gets another name at the next boot ({t}), and the files call it by this one",
        "boot the host anew first and plan for the new name, or correct {p}",
    ),
    UNCLEAR: (
        "match-unclear",
        "whether {f} is for {i} cannot be told from here: {t}",
        "see what the stack itself says of it on the host, and state in {p} which interface is meant",
    ),
    CONFIGURES: ("another-configures", "{t}", "see to it that it leaves {i} alone: {p}"),
    MAY_CONFIGURE: ("another-may-configure", "{t}", "look whether it touches the planned interfaces: {p}"),
    REWRITTEN: (
        "rewritten-by-another",
        "{f} says that it is written by another program: {t}",
        "make the change there too, or it is lost when that program runs again",
    ),
    CLUSTER: ("in-cluster", "{t}", "change the address the way the cluster wants it, at its own tools"),
    NETWORK_DISK: (
        "carries-root",
        "the disk that the system starts from comes over the network ({t})",
        "change the address where the machine gets it at its start, and start it anew",
    ),
    BALANCED: (
        "in-load-balancing",
        "{i} takes part in network load balancing",
        "change the addresses with its own manager, on every machine that takes part",
    ),
    AGENT: (
        "cloud-agent",
        "an agent of a cloud runs here ({t})",
        "look whether its cloud assigns the machine's address; if so, have it made fixed there, and keep DHCP here",
    ),
    TYPED_ROUTES: (
        "typed-routes",
        "routes that somebody typed to stay are not among the settings of an adapter: {t}",
        "look whether their next hops can still be reached afterwards (route print)",
    ),
    WIRELESS: (
        "same-in-every-network",
        "{i} is wireless: the address is the same in every network that it joins",
        "keep DHCP where the machine moves, and reserve its address at the server",
    ),
    SWITCH: (
        "on-virtual-switch",
        "{i} is the adapter of the virtual switch {of}",
        "leave the physical adapter below alone: virtual machines use it",
    ),
    TEAM: ("on-team", "{i} is the adapter of the team {of}", "leave the members of the team alone"),
    NAME_TWICE: (
        "name-not-unique",
        "several adapters are called {i}: {t}",
        "give each a name of its own there (Rename-NetAdapter), and collect again",
    ),
    DUPLICATE: (
        "duplicate-seen",
        "{i} does not use {a}: the machine has seen that somebody else has it",
        "find the other machine by its MAC (`fixed-anchor probe`), or take another address",
    ),
}


#: What is so whatever is planned.
_OF_SURVEY = (NETWORK_DISK, CONFIGURES, MAY_CONFIGURE, REWRITTEN, UNCLEAR, CLUSTER, NAME_TWICE, DUPLICATE)


def aside_finding(host: str, aside: Aside, interface: str | None = None) -> Finding:
    """The finding that an aside is; ``interface`` is whom it concerns where it names none."""
    code, message, remedy = _KINDS[aside.kind]
    name = aside.interface or interface
    words = {
        "i": name or "the planned interfaces",
        "t": masked_line(aside.text),
        "p": str(aside.place),
        "f": aside.place.file,
        "of": aside.of or "another name",
        "a": ", ".join(map(str, aside.addresses)),
    }
    return finding(
        code,
        message.format(**words),
        host=host,
        interface=name,
        address=aside.addresses[0] if aside.kind in (NAMES, DUPLICATE) else None,
        seen_in=str(aside.place),
        remedy=remedy.format(**words),
    )


def unreadable_finding(host: str, broken: Unreadable, interface: str | None = None) -> Finding:
    """The finding that a broken file is: one that stops its reader speaks against every change that it loads."""
    where = broken.where
    what = masked_line(broken.what)
    if broken.stops:
        return finding(
            "stops-at-unreadable",
            f"{what}, and because of it {broken.stack} loads none of its files",
            host=host,
            interface=interface,
            seen_in=where,
            remedy=f"correct {where}, or move the file away",
        )
    return finding(
        "file-unreadable",
        f"{what}: this was passed over",
        host=host,
        interface=broken.interface or interface,
        seen_in=where,
        remedy=f"correct {where}, or remove it if nothing needs it",
    )


def of_survey(host: str, asides: tuple[Aside, ...], unreadable: tuple[Unreadable, ...]) -> Iterator[Finding]:
    """What an administrator should know of a host whatever is planned for it."""
    for broken in unreadable:
        yield unreadable_finding(host, broken)
    for aside in asides:
        if aside.kind in _OF_SURVEY:
            yield aside_finding(host, aside)
