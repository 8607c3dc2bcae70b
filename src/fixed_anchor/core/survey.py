"""What is in force on a host: the result of taking stock."""

from __future__ import annotations

import msgspec

from fixed_anchor.core.addresses import IPAddress, IPInterface, IPNetwork
from fixed_anchor.core.aside import Aside, Unreadable
from fixed_anchor.core.config import InterfaceConfig, LinkFacts, Place, Route
from fixed_anchor.core.programs import Program

#: How Linux and Windows call a link without a carrier, or one that is switched off.
_DOWN = ("down", "disconnected", "disabled", "not present")
#: Nobody writes /etc/resolv.conf but the administrator.
NOBODY = "nobody"
#: The one that writes it, and has resolvers and a search list for each link.
FOR_EACH_LINK = "systemd-resolved"


class Rival(msgspec.Struct, frozen=True):
    """A further stack that claims an interface as well, and where it declares it."""

    stack: str
    declared_at: Place


class Taker(msgspec.Struct, frozen=True):
    """A stack that takes an interface which no file declares yet: its name, its daemon, and why it would."""

    stack: str
    daemon: str
    because: str


def which_stack(takers: tuple[Taker, ...]) -> str:
    """What to do where several stacks could take an interface."""
    reasons = "; ".join(f"{taker.stack}: {taker.because}" for taker in takers)
    return f"add `stack: {takers[0].stack}`, or the other one, to the host in the plan ({reasons})"


class OpenFile(msgspec.Struct, frozen=True):
    """An interface file that others than its reader may read: its mode, and the one that ``stack`` wants."""

    path: str
    mode: int
    stack: str
    wanted: int


class FoundAddress(msgspec.Struct, frozen=True):
    """An address in the kernel. ``origin`` is ``dhcp``, ``fixed``, ``link-local`` or ``slaac``.

    ``seconds_left`` is the rest of its valid lifetime, ``None`` for ever.
    """

    address: IPInterface
    origin: str
    seconds_left: int | None = None


class Lease(msgspec.Struct, frozen=True):
    """The DHCP lease of an interface, as far as the stack or the kernel tells.

    What it supplies beyond address, gateway and resolvers: ``mtu`` in bytes,
    ``time_servers``, additional ``routes``, and a ``hostname``. ``client_id`` is what the
    client calls itself to the server (RFC 2132, 9.14), in hexadecimal, where it is known.
    ``resolvers`` and ``search`` are those that it names. ``others`` is what no key of a plan is about, in words.
    """

    address: IPAddress
    seconds_left: int | None
    server: IPAddress | None = None
    mtu: int | None = None
    time_servers: tuple[str, ...] = ()
    routes: tuple[Route, ...] = ()
    hostname: str | None = None
    client_id: str | None = None
    resolvers: tuple[IPAddress, ...] = ()
    search: tuple[str, ...] = ()
    others: tuple[str, ...] = ()


class Announced(msgspec.Struct, frozen=True):
    """What router advertisements (RFC 4861, 4191, 8106) and DHCPv6 (RFC 8415) gave beside addresses and default routes.

    ``mtu`` in bytes, ``None`` where it is the link's. ``prefixes`` are said to be on the link.
    """

    resolvers: tuple[IPAddress, ...] = ()
    search: tuple[str, ...] = ()
    mtu: int | None = None
    routes: tuple[Route, ...] = ()
    prefixes: tuple[IPNetwork, ...] = ()


class SurveyedInterface(msgspec.Struct, frozen=True):
    """One interface: what the kernel holds, and where the stack's files declare it.

    ``index`` is the kernel's number, 0 where only files were read. ``declared`` is
    ``None`` where no file says anything about the interface. ``by_hand`` and
    ``routes_by_hand`` are fixed addresses and routes of the kernel that no file declares.
    ``rivals`` claim the interface too, ``regenerated`` are the places of its declaration that
    first-boot provisioning writes again at boot, ``dhcp_in`` turns IPv4 DHCP on, and ``client`` and
    ``client6`` are the command lines of lease clients that run for it. ``daemon`` carries the declaration out.
    ``announced`` is ``None`` where neither routers nor DHCPv6 configure the interface. ``time_servers`` are
    those that the host's time daemon follows, ``None`` where nobody can tell. ``takers`` are the stacks that
    would take it where no file declares it; of one alone ``stack`` and ``daemon`` are that one's. ``time_daemon`` is
    the time daemon that is told of the time servers in its own file, where its stack has such a thing.
    """

    link: LinkFacts
    state: str
    index: int = 0
    addresses: tuple[FoundAddress, ...] = ()
    routes: tuple[Route, ...] = ()
    resolvers: tuple[IPAddress, ...] = ()
    search: tuple[str, ...] = ()
    lease: Lease | None = None
    declared: InterfaceConfig | None = None
    declared_in: tuple[Place, ...] = ()
    stack: str | None = None
    by_hand: tuple[IPInterface, ...] = ()
    routes_by_hand: tuple[Route, ...] = ()
    rivals: tuple[Rival, ...] = ()
    regenerated: tuple[Place, ...] = ()
    dhcp_in: Place | None = None
    client: str | None = None
    client6: str | None = None
    daemon: str | None = None
    announced: Announced | None = None
    time_servers: tuple[str, ...] | None = None
    takers: tuple[Taker, ...] = ()
    time_daemon: str = ""
    #: The category of its network, by which the firewall goes, where the system has such a thing.
    category: str = ""
    #: The name of that network, the metric of the interface itself, and whether it is on its fallback; likewise.
    network: str = ""
    own_metric: int | None = None
    on_fallback: bool = False

    @property
    def name(self) -> str:
        """The interface's name."""
        return self.link.name

    @property
    def is_down(self) -> bool:
        """Whether its link has no carrier, or is switched off."""
        return self.state in _DOWN

    def leased_addresses(self) -> tuple[IPAddress, ...]:
        """The addresses that come from a DHCP lease."""
        return tuple(a.address.ip for a in self.addresses if a.origin == "dhcp")

    def default_routes(self, version: int) -> tuple[Route, ...]:
        """The default routes in force of IP ``version`` (4 or 6)."""
        return tuple(r for r in self.routes if r.is_default and r.destination.version == version)


class TimeService(msgspec.Struct, frozen=True):
    """The time daemon of a host, by its ``name``.

    ``drop_in`` is the file for the time servers of a plan, and ``declared`` what it says now; ``main`` is
    the file that must be told to read it first, empty where that is so. ``servers`` are those that the
    daemon follows by its own word, ``None`` where it cannot be asked.
    """

    name: str
    drop_in: str
    main: str = ""
    servers: tuple[str, ...] | None = None
    declared: tuple[str, ...] = ()


class Identity(msgspec.Struct, frozen=True):
    """What should be one host's alone: its ``kind`` (``machine-id``, ``SSH host key``, ``DUID``), value and place."""

    kind: str
    value: str
    place: Place


class HostSurvey(msgspec.Struct, frozen=True):
    """All interfaces of one host (loopback left out), and the stack in charge.

    ``stack`` is the name of a format, or ``None`` with the reason in ``stack_evidence``.
    ``running`` is false where only files were read (an image, a template).
    ``rules_by_hand`` are routing rules that no stack made, as the commands that set them again.
    ``resolv_conf_by`` is who writes /etc/resolv.conf. ``asides`` are what interface
    files say beside the addressing, ``others`` what else configures or names interfaces;
    ``unreadable`` are the interface files that were passed over because they cannot be read.
    ``identities`` are what should be this host's alone. ``time_service`` is ``None`` where no time daemon is known.
    ``takers`` are the stacks that could take an interface which no file declares.
    ``programs`` are those that carry the addressing out, as far as their versions are known.
    ``system`` names another operating system than Linux. ``unknown`` says why what is here may not be all: then
    nothing follows from what is not.
    """

    host: str
    stack: str | None
    stack_evidence: tuple[str, ...]
    interfaces: tuple[SurveyedInterface, ...]
    running: bool = True
    hostname: str = ""
    rules_by_hand: tuple[tuple[str, ...], ...] = ()
    open_files: tuple[OpenFile, ...] = ()
    resolv_conf_by: str = NOBODY
    asides: tuple[Aside, ...] = ()
    others: tuple[Aside, ...] = ()
    unreadable: tuple[Unreadable, ...] = ()
    identities: tuple[Identity, ...] = ()
    time_service: TimeService | None = None
    takers: tuple[Taker, ...] = ()
    programs: tuple[Program, ...] = ()
    system: str = ""
    unknown: str = ""

    def interface(self, name: str) -> SurveyedInterface | None:
        """The interface ``name``, or ``None``."""
        return next((i for i in self.interfaces if i.name == name), None)

    def interface_in(self, subnets: tuple[IPNetwork, ...]) -> SurveyedInterface | None:
        """The first interface that has an address in one of ``subnets``, or ``None``."""
        for interface in self.interfaces:
            for held in interface.addresses:
                if any(s.version == held.address.version and held.address.ip in s for s in subnets):
                    return interface
        return None

    def missing(self, name: str) -> str:
        """In words that there is no interface ``name``, as far as was looked; which in a tree is its files alone."""
        others = ", ".join(i.name for i in self.interfaces)
        if self.running:
            macs = ((i.name, i.link.permanent_mac or i.link.mac) for i in self.interfaces)
            others = ", ".join(f"{name} ({mac})" if mac else name for name, mac in macs)
            return f"{self.host} has no interface {name}; it has {others or 'none'}"
        broken = ", ".join(dict.fromkeys(u.where for u in self.unreadable if u.stops))
        if broken:
            return f"no file of {self.host} that could be read is about {name}; not read: {broken}"
        return f"no file of {self.host} is about {name}" + (f"; they are about {others}" if others else "")

    def by_mac(self, mac: str) -> tuple[SurveyedInterface, ...]:
        """Interfaces whose permanent MAC, or MAC in use, is ``mac``."""
        return tuple(i for i in self.interfaces if mac in (i.link.permanent_mac or i.link.mac, i.link.mac))

    def own_macs(self) -> frozenset[str]:
        """All MACs of the host, permanent and in use."""
        return frozenset(m for i in self.interfaces for m in (i.link.mac, i.link.permanent_mac) if m)

    def physical_macs(self) -> frozenset[str]:
        """The MACs of its devices: what is made of them has the same ones."""
        links = (i.link for i in self.interfaces if i.link.kind in ("ethernet", "wireless"))
        return frozenset(m for link in links if (m := link.permanent_mac or link.mac))

    def own_addresses(self) -> frozenset[IPAddress]:
        """All addresses that its kernel holds."""
        return frozenset(a.address.ip for i in self.interfaces for a in i.addresses)
