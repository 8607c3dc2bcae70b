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
from fixed_anchor.core.findings import BLOCKER, NOTE, WARNING, Finding, FindingKind, finding
from fixed_anchor.core.rules.readiness import CARRIES_ROOT
from fixed_anchor.core.secrets import masked_line

IS_PORT = FindingKind(
    "is-port",
    "host",
    BLOCKER,
    "the interface is a port of a bridge, bond or team",
    "A port takes no addresses: what its master is given reaches the host.",
    "Plan the addresses for the master.",
)
GATEWAY_NOT_USED = FindingKind(
    "gateway-not-used",
    "host",
    BLOCKER,
    "the default route would not be used",
    "A setting that stays puts it into another routing table, so the host would have no way out.",
    "Remove the setting, or say `gateway: none` where that is meant.",
)
NAMES_OLD_ADDRESS = FindingKind(
    "names-old-address",
    "host",
    BLOCKER,
    "something that stays names an address that goes",
    "Routes with its source are refused by the kernel, rules and hooks for it do nothing any more, or fail.",
    "Write the new address there.",
)
HOOK_CONFIGURES = FindingKind(
    "hook-configures",
    "host",
    WARNING,
    "a hook adds addresses or routes by itself",
    "What it does is in no declaration, and may not fit what is planned.",
    "Look whether it still fits.",
)
NOT_UP_AT_BOOT = FindingKind(
    "not-up-at-boot",
    "host",
    BLOCKER,
    "nothing brings the interface up at boot",
    "The fixed address would be gone after the next boot.",
    "Have it brought up at boot, in the file named.",
)
REMARK_IS_READ = FindingKind(
    "remark-is-read",
    "host",
    WARNING,
    "what looks like a remark is a part of the value",
    "interfaces(5) has no remarks behind a value: the rest of the command that ifup makes of it is cut off there.",
    "Put the remark on a line of its own.",
)
NAME_CHANGES = FindingKind(
    "name-changes",
    "host",
    BLOCKER,
    "the interface gets another name at the next boot",
    "Files that call it by today's name would configure nothing then.",
    "Boot the host anew first, and plan for the name that it then has.",
)
MATCH_UNCLEAR = FindingKind(
    "match-unclear",
    "host",
    NOTE,
    "whether a file is for the interface cannot be told",
    "If it is, it decides instead of the one that would be edited.",
    "See on the host which file the stack takes, or state the interface in the file.",
    undetermined=True,
)
ANOTHER_CONFIGURES = FindingKind(
    "another-configures",
    "host",
    BLOCKER,
    "something beside the network stack configures the interface",
    "It would undo the change, or add to it, now or at the next boot.",
    "Have it leave the interface alone, or switch it off.",
)
ANOTHER_MAY_CONFIGURE = FindingKind(
    "another-may-configure",
    "host",
    WARNING,
    "something beside the network stack may configure interfaces",
    "Agents, helpers and hooks act when others tell them to, or when an interface comes up.",
    "Look whether it touches the planned interfaces.",
)
REWRITTEN_BY_ANOTHER = FindingKind(
    "rewritten-by-another",
    "host",
    WARNING,
    "a file says that another program writes it",
    "The change is lost when that program runs again.",
    "Make the change there too.",
)
FILE_UNREADABLE = FindingKind(
    "file-unreadable",
    "host",
    WARNING,
    "an interface file cannot be read",
    "What it says was passed over; its stack may see something in it that is not known here.",
    "Correct it, or remove it if nothing needs it.",
)
STOPS_AT_UNREADABLE = FindingKind(
    "stops-at-unreadable",
    "host",
    BLOCKER,
    "a broken file keeps the stack from loading any",
    "Nothing that is written would come into force, and the next boot would load nothing.",
    "Correct it, or move it away.",
)
IN_CLUSTER = FindingKind(
    "in-cluster",
    "host",
    BLOCKER,
    "the machine is a node of a failover cluster",
    "The cluster knows its nodes and networks by their addresses, and may take the machine out in the middle.",
    "Change the address the way the cluster wants it: evict or pause the node, or change its network there.",
)
IN_LOAD_BALANCING = FindingKind(
    "in-load-balancing",
    "host",
    BLOCKER,
    "the adapter takes part in network load balancing",
    "Its addresses are those of a cluster, and the other machines of it have them, too.",
    "Change them with the manager of the cluster, on every machine that takes part.",
)
CLOUD_AGENT = FindingKind(
    "cloud-agent",
    "host",
    WARNING,
    "an agent of a cloud runs on the machine",
    "Where a cloud assigns the address, one that is set inside may cut the machine off at its next start.",
    "Have the address made fixed in the cloud, and keep DHCP here; or make sure that no cloud assigns it.",
)
ROUTES_TYPED = FindingKind(
    "typed-routes",
    "host",
    NOTE,
    "routes were typed to stay, with `route -p`",
    "They are the machine's and not an adapter's: they stay, and lead nowhere where their next hop cannot be reached.",
    "Look at them (route print), and remove what is not needed any more (route delete).",
)
SAME_IN_EVERY_NETWORK = FindingKind(
    "same-in-every-network",
    "host",
    WARNING,
    "the adapter is wireless",
    "Its address belongs to the adapter, and not to the name of a network: it is the same wherever it joins one.",
    "Keep DHCP where the machine moves, and reserve its address at the server.",
)
ON_VIRTUAL_SWITCH = FindingKind(
    "on-virtual-switch",
    "host",
    NOTE,
    "the address is on the adapter of a virtual switch",
    "Virtual machines use the physical adapter below; a restart of it would take them off the network, too.",
    "Plan for the adapter vEthernet alone, and never for the physical one.",
)
ON_TEAM = FindingKind(
    "on-team",
    "host",
    NOTE,
    "the address is on the adapter of a team",
    "Its members have no addresses of their own; a team that is made anew loses its addresses.",
    "Plan for the adapter of the team, and leave its members alone.",
)
NAME_NOT_UNIQUE = FindingKind(
    "name-not-unique",
    "host",
    BLOCKER,
    "several adapters have the same name",
    "The plan calls an adapter by its name, and this one could be either.",
    "Give each a name of its own there (Rename-NetAdapter), and collect again.",
)
DUPLICATE_SEEN = FindingKind(
    "duplicate-seen",
    "host",
    BLOCKER,
    "the machine itself sees somebody else with its address",
    "Windows does not use an address that another machine answered for.",
    "Find the other machine by its MAC, or take another address.",
)

#: Kind of finding, message and remedy of each kind of aside.
#: ``{i}`` is the interface, ``{t}`` what stands there, ``{p}`` where.
_KINDS: dict[str, tuple[FindingKind, str, str]] = {
    PORT: (IS_PORT, "{i} is a port of {of}, and takes no addresses of its own", "plan them for {of} instead of {i}"),
    OTHER_TABLE: (
        GATEWAY_NOT_USED,
        "`{t}` puts the default route of {i} into another table than the one that is used",
        "remove it from {p}, or say `gateway: none` where that is meant",
    ),
    NAMES: (
        NAMES_OLD_ADDRESS,
        "`{t}` names {a}, which the host would not hold any more",
        "write the new address there, or remove it: {p}",
    ),
    HOOK: (
        HOOK_CONFIGURES,
        "a command of the interface files adds addresses or routes by itself: `{t}`",
        "look whether it still fits the plan: {p}",
    ),
    NOT_AT_BOOT: (
        NOT_UP_AT_BOOT,
        "nothing brings {i} up at boot: {t}",
        "see that it is brought up at boot: {p}",
    ),
    NO_REMARK: (
        REMARK_IS_READ,
        "`{t}`: to ifupdown what stands behind the # is a part of the value, and goes into its command",
        "put the remark on a line of its own: {p}",
    ),
    RENAMED: (
        NAME_CHANGES,
        "{i} gets another name at the next boot ({t}), and the files call it by this one",
        "boot the host anew first and plan for the new name, or correct {p}",
    ),
    UNCLEAR: (
        MATCH_UNCLEAR,
        "whether {f} is for {i} cannot be told from here: {t}",
        "see what the stack itself says of it on the host, and state in {p} which interface is meant",
    ),
    CONFIGURES: (ANOTHER_CONFIGURES, "{t}", "see to it that it leaves {i} alone: {p}"),
    MAY_CONFIGURE: (ANOTHER_MAY_CONFIGURE, "{t}", "look whether it touches the planned interfaces: {p}"),
    REWRITTEN: (
        REWRITTEN_BY_ANOTHER,
        "{f} says that it is written by another program: {t}",
        "make the change there too, or it is lost when that program runs again",
    ),
    CLUSTER: (IN_CLUSTER, "{t}", "change the address the way the cluster wants it, at its own tools"),
    NETWORK_DISK: (
        CARRIES_ROOT,
        "the disk that the system starts from comes over the network ({t})",
        "change the address where the machine gets it at its start, and start it anew",
    ),
    BALANCED: (
        IN_LOAD_BALANCING,
        "{i} takes part in network load balancing",
        "change the addresses with its own manager, on every machine that takes part",
    ),
    AGENT: (
        CLOUD_AGENT,
        "an agent of a cloud runs here ({t})",
        "look whether its cloud assigns the machine's address; if so, have it made fixed there, and keep DHCP here",
    ),
    TYPED_ROUTES: (
        ROUTES_TYPED,
        "routes that somebody typed to stay are not among the settings of an adapter: {t}",
        "look whether their next hops can still be reached afterwards (route print)",
    ),
    WIRELESS: (
        SAME_IN_EVERY_NETWORK,
        "{i} is wireless: the address is the same in every network that it joins",
        "keep DHCP where the machine moves, and reserve its address at the server",
    ),
    SWITCH: (
        ON_VIRTUAL_SWITCH,
        "{i} is the adapter of the virtual switch {of}",
        "leave the physical adapter below alone: virtual machines use it",
    ),
    TEAM: (ON_TEAM, "{i} is the adapter of the team {of}", "leave the members of the team alone"),
    NAME_TWICE: (
        NAME_NOT_UNIQUE,
        "several adapters are called {i}: {t}",
        "give each a name of its own there (Rename-NetAdapter), and collect again",
    ),
    DUPLICATE: (
        DUPLICATE_SEEN,
        "{i} does not use {a}: the machine has seen that somebody else has it",
        "find the other machine by its MAC (`fixed-anchor probe`), or take another address",
    ),
}


#: What is so whatever is planned.
_OF_SURVEY = (NETWORK_DISK, CONFIGURES, MAY_CONFIGURE, REWRITTEN, UNCLEAR, CLUSTER, NAME_TWICE, DUPLICATE)


def aside_finding(host: str, aside: Aside, interface: str | None = None) -> Finding:
    """The finding that an aside is; ``interface`` is whom it concerns where it names none."""
    kind, message, remedy = _KINDS[aside.kind]
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
        kind,
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
            STOPS_AT_UNREADABLE,
            f"{what}, and because of it {broken.stack} loads none of its files",
            host=host,
            interface=interface,
            seen_in=where,
            remedy=f"correct {where}, or move the file away",
        )
    return finding(
        FILE_UNREADABLE,
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
