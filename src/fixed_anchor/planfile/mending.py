"""Reading on behind what is no YAML: a slip is told, put right in memory, and the rest is read as well.

A parser stops at its first error, and often far behind the slip itself. Somebody who typed a plan
wants all of their slips in one run, each at its own line. Nothing that was put right here is ever
used: the plan is refused.
"""

from __future__ import annotations

import re

import msgspec

from fixed_anchor.core.errors import InputError
from fixed_anchor.planfile.nodes import Value, compose
from fixed_anchor.planfile.words import HOMES, OTHERS

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


def composed(text: str, file: str, errors: list[InputError]) -> Value:
    """The root of the plan in ``text``, which gathers further ``errors``.

    Raises :class:`InputError` for what cannot be put right; what could be is in ``errors`` by then.
    """
    at = -1
    for _ in range(_AT_MOST):
        try:
            return Value(compose(text, file), file, gathered=errors)
        except InputError as error:
            lines = text.splitlines()
            mend = _mend(lines, file, error)
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
    if wrong < len(lines) and "\t" in lines[wrong] and "a tab stands" in error.what:
        return _Mend(error, wrong, [_indent_meant(lines, wrong) + lines[wrong].lstrip(), *lines[wrong + 1 :]])
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
    if wrong < len(lines):
        return _bad_start(lines, wrong, error) or _indented(lines, wrong, error)
    return None


def _says_something(line: str) -> bool:
    return bool(line.strip()) and not line.lstrip().startswith("#")


def _indent_of(line: str) -> int:
    return len(line) - len(line.lstrip())


def _line_above(lines: list[str], number: int) -> str:
    return next((lines[n] for n in range(number - 1, -1, -1) if _says_something(lines[n])), "")


def _indent_meant(lines: list[str], number: int) -> str:
    """Where a line with a tab was to begin: above its children, or beside the next line."""
    below = next((line for line in lines[number + 1 :] if _says_something(line)), "")
    if below and "\t" not in below[: _indent_of(below)]:
        return " " * max(0, _indent_of(below) - (2 if lines[number].rstrip().endswith(":") else 0))
    return _indent_like_above(lines, number)


def _indent_like_above(lines: list[str], number: int) -> str:
    above = _line_above(lines, number)
    return " " * (_indent_of(above) + (2 if above.rstrip().endswith(":") else 0))


def _at(lines: list[str], number: int, file: str, what: str, column: int, remedy: str) -> InputError:
    return InputError(what, file=file, line=number + 1, column=column + 1, remedy=remedy)


def _colon(lines: list[str], number: int, file: str) -> _Mend | None:
    """A key without its colon, or without the space behind it."""
    line = lines[number]
    below = next((n for n in range(number + 1, len(lines)) if _says_something(lines[n])), None)
    deeper = below is not None and _indent_of(lines[below]) > _indent_of(line)
    said = _NO_SPACE.fullmatch(line)
    if said and said["key"] in _WORDS:
        right = f"{said['key']}: {said['value']}"
        error = _at(lines, number, file, "a space is missing behind the colon", said.end("key") + 1, f"write {right}")
        return _Mend(error, number, [f"{said['lead']}{right}", *lines[number + 1 :]])
    said = _KEY_WITHOUT_COLON.fullmatch(line)
    if said and said["key"] in _WORDS and not said["value"].startswith(":"):
        right = f"{said['key']}: {said['value']}"
        what = f"a colon is missing here, behind {said['key']!r}"
        return _Mend(
            _at(lines, number, file, what, said.end("key"), f"write {right}"),
            number,
            [f"{said['lead']}{right}", *lines[number + 1 :]],
        )
    alone = _NAME_ALONE.fullmatch(line)
    if alone and deeper:
        what = f"a colon is missing here, behind {alone['key']!r}"
        return _Mend(
            _at(lines, number, file, what, alone.end("key"), f"write {alone['key']}:"),
            number,
            [f"{alone['lead']}{alone['key']}:{alone['rest']}", *lines[number + 1 :]],
        )
    return None


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
    error = _at(lines, number, file, f"this {char} is never closed", column, f"add {closing} at its end")
    return _Mend(error, number, [line.rstrip() + closing, *lines[number + 1 :]])


def _bad_start(lines: list[str], number: int, error: InputError) -> _Mend | None:
    """A value that begins with a character that means something to YAML."""
    said = _BAD_START.fullmatch(lines[number])
    if said is None or "not YAML" not in error.what:
        return None
    value = said["value"].rstrip().replace("'", "''")
    error.remedy = f"put the value between quotes: '{value}'"
    return _Mend(error, number, [f"{said['lead']}'{value}'", *lines[number + 1 :]])


def _indented(lines: list[str], number: int, error: InputError) -> _Mend | None:
    """A line, with those below it that are deeper, moved to where the line above puts it."""
    if "indented differently" not in error.what:
        return None
    was, meant = _indent_of(lines[number]), len(_indent_like_above(lines, number))
    if was == meant:
        return None
    moved, below = [], number
    for below in range(number, len(lines)):
        here = _indent_of(lines[below])
        if below > number and _says_something(lines[below]) and (here <= was or here == meant):
            break
        moved.append(" " * max(0, _indent_of(lines[below]) + meant - was) + lines[below].lstrip())
    else:
        below = len(lines)
    return _Mend(error, number, [*moved, *lines[below:]])
