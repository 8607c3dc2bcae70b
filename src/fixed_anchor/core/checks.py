"""The checks of a verification: what each one asks, what passes it, and what fails it.

``fixed-anchor explain`` and the documentation are made from this table; a verification makes no other check.
"""

from __future__ import annotations

import msgspec

#: Those that are made from somewhere else than the host itself.
FROM_ELSEWHERE = frozenset({"answers-anew", "neighbour-finds", "neighbour-ssh", "neighbour-gateway"})


class CheckKind(msgspec.Struct, frozen=True):
    """One kind of check. ``excused`` says when a failure is no fault of a change; empty where it always is."""

    code: str
    asks: str
    passes: str
    fails: str
    excused: str = ""


_USED = "It failed three times before the change, too, and the host used this very one then."
_SO = "It was so before the change, too."

# code, what it asks, what passes, what fails, when it is excused
_ROWS: tuple[tuple[str, ...], ...] = (
    (
        "address-present",
        "the kernel, for each planned address",
        "It holds the address with its prefix.",
        "It does not.",
    ),
    (
        "address-not-leased",
        "the kernel, for each planned address",
        "The address is there for ever.",
        "It has a lifetime: a lease client holds it.",
    ),
    (
        "no-leased-address",
        "the kernel, for a family that is fixed",
        "No other address of a lease is left; of IPv6, none of routers either.",
        "One is: a client still runs, or routers are still listened to.",
    ),
    (
        "address-leased",
        "the kernel, for a family on DHCP",
        "It holds a leased address.",
        "It does not: no DHCP server answered.",
        "The family was on DHCP before, and had no lease then.",
    ),
    ("family-off", "the kernel, for a family that is off", "No address of it is left.", "One is."),
    (
        "family-kept",
        "the kernel, for a family that the plan leaves alone or to routers",
        "It has the addresses and default routes that it had before the change.",
        "Something is missing: daemons drop both families when they load one.",
    ),
    (
        "category-kept",
        "Windows, for the network of an interface",
        "It has the category from before the change (public, private, that of a domain), or one that lets in more.",
        "It has one that lets in less, or is not identified.",
    ),
    (
        "default-route",
        "the kernel",
        "The default routes are those of the plan, or there is one of the lease.",
        "They are others, or none.",
        "The family was on DHCP before, and the lease brought none then.",
    ),
    (
        "resolvers-in-force",
        "the host's resolver, or /etc/resolv.conf",
        "It uses the planned resolvers, in their order; or any, where the lease names them.",
        "It uses others.",
        "The family was on DHCP before, and the lease brought none then.",
    ),
    (
        "search-in-force",
        "the host's resolver, or /etc/resolv.conf",
        "It searches the planned domains, in their order.",
        "It searches others.",
    ),
    (
        "time-servers-in-force",
        "the host's time daemon",
        "It follows the planned servers.",
        "It follows none of them, or not all.",
    ),
    (
        "files-as-planned",
        "the interface files, or the registry, which the next boot loads",
        "They declare what is wanted.",
        "They declare something else, or one of them cannot be read.",
    ),
    ("interface-present", "the kernel", "The interface is there.", "It is not."),
    ("kernel-state", "the kernel", "It runs.", "Never: where only files are here, it is skipped."),
    ("reached", "the host", "It is reached from here.", "Never: a host that is not reached is skipped."),
    ("hostname", "the kernel", "The running hostname is the planned one, whole or its first label.", "It is another."),
    (
        "sole-owner",
        "the segment, with 3 ARP probes in a second (IPv6: solicitations) for each planned address",
        "Nobody else answers. A machine that answers for every address is a proxy, and no owner.",
        "Another machine answers for it.",
    ),
    (
        "answers-anew",
        "the host, from a seat with `--unattended`: over a new connection to an address of the plan",
        "It answers there, with the host key that is known and a MAC of the plan.",
        "Nothing answers there, or another machine.",
    ),
    (
        "neighbour-finds",
        "the segment, from another host that is reached there: 3 ARP probes in a second (IPv6: solicitations) for each "
        "planned address",
        "This host answers, and nobody else.",
        "Another machine answers; or nobody, where the neighbour had found the host before the change.",
        "The neighbour had not found the host before either, or nobody had asked it; or it hears no gateway any more.",
    ),
    (
        "neighbour-ssh",
        "the host, from there: a connection to the port of its sshd at each planned address",
        "It takes the connection.",
        "It does not, and took one before the change.",
        "It had taken none from there before, or nobody had asked.",
    ),
    (
        "neighbour-gateway",
        "the segment, from there, for each gateway; not required",
        "One machine answers.",
        "None does, or two.",
    ),
    (
        "announced",
        "nobody: the neighbours are told where the addresses are (RFC 5227, RFC 4861); not required",
        "They were told.",
        "They could not be told, or somebody else has the address.",
    ),
    (
        "gateway-answers-arp",
        "the segment, with 3 ARP probes for each IPv4 gateway",
        "A machine answers.",
        "None does.",
        _USED,
    ),
    (
        "gateway-answers-nd",
        "the segment, with neighbour solicitations for each IPv6 gateway",
        "A machine answers.",
        "None does.",
        _USED,
    ),
    ("gateway-is-one", "the same", "Never shown: it is made only where it fails.", "Two machines answer.", _SO),
    (
        "gateway-answers-echo",
        "the gateway, with pings; not required",
        "It answers.",
        "It does not. Many never do, and forward as well as others.",
    ),
    (
        "gateway-forwards",
        "beyond the gateway: what is `reachable:`, else up to three of those that the host talked to before (a "
        "connection without data), else the gateway with a packet that may go one hop only",
        "Somebody beyond it accepts or refuses; or the gateway says `time exceeded` or `unreachable`, which shows that "
        "it routes, and not that its uplink works.",
        "Nothing answers: it may be no router.",
        _USED,
    ),
    (
        "resolver-answers",
        "each resolver, over UDP: the names of `reachable:`, the host's own name and address, its search domain, the "
        "root, and what it answered before the change",
        "One answer with records, or that there are none. That a private reverse name is not there proves nothing "
        "(RFC 6303).",
        "Silence; answers over TCP alone; SERVFAIL or REFUSED to all, or to what it answered before; a name of "
        "`reachable:` that was resolved before and is not now.",
        _USED,
    ),
    (
        "reachable",
        "each entry under `reachable:` of the segment, from the interface's own address",
        "A host answers; a port accepts; a URL gives a status of the class it gave before, or none of 5xx.",
        "It does not.",
        _SO,
    ),
)

CHECKS: dict[str, CheckKind] = {row[0]: CheckKind(*row) for row in _ROWS}
