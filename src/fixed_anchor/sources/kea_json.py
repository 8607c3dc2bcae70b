"""The JSON of Kea's configuration files: comments (``#``, ``//``, ``/* */``), trailing commas, ``<?include?>``.

Every value keeps its line and its place in the text, so that findings can name the one and
an edit can use the other.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from typing import Any

from fixed_anchor.core.errors import InputError

_SPACE = re.compile(r"(?:\s+|#[^\n]*|//[^\n]*|/\*.*?\*/)+", re.DOTALL)
_INCLUDE = re.compile(r'<\?include\s+"([^"\n]*)"\s*\?>')
_STRING = re.compile(r'"(?:[^"\\\x00-\x1f]|\\.)*"')
_NUMBER = re.compile(r"-?(?:(?:0|[1-9][0-9]*)(?:\.[0-9]*)?|\.[0-9]+)(?:[eE][+-]?[0-9]+)?")
_WORDS = {"true": True, "false": False, "null": None}
_DEPTH = 64


class Node:
    """A value with its place. ``value`` is a dict of nodes, a list of nodes, or a plain value.

    ``start`` and ``end`` are offsets in the text of ``file``.
    """

    __slots__ = ("end", "file", "line", "start", "value")

    def __init__(self, value: Any, file: str, line: int, start: int, end: int = 0) -> None:
        self.value = value
        self.file = file
        self.line = line
        self.start = start
        self.end = end

    def get(self, key: str) -> Node | None:
        """The value of a key of a map, ``None`` where there is none, or where this is no map."""
        return self.value.get(key) if isinstance(self.value, dict) else None

    def items(self, key: str) -> list[Node]:
        """The items of the list under ``key``; empty where there is none. Raises :class:`InputError`."""
        found = self.get(key)
        if found is None:
            return []
        if not isinstance(found.value, list):
            raise found.error(f"{key} is no list", "[...]")
        return found.value

    def text(self, key: str) -> str:
        """The string under ``key``, empty where there is none. Raises :class:`InputError`."""
        found = self.get(key)
        if found is None or found.value is None:
            return ""
        if isinstance(found.value, (dict, list, bool)):
            raise found.error(f"{key} is no string", f'"{key}": "..."')
        return str(found.value)

    def error(self, what: str, expected: str | None = None) -> InputError:
        """An error at this node."""
        return InputError(what, file=self.file, line=self.line, expected=expected)


#: Path of an include, as written, and the file it stands in, to the path and text of the included file.
Include = Callable[[str, str], tuple[str, str]]


def parse(text: str, file: str, include: Include | None = None) -> Node:
    """The one value of ``text``. Raises :class:`InputError` with file, line and column."""
    parser = _Parser(text, file, include, ())
    return parser.whole()


class _Parser:
    def __init__(self, text: str, file: str, include: Include | None, above: tuple[str, ...]) -> None:
        self.text = text
        self.file = file
        self.include = include
        self.above = (*above, file)
        self.at = 0
        self._counted = (0, 1)

    def whole(self) -> Node:
        node = self.value(0)
        self.skip()
        if self.at < len(self.text):
            raise self.error("more stands behind the end of the configuration")
        return node

    def line(self) -> int:
        # Lines are asked for in order, so that each stretch of the text is counted once.
        position, line = self._counted
        if self.at < position:
            position, line = 0, 1
        line += self.text.count("\n", position, self.at)
        self._counted = (self.at, line)
        return line

    def error(self, what: str, expected: str | None = None) -> InputError:
        column = self.at - (self.text.rfind("\n", 0, self.at) + 1) + 1
        return InputError(what, file=self.file, line=self.line(), column=column, expected=expected)

    def skip(self) -> None:
        matched = _SPACE.match(self.text, self.at)
        if matched:
            self.at = matched.end()
        if self.text.startswith("/*", self.at):
            raise self.error("a comment that begins here is not closed", "*/")

    def included(self) -> tuple[str, str] | None:
        """The path and text of an include that stands here."""
        matched = _INCLUDE.match(self.text, self.at)
        if matched is None:
            return None
        if self.include is None:
            raise self.error("an include stands here, and nothing can be included")
        try:
            path, text = self.include(matched[1], self.file)
        except InputError as error:
            raise self.error(f"the included file {error.where}: {error.what}") from None
        if path in self.above:
            raise self.error(f"{matched[1]} includes itself")
        if len(self.above) > 10:
            raise self.error("includes are nested more than 10 deep")
        self.at = matched.end()
        return path, text

    def value(self, depth: int) -> Node:
        if depth > _DEPTH:
            raise self.error(f"nested more than {_DEPTH} deep")
        self.skip()
        other = self.included()
        if other is not None:
            return _Parser(other[1], other[0], self.include, self.above).whole()
        char = self.text[self.at : self.at + 1]
        if char == "{":
            return self.map(depth)
        if char == "[":
            return self.list(depth)
        node = Node(None, self.file, self.line(), self.at)
        if char == '"':
            node.value = self.string()
        else:
            node.value = self.plain()
        node.end = self.at
        return node

    def string(self) -> str:
        matched = _STRING.match(self.text, self.at)
        if matched is None:
            raise self.error("a string is not closed, or holds a control character", '"..."')
        try:
            text = json.loads(matched[0])
        except ValueError:
            raise self.error("an escape in this string is not one of JSON") from None
        self.at = matched.end()
        return str(text)

    def plain(self) -> Any:
        number = _NUMBER.match(self.text, self.at)
        if number:
            self.at = number.end()
            digits = number[0]
            # Kea takes `.5` for a number, too.
            return int(digits) if digits.lstrip("-").isdigit() and len(digits) < 20 else float(digits)
        for word, value in _WORDS.items():
            if self.text.startswith(word, self.at):
                self.at += len(word)
                return value
        if self.at >= len(self.text):
            raise self.error("the file ends in the middle", "a value")
        raise self.error(f"{self.text[self.at : self.at + 12]!r} stands here", "a value")

    def map(self, depth: int) -> Node:
        node = Node({}, self.file, self.line(), self.at)
        self.at += 1
        self.members(node, depth)
        self.at += 1
        node.end = self.at
        return node

    def members(self, node: Node, depth: int) -> None:
        """Members up to the closing brace, which is left standing; an included text has none."""
        while True:
            self.skip()
            other = self.included()
            if other is not None:
                inner = _Parser(other[1], other[0], self.include, self.above)
                inner.members(node, depth)
                end = self.at
            elif self.text[self.at : self.at + 1] == "}" or (self.at >= len(self.text) and len(self.above) > 1):
                return
            else:
                if self.text[self.at : self.at + 1] != '"':
                    raise self.error(*self._instead("a key"))
                key = self.string()
                self.skip()
                if self.text[self.at : self.at + 1] != ":":
                    raise self.error(f"no colon stands behind the key {key!r}", "KEY: VALUE")
                self.at += 1
                node.value[key] = self.value(depth + 1)
            end = self.at
            self.skip()
            if self.text[self.at : self.at + 1] == ",":
                self.at += 1
            elif self.at < len(self.text) and self.text[self.at] != "}":
                raise self._no_comma(end, "a comma or a closing brace")
            elif self.at >= len(self.text) and len(self.above) == 1:
                raise self.error("the file ends in the middle", "a closing brace")

    def list(self, depth: int) -> Node:
        node = Node([], self.file, self.line(), self.at)
        self.at += 1
        while True:
            self.skip()
            if self.text[self.at : self.at + 1] == "]":
                self.at += 1
                node.end = self.at
                return node
            node.value.append(self.value(depth + 1))
            end = self.at
            self.skip()
            if self.text[self.at : self.at + 1] == ",":
                self.at += 1
            elif self.text[self.at : self.at + 1] != "]":
                raise self._no_comma(end, "a comma or a closing bracket")

    def _no_comma(self, end: int, expected: str) -> InputError:
        """No comma follows the value that ended at ``end``: where another value does, one is missing."""
        if self.text[self.at : self.at + 1] not in ('"', "{", "["):
            return self.error(*self._instead(expected))
        self.at = end
        return self.error("no comma stands behind this value", ",")

    def _instead(self, expected: str) -> tuple[str, str]:
        if self.at >= len(self.text):
            return "the file ends in the middle", expected
        return f"{self.text[self.at : self.at + 12]!r} stands here", expected
