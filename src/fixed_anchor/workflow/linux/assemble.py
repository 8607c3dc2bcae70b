"""From files as they are, as they wait for the decision, and as they end, to the draft of a change.

Cutover and restore differ in where the files come from; what is made of them here is the same.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import msgspec

from fixed_anchor.change.change import Draft, GraceAddress, LeavingLease
from fixed_anchor.change.content import FileContent
from fixed_anchor.change.files import FileEdit, apply_edits
from fixed_anchor.change.steps import Step, Steps, joined_steps, route_words
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.errors import InputError, NotSupported, Undetermined
from fixed_anchor.core.survey import HostSurvey, SurveyedInterface, which_stack
from fixed_anchor.daemons import host_wide_steps, interface_steps
from fixed_anchor.daemons.hostname import with_former_name
from fixed_anchor.formats import FORMATS
from fixed_anchor.formats.host_names import HOSTNAME
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe.fetching import format_files
from fixed_anchor.workflow.linux.give_back import give_back_command
from fixed_anchor.workflow.network.announce import announce_command


class Stage(msgspec.Struct, frozen=True):
    """What the files of a host shall become, from what they are today.

    ``configs`` is what they then declare for each interface that the change is about; ``None``
    where no file declares it any more.
    """

    edits: tuple[FileEdit, ...]
    configs: Mapping[str, InterfaceConfig | None]


def assemble(
    host: str,
    machine: Machine,
    survey: HostSurvey,
    final: Stage,
    waiting: Stage | None = None,
    hostname: str | None = None,
) -> Draft:
    """The draft whose files end as ``final``; until the decision they are as ``waiting``, where that can be.

    ``waiting`` holds old addresses beside those of ``final``, for the same interfaces. Raises
    :class:`InputError` for an interface that is not there, :class:`NotSupported` for one that no
    supported stack declares.
    """
    grace = grace_between(final, waiting) if waiting is not None else ()
    first = waiting if waiting is not None and grace and _same_files(waiting, final) else final
    if first is final:
        grace = ()
    stacks: list[str] = []
    wide = host_wide_steps(edit.path for edit in first.edits)
    if any(edit.path == HOSTNAME and edit.before is None for edit in first.edits):
        wide = with_former_name(wide, survey.hostname)
    every: list[Steps] = [wide]
    leaving: list[LeavingLease] = []
    for name, config in final.configs.items():
        found = surveyed(survey, name)
        stack = stack_of(survey, found)
        steps = _interface_steps(machine, stack, found, final, first)
        every.append(steps)
        stacks.append(stack)
        if not steps.releases and config is not None:
            leaving += _leaving(found, config)
    configs = tuple(config for config in final.configs.values() if config is not None)
    waits = tuple(config for config in first.configs.values() if config is not None)
    names = tuple(final.configs)
    steps = msgspec.structs.replace(
        joined_steps(every),
        kernel=_kernel_steps(survey, names),
        commit=tuple(map(give_back_command, leaving)) if machine.rights.has_tool else (),
        announce=tuple(announce_command(name) for name in names) if machine.rights.has_tool else (),
    )
    ends = {e.path: e.after.text for e in final.edits if e.after is not None}
    content = FileContent(
        interfaces=tuple(final.configs),
        edits=first.edits,
        steps=steps,
        finals=tuple(
            (e.path, ends[e.path]) for e in first.edits if e.after is not None and e.after.text != ends[e.path]
        ),
        grace_facts=tuple(f"address {h.address} fixed on {h.interface}" for h in grace),
        expect=tuple(_expected_facts(waits)),
    )
    shown = ", ".join(dict.fromkeys(stacks))
    return Draft(host, shown, configs, content, waits, grace, hostname, leaving=tuple(leaving))


def surveyed(survey: HostSurvey, name: str) -> SurveyedInterface:
    """The interface ``name``. Raises :class:`InputError` where the host has none."""
    found = survey.interface(name)
    if found is None:
        raise InputError(survey.missing(name))
    return found


def stack_of(survey: HostSurvey, found: SurveyedInterface) -> str:
    """The name of the format that declares an interface.

    Where none does it is the one that takes it. Raises :class:`NotSupported` where there is none, :class:`Undetermined`
    where several could, :class:`InputError` where a file is broken that may declare it.
    """
    if found.declared is None:
        for broken in survey.unreadable:
            if broken.interface in ("", found.name):
                # It may well be what declares it.
                place = broken.place
                raise InputError(
                    broken.what, file=place.file or None, line=place.line or None, column=broken.column or None
                )
    if found.stack is None:
        if found.link.master is not None:
            raise NotSupported(
                f"{found.name} is a port of {found.link.master}, and takes no addresses",
                remedy=f"give them to {found.link.master}",
            )
        if found.takers:
            named = " and ".join(taker.stack for taker in found.takers)
            raise Undetermined(
                f"no file declares {found.name}, and {named} could take it", remedy=which_stack(found.takers)
            )
        raise NotSupported(
            f"no supported network stack declares {found.name} on {survey.host}, nor would one take it",
            remedy="supported are: " + ", ".join(FORMATS),
        )
    return found.stack


def grace_between(final: Stage, waiting: Stage) -> tuple[GraceAddress, ...]:
    """The addresses that are there while the change waits, and go with the decision."""
    return tuple(
        GraceAddress(name, address)
        for name, config in waiting.configs.items()
        for address in (config.addresses if config is not None else ())
        if address not in _addresses(final.configs[name])
    )


def _addresses(config: InterfaceConfig | None) -> tuple[object, ...]:
    return config.addresses if config is not None else ()


def _same_files(waiting: Stage, final: Stage) -> bool:
    """Whether both write, link and delete the same files.

    A file that only one of the two touches could not be brought from the one state to the other by the engine.
    """
    kinds = [
        {(edit.path, edit.after is None, edit.link_after) for edit in stage.edits if edit.before != edit.after}
        for stage in (waiting, final)
    ]
    return kinds[0] == kinds[1]


def _interface_steps(machine: Machine, stack: str, found: SurveyedInterface, final: Stage, first: Stage) -> Steps:
    """The steps of one interface: from today's files to the ``first`` state, and from there to the ``final`` one."""
    before = format_files(machine, stack)
    then = apply_edits(before, first.edits)
    steps = interface_steps(stack, before, then, found.link)
    if first is final:
        return msgspec.structs.replace(steps, drop=(), drop_escalate=())
    waits = first.configs[found.name]
    link = msgspec.structs.replace(
        found.link, in_kernel=waits.addresses if waits is not None else (), leased=(), client=None
    )
    drop = interface_steps(stack, then, apply_edits(before, final.edits), link)
    return msgspec.structs.replace(steps, drop=drop.drop, drop_escalate=drop.drop_escalate)


def _kernel_steps(survey: HostSurvey, names: tuple[str, ...]) -> tuple[Step, ...]:
    """Commands that set again what is in the kernel and in no file, should the change be rolled back.

    Rules belong to no interface; setting one that is still there fails, and changes nothing.
    """
    steps: list[Step] = []
    for name in names:
        found = survey.interface(name)
        for address in found.by_hand if found else ():
            steps.append(("ip", "address", "replace", str(address), "dev", name))
        for route in found.routes_by_hand if found else ():
            steps.append(("ip", "route", "replace", *route_words(route, name)))
    return (*steps, *survey.rules_by_hand)


def _leaving(found: SurveyedInterface, config: InterfaceConfig) -> Iterator[LeavingLease]:
    """The lease of an interface, if its address goes."""
    lease, mac = found.lease, found.link.mac
    if lease is None or lease.server is None or mac is None:
        return
    if config.ipv4 == "fixed" and all(a.ip != lease.address for a in config.addresses):
        yield LeavingLease(found.name, mac, str(lease.address), str(lease.server), lease.client_id)


def _expected_facts(configs: tuple[InterfaceConfig, ...]) -> Iterator[str]:
    """What must be so afterwards, in the words in which the engine observes it."""
    for config in configs:
        for address in config.addresses:
            yield f"address {address} fixed on {config.interface}"
        for route in config.default_routes(4):
            yield f"gateway {route.next_hop} on {config.interface}"
