"""The statements of dhcpd.conf(5), dhclient.conf(5) and their leases: words up to a semicolon, or a block in braces."""

from __future__ import annotations

import re
from collections.abc import Iterator

import msgspec

from fixed_anchor.core.errors import InputError

_TOKEN = re.compile(
    r"(?P<space>\s+|#[^\n]*)|(?P<string>\"(?:[^\"\\]|\\.)*\")|(?P<mark>[{};,()=!~])|(?P<word>[^\s#\"{};,()=!~]+)",
    re.DOTALL,
)
_DEPTH = 40


class Token(msgspec.Struct, frozen=True):
    """A word, a string (with its quotes taken away) or a mark. ``start`` and ``end`` are offsets in the text."""

    text: str
    line: int
    start: int
    end: int
    string: bool = False


class Statement(msgspec.Struct):
    """One statement: its words, and the statements of its block, ``None`` where it ends with a semicolon."""

    words: list[Token]
    block: list[Statement] | None
    end: int
    file: str

    @property
    def line(self) -> int:
        """The line it begins in, from 1."""
        return self.words[0].line

    @property
    def key(self) -> str:
        """Its first word."""
        return "" if self.words[0].string else self.words[0].text

    def texts(self) -> list[str]:
        """The words behind the first, without commas."""
        return [w.text for w in self.words[1:] if w.text != "," or w.string]

    def error(self, what: str, expected: str | None = None, word: str | None = None) -> InputError:
        """An error at this statement, in the line of ``word`` where that is one of its words."""
        return InputError(what, file=self.file, line=self.line_of(word), expected=expected)

    def line_of(self, word: str | None) -> int:
        """The line of a word of this statement, which may go over several."""
        return next((w.line for w in self.words if w.text == word), self.line)

    def first(self, key: str) -> Statement | None:
        """The last statement of the block that begins with ``key``: it is the one that counts."""
        found = [s for s in self.block or () if s.key == key]
        return found[-1] if found else None


def tokens(text: str, file: str) -> Iterator[Token]:
    """All tokens. Raises :class:`InputError`."""
    at, line = 0, 1
    while at < len(text):
        matched = _TOKEN.match(text, at)
        if matched is None:
            raise InputError("a string is not closed", file=file, line=line, expected='a closing "')
        if matched.lastgroup != "space":
            quoted = matched.lastgroup == "string"
            shown = matched[0][1:-1] if quoted else matched[0]
            yield Token(shown, line, at, matched.end(), quoted)
        line += matched[0].count("\n")
        at = matched.end()


def parse(text: str, file: str) -> tuple[list[Statement], InputError | None]:
    """The whole statements of ``text``, and the error at which reading had to stop, if any.

    What stands before a broken place is still good: a lease file may be cut at any byte.
    """
    found: list[Statement] = []
    stack: list[tuple[list[Token], list[Statement]]] = [([], found)]
    line = 1
    try:
        for token in tokens(text, file):
            line = token.line
            words, statements = stack[-1]
            mark = "" if token.string else token.text
            if mark == ";":
                if words:
                    statements.append(Statement(words, None, token.end, file))
                stack[-1] = ([], statements)
            elif mark == "{":
                if not words:
                    raise InputError("a block with nothing before it", file=file, line=line)
                if len(stack) > _DEPTH:
                    raise InputError(f"nested more than {_DEPTH} deep", file=file, line=line)
                stack.append(([], []))
            elif mark == "}":
                if words:
                    raise InputError(
                        f"{words[0].text!r} does not end with a semicolon", file=file, line=words[0].line, expected=";"
                    )
                if len(stack) == 1:
                    raise InputError("a closing brace that nothing opened", file=file, line=line)
                stack.pop()
                above, outer = stack[-1]
                outer.append(Statement(above, statements, token.end, file))
                stack[-1] = ([], outer)
            else:
                words.append(token)
    except InputError as error:
        return found, error
    if len(stack) > 1 or stack[-1][0]:
        # The innermost that is open: in front of it nothing is missing.
        words = next(w for w, _ in reversed(stack) if w)
        what = f"the file ends in the middle of {' '.join(w.text for w in words[:2])!r}, which begins here"
        return found, InputError(what, file=file, line=words[0].line, expected="a semicolon or a closing brace")
    return found, None
