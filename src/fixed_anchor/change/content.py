"""What a change consists of. There are kinds; each target knows its own, and everybody else only this Protocol.

Files of a host with the steps of its daemons are the first one, settings of a Windows machine another.
"""

from __future__ import annotations

from typing import Protocol

import msgspec

from fixed_anchor.change.files import FileEdit
from fixed_anchor.change.settings import SettingsContent
from fixed_anchor.change.shown import Shown
from fixed_anchor.change.steps import Steps


class Content(Protocol):
    """What every kind of content tells of itself."""

    @property
    def interfaces(self) -> tuple[str, ...]:
        """The interfaces whose state must come back when the change is rolled back."""
        ...

    @property
    def is_empty(self) -> bool:
        """Whether nothing is to be done: what is wanted is so already."""
        ...

    def shown(self) -> Shown:
        """What is shown of it."""
        ...


class FileContent(msgspec.Struct, frozen=True):
    """Edits of files, and the steps around them.

    ``interfaces`` are those whose state must come back when the change is rolled back. Where old
    addresses stay until the decision, ``edits`` are the files with them, ``finals`` the texts
    without, by path; ``grace_facts`` are those that then end, as the engine observes them.
    ``expect`` are the facts that the engine's own small checks ask for.
    """

    interfaces: tuple[str, ...]
    edits: tuple[FileEdit, ...]
    steps: Steps = Steps()
    finals: tuple[tuple[str, str], ...] = ()
    grace_facts: tuple[str, ...] = ()
    expect: tuple[str, ...] = ()

    @property
    def is_empty(self) -> bool:
        """Whether nothing is to be done: what is wanted is declared already."""
        return not self.edits

    def shown(self) -> Shown:
        """Its edits, and the steps around them."""
        later = tuple(
            FileEdit(first.path, first.after, last.after)
            for first, last in zip(self.edits, self.ends_with(), strict=True)
            if first.after != last.after
        )
        return Shown(
            self.edits,
            first=self.steps.leave,
            then=self.steps.activate,
            later_edits=later,
            later=self.steps.drop,
        )

    def ends_with(self) -> tuple[FileEdit, ...]:
        """The edits from today's files to the final ones."""
        finals = dict(self.finals)
        return tuple(
            msgspec.structs.replace(e, after=msgspec.structs.replace(e.after, text=finals[e.path]))
            if e.after is not None and e.path in finals
            else e
            for e in self.edits
        )


def settings_in(content: Content) -> SettingsContent:
    """The content of a change of a Windows machine: for the target that makes no other."""
    assert isinstance(content, SettingsContent)
    return content


def files_in(content: Content) -> FileContent:
    """The content of a change that is made of files: for the target that makes no other."""
    assert isinstance(content, FileContent)
    return content
