"""YAML nodes with their places: the little that plans, and other files of ours, are read through.

Scalars are always taken as text. YAML 1.1 reads an unquoted ``52:54:00:12:34:56``
as a number in base 60 and ``on`` as true; here the document is only composed, never
resolved into Python values.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator
from typing import Any, TypeVar

import yaml

from fixed_anchor.core.errors import InputError
from fixed_anchor.core.garbage_collection import paused
from fixed_anchor.text.words import meant_by

_Fast: Any = getattr(yaml, "CSafeLoader", yaml.SafeLoader)

T = TypeVar("T")

_TEXT_TAG = "tag:yaml.org,2002:str"
_TAGS: dict[type[yaml.Node], str] = {
    yaml.MappingNode: "tag:yaml.org,2002:map",
    yaml.SequenceNode: "tag:yaml.org,2002:seq",
}
_NUMBER_TAGS = ("tag:yaml.org,2002:int", "tag:yaml.org,2002:float")
_NULL_WORDS = frozenset({"", "~", "null", "Null", "NULL"})


class _Loader(_Fast):  # type: ignore[misc]
    """Composes nodes without asking of every scalar what YAML would take it for: here it is text."""

    def resolve(self, kind: type[yaml.Node], value: object, implicit: object) -> str:
        return _TAGS.get(kind, _TEXT_TAG)

    def descend_resolver(self, node: object, index: object) -> None:
        """Nothing here depends on the path."""

    def ascend_resolver(self) -> None:
        """Nothing here depends on the path."""


def _resolved(node: yaml.ScalarNode) -> str:
    """The tag that YAML 1.1 gives to an unquoted scalar."""
    tag: str = yaml.SafeLoader("").resolve(yaml.ScalarNode, node.value, (True, False))  # type: ignore[no-untyped-call]
    return tag


def compose(text: str, file: str) -> yaml.Node:
    """The root node of the one YAML document in ``text``.

    Raises :class:`InputError` with file, line and column.
    """
    try:
        with paused():
            # A byte order mark is none of the text's (YAML 1.2, section 5.2): places are counted behind it.
            loader = _Loader(text.removeprefix("\ufeff"))
            try:
                node = loader.get_single_node()
            finally:
                loader.dispose()
    except yaml.MarkedYAMLError as error:
        raise _syntax_error(error, text, file) from None
    except yaml.reader.ReaderError as error:
        line = text.count("\n", 0, error.position) + 1
        raise InputError(
            f"a character that YAML does not allow (U+{_codepoint(error):04X})", file=file, line=line
        ) from None
    except RecursionError:
        raise InputError("nested too deeply to be a real file", file=file) from None
    if node is None:
        raise InputError("the file is empty", file=file)
    return node  # type: ignore[no-any-return]


def _codepoint(error: yaml.reader.ReaderError) -> int:
    return error.character if isinstance(error.character, int) else ord(error.character[:1] or "\0")


def _syntax_error(error: yaml.MarkedYAMLError, text: str, file: str) -> InputError:
    mark = error.problem_mark or error.context_mark
    if mark is None:
        return InputError(error.problem or "not YAML", file=file)
    lines = text.splitlines()
    line = lines[mark.line] if mark.line < len(lines) else ""
    at = {"file": file, "line": mark.line + 1, "column": mark.column + 1}
    if "\t" in line[: mark.column + 1]:
        return InputError(
            "a tab stands where YAML wants spaces",
            file=file,
            line=mark.line + 1,
            column=line.index("\t") + 1,
            remedy="indent with spaces only",
        )
    problem = error.problem or "not YAML"
    if any(said in problem for said in ("mapping values are not allowed", "<block end>", "expected key")):
        return InputError(
            "this line is indented differently from its neighbours, or a ':' stands inside a plain value",
            **at,  # type: ignore[arg-type]
            expected="keys of one level in one column, two spaces deeper than their parent",
        )
    return InputError(f"not YAML: {problem}", **at)  # type: ignore[arg-type]


class Value:
    """A node of a file with its place and the path of keys that leads to it."""

    __slots__ = ("_above", "_key", "file", "gathered", "node")

    def __init__(
        self,
        node: yaml.Node,
        file: str,
        above: Value | None = None,
        key: str | int | None = None,
        gathered: list[InputError] | None = None,
    ) -> None:
        self.node = node
        self.file = file
        self._above = above
        self._key = key
        #: Where the errors below here are gathered, so that one run tells of all; ``None`` raises the first one.
        self.gathered: list[InputError] | None = above.gathered if above is not None else gathered

    @property
    def path(self) -> str:
        """The path of keys that leads here, such as ``hosts.tide-db.interfaces``; made when it is asked for."""
        above = self._above.path if self._above is not None else ""
        if self._key is None:
            return above
        if isinstance(self._key, int):
            return f"{above}[{self._key}]"
        return f"{above}.{self._key}" if above else self._key

    @property
    def line(self) -> int:
        """The line it begins in, from 1."""
        return int(self.node.start_mark.line) + 1

    def error(self, what: str, *, expected: str | None = None, remedy: str | None = None) -> InputError:
        """An error at this place; the path of the key is part of the message."""
        return InputError(
            f"{self.path}: {what}" if self.path else what,
            file=self.file,
            line=self.line,
            column=int(self.node.start_mark.column) + 1,
            expected=expected,
            remedy=remedy,
        )

    def report(self, error: InputError) -> None:
        """Gathers an error, or raises it where none are gathered."""
        if self.gathered is None:
            raise error
        self.gathered.append(error)

    def attempt(self, read: Callable[[], T], instead: T) -> T:
        """What ``read`` returns, or ``instead`` where it raises an :class:`InputError`, which is reported."""
        try:
            return read()
        except InputError as error:
            self.report(error)
            return instead

    @property
    def is_null(self) -> bool:
        """Whether nothing stands there."""
        node = self.node
        return isinstance(node, yaml.ScalarNode) and node.value in _NULL_WORDS and not node.style

    @property
    def is_mapping(self) -> bool:
        """Whether it has keys."""
        return isinstance(self.node, yaml.MappingNode)

    @property
    def is_list(self) -> bool:
        """Whether it is a list."""
        return isinstance(self.node, yaml.SequenceNode)

    def describe(self) -> str:
        """What kind of thing stands here, for messages."""
        if self.is_mapping:
            return "a mapping"
        if self.is_list:
            return "a list"
        if self.is_null:
            return "nothing"
        return f"{self.node.value!r}"

    def text(self, expected: str = "a single value") -> str:
        """The scalar here, as text."""
        node = self.node
        if not isinstance(node, yaml.ScalarNode) or (node.value in _NULL_WORDS and self.is_null):
            raise self.error(f"{self.describe()} stands here", expected=expected)
        value: str = node.value
        if self.gathered is not None and not node.style and node.end_mark.line > node.start_mark.line:
            raise InputError(
                f"this line is read as part of the value of {self.path}, which begins in line {self.line}",
                file=self.file,
                line=self.line + 1,
                expected="a key with its colon",
            )
        return value

    @property
    def reads_as_number(self) -> bool:
        """Whether other YAML readers take this unquoted scalar for a number."""
        node = self.node
        return isinstance(node, yaml.ScalarNode) and not node.style and _resolved(node) in _NUMBER_TAGS

    def entries(self, expected: str = "a mapping") -> Iterator[tuple[str, Value, Value]]:
        """Key text, key and value of a mapping, each key once. Raises :class:`InputError`."""
        if not isinstance(self.node, yaml.MappingNode):
            raise self.error(f"{self.describe()} stands here", expected=expected)
        seen: set[str] = set()
        for key_node, value_node in self.node.value:
            key = Value(key_node, self.file, self)
            name = key.text("a key")
            if name in seen:
                first = next(k for k, _ in self.node.value if getattr(k, "value", None) == name)
                self.report(key.error(f"the key {name!r} stands twice, first in line {first.start_mark.line + 1}"))
                continue
            seen.add(name)
            yield name, key, Value(value_node, self.file, self, name)

    def fields(self, known: Collection[str], expected: str = "a mapping") -> dict[str, Value]:
        """The mapping here; a key that is not among ``known`` is an error that names the nearest."""
        found: dict[str, Value] = {}
        pairs = self.node.value if isinstance(self.node, yaml.MappingNode) else ()
        for key_node, value_node in pairs:
            name: str = key_node.value if isinstance(key_node, yaml.ScalarNode) else ""
            if name not in known or name in found:
                break
            found[name] = Value(value_node, self.file, self, name)
        else:
            if pairs:
                return found
        # Something is wrong here, or the mapping is empty: once more, to say what and where.
        return self._careful_fields(known, expected)

    def _careful_fields(self, known: Collection[str], expected: str) -> dict[str, Value]:
        found: dict[str, Value] = {}
        unknown: list[tuple[str, Value]] = []
        for name, key, value in self.entries(expected):
            if name in known:
                found[name] = value
                continue
            meant, remedy = meant_by(name, known)
            self.report(
                key.error(
                    f"the key {name!r} is not known here",
                    expected=None if remedy else "one of " + ", ".join(known),
                    remedy=remedy,
                )
            )
            if meant is not None:
                unknown.append((meant, value))
        # What stands behind a key that was meant is read as well: there may be more to tell of.
        for meant, value in unknown:
            found.setdefault(meant, value)
        return found

    def items(self) -> list[Value]:
        """The items of a list; a single scalar or mapping counts as a list of one."""
        if isinstance(self.node, yaml.SequenceNode):
            return [Value(n, self.file, self, i) for i, n in enumerate(self.node.value)]
        if self.is_null:
            raise self.error("nothing stands here", expected="a value, a list, or [] for none")
        return [self]

    def parsed(self, parse: Callable[[str], T], expected: str) -> T:
        """The scalar here through ``parse``; its :class:`ValueError` becomes an error at this place."""
        text = self.text(expected)
        try:
            return parse(text)
        except ValueError as error:
            raise self.error(str(error)) from None

    def all_parsed(self, parse: Callable[[str], T], expected: str) -> tuple[T, ...]:
        """Every item here through ``parse``."""
        if self.gathered is None:
            return tuple(item.parsed(parse, expected) for item in self.items())
        return self.each(lambda item: item.parsed(parse, expected))

    def each(self, read: Callable[[Value], T]) -> tuple[T, ...]:
        """Every item here through ``read``; those that cannot be read are reported, and left out."""
        found: list[T] = []
        for item in self.items():
            try:
                found.append(read(item))
            except InputError as error:
                self.report(error)
        return tuple(found)
