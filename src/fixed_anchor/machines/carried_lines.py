"""The lines in which a host's files are carried: by the collector on a disk, and over SSH.

Each line of contents begins with a bar; the last one with a plus where no line end follows it. A lone minus says the
same of contents that were carried by another program.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from fixed_anchor.core.errors import InputError


class CarriedLines:
    """Lines, and how far they have been read."""

    def __init__(self, lines: list[str]) -> None:
        self.lines = lines
        self.at = 0

    @property
    def left(self) -> bool:
        """Whether there are more."""
        return self.at < len(self.lines)

    def contents(self) -> str:
        """The contents that begin here."""
        text = "".join(self._pieces())
        if self.left and self.lines[self.at] == "-":
            self.at += 1
            text = text.removesuffix("\n")
        return text

    def _pieces(self) -> Iterator[str]:
        while self.left and self.lines[self.at][:1] in ("|", "+"):
            line = self.lines[self.at]
            self.at += 1
            yield line[1:] + ("\n" if line[0] == "|" else "")


def as_lines(text: str) -> Iterator[str]:
    """The lines of contents, as they are carried."""
    *whole, rest = text.split("\n")
    yield from (f"|{line}" for line in whole)
    if rest:
        yield f"+{rest}"


def plain_line(text: str) -> str:
    """``text``, for a line of its own. Raises :class:`InputError` where it is more than one."""
    if "\n" in text or "\0" in text:
        raise InputError(f"{text!r} cannot be carried to another host", expected="no line ends and no null bytes")
    return text


def plain_lines(texts: Iterable[str]) -> list[str]:
    """All of ``texts``, each for a line of its own. Raises :class:`InputError`."""
    return [plain_line(text) for text in texts]
