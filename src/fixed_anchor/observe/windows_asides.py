"""What a Windows machine has beside its addresses: roles, policies, teams, categories of networks, absent adapters."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

from fixed_anchor.core.addresses import IPAddress, parse_address, parse_interface_address
from fixed_anchor.core.aside import (
    ABSENT,
    AGENT,
    BALANCED,
    CATEGORY,
    CLUSTER,
    DUPLICATE,
    NAME_TWICE,
    NETWORK_DISK,
    POLICY_RESOLVERS,
    POLICY_SEARCH,
    PROFILE_RESOLVERS,
    REGISTERS,
    ROLE,
    SWITCH,
    TEAM,
    TYPED_ROUTES,
    WIRELESS,
    Aside,
)
from fixed_anchor.core.config import Place
from fixed_anchor.core.elsewhere import Listener
from fixed_anchor.core.errors import printable
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.machines.windows.windows_facts import Adapter, Address, WindowsFacts, listed

_POLICIES = Place(r"HKLM\SOFTWARE\Policies\Microsoft\Windows NT\DNSClient", 0)
_CLUSTER = "ClusSvc"
#: Services whose roles others find by the machine's address, or that name it in their own settings.
_ROLES = {
    "NTDS": "this is a domain controller",
    "DNS": "this is a DNS server",
    "DHCPServer": "this is a DHCP server",
    "RemoteAccess": "this is a router or a VPN server",
    "WINS": "this is a WINS server",
    "CertSvc": "this is a certificate authority",
    "MSSQLSERVER": "a database server runs here",
}
#: Agents by which clouds set up the machines that run in them.
_AGENTS = frozenset({"WindowsAzureGuestAgent", "AmazonSSMAgent", "GCEAgent", "cloudbase-init"})
_NETWORK_BUSES = frozenset({"iscsi"})
_TYPED = r"HKLM\SYSTEM\CurrentControlSet\Services\Tcpip\Parameters\PersistentRoutes"
#: Clients of DHCP hold a socket on the address that they lease: it goes with them.
_LEASE_CLIENTS = (68, 546)


def windows_asides(facts: WindowsFacts, interfaces: tuple[SurveyedInterface, ...]) -> Iterator[Aside]:
    """All of it; ``interfaces`` are those that were surveyed. Raises :class:`ValueError` for what is no address."""
    yield from _services(facts)
    yield from _policies(facts)
    yield from _of_machine(facts)
    for name, count in Counter(i.name for i in interfaces).items():
        if count > 1:
            yield Aside(NAME_TWICE, Place("adapters", 0), f"{count} of them", name)
    for interface in interfaces:
        yield from _of_adapter(facts, interface)
    yield from _absent(facts, {i.index for i in interfaces})


def _services(facts: WindowsFacts) -> Iterator[Aside]:
    for service in facts.services:
        place = Place(f"service {printable(service.name)}", 0)
        if service.name == _CLUSTER:
            yield Aside(CLUSTER, place, "this is a node of a failover cluster")
        elif service.name in _AGENTS and service.status == "Running":
            yield Aside(AGENT, place, f"service {printable(service.name)}")
        elif service.name in _ROLES and service.status == "Running":
            yield Aside(ROLE, place, _ROLES[service.name])


def _of_machine(facts: WindowsFacts) -> Iterator[Aside]:
    """What is so of the whole machine: where its disk is, and which routes somebody typed."""
    for bus in facts.boot_disks:
        if bus.lower() in _NETWORK_BUSES:
            yield Aside(NETWORK_DISK, Place("Get-Disk", 0), printable(bus))
    routes = [_typed_route(name) for name in facts.persistent_routes]
    if routes:
        yield Aside(TYPED_ROUTES, Place(_TYPED, 0), "; ".join(map(printable, routes)))


def _typed_route(name: str) -> str:
    """The name of a value of that key: ``DESTINATION,MASK,NEXT HOP,METRIC``."""
    destination, mask, hop, *_ = name.split(",")
    return f"{parse_interface_address(f'{destination}/{mask}').network} via {parse_address(hop)}"


def _policies(facts: WindowsFacts) -> Iterator[Aside]:
    # Names of the registry compare without case.
    policies = {name.lower(): listed(" ".join(values)) for name, values in facts.policies.items()}
    if policies.get("nameserver"):
        addresses = tuple(map(parse_address, policies["nameserver"]))
        yield Aside(POLICY_RESOLVERS, _POLICIES, " ".join(policies["nameserver"]), addresses=addresses)
    if policies.get("searchlist"):
        yield Aside(POLICY_SEARCH, _POLICIES, " ".join(map(printable, policies["searchlist"])))


def _of_adapter(facts: WindowsFacts, interface: SurveyedInterface) -> Iterator[Aside]:
    name, place = interface.name, Place(f"adapter {interface.index}", 0)
    if interface.link.kind == "virtual switch":
        yield Aside(SWITCH, place, "", name, of=name.partition("(")[2].rstrip(")") or name)
    elif interface.link.kind == "team":
        team = next((t.name for t in facts.teams if name in t.interfaces), name)
        yield Aside(TEAM, place, "", name, of=team)
    adapter = next(a for a in facts.adapters if a.index == interface.index)
    if facts.is_bound(adapter, "ms_wlbs"):
        yield Aside(BALANCED, place, "", name)
    if interface.link.kind == "wireless":
        yield Aside(WIRELESS, place, "", name)
    kept = facts.kept_of(adapter)
    if kept is not None and kept.profile_name_servers:
        servers = tuple(map(parse_address, listed(kept.profile_name_servers)))
        yield Aside(PROFILE_RESOLVERS, place, "", name, servers)
    for profile in facts.profiles:
        if profile.index == interface.index:
            yield Aside(CATEGORY, place, printable(profile.category), name, of=printable(profile.name))
    twice = tuple(_ip(a) for a in facts.addresses if a.index == interface.index and a.state == "Duplicate")
    if twice:
        yield Aside(DUPLICATE, place, "", name, twice)
    registered = tuple(_ip(a) for a in facts.addresses if a.index == interface.index and _is_registered(a))
    if registered and any(d.index == interface.index and d.registers for d in facts.dns):
        yield Aside(REGISTERS, place, "", name, registered)


def _is_registered(address: Address) -> bool:
    """Whether the machine puts an address into DNS: not what is never a source, nor what is of the link alone."""
    is_usable = address.store == "ActiveStore" and address.state == "Preferred"
    return is_usable and not address.skip_as_source and not _ip(address).is_link_local


def _ip(address: Address) -> IPAddress:
    return parse_address(address.address.partition("%")[0])


def _absent(facts: WindowsFacts, shown: set[int]) -> Iterator[Aside]:
    """Adapters that are not there, and keep fixed addresses: in the registry, or in the persistent store."""
    for adapter in facts.adapters:
        if adapter.index in shown:
            continue
        registry = facts.kept_of(adapter)
        kept = [parse_address(a) for a in registry.addresses] if registry is not None and registry.dhcp != "1" else []
        kept += [_ip(a) for a in facts.addresses if a.index == adapter.index and a.store == "PersistentStore"]
        held = tuple(dict.fromkeys(a for a in kept if not a.is_unspecified))
        if held:
            yield Aside(ABSENT, _place_of(adapter), "", addresses=held, of=printable(adapter.name))


def _place_of(adapter: Adapter) -> Place:
    return Place(f"adapter {printable(adapter.name)}", 0)


def windows_listeners(facts: WindowsFacts) -> tuple[Listener, ...]:
    """The sockets that wait for others, but those of DHCP clients."""
    found = []
    for socket in facts.sockets:
        if socket.protocol == "udp" and socket.port in _LEASE_CLIENTS:
            continue
        try:
            address: IPAddress | None = parse_address(socket.address.partition("%")[0])
        except ValueError:
            continue
        if address is not None and address.is_unspecified:
            address = None
        found.append(Listener(socket.protocol, address, socket.port, printable(socket.process or "")))
    return tuple(found)
