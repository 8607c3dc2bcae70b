"""The text of /etc/network/interfaces as stanzas, interfaces(5): every line kept, with its place."""

from __future__ import annotations

import msgspec

from fixed_anchor.core.errors import InputError
from fixed_anchor.text.lines import refuse_mark

#: Words that begin a stanza of their own; ``allow-*`` besides.
_HEADS = ("iface", "mapping", "auto", "source", "source-directory", "no-auto-down", "no-scripts", "rename", "template")
#: The same of ifupdown2: a VLAN of a bridge may be one, too.
_HEADS_OF_SECOND = ("iface", "vlan", "auto", "source")
#: Options whose value is a command for a shell.
HOOKS = frozenset({"up", "down", "pre-up", "post-up", "pre-down", "post-down"})
_FAMILIES = ("inet", "inet6", "ipx", "can")


class Line(msgspec.Struct, frozen=True):
    """A logical line: its words, and the lines it stands in (from 0, ``last`` included).

    ``remark`` is the whole of it where something stands behind the value that looks like a remark.
    """

    words: tuple[str, ...]
    first: int
    last: int
    remark: str = ""

    @property
    def key(self) -> str:
        """The first word."""
        return self.words[0]

    @property
    def value(self) -> str:
        """The words after the first, with single spaces."""
        return " ".join(self.words[1:])


class Stanza(msgspec.Struct, frozen=True):
    """A stanza: its head line and the option lines below it."""

    path: str
    head: Line
    options: tuple[Line, ...]

    @property
    def kind(self) -> str:
        """The word that begins it: ``iface``, ``auto``, ``source`` ..."""
        return self.head.key

    @property
    def name(self) -> str:
        """The word after that: of ``iface`` the interface."""
        return self.head.words[1]

    @property
    def brings_up(self) -> bool:
        """Whether it says which interfaces are brought up, and when: ``auto``, or ``allow-`` with a class."""
        return self.kind == "auto" or self.kind.startswith("allow-")

    @property
    def family(self) -> str | None:
        """The address family of an ``iface`` stanza, ``None`` where it names none."""
        return self.head.words[2] if len(self.head.words) > 2 and self.head.words[2] in _FAMILIES else None

    @property
    def method(self) -> str | None:
        """The method of an ``iface`` stanza: ``static``, ``dhcp`` ..."""
        return self.head.words[3] if self.family and len(self.head.words) > 3 else None

    @property
    def inherits(self) -> tuple[str, ...]:
        """The stanzas that it inherits from."""
        words = self.head.words
        return words[words.index("inherits") + 1 :] if "inherits" in words else ()

    @property
    def last(self) -> int:
        """The last line that it stands in (from 0)."""
        return self.options[-1].last if self.options else self.head.last


def parse(text: str, path: str, second: bool = False) -> tuple[Stanza, ...]:
    """All stanzas of a file. Raises :class:`InputError` for what ifupdown would not take.

    With ``second`` the reader is ifupdown2, which knows other words.
    """
    refuse_mark(text, path)
    stanzas: list[tuple[Line, list[Line]]] = []
    heads = _HEADS_OF_SECOND if second else _HEADS
    for line in _logical_lines(text):
        if line.key in heads or line.key.startswith("allow-"):
            _check_head(line, path, second)
            stanzas.append((line, []))
        elif stanzas and stanzas[-1][0].key in ("iface", "vlan", "mapping"):
            if len(line.words) < 2 and stanzas[-1][0].key != "mapping":
                raise InputError(
                    f"the option {line.key!r} has no value", file=path, line=line.first + 1, expected="OPTION VALUE"
                )
            stanzas[-1][1].append(line)
        else:
            raise InputError(
                f"{line.key!r} stands in no stanza",
                file=path,
                line=line.first + 1,
                expected="one of iface, auto, allow-..., mapping, source",
            )
    return tuple(Stanza(path, head, tuple(options)) for head, options in stanzas)


def _logical_lines(text: str) -> list[Line]:
    lines = text.split("\n")
    found: list[Line] = []
    number = 0
    while number < len(lines):
        first = number
        joined = lines[number].rstrip("\r")
        number += 1
        if joined.lstrip().startswith("#"):
            # A comment ends with its line, whatever stands at its end.
            continue
        while joined.endswith("\\") and number < len(lines):
            joined = joined[:-1] + " " + lines[number].rstrip("\r")
            number += 1
        words = joined.split()
        if words and words != ["\\"]:
            plain = _without_remark(words)
            found.append(Line(tuple(plain), first, number - 1, " ".join(words) if plain != words else ""))
    return found


def _without_remark(words: list[str]) -> list[str]:
    """The words before a ``# remark`` at the end of a line.

    To ifupdown it is none: it is a part of the value, and goes into a command, to whose shell it then is one.
    A command of the file's own is for a shell anyway.
    """
    at = next((n for n, word in enumerate(words) if n > 1 and word.startswith("#")), None)
    return words if at is None or words[0] in HOOKS else words[:at]


def _check_head(line: Line, path: str, second: bool) -> None:
    wrong: str | None = None
    if line.key == "iface":
        words = line.words
        if len(words) < 2:
            wrong = "iface NAME FAMILY METHOD"
        elif second and len(words) > 2 and words[2] not in _FAMILIES:
            wrong = "iface NAME, or iface NAME inet|inet6 METHOD"
        elif not second and len(words) > 2 and words[2] != "inherits" and (words[2] not in _FAMILIES or len(words) < 4):
            wrong = "iface NAME inet|inet6 METHOD"
    elif line.key in ("source", "source-directory", "mapping", "template") and len(line.words) < 2:
        wrong = f"{line.key} NAME"
    if wrong:
        raise InputError(
            f"{' '.join(line.words)!r} is not whole", file=path, line=line.first + 1, column=1, expected=wrong
        )
