"""Taking stock of a machine: kernel, files, stacks and resolvers joined to one survey."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import msgspec

from fixed_anchor.change.files import FileText
from fixed_anchor.core.addresses import IPInterface, parse_address
from fixed_anchor.core.aside import NOT_AT_BOOT, Aside, Unreadable
from fixed_anchor.core.config import Fallback, InterfaceConfig, LinkFacts, Place, Route
from fixed_anchor.core.errors import AnchorError, OtherSystem
from fixed_anchor.core.programs import Program, lacking
from fixed_anchor.core.survey import (
    FOR_EACH_LINK,
    HostSurvey,
    Lease,
    OpenFile,
    Rival,
    SurveyedInterface,
    Taker,
    TimeService,
)
from fixed_anchor.daemons import DAEMONS, GENERATORS, programs
from fixed_anchor.daemons.protocol import IN_FILES, IN_RESOLV_CONF
from fixed_anchor.formats import FORMATS
from fixed_anchor.formats.dhclient_conf import read_fallback
from fixed_anchor.formats.protocol import Declaration, Format
from fixed_anchor.formats.resolv_conf import RESOLV_CONF, says_resolv_conf
from fixed_anchor.formats.resolved_conf import DROP_IN, says_drop_in
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.machines.readable import Readable
from fixed_anchor.observe import kernel, others, resolvers
from fixed_anchor.observe.announced import announced_on
from fixed_anchor.observe.fetching import active_units, fetch_for_survey, fetch_kernel, sifted_files
from fixed_anchor.observe.identity import identities_of
from fixed_anchor.observe.lease import client_name, lease_clients, lease_of
from fixed_anchor.observe.provisioning import regenerates
from fixed_anchor.observe.stack import Charge, Services, active_daemons, in_charge, services
from fixed_anchor.observe.takers import KINDS, takers
from fixed_anchor.observe.time_service import time_service
from fixed_anchor.observe.windows import windows_survey


def take_stock(machine: Machine, beside: bool = True, planned: tuple[LinkFacts, ...] = ()) -> HostSurvey:
    """The survey of ``machine``: of what runs there, or of its files alone. All of it is fetched in two goes.

    Without ``beside`` it is not looked for what configures interfaces beside the stacks: for a survey that is
    made again and again. ``planned`` are links that a plan expects: where nothing runs, files may match them by
    a pattern or a MAC, and call none of them by name. A broken interface file is told, and keeps nothing else
    from being read. Raises :class:`~fixed_anchor.core.errors.AnchorError` for missing permissions.
    """
    try:
        return _survey(fetch_for_survey(machine, beside), beside, planned)
    except OtherSystem:
        # It has told by now what it is.
        if machine.windows is None:
            raise
        return windows_survey(machine.name, machine.windows)


def _survey(machine: Readable, look_beside: bool, planned: tuple[LinkFacts, ...]) -> HostSurvey:
    sifted = {name: sifted_files(machine, name) for name in FORMATS}
    files = {name: sound for name, (sound, _) in sifted.items()}
    unreadable = [_unreadable(name, error) for name, (_, broken) in sifted.items() for error in broken]
    running = services(machine) if machine.running else None
    found_programs = _programs(machine)
    lacks = lacking(found_programs)
    clients, clients6 = (lease_clients(machine, v) if machine.running else {} for v in (4, 6))
    found = tuple(_with_client(link, clients, running, lacks) for link in kernel.links(machine)) if running else ()
    links = tuple(link.facts for link in found) if machine.running else _links_in_files(files, planned, lacks)
    declarations: dict[str, dict[str, Declaration]] = {}
    asides: list[Aside] = []
    beside = list(others.found_on(machine, links)) if look_beside else []
    for name, form in FORMATS.items():
        read, said, errors = _of_format(form, files[name], links)
        declarations[name] = read
        asides += said
        unreadable += errors
    charges = {
        link.name: in_charge(link, {n: ds[link.name] for n, ds in declarations.items() if link.name in ds}, running)
        for link in links
    }
    writer = resolvers.owner(machine, running.active if running else frozenset())
    if running is None:
        interfaces = [_from_files(machine, link, charges[link.name], writer) for link in links]
    else:
        all_routes = kernel.routes(machine)
        elsewhere = kernel.defaults_elsewhere(machine)
        interfaces = [
            _running(machine, link, charges[link.facts.name], all_routes, elsewhere, writer) for link in found
        ]
    able = takers(machine, files, charges, links, running)
    if running is None and not able:
        # What no file is about, and nobody would take, is not there.
        named = {link.name for link in _links_in_files(files, (), lacks)}
        interfaces = [i for i in interfaces if i.declared is not None or i.name in named]
    # One whose file cannot be read is declared, only nobody can say how.
    known = [i for i in interfaces if not any(u.interface in ("", i.name) for u in unreadable)]
    interfaces = [_with_takers(i, able, running) if i in known else i for i in interfaces]
    service = time_service(machine, active_units(machine))
    interfaces = [_with_time_servers(i, service) for i in interfaces]
    interfaces = [
        _with_declaration(machine, i, charges[i.name], clients.get(i.name), clients6.get(i.name)) for i in interfaces
    ]
    for interface in interfaces:
        if running is not None and _not_started(running, interface):
            unit = DAEMONS[interface.daemon or ""].unit
            beside.append(Aside(NOT_AT_BOOT, Place(unit, 0), f"{unit} runs, and is not enabled", interface.name))
        for path in dict.fromkeys(place.file for place in interface.declared_in):
            beside += others.rewritten(machine, path, interface.name)
    rules = kernel.rules_by_hand(machine) if machine.running else ()
    stacks = list(dict.fromkeys(c.stack for c in charges.values() if c.stack))
    evidence = tuple(f"{name}: {'; '.join(c.evidence)}" for name, c in charges.items() if c.declaration)
    return HostSurvey(
        machine.name,
        stacks[0] if stacks else None,
        evidence,
        tuple(interfaces),
        running is not None,
        _hostname(machine),
        rules,
        tuple(_open_files(files)),
        writer,
        tuple(asides),
        tuple(beside),
        tuple(unreadable),
        identities_of(machine) if look_beside else (),
        service,
        able,
        found_programs,
    )


def _programs(machine: Readable) -> tuple[Program, ...]:
    if machine.running:
        return programs.that_run(lambda argv: machine.run(argv).out)
    status = machine.read(programs.STATUS) if machine.knows(programs.STATUS) else None
    return programs.in_tree(status.text) if status is not None else ()


def _of_format(
    form: Format, files: dict[str, FileText], links: tuple[LinkFacts, ...]
) -> tuple[dict[str, Declaration], list[Aside], list[Unreadable]]:
    """What the files of a format say of each link; what cannot be read for one leaves the others be."""
    read: dict[str, Declaration] = {}
    said: list[Aside] = []
    errors: list[Unreadable] = []
    for link in links:
        try:
            read |= {d.link.name: d for d in form.read(files, (link,))}
            said += form.asides(files, (link,))
        except AnchorError as error:
            errors.append(_unreadable(form.name, error, link.name))
    return read, list(dict.fromkeys(said)), errors


def _unreadable(stack: str, error: AnchorError, interface: str = "") -> Unreadable:
    place = Place(error.file or "", error.line or 0)
    stops = not interface and FORMATS[stack].all_or_nothing
    return Unreadable(place, error.what, stack, interface, stops, error.column or 0)


def _with_takers(interface: SurveyedInterface, able: tuple[Taker, ...], running: Services | None) -> SurveyedInterface:
    """The interface with the stacks that would take it, where no file declares it, and none that has let go of it."""
    if interface.declared is not None or interface.link.kind not in KINDS or interface.link.master is not None:
        return interface
    if running is not None and running.known:
        able = tuple(t for t in able if t.daemon not in running.active or running.governs(t.daemon, interface.name).yes)
    # Of one alone everything is known that the declared ones are known by.
    only = able[0] if len(able) == 1 else None
    return msgspec.structs.replace(
        interface,
        takers=able,
        stack=only.stack if only is not None else None,
        daemon=only.daemon if only is not None else None,
    )


def _with_declaration(
    machine: Readable, interface: SurveyedInterface, charge: Charge, client: str | None, client6: str | None
) -> SurveyedInterface:
    """The interface with what its files, and their rivals, say beyond its configuration."""
    declaration = charge.declaration
    if declaration is None:
        return interface
    places = {place.file: place for place in reversed(declaration.places)}
    again = tuple(place for path, place in places.items() if regenerates(machine, path))
    return msgspec.structs.replace(
        interface,
        rivals=tuple(Rival(stack, rival.places[0]) for stack, rival in charge.rivals),
        regenerated=again,
        dhcp_in=declaration.dhcp_in,
        client=client,
        client6=client6,
        daemon=declaration.daemon,
        declared=_with_fallback(machine, declaration, interface.declared),
    )


def _with_fallback(
    machine: Readable, declaration: Declaration, declared: InterfaceConfig | None
) -> InterfaceConfig | None:
    """What is declared, with what the lease client has for when no server answers."""
    path = DAEMONS[declaration.daemon].lease_file(declaration.link.name)
    if path is None or declared is None or declared.ipv4 != "dhcp" or not machine.knows(path):
        return declared
    file = machine.read(path)
    said = read_fallback(file, declaration.link.name) if file is not None else Fallback()
    return msgspec.structs.replace(declared, fallback=said)


def _with_time_servers(interface: SurveyedInterface, service: TimeService | None) -> SurveyedInterface:
    """The interface with the servers that the time daemon follows, and those that are declared where it reads them."""
    told = FORMATS[interface.stack].time_daemon if interface.stack is not None else ""
    interface = msgspec.structs.replace(interface, time_daemon=told)
    if service is None:
        return interface
    declared = interface.declared
    in_its_file = service.name == told
    if declared is not None and not in_its_file:
        declared = msgspec.structs.replace(declared, time_servers=service.declared or None)
    return msgspec.structs.replace(interface, time_servers=service.servers, declared=declared)


def _not_started(running: Services, interface: SurveyedInterface) -> bool:
    """Whether nothing starts the daemon of an interface at boot. A generator also starts whom it makes files for."""
    return interface.daemon is not None and interface.stack not in GENERATORS and running.is_disabled(interface.daemon)


def _open_files(files: Mapping[str, Mapping[str, FileText]]) -> Iterator[OpenFile]:
    """Interface files that more than their reader may read, and should not."""
    for stack, form in FORMATS.items():
        for file in files[stack].values():
            if file.mode & form.mode_taken & 0o077 and file.path.startswith("/etc/"):
                yield OpenFile(file.path, file.mode, stack, form.created)


def _with_client(
    link: kernel.KernelLink, clients: Mapping[str, str], running: Services, lacks: frozenset[str]
) -> kernel.KernelLink:
    """The link with the lease client, and the profile, that is in force on it, and what its host does not know."""
    client = clients.get(link.facts.name)
    facts = msgspec.structs.replace(
        link.facts,
        client=client_name(client) if client is not None else None,
        profile=running.profile(link.facts.name),
        lacks=lacks,
    )
    return msgspec.structs.replace(link, facts=facts)


def look_at_kernel(machine: Machine) -> HostSurvey:
    """What the kernel and the resolver of a running ``machine`` say, without any interface file.

    Reading those often needs root; asking for a neighbour does not.
    """
    try:
        seen = fetch_kernel(machine)
    except OtherSystem:
        if machine.windows is None:
            raise
        return windows_survey(machine.name, machine.windows)
    all_routes = kernel.routes(seen)
    elsewhere = kernel.defaults_elsewhere(seen)
    writer = resolvers.owner(seen, active_daemons(seen))
    nobody = Charge(None, None, ("no file was read",))
    found = tuple(_running(seen, link, nobody, all_routes, elsewhere, writer) for link in kernel.links(seen))
    return HostSurvey(seen.name, None, nobody.evidence, found, True, _hostname(seen))


def _hostname(machine: Readable) -> str:
    file = machine.read("/proc/sys/kernel/hostname") or machine.read("/etc/hostname")
    return file.text.strip() if file else ""


def _links_in_files(
    files: dict[str, dict[str, FileText]], planned: tuple[LinkFacts, ...], lacks: frozenset[str]
) -> tuple[LinkFacts, ...]:
    """The links that the files call by name, and those of ``planned`` that they declare, with their MACs."""
    macs = {link.name: link.mac for link in planned}
    names: dict[str, LinkFacts] = {}
    for name, form in FORMATS.items():
        for interface, kind in form.named(files[name]).items():
            mac = macs.get(interface)
            names.setdefault(interface, LinkFacts(interface, mac, mac, kind=kind))
    # Those that no file is about get a declaration of their own.
    names |= {link.name: link for link in planned if link.name not in names}
    return tuple(msgspec.structs.replace(link, lacks=lacks) for link in names.values())


def declared_with_resolvers(machine: Readable, charge: Charge, writer: str) -> InterfaceConfig | None:
    """What is declared for an interface, with the resolvers from the place where they are declared."""
    declaration = charge.declaration
    if declaration is None or charge.stack is None:
        return None
    place = DAEMONS[declaration.daemon].resolver_place(writer)
    if place == IN_FILES:
        return declaration.config
    path, says = (RESOLV_CONF, says_resolv_conf) if place == IN_RESOLV_CONF else (DROP_IN, says_drop_in)
    file = machine.read(path)
    servers, search = says(file.text if file is not None else "")
    addresses = []
    for server in servers:
        try:
            addresses.append(parse_address(server))
        except ValueError:
            continue
    return msgspec.structs.replace(declaration.config, resolvers=tuple(addresses) or None, search=tuple(search) or None)


def _from_files(machine: Readable, link: LinkFacts, charge: Charge, writer: str) -> SurveyedInterface:
    declared = declared_with_resolvers(machine, charge, writer)
    return SurveyedInterface(
        link=link,
        state="unknown",
        resolvers=(declared.resolvers or ()) if declared else (),
        search=(declared.search or ()) if declared else (),
        declared=declared,
        declared_in=charge.declaration.places if charge.declaration else (),
        stack=charge.stack,
    )


def _running(
    machine: Readable,
    link: kernel.KernelLink,
    charge: Charge,
    all_routes: tuple[kernel.KernelRoute, ...],
    elsewhere: tuple[kernel.KernelRoute, ...],
    writer: str,
) -> SurveyedInterface:
    name = link.facts.name
    if writer == FOR_EACH_LINK:
        servers, search = resolvers.of_link(machine, name)
    else:
        servers, search = resolvers.of_resolv_conf(machine)
    leased = next((a for a in link.addresses if a.origin == "dhcp" and a.address.version == 4), None)
    declared = declared_with_resolvers(machine, charge, writer)
    if declared is None:
        link = msgspec.structs.replace(link, facts=msgspec.structs.replace(link.facts, bare=kernel.bare(machine, link)))
    lease = lease_of(machine, link.facts, link.index, leased) if leased else None
    own_routes = tuple(r for r in all_routes if r.interface == name)
    announced = announced_on(machine, link, own_routes, servers, search, declared, lease)
    return SurveyedInterface(
        link=link.facts,
        state=link.state,
        index=link.index,
        addresses=link.addresses,
        routes=(*(r.route for r in own_routes), *_defaults_beside(own_routes, elsewhere, name)),
        resolvers=servers,
        search=search,
        lease=lease,
        declared=declared,
        declared_in=charge.declaration.places if charge.declaration else (),
        stack=charge.stack,
        by_hand=_addresses_by_hand(link, declared or InterfaceConfig(name)),
        announced=announced,
        routes_by_hand=_routes_by_hand(own_routes, declared or InterfaceConfig(name), lease),
    )


def _addresses_by_hand(link: kernel.KernelLink, declared: InterfaceConfig) -> tuple[IPInterface, ...]:
    return tuple(a.address for a in link.addresses if a.origin == "fixed" and a.address not in declared.addresses)


def _defaults_beside(
    own: tuple[kernel.KernelRoute, ...], elsewhere: tuple[kernel.KernelRoute, ...], name: str
) -> Iterator[Route]:
    """Default routes of other tables, of a version for which the interface has none in the main one."""
    has = {r.route.destination.version for r in own if r.route.is_default}
    return (r.route for r in elsewhere if r.interface == name and r.route.destination.version not in has)


def _routes_by_hand(
    routes: tuple[kernel.KernelRoute, ...], declared: InterfaceConfig, lease: Lease | None
) -> tuple[Route, ...]:
    known = {(r.destination, r.next_hop) for r in declared.routes}
    found = []
    for entry in routes:
        route = entry.route
        by_hand = entry.protocol in ("boot", "static") and (route.destination, route.next_hop) not in known
        # dhclient installs its routes as if by hand.
        of_lease = declared.ipv4 == "dhcp" and (route.is_default or (lease is not None and route in lease.routes))
        if by_hand and not of_lease:
            found.append(route)
    return tuple(found)
