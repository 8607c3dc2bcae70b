"""What ``collector.ps1`` tells of a Windows machine, as it stands in its JSON; that script says where it comes from.

An ``index`` is Windows' number of an interface, a ``guid`` what it is known by for ever; ``store`` is ``ActiveStore``
or ``PersistentStore``. Texts are as Windows says them.
"""

from __future__ import annotations

from pathlib import Path

import msgspec

from fixed_anchor.core.addresses import parse_mac
from fixed_anchor.core.errors import AnchorError, InputError, NoAccess, NotSupported, printable

#: The version of the form in which the collector writes.
FORM = 1


#: What a survey and a draft are made of: without one of these they would claim what nobody has seen.
_NEEDED = ("adapters", "bindings", "ip_interfaces", "addresses", "routes", "kept", "search")


class Adapter(msgspec.Struct, frozen=True):
    """A network adapter, hidden ones too."""

    name: str
    guid: str
    index: int
    description: str = ""
    mac: str = ""
    permanent_mac: str = ""
    status: str = ""
    hardware: bool = False
    virtual: bool = False
    hidden: bool = False
    media: str = ""
    component: str = ""


class Binding(msgspec.Struct, frozen=True):
    """A component that an adapter is bound to, of those that say who has taken it; the adapter by both its names."""

    name: str
    description: str
    component: str


class IpInterface(msgspec.Struct, frozen=True):
    """One IP version of an adapter; ``family`` is ``IPv4`` or ``IPv6``, or Windows' number 2 or 23 of it."""

    index: int
    family: str
    dhcp: str = ""
    metric: int = 0
    automatic_metric: str = ""
    mtu: int = 0
    state: str = ""
    router_discovery: str = ""
    ignores_defaults: str = ""

    @property
    def version(self) -> int:
        """4 or 6."""
        return version_of(self.family)

    @property
    def hears_routers(self) -> bool:
        """Whether router advertisements configure it."""
        return self.router_discovery in ("Enabled", "1")


class Address(msgspec.Struct, frozen=True):
    """An address; ``seconds`` is the rest of its lifetime, ``None`` for ever."""

    store: str
    index: int
    address: str
    prefix: int
    prefix_origin: str = ""
    suffix_origin: str = ""
    state: str = ""
    skip_as_source: bool = False
    seconds: int | None = None


class RouteThere(msgspec.Struct, frozen=True):
    """A route; the metric of its interface comes on top of its own."""

    store: str
    index: int
    destination: str
    next_hop: str
    metric: int = 0
    protocol: str = ""


class Resolvers(msgspec.Struct, frozen=True):
    """The resolvers of one IP version of an interface."""

    index: int
    family: str
    servers: list[str] = []


class DnsClient(msgspec.Struct, frozen=True):
    """How an interface takes part in DNS."""

    index: int
    suffix: str = ""
    registers: bool = True
    uses_suffix: bool = False


class Profile(msgspec.Struct, frozen=True):
    """The network that an interface is connected to, and its category, by which the firewall goes."""

    index: int
    name: str
    category: str


class LeaseThere(msgspec.Struct, frozen=True):
    """What the last lease gave; it stays, stale, after a change to fixed addresses. ``options`` are in hexadecimal."""

    address: str = ""
    mask: str = ""
    server: str = ""
    gateways: list[str] = []
    name_servers: str = ""
    domain: str = ""
    obtained: str = ""
    ends: str = ""
    options: str | None = None


class Kept(msgspec.Struct, frozen=True):
    """The values of an interface in the registry; ``alternate`` are DHCP options in hexadecimal.

    ``profile_name_servers`` are resolvers that were set for one network, in the Settings of Windows 11.
    """

    guid: str
    dhcp: str = ""
    addresses: list[str] = []
    masks: list[str] = []
    gateways: list[str] = []
    metrics: list[str] = []
    name_servers: str = ""
    name_servers6: str = ""
    domain: str = ""
    active_configurations: list[str] = []
    alternate: str | None = None
    autoconfiguration: str = ""
    profile_name_servers: str = ""
    netbios_servers: list[str] = []
    lease: LeaseThere = LeaseThere()

    @property
    def alternate_counts(self) -> bool:
        """Whether its alternate configuration is taken where no server answers; names compare without case."""
        return f"alternate_{self.guid}".lower() in (name.lower() for name in self.active_configurations)


class Service(msgspec.Struct, frozen=True):
    """A role whose service is there."""

    name: str
    status: str


class Team(msgspec.Struct, frozen=True):
    """A team of adapters: the address sits on one of ``interfaces``."""

    name: str
    members: list[str] = []
    interfaces: list[str] = []


class VirtualSwitch(msgspec.Struct, frozen=True):
    """A virtual switch; ``adapters`` are the descriptions of those that it has taken, several where it is a team."""

    name: str
    kind: str
    adapters: list[str] = []


class Socket(msgspec.Struct, frozen=True):
    """A socket that is bound to an address."""

    protocol: str
    address: str
    port: int
    process: str | None = None


class Policy(msgspec.Struct, frozen=True):
    """Which scripts may run, in one scope."""

    scope: str
    policy: str


class WindowsFacts(msgspec.Struct, frozen=True):
    """All of it. In a ``language_mode`` other than FullLanguage nothing but that is known.

    ``missing`` says of what could not be asked why. ``boot_disks`` are the buses of the disks that the system starts
    from, ``persistent_routes`` the names of values that ``route -p`` has written: ``DESTINATION,MASK,NEXT HOP,METRIC``.
    """

    fixed_anchor_windows: int
    language_mode: str
    edition: str = ""
    version: str = ""
    elevated: bool = False
    execution_policy: list[Policy] = []
    host: str = ""
    dns_host: str = ""
    domain: str = ""
    domain_member: bool = False
    system: str = ""
    adapters: list[Adapter] = []
    ip_interfaces: list[IpInterface] = []
    addresses: list[Address] = []
    routes: list[RouteThere] = []
    resolvers: list[Resolvers] = []
    dns: list[DnsClient] = []
    search: list[str] = []
    profiles: list[Profile] = []
    kept: list[Kept] = []
    policies: dict[str, list[str]] = {}
    services: list[Service] = []
    teams: list[Team] = []
    switches: list[VirtualSwitch] = []
    bindings: list[Binding] = []
    boot_disks: list[str] = []
    persistent_routes: list[str] = []
    sockets: list[Socket] = []
    missing: dict[str, str] = {}

    def is_bound(self, adapter: Adapter, component: str) -> bool:
        """Whether ``component`` has its hands on an adapter, by both its names."""
        mine = (adapter.name, adapter.description, component)
        return any((b.name, b.description, b.component.lower()) == mine for b in self.bindings)

    def kept_of(self, adapter: Adapter) -> Kept | None:
        """What the registry keeps of an adapter, ``None`` where nothing was told of it."""
        return next((k for k in self.kept if k.guid.lower() == adapter.guid.lower()), None)

    @property
    def unknown(self) -> str:
        """Why it is not all that a survey is made of; empty where that is all there."""
        if self.is_restricted:
            return f"its language mode is {self.language_mode}: nothing else can be known of it"
        gone = [f"{what} could not be asked: {why}" for what, why in self.missing.items() if what.startswith(_NEEDED)]
        return printable("; ".join(gone))

    def why_no_change(self, name: str) -> AnchorError | None:
        """Why no change can be made there, as far as its collector could tell; ``None`` where one can."""
        if self.is_restricted:
            return NotSupported(
                f"{name}: its language mode is {self.language_mode}, in which no engine runs",
                remedy="have this tool allowed by its application control, or change it by hand; nothing was changed",
            )
        if not self.elevated:
            return NoAccess(
                f"changing {name} needs an elevated session, and this one is not",
                remedy="reach it as an administrator; nothing was changed",
            )
        return None

    @property
    def is_restricted(self) -> bool:
        """Whether the language mode kept everything else from being asked."""
        return self.language_mode != "FullLanguage"


def plain_mac(text: str) -> str | None:
    """A MAC that Windows writes as ``00-00-5E-00-53-11`` or ``00005E005311``; ``None`` where it is none."""
    plain = text.replace("-", "").replace(":", "")
    try:
        return parse_mac(":".join(plain[n : n + 2] for n in range(0, len(plain), 2)))
    except ValueError:
        return None


def listed(text: str) -> tuple[str, ...]:
    """A list of the registry, which is separated by commas or blanks."""
    return tuple(text.replace(",", " ").split())


def version_of(family: str) -> int:
    """The IP version (4 or 6) that Windows calls so."""
    return 6 if family in ("IPv6", "23") else 4


def is_of_windows(data: bytes) -> bool:
    """Whether ``data`` begins as what the collector prints, in whichever encoding it was redirected to a file."""
    return _plain(data).lstrip()[:200].startswith(b"{") and b'"fixed_anchor_windows"' in _plain(data)[:300]


def read_facts(data: bytes, file: str) -> WindowsFacts:
    """What the collector printed. Raises :class:`InputError` for a document that is cut short, or is none.

    In Windows PowerShell 5.1 ``>`` writes UTF-16 with a byte order mark.
    """
    try:
        facts = msgspec.json.decode(_plain(data).strip(), type=WindowsFacts)
    except msgspec.ValidationError as error:
        raise _broken(printable(str(error)), file) from None
    except msgspec.DecodeError as error:
        raise _broken(f"this is no whole JSON document: {printable(str(error))}", file) from None
    if facts.fixed_anchor_windows != FORM:
        raise _broken(f"it is of form {facts.fixed_anchor_windows}, and this version reads form {FORM}", file)
    return facts


def facts_of_file(path: Path) -> WindowsFacts:
    """The same from a file."""
    try:
        return read_facts(path.read_bytes(), str(path))
    except OSError as error:
        raise InputError(f"the collection cannot be read: {error.strerror}", file=str(path)) from None


def _broken(what: str, file: str) -> InputError:
    return InputError(what, file=file, expected="what collector.ps1 prints", remedy="collect again, and carry it whole")


def _plain(data: bytes) -> bytes:
    """The text in UTF-8, without a byte order mark."""
    for mark, encoding in ((b"\xff\xfe", "utf-16-le"), (b"\xfe\xff", "utf-16-be"), (b"\xef\xbb\xbf", "utf-8")):
        if data.startswith(mark):
            return data[len(mark) :].decode(encoding, "replace").encode()
    return data
