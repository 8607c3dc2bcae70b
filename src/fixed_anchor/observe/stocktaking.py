"""Taking stock of a machine: kernel, files and resolvers joined to one survey."""

from __future__ import annotations

from ipaddress import IPv4Address

from fixed_anchor.core.addresses import IPAddress, parse_address
from fixed_anchor.core.config import LinkFacts
from fixed_anchor.core.survey import HostSurvey, Lease, SurveyedInterface
from fixed_anchor.dialects import DIALECTS
from fixed_anchor.dialects.protocol import Declaration, FileText
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe import kernel, resolvers


def dialect_files(machine: Machine, dialect: str) -> dict[str, FileText]:
    """All files of a dialect on the machine, by path. Raises ``NoAccess``."""
    found: dict[str, FileText] = {}
    for pattern in DIALECTS[dialect].patterns:
        for path in machine.glob(pattern):
            file = machine.read(path)
            if file is not None:
                found[path] = file
    return found


def take_stock(machine: Machine) -> HostSurvey:
    """The survey of ``machine``: of what runs there, or of its files alone.

    Raises :class:`~fixed_anchor.core.errors.AnchorError` for broken files and missing
    permissions.
    """
    if machine.running:
        found = kernel.links(machine)
        links = tuple(link.facts for link in found)
    else:
        found = ()
        links = _links_in_files(machine)
    declarations: dict[str, Declaration] = {}
    stack = None
    evidence: list[str] = []
    for name, dialect in DIALECTS.items():
        files = dialect_files(machine, name)
        for declaration in dialect.read(files, links):
            declarations[declaration.link.name] = declaration
            stack = name
            evidence.append(f"{declaration.places[0]} declares {declaration.link.name}")
    if not machine.running:
        interfaces = tuple(_from_files(link, declarations.get(link.name)) for link in links)
        return HostSurvey(machine.name, stack, tuple(evidence), interfaces, running=False)
    stub = resolvers.uses_resolved(machine)
    all_routes = kernel.routes(machine)
    surveyed = []
    for link in found:
        name = link.facts.name
        servers, search = resolvers.of_link(machine, name) if stub else resolvers.of_resolv_conf(machine)
        declared = declarations.get(name)
        surveyed.append(
            SurveyedInterface(
                link=link.facts,
                state=link.state,
                index=link.index,
                addresses=link.addresses,
                routes=tuple(r.route for r in all_routes if r.interface == name),
                resolvers=servers,
                search=search,
                lease=_lease(machine, link),
                declared=declared.config if declared else None,
                declared_in=declared.places if declared else (),
            )
        )
    return HostSurvey(machine.name, stack, tuple(evidence), tuple(surveyed))


def _links_in_files(machine: Machine) -> tuple[LinkFacts, ...]:
    names: dict[str, LinkFacts] = {}
    for name, dialect in DIALECTS.items():
        for interface in dialect.named(dialect_files(machine, name)):
            names.setdefault(interface, LinkFacts(interface))
    return tuple(names.values())


def _from_files(link: LinkFacts, declared: Declaration | None) -> SurveyedInterface:
    return SurveyedInterface(
        link=link,
        state="unknown",
        resolvers=(declared.config.resolvers or ()) if declared else (),
        search=(declared.config.search or ()) if declared else (),
        declared=declared.config if declared else None,
        declared_in=declared.places if declared else (),
    )


def _lease(machine: Machine, link: kernel.KernelLink) -> Lease | None:
    leased = next((a for a in link.addresses if a.origin == "dhcp" and a.address.version == 4), None)
    if leased is None:
        return None
    return Lease(leased.address.ip, leased.seconds_left, _lease_server(machine, link.index))


def _lease_server(machine: Machine, index: int) -> IPAddress | None:
    """The server's address from systemd-networkd's record of the lease, where it keeps one."""
    file = machine.read(f"/run/systemd/netif/leases/{index}")
    for line in file.text.splitlines() if file else ():
        if line.startswith("SERVER_ADDRESS="):
            try:
                address = parse_address(line.partition("=")[2])
            except ValueError:
                return None
            return address if isinstance(address, IPv4Address) else None
    return None
