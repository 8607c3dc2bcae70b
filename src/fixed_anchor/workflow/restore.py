"""Going back to the files that confirmed changes replaced: a change of its own."""

from __future__ import annotations

import json
from typing import Any

import msgspec

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.errors import AnchorError, ChangeOpen, InputError, NotSupported, Refused
from fixed_anchor.core.wanted import held_beside
from fixed_anchor.dialects import DIALECTS
from fixed_anchor.dialects.protocol import FileEdit, FileText, Steps, apply_edits
from fixed_anchor.engine import driver
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe.stocktaking import dialect_files, take_stock
from fixed_anchor.workflow.draft import Held, HostDraft, extra_steps, going, joined_steps, kernel_steps


class Kept(msgspec.Struct, frozen=True):
    """A confirmed change as its folder tells: what each file was before it, and became by it."""

    number: str
    notes: dict[str, Any]
    edits: tuple[FileEdit, ...]


def later_ones(machine: Machine, number: str) -> tuple[str, ...]:
    """The confirmed changes after ``number``, oldest first: going back behind it undoes them too."""
    after = [n for n in driver.numbers(machine) if n > number]
    return tuple(n for n in after if driver.status(machine, n).state == "confirmed")


def restore_draft(machine: Machine, number: str, hold: frozenset[IPAddress] = frozenset()) -> HostDraft:
    """The change that brings back the files from before change ``number``.

    Later confirmed changes are undone with it. ``hold`` are addresses of today that stay until
    the decision, where the files that come back leave a fixed configuration. Raises
    :class:`ChangeOpen` if the change was never in force, :class:`Refused` if files were edited since.
    """
    state = driver.status(machine, number).state
    if state != "confirmed":
        raise ChangeOpen(f"change {number} is {state}; only a confirmed change can be restored")
    kept = [read_kept(machine, n) for n in (number, *later_ones(machine, number))]
    edits = _backwards(machine, kept)
    survey = take_stock(machine)
    wanted: list[InterfaceConfig] = []
    waiting: list[InterfaceConfig] = []
    steps: list[Steps] = []
    stacks: list[str] = []
    held: list[Held] = []
    first = list(edits)
    for name in dict.fromkeys(str(i) for one in kept for i in one.notes.get("interfaces", ())):
        found = survey.interface(name)
        if found is None:
            raise InputError(f"{machine.name} has no interface {name} any more")
        if found.stack is None:
            raise InputError(f"no supported network stack declares {name} any more")
        dialect = DIALECTS[found.stack]
        before = dialect_files(machine, found.stack)
        after = apply_edits(before, tuple(edits))
        declared = dialect.read(after, (found.link,))
        made = dialect.steps(before, after, found.link)
        if declared:
            config = declared[0].config
            wanted.append(config)
            beside = held_beside(config, tuple(a for a in going(found, config) if a.ip in hold))
            try:
                more = dialect.rewrite(after, found.link, beside) if beside != config else ()
            except NotSupported:
                more = ()
            waiting.append(beside if more else config)
            if more:
                mine = beside.addresses[len(config.addresses) :]
                held += [Held(name, address) for address in mine]
                first = _with(first, before, more)
                with_held = apply_edits(after, more)
                link = msgspec.structs.replace(found.link, held=beside.addresses, leased=(), client=None)
                drop = dialect.steps(with_held, after, link)
                made = msgspec.structs.replace(
                    dialect.steps(before, with_held, found.link), drop=drop.activate, drop_escalate=drop.escalate
                )
        steps.append(made)
        stacks.append(found.stack)
    both = (extra_steps(edits), *steps)
    finals = {e.path: e.after.text for e in edits if e.after is not None}
    return HostDraft(
        host=str(kept[0].notes.get("host", machine.name)),
        stack=", ".join(dict.fromkeys(stacks)),
        wanted=tuple(wanted),
        edits=tuple(first),
        steps=msgspec.structs.replace(joined_steps(both), kernel=kernel_steps(survey, tuple(wanted))),
        waiting=tuple(waiting),
        finals=tuple(
            (e.path, finals[e.path]) for e in first if e.after is not None and e.after.text != finals.get(e.path)
        ),
        held=tuple(held),
    )


def _with(edits: list[FileEdit], before: dict[str, FileText], more: tuple[FileEdit, ...]) -> list[FileEdit]:
    """``edits`` with the texts of ``more`` on top, for files that both write."""
    texts = {e.path: e.after for e in more}
    return [msgspec.structs.replace(e, after=texts.get(e.path, e.after)) for e in edits]


def read_kept(machine: Machine, number: str) -> Kept:
    """What the folder of a change says. Raises :class:`InputError` where copies are gone."""
    folder = driver.folder_of(machine, number)
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
    return Kept(number, _notes(machine, folder), tuple(edits))


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
                remedy=f"compare it with the copies in {driver.changes_folder(machine)}/{number}, "
                "and put it back by hand if that is meant",
            )
        if texts[0] != (oldest.before.text if oldest.before else None) or link != oldest.link_before:
            after = None if oldest.link_before is not None else oldest.before
            edits.append(FileEdit(path, live, after, link_before=link, link_after=oldest.link_before))
    return edits


def _notes(machine: Machine, folder: str) -> dict[str, Any]:
    file = machine.read(f"{folder}/about.json")
    try:
        notes = json.loads(file.text) if file else {}
    except ValueError:
        notes = {}
    if not isinstance(notes, dict):
        raise AnchorError("the notes of the change are broken", file=f"{folder}/about.json")
    return notes
