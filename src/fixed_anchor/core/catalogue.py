"""The catalogue of findings: every code, its severity, what it means and what to do.

Codes are stable. ``fixed-anchor explain`` and the documentation are made from
this table; rules may only raise what is listed here.
"""

from __future__ import annotations

import msgspec

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


_B, _W, _N = BLOCKER, WARNING, NOTE

# code, family, severity, title, why it matters, what to do
_ROWS: tuple[tuple[str, str, str, str, str, str], ...] = (
    (
        "outside-subnet",
        "plan",
        _B,
        "the address lies in no subnet of its segment",
        "A host with an address outside its subnet cannot reach its gateway, and its neighbours cannot reach it.",
        "Take an address of the segment's subnet, or put the interface on the right segment.",
    ),
    (
        "network-address",
        "plan",
        _B,
        "the address is the network's own",
        "The first address of an IPv4 subnet names the subnet; hosts and routers refuse it (RFC 1122, 3.2.1.3).",
        "Take another address of the subnet.",
    ),
    (
        "broadcast-address",
        "plan",
        _B,
        "the address is the subnet's broadcast address",
        "What is sent to it goes to every host of the subnet (RFC 1122, 3.2.1.3).",
        "Take another address of the subnet.",
    ),
    (
        "is-gateway",
        "plan",
        _B,
        "the address is the gateway's",
        "Two machines with the gateway's address cut the whole segment off, in turns.",
        "Take another address; the gateway keeps its own.",
    ),
    (
        "held-twice",
        "plan",
        _B,
        "the plan gives the address to two interfaces",
        "Neighbours would talk to the one or the other at random.",
        "Give one of them another address.",
    ),
    (
        "gateway-outside-subnet",
        "plan",
        _B,
        "the gateway lies in no subnet of the interface",
        "The kernel refuses a next hop it has no direct way to, so there would be no default route.",
        "Correct the gateway or the subnet; where it is meant, give the address its own prefix with an on-link gateway.",
    ),
    (
        "no-default-route",
        "plan",
        _W,
        "no default route would be left",
        "Without one, the host reaches its own subnet only.",
        "Name a gateway for the segment, or say `gateway: none` on purpose.",
    ),
    (
        "two-default-routes",
        "plan",
        _B,
        "two default routes of equal metric",
        "Which of them is used is left to chance, and may differ after each boot.",
        "Say `gateway: none` on one interface, or give them different metrics.",
    ),
    (
        "special-address",
        "plan",
        _B,
        "the address is not for hosts",
        "Loopback, multicast, link-local, unspecified and reserved addresses cannot be given to an interface as its own.",
        "Take an address of the segment's subnet.",
    ),
    (
        "no-resolvers",
        "plan",
        _W,
        "no resolvers would be left",
        "The lease supplied them until now; without any, no name is resolved.",
        "Name `resolvers` for the segment or the interface.",
    ),
    (
        "bad-hostname",
        "plan",
        _B,
        "the hostname is not valid",
        "Host names are letters, digits and hyphens (RFC 1123, 2.1), at most 63 a label.",
        "Correct the name.",
    ),
    (
        "hostname-twice",
        "plan",
        _B,
        "two hosts have the same hostname",
        "Logs, monitoring and certificates could not tell them apart.",
        "Rename one of them.",
    ),
    (
        "mac-twice",
        "plan",
        _W,
        "two interfaces have the same MAC",
        "Rightly so for VLANs and bond members on one machine; on two machines it breaks switching.",
        "Compare with `fixed-anchor survey` on both machines.",
    ),
    (
        "segments-overlap",
        "plan",
        _B,
        "two segments share addresses",
        "An address would then belong to two broadcast domains, and checks would look in the wrong one.",
        "Correct the subnets.",
    ),
    (
        "pool-outside-subnet",
        "plan",
        _W,
        "a pool lies outside its segment's subnet",
        "It is probably mistyped; the real pool is then not guarded against.",
        "Compare it with the DHCP server's configuration.",
    ),
    (
        "pool-covers-gateway",
        "plan",
        _W,
        "a pool contains the gateway's address",
        "The DHCP server may lease the gateway's address to someone.",
        "Narrow the pool, or correct it here.",
    ),
    (
        "in-dhcp-pool",
        "knowledge",
        _B,
        "the address lies in a DHCP pool",
        "The DHCP server may lease it to someone else at any time, and both then lose their connections.",
        "Take an address outside every pool, or reserve it on the server.",
    ),
    (
        "lease-not-reserved",
        "knowledge",
        _B,
        "today's leased address is kept without a reservation",
        "The lease runs out once the host stops renewing it, and the server leases the address to someone else.",
        "Reserve the address for this MAC on the server, or narrow its pool, and say so in the plan or a source.",
    ),
    (
        "reserved-for-another",
        "knowledge",
        _B,
        "the address is reserved for another MAC",
        "The DHCP server will give it to that machine.",
        "Take another address, or remove the reservation if that machine is gone.",
    ),
    (
        "leased-to-another",
        "knowledge",
        _B,
        "the address is leased to another machine",
        "It is in use, or may be again: a machine that sleeps keeps its lease.",
        "Take another address.",
    ),
    (
        "set-aside",
        "knowledge",
        _B,
        "the address lies in a range that is set aside",
        "The plan itself says that nobody gets addresses of this range.",
        "Take another address, or change `set_aside`.",
    ),
    (
        "listed-for-another",
        "knowledge",
        _B,
        "the site's address list gives it to another host",
        "The list is the word of whoever keeps it; the machine may be switched off today.",
        "Take another address, or correct the list.",
    ),
    (
        "dns-says-otherwise",
        "knowledge",
        _W,
        "DNS has the address for another name",
        "Clients of that name would arrive here.",
        "Correct the record, or take another address.",
    ),
    (
        "pool-nearly-full",
        "knowledge",
        _N,
        "a pool is nearly full",
        "Every fixed address taken out of it makes it smaller.",
        "Look at the pool before more hosts are added.",
    ),
    (
        "pool-unknown",
        "knowledge",
        _N,
        "the segment's DHCP pools are not known",
        "Without them nobody can say that the address will not be leased to someone else.",
        "Say it with `--pool RANGE`, with `pools:` in the plan (`[]` says: no DHCP server), or with a source.",
    ),
    (
        "source-unreadable",
        "knowledge",
        _N,
        "a source could not be read",
        "What it would have said is not known.",
        "Correct its path, its permissions or the place it names.",
    ),
    (
        "expected-not-reserved",
        "knowledge",
        _W,
        "the address that the plan expects by DHCP is not reserved",
        "The host stays on DHCP, and would be leased whatever is free.",
        "Reserve it for the interface's MAC on the DHCP server, or correct `expect`.",
    ),
    (
        "source-disagrees",
        "knowledge",
        _W,
        "a source and the plan say different things of a segment",
        "One of them is out of date; a wrong mask or gateway cuts the host off, a wrong pool leases its address away.",
        "Find out which one is right, and correct the other.",
    ),
    (
        "source-untidy",
        "knowledge",
        _N,
        "an entry of a source is not written cleanly",
        "It was understood here, but other programs may read it differently, or not at all.",
        "Correct the entry.",
    ),
    (
        "answers-on-wire",
        "wire",
        _B,
        "another machine answers for the address",
        "It is in use now. Two holders lose their connections by turns.",
        "Take another address, or find the machine by its MAC.",
    ),
    (
        "gateway-silent",
        "wire",
        _B,
        "the gateway does not answer",
        "A default route through it would lead nowhere.",
        "Compare the gateway with the one in force today, and look whether it is up.",
    ),
    (
        "gateway-two-owners",
        "wire",
        _B,
        "two machines answer for the gateway",
        "One of them is a mistake or an attack; traffic goes to either.",
        "Find both by their MACs before anything is changed.",
    ),
    (
        "unknown-dhcp-server",
        "wire",
        _W,
        "a DHCP server answers that the plan does not know",
        "Its pool may contain the address, and hosts that stay on DHCP may get wrong settings.",
        "Find it by its address and MAC.",
    ),
    (
        "resolver-silent",
        "wire",
        _W,
        "a resolver does not answer",
        "Every look-up waits for it first.",
        "Correct the plan's resolvers, or look whether it is up.",
    ),
    (
        "not-probed",
        "wire",
        _N,
        "the wire was not looked at",
        "Whether a machine answers for the address is not known.",
        "Run the check as root on a host of the segment.",
    ),
    (
        "interface-missing",
        "host",
        _B,
        "the machine has no such interface",
        "Its files would configure nothing, and the address would be lost.",
        "Compare the plan with `fixed-anchor survey`.",
    ),
    (
        "mac-differs",
        "host",
        _B,
        "the interface has another MAC",
        "This may be another machine, or a replaced network card.",
        "Compare the plan with `fixed-anchor survey`.",
    ),
    (
        "link-down",
        "host",
        _W,
        "the link is down",
        "Nothing can be verified over a link that is down.",
        "Look at the cable, the switch port, or the virtual switch.",
    ),
    (
        "no-dhcp-answer",
        "host",
        _W,
        "the interface gave itself a link-local address",
        "169.254.0.0/16 means that no DHCP server answered (RFC 3927).",
        "Look at the cable and VLAN first: a static address does not cure a wrong one.",
    ),
    (
        "two-stacks",
        "host",
        _B,
        "two network stacks claim the interface",
        "Each undoes what the other does, often only at the next boot.",
        "Take the interface away from one of them.",
    ),
    (
        "rewritten-at-boot",
        "host",
        _B,
        "the file is regenerated at boot",
        "The change would be gone after the next boot.",
        "Let `draft` switch the regeneration off, in the documented way.",
    ),
    (
        "still-asks-dhcp",
        "host",
        _B,
        "DHCP would still be asked",
        "A second file or a running client would bring the lease back beside the fixed address.",
        "Switch it off in the file named.",
    ),
    (
        "file-too-open",
        "host",
        _W,
        "a file is open to more users than it should be",
        "Interface files may hold secrets; some stacks refuse to read them.",
        "`draft` tightens it.",
    ),
    (
        "resolv-conf-not-ours",
        "host",
        _W,
        "/etc/resolv.conf is written by somebody else",
        "Editing it would not last.",
        "The resolvers are set where its owner takes them from.",
    ),
    (
        "lease-supplied-more",
        "host",
        _W,
        "the lease supplies more than the plan says",
        "It is lost with the lease: MTU, time servers, routes or a hostname.",
        "Add the keys named to the interface.",
    ),
    (
        "kernel-only-state",
        "host",
        _W,
        "the kernel holds state that no file declares",
        "Addresses, routes or rules set by hand may be dropped when the stack loads its files.",
        "Declare it, list it under `leave_alone`, or accept its loss.",
    ),
    (
        "stack-busy",
        "host",
        _B,
        "the network stack is in the middle of a change of its own",
        "Two changes at once end in neither of the two; one that waits to be confirmed would undo this one.",
        "Wait until it is over, or end it.",
    ),
    (
        "carries-root",
        "host",
        _B,
        "the root file system comes in by this interface",
        "While its address changes the host cannot read its own programs, nor those that would bring it back.",
        "Change the address where the host gets it at boot, and boot it anew.",
    ),
    (
        "root-unclear",
        "host",
        _B,
        "by which interface the root file system comes in is not known",
        "If it is the one that changes, the host loses its own programs in the middle of the change.",
        "Find out on the host: `ip route get` with the address of the server in /proc/mounts.",
    ),
    (
        "no-boot-guard",
        "host",
        _B,
        "nothing would roll an unconfirmed change back at boot",
        "After a power cut in the middle of a change the host would boot with files that nobody has confirmed.",
        "Accept it where somebody can be at the console, or change the host by hand.",
    ),
    (
        "your-session-rides-here",
        "host",
        _N,
        "your session comes in through this interface",
        "If the change goes wrong you lose it; the guard then rolls the change back.",
        "Keep a second way in at hand.",
    ),
)

_UNDETERMINED = frozenset({"pool-unknown", "source-unreadable", "not-probed", "root-unclear"})

CATALOGUE: dict[str, FindingKind] = {row[0]: FindingKind(*row, undetermined=row[0] in _UNDETERMINED) for row in _ROWS}
