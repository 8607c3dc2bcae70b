"""The one editor for formats made of lines: lines become comments, and new ones come below others."""

from __future__ import annotations

from collections.abc import Iterable

from fixed_anchor.core.errors import InputError

#: Begins the comment that keeps a replaced line. All line formats here, and YAML, take ``#`` for a comment.
WAS = "# was: "


#: A byte order mark, which some readers take at the beginning of a file, and others for a part of the first word.
MARK = "\ufeff"


def refuse_mark(text: str, path: str) -> None:
    """Raises :class:`InputError` where a file begins with a byte order mark that its reader does not take."""
    if text.startswith(MARK):
        raise InputError(
            "a byte order mark stands before the first word, and is taken for a part of it",
            file=path,
            line=1,
            column=1,
            expected="a file that begins with its first word",
        )


class LineEditor:
    """A text of lines, and edits of it; every line that is not edited stays byte for byte.

    Dropped lines stay as comments, once: where the same comment stands directly above already,
    it is not written again. With ``indented`` they keep their indentation, otherwise they begin
    in the first column. With ``forget`` they are gone.
    """

    def __init__(self, text: str, *, indented: bool = False, forget: bool = False) -> None:
        self.lines = by_newline(text)
        self.newline = "\r\n" if "\r\n" in text else "\n"
        self._indented = indented
        self._forget = forget
        self._gone: set[int] = set()
        self._below: dict[int, list[str]] = {}
        self._end: list[str] = []

    def is_gone(self, number: int) -> bool:
        """Whether line ``number`` (from 0) has been dropped."""
        return number in self._gone

    def drop(self, first: int, last: int | None = None) -> None:
        """Drops the lines from ``first`` to ``last`` (from 0, both included)."""
        self._gone.update(range(first, (first if last is None else last) + 1))

    def insert(self, below: int, lines: Iterable[str]) -> None:
        """Puts ``lines``, given without their ends, below line ``below``, after what was put there before."""
        self._below.setdefault(below, []).extend(lines)

    def append(self, lines: Iterable[str]) -> None:
        """Puts ``lines`` to the end of the text."""
        self._end.extend(lines)

    @property
    def appended(self) -> tuple[str, ...]:
        """What :meth:`append` has put to the end so far."""
        return tuple(self._end)

    def result(self) -> str:
        """The text with all edits made."""
        out: list[str] = []
        for number, line in enumerate(self.lines):
            if number not in self._gone:
                out.append(line)
            elif not self._forget:
                self._keep_as_comment(out, line)
            self._put(out, self._below.get(number, ()))
        self._put(out, self._end)
        return "".join(out)

    def _keep_as_comment(self, out: list[str], line: str) -> None:
        indent = line[: len(line) - len(line.lstrip(" \t"))] if self._indented else ""
        comment = indent + WAS + line[len(indent) :]
        for previous in reversed(out):
            if not previous.lstrip().startswith("#"):
                break
            if previous.strip() == comment.strip():
                return
        out.append(comment)

    def _put(self, out: list[str], lines: Iterable[str]) -> None:
        for text in lines:
            if out and not out[-1].endswith("\n"):
                out[-1] += self.newline
            out.append(text + self.newline)


def by_newline(text: str) -> list[str]:
    """Lines with their ends, split at newlines alone: other separators of Unicode are ordinary text here."""
    parts = text.split("\n")
    lines = [part + "\n" for part in parts[:-1]]
    return lines + ([parts[-1]] if parts[-1] else [])
