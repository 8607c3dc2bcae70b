"""Going back to the files that confirmed changes replaced: a change of its own."""

from __future__ import annotations

from typing import Any

import msgspec

from fixed_anchor.change import states
from fixed_anchor.change.change import Draft
from fixed_anchor.change.files import FileEdit, FileText, apply_edits, joined_edits
from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.baseline import Baseline, InterfaceBefore
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.errors import ChangeOpen, InputError, NotSupported, Refused
from fixed_anchor.core.survey import HostSurvey, SurveyedInterface
from fixed_anchor.core.wanted import held_beside
from fixed_anchor.engine import driver
from fixed_anchor.formats import FORMATS
from fixed_anchor.formats.rewriting import rewrite
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe.fetching import format_files
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.workflow.hosts.baseline import recorded
from fixed_anchor.workflow.hosts.kept import later_ones
from fixed_anchor.workflow.linux.assemble import Stage, assemble, stack_of, surveyed
from fixed_anchor.workflow.linux.draft_files import going


class Kept(msgspec.Struct, frozen=True):
    """A confirmed change as its folder tells: what each file was before it, and became by it."""

    number: str
    notes: dict[str, Any]
    edits: tuple[FileEdit, ...]


def restore_draft(machine: Machine, number: str, hold: frozenset[IPAddress] = frozenset()) -> Draft:
    """The change that brings back the files from before change ``number``.

    Later confirmed changes are undone with it. ``hold`` are addresses of today that stay until
    the decision, where the files that come back leave a fixed configuration. Raises
    :class:`ChangeOpen` if the change was never kept, :class:`Refused` if files were edited since.
    """
    state = driver.status(machine.store, number).state
    if state != states.CONFIRMED:
        raise ChangeOpen(f"change {number} is {states.shown(state)}; only a confirmed change can be restored")
    kept = [read_kept(machine, n) for n in (number, *later_ones(machine.store, number))]
    then = recorded(machine, number)
    survey = _as_left(take_stock(machine), then)
    names = tuple(dict.fromkeys(str(i) for one in kept for i in one.notes.get("interfaces", ())))
    final = _stage(machine, survey, names, _backwards(machine, kept), then)
    waiting = _held_stage(machine, survey, final, hold) if hold else None
    return assemble(str(kept[0].notes.get("host", machine.name)), machine, survey, final, waiting)


def _stage(
    machine: Machine, survey: HostSurvey, names: tuple[str, ...], edits: list[FileEdit], then: Baseline | None
) -> Stage:
    """The former files, and what they declare for the interfaces that the changes were about.

    ``then`` is what was before those: where no file declares an interface, a daemon does so by itself.
    """
    configs: dict[str, InterfaceConfig | None] = {}
    for name in names:
        found = surveyed(survey, name)
        stack = stack_of(survey, found)
        declared = FORMATS[stack].read(apply_edits(format_files(machine, stack), edits), (found.link,))
        before = then.interface(name) if then is not None else None
        configs[name] = declared[0].config if declared else _by_itself(before)
    return Stage(tuple(edits), configs)


def _as_left(survey: HostSurvey, then: Baseline | None) -> HostSurvey:
    """The survey, with how each link is to be left in what its former files do not say: as it was ``then``."""
    befores = {before.interface: before for before in then.interfaces} if then is not None else {}

    def left(found: SurveyedInterface) -> SurveyedInterface:
        before = befores.get(found.name)
        if before is None:
            return found
        link = msgspec.structs.replace(found.link, mtu=before.mtu or found.link.mtu, bare=before.bare)
        return msgspec.structs.replace(found, link=link)

    return msgspec.structs.replace(survey, interfaces=tuple(map(left, survey.interfaces)))


def _by_itself(before: InterfaceBefore | None) -> InterfaceConfig | None:
    """What becomes of an interface that no file declares, as far as it is known of the time before."""
    if before is None:
        return None
    if before.bare is not None and not before.is_usable:
        # Nothing had given it an address, and nothing shall have left one.
        return InterfaceConfig(before.interface, ipv4="off", ipv6="off")
    leased = [version for version in (4, 6) if "dhcp" in (before.family(version).method, *before.family(version).given)]
    return InterfaceConfig(
        before.interface, ipv4="dhcp" if 4 in leased else "untouched", ipv6="dhcp" if 6 in leased else "untouched"
    )


def _held_stage(machine: Machine, survey: HostSurvey, final: Stage, hold: frozenset[IPAddress]) -> Stage:
    """The former files with the addresses of ``hold`` beside their own, where that can be written."""
    edits = list(final.edits)
    configs = dict(final.configs)
    for name, config in final.configs.items():
        found = surveyed(survey, name)
        stack = stack_of(survey, found)
        if config is None:
            continue
        beside = held_beside(config, tuple(a for a in going(found, config) if a.ip in hold))
        if beside == config:
            continue
        files = apply_edits(format_files(machine, stack), edits)
        try:
            more = rewrite(FORMATS[stack], files, found.link, beside, (i.link for i in survey.interfaces))
        except NotSupported:
            continue
        edits = joined_edits(edits, more)
        configs[name] = beside
    return Stage(tuple(edits), configs)


def read_kept(machine: Machine, number: str) -> Kept:
    """What the folder of a change says. Raises :class:`InputError` where copies are gone."""
    folder = driver.folder_of(machine.store, driver.number_of(machine.store, number))
    edits = []
    manifest = machine.read(f"{folder}/manifest")
    for line in manifest.text.splitlines() if manifest else ():
        entry, kind, mode, uid, gid, path = line.split(" ", 5)
        made = machine.read(f"{folder}/final/{entry}") or machine.read(f"{folder}/new/{entry}")
        saved = machine.read(f"{folder}/saved/{entry}")
        link = machine.link_target(f"{folder}/saved/{entry}")
        if saved is None and link is None and kind != "create":
            raise InputError("the saved copy is gone", file=f"{folder}/saved/{entry}")
        edits.append(
            FileEdit(
                path,
                FileText(path, saved.text, saved.mode, saved.uid, saved.gid) if saved else None,
                FileText(path, made.text, int(mode, 8), int(uid), int(gid)) if made and kind != "link" else None,
                link_before=link,
                link_after=made.text.strip() if made and kind == "link" else None,
            )
        )
    return Kept(number, driver.notes(machine.store, number), tuple(edits))


def _backwards(machine: Machine, kept: list[Kept]) -> list[FileEdit]:
    """The edits from today's files to those before the first of ``kept``."""
    first: dict[str, FileEdit] = {}
    last: dict[str, tuple[str, FileEdit]] = {}
    for one in kept:
        for edit in one.edits:
            first.setdefault(edit.path, edit)
            last[edit.path] = (one.number, edit)
    edits = []
    for path, oldest in first.items():
        number, newest = last[path]
        live, link = machine.read(path), machine.link_target(path)
        texts = (live.text if live else None), (newest.after.text if newest.after else None)
        if link != newest.link_after or (link is None and texts[0] != texts[1]):
            raise Refused(
                f"{path} was edited since change {number}",
                remedy=f"compare it with the copies in {driver.folder_of(machine.store, number)}, "
                "and copy it back by hand if that is meant",
            )
        if texts[0] != (oldest.before.text if oldest.before else None) or link != oldest.link_before:
            after = None if oldest.link_before is not None else oldest.before
            edits.append(FileEdit(path, live, after, link_before=link, link_after=oldest.link_before))
    return edits
