"""Reading on behind what is no YAML: a slip is told, put right in memory, and the rest is read as well.

A parser stops at its first error, and often far behind the slip itself. Somebody who typed a plan
wants all of their slips in one run, each at its own line. Nothing that was put right here is ever
used: the plan is refused.
"""

from __future__ import annotations

import re
from collections.abc import Callable

import msgspec

from fixed_anchor.core.errors import InputError
from fixed_anchor.text.words import HOMES, OTHERS
from fixed_anchor.text.yaml_nodes import Value, compose

#: So many slips are told of, then it is given up.
_AT_MOST = 50

#: Words that begin a line of a plan.
_WORDS = frozenset({*HOMES, *OTHERS, "plan", "gateway", "resolvers", "search", "metric", "destination", "next_hop"})
_KEY_WITHOUT_COLON = re.compile(r"(?P<lead>\s*(?:- )?)(?P<key>[\w-]+)(?P<gap>\s+)(?P<value>[^\s#].*)")
_NAME_ALONE = re.compile(r"(?P<lead>\s*)(?P<key>[\w.-]+)(?P<rest>\s*(?:#.*)?)")
_NO_SPACE = re.compile(r"(?P<lead>\s*(?:- )?)(?P<key>[\w-]+):(?P<value>[^\s#].*)")
_BAD_START = re.compile(r"(?P<lead>\s*(?:- )?(?:[\w.-]+:\s+)?(?:- )?)(?P<value>[@`%*&!].*)")
_CLOSING = {"[": "]", "{": "}", '"': '"', "'": "'"}


class _Mend(msgspec.Struct):
    """What is told of a slip, and the line ``number`` (from 0) and those below as they may have been meant."""

    error: InputError
    number: int
    lines: list[str]


def composed(text: str, file: str, errors: list[InputError], wrong_with: Callable[[Value], int]) -> Value:
    """The root of the plan in ``text``, which gathers further ``errors``.

    Where a line may have been meant to begin in several columns, that one is taken with which least is wrong:
    ``wrong_with`` counts what is, below a root. Raises :class:`InputError` for what cannot be put right; what could
    be is in ``errors`` by then.
    """
    at = -1
    for _ in range(_AT_MOST):
        try:
            return Value(compose(text, file), file, gathered=errors)
        except InputError as error:
            lines = text.splitlines()
            mend = _mend(lines, file, error) or _moved(lines, file, error, wrong_with)
            # Each slip once: where putting one right brings out another above it, it was not that.
            if mend is None or mend.number <= at:
                raise error
            errors.append(mend.error)
            at = mend.number
            text = "\n".join([*lines[: mend.number], *mend.lines]) + "\n"
    return Value(compose(text, file), file, gathered=errors)


def _mend(lines: list[str], file: str, error: InputError) -> _Mend | None:
    if error.line is None or not 0 < error.line <= len(lines) + 1:
        return None
    wrong = error.line - 1
    if "a tab stands" in error.what:
        return None
    # The parser notices a missing colon in the line itself, or in one of those below.
    near = [n for n in range(min(wrong, len(lines) - 1), -1, -1) if _says_something(lines[n])]
    for number in near[:3]:
        found = _colon(lines, number, file) or _unclosed(lines, number, file)
        if found is not None:
            return found
    # A quote that is never closed swallows lines until the next one.
    for number in reversed(near):
        found = _unclosed(lines, number, file, "\"'")
        if found is not None:
            return found
    return _bad_start(lines, wrong, error) if wrong < len(lines) else None


def _says_something(line: str) -> bool:
    return bool(line.strip()) and not line.lstrip().startswith("#")


def _indent_of(line: str) -> int:
    return len(line) - len(line.lstrip())


def _put_right(lines: list[str], number: int, file: str, what: str, column: int, remedy: str, right: str) -> _Mend:
    """The slip in a line, told at ``column`` (from 0), with ``right`` in its place."""
    error = InputError(what, file=file, line=number + 1, column=column + 1, remedy=remedy)
    return _Mend(error, number, [right, *lines[number + 1 :]])


def _colon(lines: list[str], number: int, file: str) -> _Mend | None:
    """A key without its colon, or without the space behind it."""
    line = lines[number]
    below = next((n for n in range(number + 1, len(lines)) if _says_something(lines[n])), None)
    deeper = below is not None and _indent_of(lines[below]) > _indent_of(line)
    matched = _NO_SPACE.fullmatch(line)
    if matched and matched["key"] in _WORDS:
        what, column, right = "a space is missing behind the colon", matched.end("key") + 1, "{key}: {value}"
    elif (
        (matched := _KEY_WITHOUT_COLON.fullmatch(line))
        and matched["key"] in _WORDS
        and not matched["value"].startswith(":")
    ):
        what, column, right = (
            f"a colon is missing here, behind {matched['key']!r}",
            matched.end("key"),
            "{key}: {value}",
        )
    elif deeper and (matched := _NAME_ALONE.fullmatch(line)):
        what, column, right = f"a colon is missing here, behind {matched['key']!r}", matched.end("key"), "{key}:"
    else:
        return None
    words = right.format(**matched.groupdict())
    whole = matched["lead"] + words + matched.groupdict().get("rest", "")
    return _put_right(lines, number, file, what, column, f"write {words}", whole)


def _unclosed(lines: list[str], number: int, file: str, kinds: str = "[{\"'") -> _Mend | None:
    """A bracket or a quote, of these ``kinds``, that is never closed."""
    line = lines[number]
    open_ones: list[tuple[str, int]] = []
    for column, char in enumerate(line):
        quoted = bool(open_ones) and open_ones[-1][0] in "\"'"
        if quoted:
            if char == open_ones[-1][0]:
                open_ones.pop()
        elif char == "#" and line[column - 1 : column] in (" ", ""):
            break
        elif char in "[{" or (char in "\"'" and line[:column].rstrip()[-1:] in ("", ":", "-", "[", "{", ",")):
            open_ones.append((char, column))
        elif open_ones and char == _CLOSING[open_ones[-1][0]]:
            open_ones.pop()
    if not open_ones or open_ones[0][0] not in kinds:
        return None
    char, column = open_ones[0]
    closing = "".join(_CLOSING[c] for c, _ in reversed(open_ones))
    what, remedy = f"this {char} is never closed", f"add {closing} at its end"
    return _put_right(lines, number, file, what, column, remedy, line.rstrip() + closing)


def _bad_start(lines: list[str], number: int, error: InputError) -> _Mend | None:
    """A value that begins with a character that means something to YAML."""
    matched = _BAD_START.fullmatch(lines[number])
    if matched is None or "not YAML" not in error.what:
        return None
    value = matched["value"].rstrip().replace("'", "''")
    error.remedy = f"put the value between quotes: '{value}'"
    return _Mend(error, number, [f"{matched['lead']}'{value}'", *lines[number + 1 :]])


def _moved(lines: list[str], file: str, error: InputError, wrong_with: Callable[[Value], int]) -> _Mend | None:
    """A line with a tab, or in a wrong column, moved with those below it to the column with which least is wrong."""
    number = (error.line or 0) - 1
    if not 0 <= number < len(lines) or not any(w in error.what for w in ("a tab stands", "indented differently")):
        return None
    around = [line for line in (*lines[:number][::-1], *lines[number + 1 :]) if _says_something(line)]
    near = {_indent_of(line) for line in around if "\t" not in line[: _indent_of(line)]}
    best: tuple[int, list[str]] | None = None
    for column in sorted({0, *near, *(n + 2 for n in near)} - {_indent_of(lines[number])} | {0}):
        for below in {number + 1, _end_of_block(lines, number)}:
            made = _shifted(lines, number, below, column)
            count = _count("\n".join([*lines[:number], *made]) + "\n", file, number, wrong_with)
            if count is not None and (best is None or count < best[0]):
                best = (count, made)
    return None if best is None else _Mend(error, number, best[1])


def _count(text: str, file: str, number: int, wrong_with: Callable[[Value], int]) -> int | None:
    """How much is wrong with ``text``; ``None`` where it cannot be read up to line ``number`` and beyond it."""
    try:
        return wrong_with(Value(compose(text, file), file, gathered=[]))
    except InputError as error:
        # A further slip below is told of in its turn.
        return 100_000 - (error.line or 0) if (error.line or 0) > number + 2 else None


def _end_of_block(lines: list[str], number: int) -> int:
    """The first line below ``number`` that is not deeper than it."""
    depth = _indent_of(lines[number].expandtabs(8))
    for below in range(number + 1, len(lines)):
        if _says_something(lines[below]) and _indent_of(lines[below]) <= depth:
            return below
    return len(lines)


def _shifted(lines: list[str], number: int, below: int, column: int) -> list[str]:
    """The lines from ``number`` on, those before ``below`` moved so that the first begins in ``column``."""
    by = column - _indent_of(lines[number])
    moved = [" " * max(0, _indent_of(line) + by) + line.lstrip() for line in lines[number:below]]
    return [*moved, *lines[below:]]
