"""What the files of a host would declare once its plan is carried out: the draft is made, and all of it read."""

from __future__ import annotations

import re
from collections.abc import Iterator

import msgspec

from fixed_anchor.change.change import Draft
from fixed_anchor.change.content import files_in
from fixed_anchor.change.files import FileEdit, Files, apply_edits
from fixed_anchor.core.aside import NAMES, PORT, RENAMED, Aside
from fixed_anchor.core.config import InterfaceConfig, Place, Route
from fixed_anchor.core.errors import AnchorError
from fixed_anchor.core.foreseen import Declared, Foreseen, going_from, refusal_of
from fixed_anchor.core.plan import HostPlan, Plan
from fixed_anchor.core.survey import HostSurvey, SurveyedInterface
from fixed_anchor.core.wanted import wanted_config
from fixed_anchor.daemons import DAEMONS
from fixed_anchor.formats import FORMATS
from fixed_anchor.formats.protocol import Declaration, Format
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe.fetching import format_files
from fixed_anchor.workflow.linux.own_parser import tried

#: What stands between the addresses of a line.
_NOT_ADDRESS = re.compile(r"[^0-9a-fA-F.:/]+")


def foresee(plan: Plan, host: HostPlan, machine: Machine, survey: HostSurvey, draft: Draft | AnchorError) -> Foreseen:
    """The declared state of ``host`` after ``draft``; as it is now, with the reason, where none could be made."""
    touched = host.touched
    wanted = {i.name: wanted_config(plan, i) for i in touched if survey.interface(i.name) is not None}
    edits: tuple[FileEdit, ...] = ()
    refusal = None
    if wanted and isinstance(draft, AnchorError):
        refusal = refusal_of(draft, plan, next((i.line for i in touched if i.name in wanted), host.line))
    elif wanted and not isinstance(draft, AnchorError):
        edits = files_in(draft.content).ends_with()
    declared: dict[str, Declared] = {}
    asides: list[Aside] = []
    for name in dict.fromkeys(i.stack for i in survey.interfaces if i.stack is not None):
        form = FORMATS[name]
        now = format_files(machine, name)
        files = apply_edits(now, edits)
        for interface in survey.interfaces:
            found, said = _read(form, files, interface)
            # Files of a stack that has let go of an interface may still make it a port, or name an address.
            asides += said if interface.stack == name else [a for a in said if a.kind in (PORT, NAMES)]
            if found is not None and interface.stack == name:
                # Lines are those of the files as they are, which an administrator would open.
                places = interface.declared_in or found.places
                routes = {r: _place_of(_named(r), now, places) for r in found.config.routes if r.next_hop is not None}
                own = {p.file: now[p.file] for p in places if p.file in now}
                addresses = {a.ip: _place_of([str(a.ip)], own, places) for a in found.config.addresses}
                daemon = DAEMONS[found.daemon]
                declared[interface.name] = Declared(
                    found.config,
                    found.daemon,
                    places[0],
                    interface.link.kind,
                    routes,
                    addresses,
                    daemon.own_client,
                    daemon.numbers_metrics,
                )
                asides += _renamed(form, files, interface, found.config, survey.others)
    asides += [a for a in survey.others if a.kind != RENAMED]
    if refusal is not None:
        # What the draft would have put right is not told.
        asides = [a for a in asides if a in (*survey.asides, *survey.others)]
    going = frozenset(going_from(host, survey, wanted))
    asides = [_as_it_stands(aside, survey.asides) for aside in asides]
    rewritten = {edit.path: edit.after.text if edit.after is not None else None for edit in edits}
    parser = tried(machine, survey, edits)
    asides = list(dict.fromkeys(asides))
    # Of a tree, and of a collection, it is told anyway that the host itself is not here.
    untried = parser.why_not if machine.running and not machine.is_afar else ""
    return Foreseen(wanted, declared, tuple(asides), going, refusal, parser.refusal, untried, rewritten)


def _named(route: Route) -> list[str]:
    """What a line has that declares a route."""
    return [str(route.next_hop)] if route.is_default else [str(route.destination), str(route.next_hop)]


def _place_of(wanted: list[str], files: Files, places: tuple[Place, ...]) -> Place:
    """The line that has the words of ``wanted``: the first such, from where the interface is declared on.

    Some formats keep routes in a file of their own, beside that of the interface.
    """
    begins = {place.file: place.line for place in reversed(places)}
    for path in (*begins, *(p for p in files if p not in begins)):
        for number, line in enumerate(files[path].text.split("\n") if path in files else (), 1):
            words = _NOT_ADDRESS.split(line.partition("#")[0])
            words += [word.partition("/")[0] for word in words]
            if number >= begins.get(path, 1) and (wanted[0] in words if path in begins else set(wanted) <= set(words)):
                return Place(path, number)
    return places[0]


def _as_it_stands(aside: Aside, now: tuple[Aside, ...]) -> Aside:
    """The same aside where it stands now: lines move with an edit, and a file of the link's own is not there yet."""

    def same(other: Aside) -> bool:
        return (other.kind, other.text, other.interface) == (aside.kind, aside.text, aside.interface)

    found = [other for other in now if same(other)]
    return next((other for other in found if other.place.file == aside.place.file), found[0] if found else aside)


def _read(form: Format, files: Files, interface: SurveyedInterface) -> tuple[Declaration | None, tuple[Aside, ...]]:
    """What the files say of an interface; nothing where they cannot be read for it, which the survey has told."""
    try:
        found = form.read(files, (interface.link,))
        return (found[0] if found else None), form.asides(files, (interface.link,))
    except AnchorError:
        return None, ()


def _renamed(
    form: Format, files: Files, interface: SurveyedInterface, now: InterfaceConfig, others: tuple[Aside, ...]
) -> Iterator[Aside]:
    """New names of an interface under which the files would not declare what they declare ``now``."""
    for aside in others:
        if aside.kind != RENAMED or aside.interface != interface.name:
            continue
        if aside.of:
            link = msgspec.structs.replace(interface.link, name=aside.of)
            then, _ = _read(form, files, msgspec.structs.replace(interface, link=link))
            if then is not None and msgspec.structs.replace(then.config, interface=interface.name) == now:
                continue
        yield aside
