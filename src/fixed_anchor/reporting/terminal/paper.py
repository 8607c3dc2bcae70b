"""The console, and how a line is broken: at blanks only, and its rest stands below, further in.

On a terminal nothing is wider than it, and nothing is left to the terminal to break; in a file no line is broken,
and none ends in blanks. Only a diff is printed as it is.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Sequence

from rich.console import Console
from rich.style import StyleType
from rich.text import Text

from fixed_anchor.change import states
from fixed_anchor.core.errors import printable

STYLES = {
    "blocker": "bold red",
    "undetermined": "bold yellow",
    "warning": "yellow",
    "note": "cyan",
    "pass": "green",
    "fail": "bold red",
    "skipped": "bold yellow",
    "free": "bold green",
    "taken": "bold red",
    "clear": "bold green",
    "blocked": "bold red",
    "as planned": "bold green",
    "not as planned": "bold red",
    states.CONFIRMED: "bold green",
    states.ROLLED_BACK: "bold yellow",
    states.STUCK: "bold red",
}

#: A file has no width.
_NO_WIDTH = 1_000_000
_WORD = re.compile(r"\S+")


def console(color: str, stderr: bool = False) -> Console:
    """A console that obeys ``color`` (auto, always, never), NO_COLOR and the terminal."""
    plain = color == "never" or (color == "auto" and (bool(os.environ.get("NO_COLOR")) or _is_dumb()))
    made = Console(
        stderr=stderr,
        # Without colours there is no bold either: not a single escape sequence.
        color_system=None if plain else "auto",
        force_terminal=True if color == "always" else None,
        highlight=False,
        emoji=False,
        markup=False,
    )
    if not made.is_terminal:
        made.width = _NO_WIDTH
    return made


def _is_dumb() -> bool:
    return os.environ.get("TERM", "") in ("dumb", "unknown")


def styled(text: str, style: str = "") -> Text:
    """Text from anywhere, without its control characters."""
    return Text().append(printable(text), style=style)


def put(out: Console, text: str | Text, *, indent: int = 0, hang: int | None = None, style: StyleType = "") -> None:
    """Prints ``text`` from column ``indent`` on; where it must be broken, the rest begins at column ``hang``."""
    whole = styled(text) if isinstance(text, str) else text.copy()
    if style:
        whole.stylize_before(style)
    rest = indent + 2 if hang is None else hang
    for number, line in enumerate(_broken(whole, out.width, indent, rest)):
        line.rstrip()
        out.print(Text(" " * (rest if number else indent)) + line if line.plain else line, soft_wrap=True)


def _broken(text: Text, width: int, first: int, rest: int) -> Iterable[Text]:
    """``text`` in lines that fit; a word that is longer than a line stays whole."""
    cuts, begin, left, end = [], 0, width - first, 0
    for word in _WORD.finditer(text.plain):
        if word.start() > begin and text[begin : word.end()].cell_len > left and end > begin:
            cuts.append(word.start())
            begin, left = word.start(), width - rest
        end = word.end()
    return text.divide(cuts) if cuts else [text]


def put_rows(out: Console, rows: Iterable[tuple[str | Text, str | Text]], indent: int = 0, gap: int = 2) -> None:
    """Prints labels and texts in two columns; every text hangs at its own column."""
    pairs = [(_as_text(label, "dim"), _as_text(text)) for label, text in rows]
    column = max((label.cell_len for label, _ in pairs), default=0) + gap
    for label, text in pairs:
        put(out, Text.assemble(label, " " * (column - label.cell_len), text), indent=indent, hang=indent + column)


def _as_text(said: str | Text, style: str = "") -> Text:
    return styled(said, style) if isinstance(said, str) else said


def put_table(
    out: Console, head: list[str], rows: list[list[str | Text]], indent: int = 0, under: Sequence[Iterable[str]] = ()
) -> None:
    """Prints a table; what does not fit goes on below, in the last column. ``under`` each row may stand sentences."""
    cells = [[_as_text(cell) for cell in row] for row in rows]
    heads = [styled(word, "dim") for word in head]
    widths = [max(row[n].cell_len for row in [heads, *cells]) for n in range(len(head))]
    for number, row in enumerate([heads, *cells]):
        line = Text()
        for cell, width in zip(row[:-1], widths, strict=False):
            line += cell + Text(" " * (width - cell.cell_len + 2))
        put(out, line + row[-1], indent=indent, hang=indent + line.cell_len)
        for sentence in under[number - 1] if under and number else ():
            put(out, sentence, indent=indent + 6, style="dim")


def put_command(out: Console, label: str, command: str, indent: int = 2) -> None:
    """Prints a command to be typed; one that is too long for a line goes on behind a backslash, as shells read it."""
    words, line, rest = command.split(" "), f"{' ' * indent}{label}", " " * (indent + 4)
    room = out.width - 2
    for number, word in enumerate(words):
        glue = "" if number == 0 else " "
        if number and len(line) + len(glue) + len(word) > room:
            out.print(styled(f"{line} \\"), soft_wrap=True)
            line, glue = rest, ""
        line += glue + word
    out.print(styled(line), soft_wrap=True)


def put_whole(out: Console, line: str, indent: int = 0) -> None:
    """A line that somebody copies into a file: it is not broken, however wide the terminal is."""
    out.print(styled(" " * indent + line), soft_wrap=True)


def plural(count: int, one: str, many: str | None = None) -> str:
    """``1 host``, ``3 hosts``."""
    return f"{count} {one if count == 1 else many or one + 's'}"
