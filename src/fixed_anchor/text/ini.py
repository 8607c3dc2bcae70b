"""Editing files of sections and ``KEY=VALUE`` lines without touching any other line.

Both systemd.syntax(7) and the key files of GLib have this shape. They differ in what
continues a line and what begins a comment; :class:`IniText` is told which.
"""

from __future__ import annotations

import msgspec

from fixed_anchor.core.errors import InputError
from fixed_anchor.text.lines import MARK, LineEditor, refuse_mark


class Setting(msgspec.Struct, frozen=True):
    """One assignment: its key and value, and the lines it stands in (counted from 0, ``last`` included)."""

    key: str
    value: str
    first: int
    last: int

    @property
    def line(self) -> int:
        """The line number for people, counted from 1."""
        return self.first + 1


class Block(msgspec.Struct):
    """One section as it stands in the file; the same name may come again as a block of its own."""

    name: str
    first: int
    last: int
    entries: list[Setting] = []

    def all(self, key: str) -> list[Setting]:
        """All settings of ``key``, in order."""
        return [e for e in self.entries if e.key == key]

    def get(self, key: str) -> str | None:
        """The last value of ``key``, or ``None``."""
        values = self.all(key)
        return values[-1].value if values else None


class IniText:
    """A parsed text, and edits of it.

    Raises :class:`InputError` for lines that are neither section, assignment nor comment:
    the daemon would ignore them without a word. ``marked`` says that a byte order mark may stand at the beginning.
    """

    def __init__(
        self,
        text: str,
        path: str,
        *,
        comments: str = "#;",
        continued: bool = True,
        forget: bool = False,
        marked: bool = True,
    ) -> None:
        self.path = path
        self.editor = LineEditor(text, forget=forget)
        self.lines = self.editor.lines
        self.blocks: list[Block] = []
        if not marked:
            refuse_mark(text, path)
        self._parse(comments, continued)

    def _parse(self, comments: str, continued: bool) -> None:
        number = 0
        while number < len(self.lines):
            first = number
            text = self.lines[number].strip()
            if number == 0:
                text = text.removeprefix(MARK)
            number += 1
            if not text or text[0] in comments:
                continue
            if text.startswith("["):
                if not text.endswith("]") or len(text) < 3 or "[" in text[1:] or "]" in text[:-1]:
                    raise self.error(first, f"{text!r} is no section", "[NAME]")
                self.blocks.append(Block(text[1:-1], first, first, []))
                continue
            while continued and text.endswith("\\") and number < len(self.lines):
                following = self.lines[number].strip()
                number += 1
                # systemd.syntax(7): comment lines between continued ones are passed over.
                if following[:1] in comments and following:
                    continue
                text = f"{text[:-1]} {following}"
            key, equals, value = text.partition("=")
            if not equals or not key.strip():
                raise self.error(first, f"{text[:40]!r} is neither a section nor an assignment", "KEY=VALUE")
            if not self.blocks:
                raise self.error(first, "an assignment stands before any section", "[NAME]")
            block = self.blocks[-1]
            block.entries.append(Setting(key.strip(), value.strip(), first, number - 1))
            block.last = number - 1

    def error(self, line: int, what: str, expected: str) -> InputError:
        """An error at line ``line`` (from 0)."""
        indent = len(self.lines[line]) - len(self.lines[line].lstrip())
        return InputError(what, file=self.path, line=line + 1, column=indent + 1, expected=expected)

    def bad_value(self, entry: Setting, what: str) -> InputError:
        """An error at the value of a setting."""
        column = self.lines[entry.first].find("=") + 2
        return InputError(f"{entry.key}: {what}", file=self.path, line=entry.line, column=column)

    def named(self, name: str) -> list[Block]:
        """All sections called ``name``, in order."""
        return [b for b in self.blocks if b.name == name]

    # --- edits --------------------------------------------------------------------------

    def is_gone(self, place: Setting | Block) -> bool:
        """Whether an assignment, or the head of a section, has been dropped."""
        return self.editor.is_gone(place.first)

    def drop(self, entry: Setting) -> None:
        """Turns an assignment into a comment."""
        self.editor.drop(entry.first, entry.last)

    def drop_block(self, block: Block) -> None:
        """Turns a whole section into comments."""
        for entry in block.entries:
            self.drop(entry)
        self.editor.drop(block.first)

    def set(self, section: str, key: str, value: str) -> None:
        """Sets a key that stands once: in place where it is, else at the end of the first such section."""
        entries = [e for b in self.named(section) for e in b.all(key) if not self.is_gone(e)]
        if entries and entries[-1].value == value:
            for entry in entries[:-1]:
                self.drop(entry)
            return
        for entry in entries:
            self.drop(entry)
        if entries:
            self.editor.insert(entries[-1].last, [f"{key}={value}"])
        else:
            self.add(section, [f"{key}={value}"])

    def add(self, section: str, lines: list[str]) -> None:
        """Adds assignments to the end of the first section of that name; makes it if there is none."""
        blocks = [b for b in self.named(section) if not self.is_gone(b)]
        if blocks:
            self.editor.insert(blocks[0].last, lines)
        elif self._last_added() == section:
            self.editor.append(lines)
        else:
            self.add_block(section, lines)

    def add_block(self, section: str, lines: list[str]) -> None:
        """Adds a new section at the end of the file."""
        if self.editor.appended or (self.lines and self.lines[-1].strip()):
            self.editor.append([""])
        self.editor.append([f"[{section}]", *lines])

    def _last_added(self) -> str | None:
        """The section that new lines at the end of the file belong to."""
        heads = [line for line in self.editor.appended if line.startswith("[")]
        return heads[-1][1:-1] if heads else None

    def result(self) -> str:
        """The text with all edits made."""
        return self.editor.result()


def truth(text: str) -> bool | None:
    """A boolean as systemd.syntax(7) and GLib write them, ``None`` for anything else."""
    lowered = text.lower()
    if lowered in ("1", "yes", "true", "on", "y", "t"):
        return True
    if lowered in ("0", "no", "false", "off", "n", "f"):
        return False
    return None
