"""``$GENERATE`` of BIND's master files (BIND 9 Administrator Reference Manual, "The $GENERATE Directive").

``$GENERATE START-STOP[/STEP] OWNER [TTL] [CLASS] TYPE VALUE``: a record for each number, which stands where
``$`` or ``${OFFSET[,WIDTH[,BASE]]}`` does.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator

import msgspec

_RANGE = re.compile(r"([0-9]{1,10})-([0-9]{1,10})(?:/([0-9]{1,10}))?")
_NUMBER = re.compile(r"\\\$|\$\$|\$(?:\{([+-]?[0-9]{1,10})(?:,([0-9]{1,3})(?:,([doxXnN]))?)?\}|(\{))?")
_TTL = re.compile(r"(?:[0-9]+[wdhms]?)+", re.IGNORECASE)
_CLASSES = frozenset({"IN", "CH", "HS"})
#: No name is longer (RFC 1035, section 2.3.4), so no part of one is.
_LONGEST = 255


class Generate(msgspec.Struct, frozen=True):
    """One directive: the numbers, and the parts of the records that they make."""

    numbers: range
    owner: str
    kind: str
    value: str

    def records(self) -> Iterator[tuple[str, str]]:
        """Owner and value of each record, as they would stand in the file. Raises :class:`ValueError`."""
        owner, value = _template(self.owner), _template(self.value)
        return ((owner(number), value(number)) for number in self.numbers)


def parse_generate(words: list[str]) -> Generate:
    """The directive of which ``words`` are all but the first. Raises :class:`ValueError`."""
    form = "$GENERATE START-STOP[/STEP] OWNER [TTL] [CLASS] TYPE VALUE"
    if len(words) < 4:
        raise ValueError(f"parts are missing: {form}")
    said = _RANGE.fullmatch(words[0])
    if said is None:
        raise ValueError(f"{words[0]!r} is no range of numbers: {form}")
    first, last, step = int(said[1]), int(said[2]), int(said[3] or 1)
    if step == 0 or last < first:
        raise ValueError(f"{words[0]} has no numbers: {form}")
    rest = words[2:]
    while len(rest) > 2 and (_TTL.fullmatch(rest[0]) or rest[0].upper() in _CLASSES):
        rest = rest[1:]
    if len(rest) < 2:
        raise ValueError(f"parts are missing: {form}")
    return Generate(range(first, last + 1, step), words[1], rest[0].upper(), rest[1])


def _template(text: str) -> Callable[[int], str]:
    """What makes the text for a number. Raises :class:`ValueError`."""
    parts: list[str | tuple[int, int, str]] = []
    at = 0
    for mark in _NUMBER.finditer(text):
        parts.append(text[at : mark.start()])
        at = mark.end()
        if mark[0] in ("\\$", "$$"):
            parts.append("$")
            continue
        if mark[4]:
            raise ValueError(f"what stands in the braces of {text} is not OFFSET, WIDTH and BASE")
        width = int(mark[2] or 0)
        if width > _LONGEST:
            raise ValueError(f"{mark[0]} is wider than a name")
        parts.append((int(mark[1] or 0), width, mark[3] or "d"))
    parts.append(text[at:])

    def made(number: int) -> str:
        return "".join(p if isinstance(p, str) else _written(number + p[0], p[1], p[2]) for p in parts)

    return made


def _written(number: int, width: int, base: str) -> str:
    if number < 0 and base != "d":
        raise ValueError(f"an offset makes the number {number}")
    if base in "nN":
        # The digits of a hexadecimal number, the last one first, with dots between: the labels of ip6.arpa.
        # The width counts the dots.
        digits = f"{number:{'x' if base == 'n' else 'X'}}"
        return ".".join(reversed(digits.rjust((width + 1) // 2, "0")))
    return f"{number:0{width}{base}}" if width else f"{number:{base}}"
