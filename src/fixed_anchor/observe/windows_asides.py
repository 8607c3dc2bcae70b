"""What a Windows machine has beside its addresses: roles, policies, teams, categories of networks, absent adapters."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

from fixed_anchor.core.addresses import IPAddress, parse_address
from fixed_anchor.core.aside import (
    ABSENT,
    CATEGORY,
    CLUSTER,
    DUPLICATE,
    NAME_TWICE,
    POLICY_RESOLVERS,
    POLICY_SEARCH,
    REGISTERS,
    ROLE,
    SWITCH,
    TEAM,
    Aside,
)
from fixed_anchor.core.config import Place
from fixed_anchor.core.elsewhere import Listener
from fixed_anchor.core.errors import printable
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.machines.windows.facts import Adapter, Address, Facts

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
#: Clients of DHCP hold a socket on the address that they lease: it goes with them.
_LEASE_CLIENTS = (68, 546)


def windows_asides(facts: Facts, interfaces: tuple[SurveyedInterface, ...]) -> Iterator[Aside]:
    """All of it; ``interfaces`` are those that were surveyed. Raises :class:`ValueError` for what is no address."""
    yield from _services(facts)
    yield from _policies(facts)
    for name, count in Counter(i.name for i in interfaces).items():
        if count > 1:
            yield Aside(NAME_TWICE, Place("adapters", 0), f"{count} of them", name)
    for interface in interfaces:
        yield from _of_adapter(facts, interface)
    yield from _absent(facts, {i.index for i in interfaces})


def _services(facts: Facts) -> Iterator[Aside]:
    for service in facts.services:
        place = Place(f"service {printable(service.name)}", 0)
        if service.name == _CLUSTER:
            yield Aside(CLUSTER, place, "this is a node of a failover cluster")
        elif service.name in _ROLES and service.status == "Running":
            yield Aside(ROLE, place, _ROLES[service.name])


def _policies(facts: Facts) -> Iterator[Aside]:
    listed = {name: " ".join(said).replace(",", " ").split() for name, said in facts.policies.items()}
    if listed.get("NameServer"):
        addresses = tuple(map(parse_address, listed["NameServer"]))
        yield Aside(POLICY_RESOLVERS, _POLICIES, " ".join(listed["NameServer"]), addresses=addresses)
    if listed.get("SearchList"):
        yield Aside(POLICY_SEARCH, _POLICIES, " ".join(map(printable, listed["SearchList"])))


def _of_adapter(facts: Facts, interface: SurveyedInterface) -> Iterator[Aside]:
    name, place = interface.name, Place(f"adapter {interface.index}", 0)
    if interface.link.kind == "virtual switch":
        yield Aside(SWITCH, place, "", name, of=name.partition("(")[2].rstrip(")") or name)
    elif interface.link.kind == "team":
        team = next((t.name for t in facts.teams if name in t.interfaces), name)
        yield Aside(TEAM, place, "", name, of=team)
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


def _absent(facts: Facts, shown: set[int]) -> Iterator[Aside]:
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


def windows_listeners(facts: Facts) -> tuple[Listener, ...]:
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
