"""The exact files that a plan makes of those of a Linux host. Touches nothing."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import msgspec

from fixed_anchor.change.change import Draft
from fixed_anchor.change.files import FileEdit, FileText, apply_edits, joined_edits
from fixed_anchor.core.addresses import IPAddress, IPInterface
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.errors import NotSupported, located
from fixed_anchor.core.plan import HostPlan, InterfacePlan, Plan
from fixed_anchor.core.survey import HostSurvey, SurveyedInterface
from fixed_anchor.core.wanted import held_beside
from fixed_anchor.daemons import DAEMONS
from fixed_anchor.daemons.protocol import IN_FILES, IN_RESOLV_CONF
from fixed_anchor.formats import FORMATS, chrony_conf, timesyncd_conf
from fixed_anchor.formats.dhclient_conf import edit_fallback
from fixed_anchor.formats.host_names import HOSTNAME, HOSTS, edit_hostname, edit_hosts
from fixed_anchor.formats.resolv_conf import RESOLV_CONF, edit_resolv_conf
from fixed_anchor.formats.resolved_conf import DROP_IN, edit_drop_in
from fixed_anchor.formats.rewriting import rewrite
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe import provisioning
from fixed_anchor.observe.fetching import format_files
from fixed_anchor.workflow.hosts.host_wide import host_configs, place_of, time_servers_apart
from fixed_anchor.workflow.linux.assemble import Stage, assemble, stack_of, surveyed
from fixed_anchor.workflow.linux.wireless import network_to_join

#: The one lease client in whose configuration a lease is declared.
_DHCLIENT = "dhclient"


def draft_host(
    plan: Plan, host: HostPlan, machine: Machine, survey: HostSurvey, hold: frozenset[IPAddress] = frozenset()
) -> Draft:
    """The draft of one host. Raises :class:`NotSupported` by name for what cannot be carried out.

    ``hold`` are addresses of today that shall stay until the change is decided, where they would go.
    """
    final = _stage(plan, host, machine, survey, frozenset())
    waiting = _stage(plan, host, machine, survey, hold) if hold else None
    made = assemble(host.name, machine, survey, final, waiting, host.hostname)
    reachable = {i.name: plan.segments[i.segment].reachable for i in host.interfaces}
    return msgspec.structs.replace(made, reachable=reachable)


def going(found: SurveyedInterface, config: InterfaceConfig) -> tuple[IPInterface, ...]:
    """The addresses of today that a change to ``config`` takes away, in families that it fixes."""
    kept = {a.ip for a in config.addresses}
    return tuple(a for a in found.link.in_kernel if config.method(a.version) == "fixed" and a.ip not in kept)


def _stage(plan: Plan, host: HostPlan, machine: Machine, survey: HostSurvey, hold: frozenset[IPAddress]) -> Stage:
    """The files as the plan wants them, with the addresses of ``hold`` beside those that the plan names."""
    edits: list[FileEdit] = []
    wanted = host_configs(plan, host, survey)
    # One that moves to another interface cannot stay on this one.
    hold -= {address.ip for config in wanted.values() for address in config.addresses}
    for interface in host.interfaces:
        if interface.name not in wanted:
            continue
        config = wanted[interface.name]
        with located(plan.file, interface.line):
            found = surveyed(survey, interface.name)
            stack = stack_of(survey, found)
        if hold:
            config = held_beside(config, tuple(a for a in going(found, config) if a.ip in hold))
        edits = joined_edits(edits, _interface_edits(plan, interface, machine, survey, found, stack, config, edits))
        wanted[interface.name] = config
    edits += _host_wide(machine, survey, wanted)
    edits = joined_edits(edits, _fallbacks(machine, survey, wanted))
    edits += _time_servers(machine, survey, wanted)
    edits += _provisioning(machine, edits, survey, wanted.values())
    edits += _names(plan, host, machine, survey, wanted.values())
    return Stage(tuple(edits), wanted)


def _interface_edits(
    plan: Plan,
    interface: InterfacePlan,
    machine: Machine,
    survey: HostSurvey,
    found: SurveyedInterface,
    stack: str,
    config: InterfaceConfig,
    earlier: list[FileEdit],
) -> list[FileEdit]:
    """The edits of one interface, on top of the ``earlier`` ones of the same host."""
    if interface.gateways == () and config.ipv4 != "dhcp" and config.ipv6 in ("ra", "dhcp"):
        raise NotSupported(
            f"`gateway: none` with `ipv6: {config.ipv6}` on {interface.name}: routers would still announce themselves",
            file=plan.file,
            line=interface.line,
            remedy="say `ipv6: fixed` or `ipv6: off`",
        )
    if interface.netbios_servers is not None:
        raise NotSupported(
            f"`netbios_servers` on {interface.name}: only a Windows machine has them",
            file=plan.file,
            line=interface.line,
            remedy="take the key out of the plan",
        )
    files = apply_edits(format_files(machine, stack), earlier)
    if place_of(survey, found) != IN_FILES:
        config = msgspec.structs.replace(config, resolvers=None, search=None)
    if time_servers_apart(survey, interface.name) is not None:
        config = msgspec.structs.replace(config, time_servers=None)
    # Of the others a lease client may take one.
    if not FORMATS[stack].has_fallback:
        config = msgspec.structs.replace(config, fallback=None)
    links = (i.link for i in survey.interfaces)
    if found.declared is not None:
        return list(rewrite(FORMATS[stack], files, found.link, config, links))
    with located(plan.file, interface.line):
        joins = network_to_join(plan, interface.wifi)
        return list(rewrite(FORMATS[stack], files, found.link, config, links, found.daemon, joins))


def _in_files(found: SurveyedInterface) -> bool:
    """Whether the interface's own file has its fallback."""
    return found.stack is not None and FORMATS[found.stack].has_fallback


def _host_wide(machine: Machine, survey: HostSurvey, wanted: Mapping[str, InterfaceConfig]) -> list[FileEdit]:
    """The one file that has the resolvers of all interfaces, where it is not theirs to say them."""
    edits = []
    for config in wanted.values():
        place = place_of(survey, survey.interface(config.interface))
        if place == IN_FILES or (config.resolvers is None and config.search is None):
            continue
        path, edit = (RESOLV_CONF, edit_resolv_conf) if place == IN_RESOLV_CONF else (DROP_IN, edit_drop_in)
        made = edit(machine.read(path), config.resolvers or (), config.search)
        if made is not None:
            edits.append(msgspec.structs.replace(made, link_before=machine.link_target(made.path)))
    # Every interface says the same.
    return list({edit.path: edit for edit in edits}.values())


def _fallbacks(machine: Machine, survey: HostSurvey, wanted: Mapping[str, InterfaceConfig]) -> list[FileEdit]:
    """The files of lease clients, where those have what an interface shall hold when no server answers.

    Raises :class:`NotSupported` for a stack that has no such thing.
    """
    edits: list[FileEdit] = []
    for config in wanted.values():
        found = survey.interface(config.interface)
        if config.fallback is None or found is None or found.daemon is None or _in_files(found):
            continue
        path = DAEMONS[found.daemon].lease_file(found.name)
        client = found.link.client
        if path is None or client not in (None, _DHCLIENT):
            if config.fallback.address is None:
                continue
            who = found.stack if path is None else f"the lease client {client}"
            raise NotSupported(
                f"`fallback` on {found.name}: {who} has nothing for when no DHCP server answers",
                remedy="leave it out of the plan, or hold the address",
            )
        earlier = next((edit.after for edit in edits if edit.path == path), None)
        made = edit_fallback(path, earlier or machine.read(path), found.name, config.fallback)
        edits = joined_edits(edits, [made] if made is not None else [])
    return edits


def _time_servers(machine: Machine, survey: HostSurvey, wanted: Mapping[str, InterfaceConfig]) -> list[FileEdit]:
    """The file of the time daemon with the time servers of all interfaces, where theirs do not take them."""
    said = [(c, s) for c in wanted.values() if (s := time_servers_apart(survey, c.interface)) is not None]
    servers, service = next(((c.time_servers, s) for c, s in said if c.time_servers is not None), (None, None))
    if servers is None or service is None:
        return []
    path = service.drop_in
    if service.name == "systemd-timesyncd":
        edit = timesyncd_conf.edit_drop_in(machine.read(path), servers)
    else:
        edit = chrony_conf.edit_drop_in(path, machine.read(path), servers)
    edits = [edit] if edit is not None else []
    main = machine.read(service.main) if service.main and servers else None
    return [*edits, chrony_conf.edit_main(main)] if main is not None else edits


def _provisioning(
    machine: Machine, edits: Iterable[FileEdit], survey: HostSurvey, wanted: Iterable[InterfaceConfig]
) -> list[FileEdit]:
    """The documented switch, where first-boot provisioning would write an edited file again."""
    again = any(provisioning.regenerates(machine, edit.path) for edit in edits if edit.before is not None)
    for config in wanted:
        found = survey.interface(config.interface)
        if again or (found is not None and found.regenerated):
            after = FileText(provisioning.SWITCH, provisioning.OFF, 0o644)
            return [FileEdit(provisioning.SWITCH, machine.read(provisioning.SWITCH), after)]
    return []


def _names(
    plan: Plan, host: HostPlan, machine: Machine, survey: HostSurvey, wanted: Iterable[InterfaceConfig]
) -> list[FileEdit]:
    """``/etc/hostname`` and the host's own line of ``/etc/hosts``, where the plan names the host."""
    if host.hostname is None:
        return []
    address = next((a.ip for config in wanted for a in config.addresses), None)
    hostname = machine.read(HOSTNAME)
    old = (hostname.text.strip() if hostname else "") or survey.hostname
    own = tuple(survey.own_addresses())
    made = (
        edit_hostname(hostname, host.hostname),
        edit_hosts(machine.read(HOSTS), old, host.hostname, own, address),
    )
    return [edit for edit in made if edit is not None]
