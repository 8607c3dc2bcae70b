"""Errors an operator is meant to read.

Each says what is wrong, where (file, line, column), what was expected and what
to do about it, and carries the exit status of the command that it ends.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import contextmanager

EXIT_DONE = 0
EXIT_AGAINST = 1
EXIT_USAGE = 2
EXIT_ROLLED_BACK = 3
EXIT_NO_ACCESS = 4
EXIT_STUCK = 5
EXIT_UNDETERMINED = 6
EXIT_CHANGE_OPEN = 7
EXIT_BUG = 70
EXIT_INTERRUPTED = 130

#: Which of several hosts' exit statuses is the worst, the worst first; a bug and bad usage are worse than all.
_WORST = (
    EXIT_BUG, EXIT_INTERRUPTED, EXIT_USAGE, EXIT_STUCK, EXIT_ROLLED_BACK, EXIT_AGAINST, EXIT_NO_ACCESS,
    EXIT_CHANGE_OPEN, EXIT_UNDETERMINED, EXIT_DONE,
)  # fmt: skip

#: What each exit status means, for `explain`, the manual page and the documentation.
EXIT_MEANINGS: dict[int, str] = {
    EXIT_DONE: "done; for a check: clear; for a probe: free; for a verification: as planned",
    EXIT_AGAINST: "something speaks against it: a blocker, a taken address, a state that is not as planned; a change "
    "was refused before anything was touched",
    EXIT_USAGE: "the command line, a plan or another file cannot be read as what it should be",
    EXIT_ROLLED_BACK: "the change was rolled back, and the state is as it was before",
    EXIT_NO_ACCESS: "no permission, or the machine cannot be reached",
    EXIT_STUCK: "a person is needed: a change could not be rolled back, or is kept without all of its files",
    EXIT_UNDETERMINED: "undetermined: something that matters could not be looked at",
    EXIT_CHANGE_OPEN: "another change is open, or this one is already decided",
    EXIT_BUG: "a bug of ours; nothing more was done",
    EXIT_INTERRUPTED: "interrupted with Ctrl-C; a change that had begun goes on under its guard",
}


def worst(statuses: Iterable[int]) -> int:
    """The exit status of a command on several hosts: the worst of theirs, 0 where there is none."""
    return min(statuses, key=_WORST.index, default=EXIT_DONE)


_BIDI_CONTROLS = frozenset("\u200e\u200f\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069")


def printable(text: str) -> str:
    """``text`` without control characters, for printing what came from a file or the network.

    C0 and C1 controls, escape sequences' introducers, bidirectional overrides and
    lone surrogates become ``?``; newline and tab become a space.
    """
    return "".join(
        " " if char in "\n\t" else char if char.isprintable() and char not in _BIDI_CONTROLS else "?" for char in text
    )


class AnchorError(Exception):
    """The base of all errors that end a command with a message instead of a traceback.

    ``what`` is one sentence; ``file``, ``line`` and ``column`` (both counted from 1)
    say where; ``expected`` says what would have been right; ``remedy`` what to do.
    """

    exit_status = EXIT_USAGE

    def __init__(
        self,
        what: str,
        *,
        file: str | None = None,
        line: int | None = None,
        column: int | None = None,
        expected: str | None = None,
        remedy: str | None = None,
    ) -> None:
        super().__init__(what)
        self.what = what
        self.file = file
        self.line = line
        self.column = column
        self.expected = expected
        self.remedy = remedy

    @property
    def where(self) -> str | None:
        """``file:line:column`` as far as known."""
        if self.file is None:
            return None
        parts = [self.file]
        if self.line is not None:
            parts.append(str(self.line))
            if self.column is not None:
                parts.append(str(self.column))
        return ":".join(parts)

    def __str__(self) -> str:
        text = f"{self.where}: {self.what}" if self.where else self.what
        if self.expected:
            text += f"; expected {self.expected}"
        if self.remedy:
            text += f". {self.remedy[0].upper()}{self.remedy[1:]}"
        return printable(text)


@contextmanager
def located(file: str, line: int | None) -> Iterator[None]:
    """Gives errors that name no place the one in the plan that led to them."""
    try:
        yield
    except AnchorError as error:
        if error.file is None:
            error.file, error.line = file, line
        raise


class InputError(AnchorError):
    """A file or an argument that cannot be read as what it should be."""


class InputErrors(InputError):
    """All that is wrong in one file: ``errors``, in the order of their places; as one it speaks for the first."""

    def __init__(self, errors: Iterable[InputError]) -> None:
        self.errors = tuple(sorted(errors, key=lambda e: (e.line is None, e.line or 0, e.column or 0)))
        first = self.errors[0]
        where = {"file": first.file, "line": first.line, "column": first.column}
        super().__init__(first.what, **where, expected=first.expected, remedy=first.remedy)  # type: ignore[arg-type]


class NotSupported(AnchorError):
    """Something this version refuses by name instead of doing it by half."""


class Refused(AnchorError):
    """The change was refused before anything was touched."""

    exit_status = EXIT_AGAINST


class Undetermined(AnchorError):
    """Something that matters could not be looked at."""

    exit_status = EXIT_UNDETERMINED


class NoAccess(AnchorError):
    """No permission, or the machine cannot be reached."""

    exit_status = EXIT_NO_ACCESS


class OtherSystem(NoAccess):
    """The machine answers, and is no Linux host: what was asked makes no sense there; it has told what it is."""


class Unreachable(NoAccess):
    """The machine does not answer, or the connection to it was lost: another try may find it again."""


class ChangeOpen(AnchorError):
    """Another change is open, or this one is already decided."""

    exit_status = EXIT_CHANGE_OPEN


class NothingOpen(ChangeOpen):
    """There is no change to be decided, or none to go back behind."""


class Stuck(AnchorError):
    """A change could not be rolled back; a person is needed."""

    exit_status = EXIT_STUCK
