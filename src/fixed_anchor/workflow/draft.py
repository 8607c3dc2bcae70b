"""The exact files that a plan makes of what is there. Touches nothing."""

from __future__ import annotations

import msgspec

from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.errors import InputError, NotSupported
from fixed_anchor.core.plan import HostPlan, InterfacePlan, Plan
from fixed_anchor.core.survey import HostSurvey, SurveyedInterface
from fixed_anchor.core.wanted import wanted_config
from fixed_anchor.dialects import DIALECTS
from fixed_anchor.dialects.host_names import HOSTNAME, HOSTS, edit_hostname, edit_hosts
from fixed_anchor.dialects.protocol import FileEdit, FileText, Steps, apply_edits
from fixed_anchor.dialects.resolv_conf import DROP_IN, RESOLV_CONF, edit_drop_in, edit_resolv_conf
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe import resolvers, stack
from fixed_anchor.observe.stocktaking import dialect_files
from fixed_anchor.workflow.site import Site


class HostDraft(msgspec.Struct, frozen=True):
    """The edits for one host, the steps that load them, and the configurations they declare."""

    host: str
    stack: str
    wanted: tuple[InterfaceConfig, ...]
    edits: tuple[FileEdit, ...]
    steps: Steps
    hostname: str | None = None


def draft(site: Site, host_names: tuple[str, ...] = ()) -> list[HostDraft]:
    """Drafts for the hosts of the plan that are named, or for all that are reached from here."""
    drafts: list[HostDraft] = []
    chosen = site.hosts(host_names)
    for host in chosen:
        machine, survey = site.machine(host), site.survey(host)
        if machine is None or survey is None:
            if len(chosen) == 1 or host_names:
                raise InputError(
                    f"{host.name} is not reached from here: none of its MACs is on this machine",
                    file=site.plan.file,
                    line=host.line,
                    remedy="run this on the host itself, or say `reach: tree:DIR` in the plan",
                )
            continue
        drafts.append(draft_host(site.plan, host, machine, survey))
    return drafts


def draft_host(plan: Plan, host: HostPlan, machine: Machine, survey: HostSurvey) -> HostDraft:
    """The draft of one host. Raises :class:`NotSupported` by name for what cannot be carried out."""
    edits: list[FileEdit] = []
    steps: list[Steps] = []
    wanted: list[InterfaceConfig] = []
    stacks: list[str] = []
    for interface in host.interfaces:
        if interface.ipv4 == "untouched" and interface.ipv6 == "untouched":
            continue
        config = wanted_config(plan, interface)
        found = _found(plan, host, interface, survey)
        made, their_steps, name = _draft_interface(plan, host, interface, machine, found, config, edits)
        edits = _joined(edits, made)
        steps.append(their_steps)
        wanted.append(config)
        stacks.append(name)
    edits += _provisioning(machine, survey, wanted)
    edits += _names(plan, host, machine, survey, wanted)
    both = (extra_steps(edits), *steps)
    return HostDraft(
        host.name,
        ", ".join(dict.fromkeys(stacks)),
        tuple(wanted),
        tuple(edits),
        joined_steps(both),
        host.hostname,
    )


def _found(plan: Plan, host: HostPlan, interface: InterfacePlan, survey: HostSurvey) -> SurveyedInterface:
    found = survey.interface(interface.name)
    if found is None:
        raise InputError(
            f"{host.name} has no interface {interface.name}",
            file=plan.file,
            line=interface.line,
            expected="one of " + ", ".join(i.name for i in survey.interfaces),
        )
    return found


def _draft_interface(
    plan: Plan,
    host: HostPlan,
    interface: InterfacePlan,
    machine: Machine,
    found: SurveyedInterface,
    config: InterfaceConfig,
    earlier: list[FileEdit],
) -> tuple[list[FileEdit], Steps, str]:
    """The edits and steps of one interface, on top of the ``earlier`` ones of the same host."""
    if found.stack is None:
        raise NotSupported(
            f"no supported network stack declares {interface.name} on {host.name}",
            file=plan.file,
            line=interface.line,
            remedy="supported are: " + ", ".join(DIALECTS),
        )
    if interface.gateways == () and config.ipv4 != "dhcp" and config.ipv6 in ("ra", "dhcp"):
        raise NotSupported(
            f"`gateway: none` with `ipv6: {config.ipv6}` on {interface.name}: routers would still announce themselves",
            file=plan.file,
            line=interface.line,
            remedy="say `ipv6: fixed` or `ipv6: off`",
        )
    dialect = DIALECTS[found.stack]
    before = dialect_files(machine, found.stack)
    files = apply_edits(before, tuple(e for e in earlier if e.path in before or e.after is not None))
    (declaration,) = dialect.read(files, (found.link,))
    writer = resolvers.owner(machine, _active(machine))
    place = resolvers.place_for(found.stack, declaration.backend, writer)
    inside = config if place == "files" else msgspec.structs.replace(config, resolvers=None, search=None)
    edits = list(dialect.rewrite(files, found.link, inside))
    if place != "files" and (config.resolvers is not None or config.search is not None):
        edits += _resolver_edits(plan, interface, machine, config, place)
    steps = dialect.steps(before, apply_edits(files, tuple(edits)), found.link)
    return edits, steps, found.stack


def _active(machine: Machine) -> frozenset[str]:
    return stack.services(machine).active if machine.running else frozenset()


def _resolver_edits(
    plan: Plan, interface: InterfacePlan, machine: Machine, config: InterfaceConfig, place: str
) -> list[FileEdit]:
    if place == "resolv.conf":
        if config.ipv4 == "dhcp":
            # The lease client writes it.
            return []
        try:
            edit = edit_resolv_conf(machine.read(RESOLV_CONF), config.resolvers or (), config.search)
        except ValueError as error:
            raise NotSupported(str(error), file=plan.file, line=interface.line, remedy="name the best three") from None
    else:
        edit = edit_drop_in(machine.read(DROP_IN), config.resolvers or (), config.search)
    return [edit] if edit is not None else []


def _provisioning(machine: Machine, survey: HostSurvey, wanted: list[InterfaceConfig]) -> list[FileEdit]:
    """The documented switch, where first-boot provisioning would write an edited file again."""
    for config in wanted:
        found = survey.interface(config.interface)
        paths = dict.fromkeys(p.file for p in found.declared_in) if found else ()
        if any(stack.regenerates(machine, path) for path in paths):
            after = FileText(stack.PROVISIONING_SWITCH, stack.PROVISIONING_OFF, 0o644)
            return [FileEdit(stack.PROVISIONING_SWITCH, machine.read(stack.PROVISIONING_SWITCH), after)]
    return []


def _names(
    plan: Plan, host: HostPlan, machine: Machine, survey: HostSurvey, wanted: list[InterfaceConfig]
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


def extra_steps(edits: list[FileEdit] | tuple[FileEdit, ...]) -> Steps:
    """Steps for the files that belong to no interface: both ways the same, they load what is there.

    They come before the steps of the interfaces: a lease client that knows nothing of
    systemd-resolved writes its servers into the file that a restart makes anew.
    """
    paths = {edit.path for edit in edits}
    steps: list[tuple[str, ...]] = []
    if DROP_IN in paths:
        steps.append(("systemctl", "restart", "systemd-resolved.service"))
    if HOSTNAME in paths:
        steps.append(("hostname", "-F", HOSTNAME))
    return Steps(activate=tuple(steps), reload=tuple(steps))


def joined_steps(many: tuple[Steps, ...]) -> Steps:
    """The steps of several interfaces one after the other, each command once."""

    def joined(phase: str) -> tuple[tuple[str, ...], ...]:
        return tuple(dict.fromkeys(argv for steps in many for argv in getattr(steps, phase)))

    return Steps(
        joined("leave"), joined("activate"), joined("unload"), joined("reload"), joined("escalate"), joined("boot")
    )


def _joined(earlier: list[FileEdit], later: list[FileEdit]) -> list[FileEdit]:
    """Edits after one another: two of the same file become one from the first state to the last."""
    by_path = {edit.path: edit for edit in earlier}
    for edit in later:
        first = by_path.get(edit.path)
        by_path[edit.path] = edit if first is None else FileEdit(edit.path, first.before, edit.after)
    return list(by_path.values())
