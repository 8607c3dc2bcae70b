"""The exact files that a plan makes of what is there. Touches nothing."""

from __future__ import annotations

import msgspec

from fixed_anchor.core.addresses import IPAddress, IPInterface
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.errors import InputError, NotSupported
from fixed_anchor.core.plan import HostPlan, InterfacePlan, Plan
from fixed_anchor.core.survey import HostSurvey, SurveyedInterface
from fixed_anchor.core.wanted import held_beside, wanted_config
from fixed_anchor.dialects import DIALECTS
from fixed_anchor.dialects.host_names import HOSTNAME, HOSTS, edit_hostname, edit_hosts
from fixed_anchor.dialects.protocol import FileEdit, FileText, Step, Steps, apply_edits, route_words
from fixed_anchor.dialects.resolv_conf import DROP_IN, RESOLV_CONF, edit_drop_in, edit_resolv_conf
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe import resolvers, stack
from fixed_anchor.observe.stocktaking import dialect_files
from fixed_anchor.workflow.give_back import give_back_command
from fixed_anchor.workflow.site import Site


class Held(msgspec.Struct, frozen=True):
    """An old address that is held beside the new ones until the change is decided."""

    interface: str
    address: IPInterface


class HostDraft(msgspec.Struct, frozen=True):
    """The edits for one host, the steps that load them, and the configurations they declare.

    ``wanted`` is what the files declare in the end. Where old addresses are held until the
    decision, ``edits`` are the files with them, ``waiting`` what those declare, and ``finals``
    the texts of the files without them, by path.
    """

    host: str
    stack: str
    wanted: tuple[InterfaceConfig, ...]
    edits: tuple[FileEdit, ...]
    steps: Steps
    hostname: str | None = None
    waiting: tuple[InterfaceConfig, ...] = ()
    finals: tuple[tuple[str, str], ...] = ()
    held: tuple[Held, ...] = ()

    def ends_with(self) -> tuple[FileEdit, ...]:
        """The edits from today's files to the final ones."""
        finals = dict(self.finals)
        return tuple(
            msgspec.structs.replace(e, after=msgspec.structs.replace(e.after, text=finals[e.path]))
            if e.after is not None and e.path in finals
            else e
            for e in self.edits
        )


class _Made(msgspec.Struct, frozen=True):
    """What one pass over a host's interfaces makes."""

    wanted: tuple[InterfaceConfig, ...]
    edits: tuple[FileEdit, ...]
    steps: Steps
    stacks: tuple[str, ...]


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


def draft_host(
    plan: Plan, host: HostPlan, machine: Machine, survey: HostSurvey, hold: frozenset[IPAddress] = frozenset()
) -> HostDraft:
    """The draft of one host. Raises :class:`NotSupported` by name for what cannot be carried out.

    ``hold`` are addresses of today that shall stay until the change is decided, where they would go.
    """
    final = _made(plan, host, machine, survey, frozenset())
    steps = msgspec.structs.replace(
        final.steps, kernel=kernel_steps(survey, final.wanted), commit=_give_back(survey, final.wanted, final.steps)
    )
    whole = HostDraft(host.name, ", ".join(final.stacks), final.wanted, final.edits, steps, host.hostname, final.wanted)
    if not hold:
        return whole
    first = _made(plan, host, machine, survey, hold)
    held = tuple(
        Held(config.interface, address)
        for config, end in zip(first.wanted, final.wanted, strict=True)
        for address in config.addresses
        if address not in end.addresses
    )
    return _joined_drafts(machine, survey, whole, first, held) if held else whole


def _joined_drafts(
    machine: Machine, survey: HostSurvey, whole: HostDraft, first: _Made, held: tuple[Held, ...]
) -> HostDraft:
    """The draft whose files first hold the old addresses as well, and then become those of ``whole``."""
    ends = {e.path: e.after.text for e in whole.edits if e.after is not None}
    starts = {e.path: e.after.text for e in first.edits if e.after is not None}
    if set(ends) != set(starts):
        # A file that only one of the two writes: the engine could not go from one to the other.
        return whole
    drops = []
    for config in whole.wanted:
        found = survey.interface(config.interface)
        if found is None or found.stack is None:
            continue
        dialect = DIALECTS[found.stack]
        before = dialect_files(machine, found.stack)
        mine = tuple(h.address for h in held if h.interface == config.interface)
        link = msgspec.structs.replace(found.link, held=(*config.addresses, *mine), leased=(), client=None)
        drops.append(dialect.steps(apply_edits(before, first.edits), apply_edits(before, whole.edits), link))
    joined = joined_steps(tuple(drops))
    steps = msgspec.structs.replace(
        first.steps,
        drop=joined.activate,
        drop_escalate=joined.escalate,
        kernel=whole.steps.kernel,
        commit=whole.steps.commit,
    )
    return msgspec.structs.replace(
        whole,
        edits=first.edits,
        steps=steps,
        waiting=first.wanted,
        finals=tuple((path, text) for path, text in ends.items() if text != starts[path]),
        held=held,
    )


def going(found: SurveyedInterface, config: InterfaceConfig) -> tuple[IPInterface, ...]:
    """The addresses of today that a change to ``config`` takes away, in families that it fixes."""
    kept = {a.ip for a in config.addresses}
    return tuple(a for a in found.link.held if config.method(a.version) == "fixed" and a.ip not in kept)


def _made(plan: Plan, host: HostPlan, machine: Machine, survey: HostSurvey, hold: frozenset[IPAddress]) -> _Made:
    edits: list[FileEdit] = []
    steps: list[Steps] = []
    wanted: list[InterfaceConfig] = []
    stacks: list[str] = []
    for interface in host.interfaces:
        if interface.ipv4 == "untouched" and interface.ipv6 == "untouched":
            continue
        config = wanted_config(plan, interface)
        found = _found(plan, host, interface, survey)
        if hold:
            config = held_beside(config, tuple(a for a in going(found, config) if a.ip in hold))
        made, their_steps, name = _draft_interface(plan, host, interface, machine, found, config, edits)
        edits = _joined(edits, made)
        steps.append(their_steps)
        wanted.append(config)
        stacks.append(name)
    edits += _provisioning(machine, survey, wanted)
    edits += _names(plan, host, machine, survey, wanted)
    both = (extra_steps(edits), *steps)
    return _Made(tuple(wanted), tuple(edits), joined_steps(both), tuple(dict.fromkeys(stacks)))


def kernel_steps(survey: HostSurvey, wanted: tuple[InterfaceConfig, ...]) -> tuple[Step, ...]:
    """Commands that set again what is in the kernel and in no file, should the change be put back.

    Rules belong to no interface; setting one that is still there fails, and changes nothing.
    """
    steps: list[Step] = []
    for config in wanted:
        found = survey.interface(config.interface)
        for address in found.by_hand if found else ():
            steps.append(("ip", "address", "replace", str(address), "dev", config.interface))
        for route in found.routes_by_hand if found else ():
            steps.append(("ip", "route", "replace", *route_words(route, config.interface)))
    return (*steps, *survey.rules_by_hand)


def _give_back(survey: HostSurvey, wanted: tuple[InterfaceConfig, ...], steps: Steps) -> tuple[Step, ...]:
    """Commands that give leases back whose address has gone, where the stack does not do so itself."""
    given: list[Step] = []
    for config in wanted:
        found = survey.interface(config.interface)
        lease = found.lease if found is not None else None
        if found is None or lease is None or lease.server is None or found.link.mac is None or steps.releases:
            continue
        if config.ipv4 == "fixed" and all(a.ip != lease.address for a in config.addresses):
            given.append(give_back_command(found.name, found.link.mac, lease.address, lease.server, lease.client_id))
    return tuple(given)


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
    return [msgspec.structs.replace(edit, link_before=machine.link_target(edit.path))] if edit is not None else []


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

    def joined(phase: str) -> tuple[Step, ...]:
        return tuple(dict.fromkeys(step for steps in many for step in getattr(steps, phase)))

    fields = {name: joined(name) for name in Steps.__struct_fields__ if name != "releases"}
    return Steps(**fields, releases=any(steps.releases for steps in many))


def _joined(earlier: list[FileEdit], later: list[FileEdit]) -> list[FileEdit]:
    """Edits after one another: two of the same file become one from the first state to the last."""
    by_path = {edit.path: edit for edit in earlier}
    for edit in later:
        first = by_path.get(edit.path)
        by_path[edit.path] = edit if first is None else FileEdit(edit.path, first.before, edit.after)
    return list(by_path.values())
