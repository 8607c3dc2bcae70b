"""What a change consists of, as people see it: every kind of content tells it in the same way."""

from __future__ import annotations

import msgspec

from fixed_anchor.change.files import FileEdit
from fixed_anchor.change.steps import Step


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
