"""What a change consists of, as people see it: every kind of content tells it in the same way."""

from __future__ import annotations

import difflib
from collections.abc import Iterator

import msgspec

from fixed_anchor.change.files import FileEdit, joined_edits
from fixed_anchor.change.steps import Step
from fixed_anchor.core.errors import printable
from fixed_anchor.core.secrets import masked

#: So many lines around a difference that nothing of a small text is left out; and what its two states are called.
_WHOLE = 10_000
_STATES = ("as they are", "as drafted")


class Shown(msgspec.Struct, frozen=True):
    """The content of a change for a diff, a document, or a folder.

    ``edits`` are files; ``settings`` a small text as a whole, as it is and as it becomes, where there are none.
    ``first`` runs before, ``then`` afterwards. Once nothing of the old state stays, ``later_edits`` and ``later``
    follow. ``remark`` is what is to be known of it, ``nothing`` the sentence where nothing is to be done.
    """

    edits: tuple[FileEdit, ...] = ()
    settings: tuple[tuple[str, ...], tuple[str, ...]] | None = None
    first: tuple[Step, ...] = ()
    then: tuple[Step, ...] = ()
    later_edits: tuple[FileEdit, ...] = ()
    later: tuple[Step, ...] = ()
    remark: str = ""
    nothing: str = "nothing to do: it is configured so already"

    def diff(self) -> list[str]:
        """From the first state to the last, as lines of unified diffs, each file with what is said of it first."""
        if self.settings is not None:
            return list(settings_diff(*self.settings))
        lines: list[str] = []
        for edit in joined_edits(self.edits, self.later_edits):
            lines += [*filter(None, [edit_remark(edit)]), *edit_diff(edit)]
        return lines


def edit_remark(edit: FileEdit) -> str:
    """What a diff does not say of a file: that it is new, a link, removed, or of another mode."""
    if edit.link_after is not None:
        return f"{edit.path}: becomes a link to {edit.link_after}"
    if edit.link_before is not None:
        return f"{edit.path}: no longer a link to {edit.link_before}"
    if edit.before and edit.after and edit.before.mode != edit.after.mode:
        return f"{edit.path}: mode {edit.before.mode:04o} becomes {edit.after.mode:04o}"
    if edit.before is None and edit.after is not None:
        return f"{edit.path}: new, mode {edit.after.mode:04o}"
    return f"{edit.path}: removed" if edit.after is None else ""


def edit_diff(edit: FileEdit) -> Iterator[str]:
    """One file as a unified diff, its secrets masked, without control characters."""
    before = masked(edit.before.text) if edit.before else ""
    after = masked(edit.after.text) if edit.after else ""
    lines = difflib.unified_diff(
        before.splitlines(), after.splitlines(), edit.path, edit.path, "as it is", "as drafted", lineterm=""
    )
    yield from map(_line, lines)


def settings_diff(before: tuple[str, ...], after: tuple[str, ...]) -> Iterator[str]:
    """The diff of a whole small text."""
    lines = difflib.unified_diff(before, after, "settings", "settings", *_STATES, lineterm="", n=_WHOLE)
    # All of it is shown: no line need say which part this is.
    yield from (_line(line) for line in lines if not line.startswith("@@"))


def _line(line: str) -> str:
    # A line of context that is empty stays a blank: the diff can be applied.
    return line[:1] + printable(line[1:]) if line else line
