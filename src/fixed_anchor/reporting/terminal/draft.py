"""The view of a draft: diffs, and the commands around them."""

from __future__ import annotations

from collections.abc import Iterable

from rich.console import Console

from fixed_anchor.change.change import Draft
from fixed_anchor.change.files import FileEdit
from fixed_anchor.change.shown import Shown, edit_diff, edit_remark, settings_diff
from fixed_anchor.change.steps import Fed, Step, argv_of
from fixed_anchor.reporting.terminal.paper import put, styled
from fixed_anchor.workflow.dhcp_server import ServerDraft


def show_draft(out: Console, drafts: list[Draft]) -> None:
    """What is drafted as diffs, and the commands around them."""
    for draft in drafts:
        put(out, styled(draft.host, "bold").append(f"   {draft.stack}", style="dim"))
        _show(out, draft, draft.content.shown())
        out.print()


def _show(out: Console, draft: Draft, shown: Shown) -> None:
    if draft.content.is_empty:
        put(out, shown.nothing, indent=2)
        if shown.settings is not None:
            return
    show_steps(out, "first run ", shown.first)
    for edit in shown.edits:
        show_diff(out, edit)
    if shown.settings is not None:
        _show_lines(out, settings_diff(*shown.settings))
    show_steps(out, "then run  ", shown.then)
    if shown.remark:
        put(out, shown.remark, indent=2, style="yellow")
    if shown.settings is not None:
        return
    for held in draft.grace:
        said = f"{held.address} stays on {held.interface} until the decision; then:"
        put(out, said, indent=2, style="bold")
    if draft.grace:
        for edit in shown.later_edits:
            show_diff(out, edit)
        show_steps(out, "then run  ", shown.later)


def show_steps(out: Console, when: str, steps: tuple[Step, ...]) -> None:
    """Commands, each with what is fed to it."""
    for step in steps:
        put(out, styled(when, "dim") + styled(" ".join(argv_of(step))), indent=2, hang=2 + len(when) + 2)
        if isinstance(step, Fed):
            for line in step.text.splitlines():
                put(out, line, indent=12)


def show_server_drafts(out: Console, drafts: list[ServerDraft]) -> None:
    """What must be told to DHCP servers; nothing here writes it there."""
    for draft in drafts:
        put(out, styled("to be told to the DHCP server: ", "bold") + styled(draft.label))
        if draft.edit is not None:
            show_diff(out, draft.edit)
        for command in draft.commands:
            when = "run there  "
            put(out, styled(when, "dim") + styled(command), indent=2, hang=2 + len(when) + 2)
        if draft.why_not is not None:
            put(out, draft.why_not, indent=2, style="yellow")
        out.print()


def show_diff(out: Console, edit: FileEdit) -> None:
    """One file as a unified diff, with the change of its mode. Its lines are printed as they are."""
    remark = edit_remark(edit)
    if remark:
        put(out, remark, indent=2)
    _show_lines(out, edit_diff(edit))


def _show_lines(out: Console, lines: Iterable[str]) -> None:
    for line in lines:
        if line.startswith(("---", "+++")):
            style = "bold"
        elif line.startswith("@@"):
            style = "cyan"
        elif line.startswith("+"):
            style = "green"
        elif line.startswith("-"):
            style = "red"
        else:
            style = "default"
        out.print(styled("  " + line, style), soft_wrap=True)
