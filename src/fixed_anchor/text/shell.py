"""Files of shell assignments, sh(1): the values as a POSIX shell reads them, and edits of them.

Such a file is sourced by a shell, so quoting is the shell's (sh(1), 2.2); what would be more
than an assignment is refused.
"""

from __future__ import annotations

import re

import msgspec

from fixed_anchor.change.files import FileText
from fixed_anchor.core.errors import InputError
from fixed_anchor.text.lines import LineEditor, refuse_mark

_ASSIGNMENT = re.compile(r"\s*(?:export\s+)?([A-Za-z_][A-Za-z0-9_]*)=(.*)", re.DOTALL)
_YES = frozenset({"yes", "true", "y", "t", "1", "on"})


class Assignment(msgspec.Struct, frozen=True):
    """``NAME=VALUE`` with its quoting undone, and the lines it stands in (from 0, ``last`` included)."""

    name: str
    value: str
    first: int
    last: int


class ShellFile:
    """A file of shell assignments, and edits of it. Raises :class:`InputError` for anything else in it."""

    def __init__(self, file: FileText) -> None:
        self.file = file
        refuse_mark(file.text, file.path)
        self.editor = LineEditor(file.text)
        self.lines = self.editor.lines
        self.assignments = self._parse()

    def _parse(self) -> list[Assignment]:
        found: list[Assignment] = []
        number = 0
        while number < len(self.lines):
            first = number
            text = self.lines[number]
            number += 1
            if not text.strip() or text.lstrip().startswith("#"):
                continue
            # A quoted value may go over several lines, and a backslash joins two.
            while (value := self._unquoted(text, first)) is None and number < len(self.lines):
                text += self.lines[number]
                number += 1
            matched = _ASSIGNMENT.fullmatch(text.rstrip("\r\n"))
            if value is None:
                raise self.error(first, "a quote is not closed", "its end")
            assert matched is not None
            found.append(Assignment(matched[1], value, first, number - 1))
        return found

    def error(self, line: int, what: str, expected: str | None = None) -> InputError:
        """An error at line ``line`` (from 0)."""
        return InputError(what, file=self.file.path, line=line + 1, column=1, expected=expected)

    def _unquoted(self, text: str, line: int) -> str | None:
        """The value of an assignment, ``None`` where a quote is still open. Raises :class:`InputError`."""
        matched = _ASSIGNMENT.fullmatch(text.rstrip("\r\n"))
        if matched is None:
            raise self.error(line, f"{text.strip()[:40]!r} is no assignment", "NAME=VALUE")
        rest = matched[2]
        out: list[str] = []
        at = 0
        while at < len(rest):
            char = rest[at]
            if char == "'":
                end = rest.find("'", at + 1)
                if end < 0:
                    return None
                out.append(rest[at + 1 : end])
                at = end + 1
            elif char == '"':
                at += 1
                while at < len(rest) and rest[at] != '"':
                    if rest[at] == "\\" and at + 1 < len(rest) and rest[at + 1] in '$`"\\\n':
                        at += 1
                    elif rest[at] in "$`":
                        raise self.error(line, "an expansion stands in the value", "a plain value")
                    out.append(rest[at])
                    at += 1
                if at >= len(rest):
                    return None
                at += 1
            elif char == "\\":
                if at + 1 >= len(rest):
                    return None
                out.append("" if rest[at + 1] == "\n" else rest[at + 1])
                at += 2
            elif char in " \t\r\n":
                tail = rest[at:].strip()
                if tail and not tail.startswith("#"):
                    raise self.error(
                        line, f"{tail[:40]!r} stands behind the value", "quotes around a value with spaces"
                    )
                break
            elif char in "$`;&|()<>":
                raise self.error(line, f"{char!r} stands in the value", "a plain value")
            else:
                out.append(char)
                at += 1
        return "".join(out)

    def all(self, name: str) -> list[Assignment]:
        """All assignments of ``name``, in order."""
        return [a for a in self.assignments if a.name == name]

    def get(self, name: str, default: str = "") -> str:
        """The last value of ``name``: a later assignment wins."""
        values = self.all(name)
        return values[-1].value if values else default

    def yes(self, name: str, default: bool) -> bool:
        """Whether ``name`` says yes; ``default`` where it says nothing."""
        value = self.get(name).lower()
        return value in _YES if value else default

    def drop(self, name: str) -> None:
        """Turns every assignment of ``name`` into a comment."""
        for assignment in self.all(name):
            self.editor.drop(assignment.first, assignment.last)

    def set(self, name: str, value: str) -> None:
        """Sets ``name``, in the place of its last assignment, else at the end."""
        there = self.all(name)
        if there and there[-1].value == value and not self.editor.is_gone(there[-1].first):
            return
        self.drop(name)
        if there:
            self.editor.insert(there[-1].last, [f"{name}={quoted(value)}"])
        else:
            self.editor.append([f"{name}={quoted(value)}"])

    def result(self) -> str:
        """The text with all edits made."""
        return self.editor.result()


def quoted(value: str) -> str:
    """``value`` as a POSIX shell reads it back, quoted only where it must be."""
    if re.fullmatch(r"[A-Za-z0-9._:/,@%+-]*", value):
        return value
    return "'" + value.replace("'", "'\\''") + "'"
