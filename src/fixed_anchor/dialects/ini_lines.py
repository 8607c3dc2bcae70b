"""Editing files of sections and ``KEY=VALUE`` lines without touching any other line.

Both systemd.syntax(7) and the key files of GLib have this shape. They differ in what
continues a line and what begins a comment; :class:`IniText` is told which.
"""

from __future__ import annotations

import msgspec

from fixed_anchor.core.errors import InputError

WAS = "# was: "


class Entry(msgspec.Struct, frozen=True):
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
    entries: list[Entry] = []

    def all(self, key: str) -> list[Entry]:
        return [e for e in self.entries if e.key == key]

    def get(self, key: str) -> str | None:
        """The last value of ``key``, or ``None``."""
        values = self.all(key)
        return values[-1].value if values else None


class IniText:
    """A parsed text. Edits are collected, and :meth:`result` makes them.

    Raises :class:`InputError` for lines that are neither section, assignment nor comment:
    the stack would ignore them without a word.
    """

    def __init__(self, text: str, path: str, *, comments: str = "#;", continued: bool = True) -> None:
        self.path = path
        self.lines = by_newline(text)
        self.newline = "\r\n" if "\r\n" in text else "\n"
        self.blocks: list[Block] = []
        self.gone: set[int] = set()
        self._after: dict[int, list[str]] = {}
        self._tail: list[str] = []
        self._parse(comments, continued)

    def _parse(self, comments: str, continued: bool) -> None:
        number = 0
        while number < len(self.lines):
            first = number
            text = self.lines[number].strip()
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
            block.entries.append(Entry(key.strip(), value.strip(), first, number - 1))
            block.last = number - 1

    def error(self, line: int, what: str, expected: str) -> InputError:
        indent = len(self.lines[line]) - len(self.lines[line].lstrip())
        return InputError(what, file=self.path, line=line + 1, column=indent + 1, expected=expected)

    def bad_value(self, entry: Entry, what: str) -> InputError:
        column = self.lines[entry.first].find("=") + 2
        return InputError(f"{entry.key}: {what}", file=self.path, line=entry.line, column=column)

    def named(self, name: str) -> list[Block]:
        return [b for b in self.blocks if b.name == name]

    # --- edits --------------------------------------------------------------------------

    def drop(self, entry: Entry) -> None:
        """Turns an assignment into a comment."""
        self.gone.update(range(entry.first, entry.last + 1))

    def drop_block(self, block: Block) -> None:
        """Turns a whole section into comments."""
        for entry in block.entries:
            self.drop(entry)
        self.gone.add(block.first)

    def set(self, section: str, key: str, value: str) -> None:
        """Sets a key that stands once: in place where it is, else at the end of the first such section."""
        blocks = self.named(section)
        entries = [e for b in blocks for e in b.all(key) if e.first not in self.gone]
        if entries and entries[-1].value == value:
            for entry in entries[:-1]:
                self.drop(entry)
            return
        for entry in entries:
            self.drop(entry)
        if entries:
            self._after.setdefault(entries[-1].last, []).append(f"{key}={value}")
        else:
            self.add(section, [f"{key}={value}"])

    def add(self, section: str, lines: list[str]) -> None:
        """Adds assignments to the end of the first section of that name; makes it if there is none."""
        blocks = [b for b in self.named(section) if b.first not in self.gone]
        if blocks:
            self._after.setdefault(blocks[0].last, []).extend(lines)
        else:
            self.add_block(section, lines)

    def add_block(self, section: str, lines: list[str]) -> None:
        """Adds a new section at the end of the file."""
        header = f"[{section}]"
        if header in self._tail and self._tail[-1] != header and section not in ("Address", "Route"):
            self._tail += lines
            return
        if self._tail or (self.lines and self.lines[-1].strip()):
            self._tail.append("")
        self._tail += [header, *lines]

    def result(self) -> str:
        """The text with all edits made."""
        out: list[str] = []
        for number, line in enumerate(self.lines):
            if number in self.gone:
                ending = line[len(line.rstrip("\r\n")) :]
                comment = WAS + line.rstrip("\r\n")
                stands = {previous.rstrip("\r\n") for previous in _comments_above(out)}
                if comment not in stands:
                    out.append(comment + ending)
            else:
                out.append(line)
            self._append(out, self._after.get(number, []))
        self._append(out, self._tail)
        return "".join(out)

    def _append(self, out: list[str], lines: list[str]) -> None:
        if lines and out and not out[-1].endswith("\n"):
            out[-1] += self.newline
        out.extend(line + self.newline for line in lines)


def _comments_above(out: list[str]) -> list[str]:
    """The block of comment lines at the end of ``out``."""
    found: list[str] = []
    for line in reversed(out):
        if not line.startswith("#"):
            break
        found.append(line)
    return found


def by_newline(text: str) -> list[str]:
    """Lines with their ends, split at newlines alone: other separators of Unicode are ordinary text here."""
    parts = text.split("\n")
    lines = [part + "\n" for part in parts[:-1]]
    return lines + ([parts[-1]] if parts[-1] else [])


def truth(text: str) -> bool | None:
    """A boolean as systemd.syntax(7) and GLib write them, ``None`` for anything else."""
    lowered = text.lower()
    if lowered in ("1", "yes", "true", "on", "y", "t"):
        return True
    if lowered in ("0", "no", "false", "off", "n", "f"):
        return False
    return None
