"""Editing YAML by splicing its text.

Loading and dumping a document reformats it, in any library. Here the parser only
says where each node begins and ends, and edits replace exactly those characters.
Replaced lines stay above the new ones as comments that begin with ``# was:``.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

import yaml

from fixed_anchor.core.errors import NotSupported
from fixed_anchor.dialects.ini_lines import WAS


def plain(text: str) -> str:
    """``text`` as a YAML scalar that every reader takes for this string, quoted only where it must be."""
    node = yaml.ScalarNode("tag:yaml.org,2002:str", text)
    safe_start = text[:1].isalnum()
    resolves = yaml.SafeLoader("").resolve(yaml.ScalarNode, text, (True, False))  # type: ignore[no-untyped-call]
    safe_chars = all(c.isalnum() or c in "._-/:" for c in text) and ": " not in text and text[-1:] != ":"
    if safe_start and safe_chars and resolves == node.tag and not ("::" in text or text.count(":") > 1):
        return text
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def true_end(node: yaml.Node) -> int:
    """The index behind the last character of ``node``: a block collection's mark lies too far down."""
    if isinstance(node, yaml.MappingNode) and not node.flow_style:
        return true_end(node.value[-1][1]) if node.value else int(node.end_mark.index)
    if isinstance(node, yaml.SequenceNode) and not node.flow_style:
        return true_end(node.value[-1]) if node.value else int(node.end_mark.index)
    return int(node.end_mark.index)


class Splices:
    """A text and the replacements to be made in it, all given in places of the original."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.newline = "\r\n" if "\r\n" in text else "\n"
        #: Start, end, minus the depth, a running number, and the new text.
        self._edits: list[tuple[int, int, int, int, str]] = []
        self._commented: set[int] = set()

    def replace(self, start: int, end: int, new: str, depth: int = 0) -> None:
        """Of several insertions at one place the deeper ones come first: they end an inner block."""
        self._edits.append((start, end, -depth, len(self._edits), new))

    def line_start(self, index: int) -> int:
        return self.text.rfind("\n", 0, index) + 1

    def line_end(self, index: int) -> int:
        """Behind the newline that ends the line of ``index``."""
        end = self.text.find("\n", index)
        return len(self.text) if end < 0 else end + 1

    def result(self) -> str:
        """The text with all replacements made."""
        text, whole = self.text, len(self.text)
        for start, end, _, _, new in sorted(self._edits, reverse=True):
            text = text[:start] + new + text[end:]
        appended = any(start == end == whole for start, end, _, _, _ in self._edits)
        if appended and self.text and not self.text.endswith("\n"):
            # The last line had no end; what comes below it needs one.
            kept = sum(len(new) - (end - start) for start, end, _, _, new in self._edits if start != whole)
            text = text[: whole + kept] + self.newline + text[whole + kept :]
        return text

    def was(self, start: int, end: int) -> str:
        """The lines from ``start`` to ``end`` as comments; those that are comments or blank stay as they are.

        A comment that stands directly above already is not written a second time.
        """
        above = set()
        position = self.line_start(start)
        while position > 0:
            previous = self.line_start(position - 1)
            line = self.text[previous:position].strip()
            if not line.startswith("#"):
                break
            above.add(line)
            position = previous
        result: list[str] = []
        depth: int | None = None
        for line in self.text[start:end].splitlines(keepends=True):
            body = line.lstrip(" ")
            if not body.strip() or body.startswith("#"):
                result.append(line)
                continue
            # All lines of one block are commented at its depth, so that its shape can still be read.
            depth = len(line) - len(body) if depth is None else min(depth, len(line) - len(body))
            comment = WAS + line[depth:]
            if comment.strip() not in above:
                result.append(" " * depth + comment)
        return "".join(result)

    def keep_line(self, index: int) -> None:
        """Puts the line of ``index`` above itself as a comment, once."""
        start = self.line_start(index)
        if start in self._commented:
            return
        self._commented.add(start)
        comment = self.was(start, self.line_end(index))
        if comment:
            self.replace(start, start, comment if comment.endswith("\n") else comment + self.newline)

    def insert_lines(self, index: int, lines: Iterable[str]) -> None:
        """Puts whole ``lines`` below the line in which ``index`` lies."""
        at = self.line_end(index)
        written = list(lines)
        depth = min((len(line) - len(line.lstrip(" ")) for line in written), default=0)
        self.replace(at, at, "".join(line + self.newline for line in written), depth)

    def comment_out(self, start: int, end: int) -> None:
        """Turns all lines from that of ``start`` to that of ``end`` (both included) into comments."""
        first, last = self.line_start(start), self.line_end(end)
        self.replace(first, last, self.was(first, last))


class Item(NamedTuple):
    """One item a list shall have: one that is there (``kept``), or a new one as block lines and flow text."""

    kept: int | None
    block: tuple[str, ...] = ()
    flow: str = ""


class MapEdit:
    """Edits of one mapping of a document, in block or flow style.

    Each key is edited at most once; :meth:`finish` must be called at the end.
    """

    def __init__(self, splices: Splices, node: yaml.MappingNode, indent: int) -> None:
        self.splices = splices
        self.node = node
        self.flow = bool(node.flow_style)
        self.indent = int(node.value[0][0].start_mark.column) if node.value and not self.flow else indent
        self._flow_changes: dict[str, str | None] = {}
        self._flow_inner: dict[str, dict[str, str | None]] = {}
        self._pending: dict[str, str] = {}
        self._new_maps: dict[str, list[str]] = {}

    def get(self, key: str) -> yaml.Node | None:
        return next((v for k, v in self.node.value if k.value == key), None)

    def source(self, node: yaml.Node) -> str:
        return self.splices.text[int(node.start_mark.index) : true_end(node)]

    def set_scalar(self, key: str, text: str) -> None:
        """Sets ``key`` to the scalar ``text`` (already in YAML form), in place where it exists."""
        node = self.get(key)
        if self.flow:
            self._flow_changes[key] = text
        elif node is None:
            self._add_lines([f"{key}: {text}"])
        elif not isinstance(node, yaml.ScalarNode):
            self.delete(key)
            self._add_lines([f"{key}: {text}"])
        else:
            start, end = int(node.start_mark.index), true_end(node)
            self.splices.keep_line(start)
            self.splices.replace(start, end, (" " if start == end else "") + text)

    def set_list(self, key: str, items: list[Item]) -> None:
        """Makes the list under ``key`` hold ``items``; an empty list removes the key."""
        node = self.get(key)
        if not items:
            self.delete(key)
            return
        if self.flow or (node is not None and not _is_block_list(node)):
            old = node.value if isinstance(node, yaml.SequenceNode) else []
            texts = [item.flow if item.kept is None else self.source(old[item.kept]) for item in items]
            self._set_flow(key, "[" + ", ".join(texts) + "]")
        elif node is None:
            self._add_lines([f"{key}:", *(f"  {line}" for item in items for line in item.block)])
        else:
            self._edit_block_list(node, items)

    def set_map(self, key: str, lists: dict[str, list[Item]]) -> None:
        """Sets lists inside the mapping under ``key``, other keys kept; removes it if nothing is left."""
        node = self.get(key)
        if isinstance(node, yaml.MappingNode) and not node.flow_style and not self.flow:
            left = {k.value for k, _ in node.value} - {name for name, items in lists.items() if not items}
            if not left and not any(lists.values()):
                self.delete(key)
                return
            inner = MapEdit(self.splices, node, self.indent + 2)
            for name, items in lists.items():
                inner.set_list(name, items)
            inner.finish()
        elif self.flow or isinstance(node, yaml.MappingNode):
            inner_node = node if isinstance(node, yaml.MappingNode) else None
            inner = MapEdit(self.splices, inner_node or _empty_map(), 0)
            changes: dict[str, str | None] = {}
            for name, items in lists.items():
                held = inner.get(name)
                old = held.value if isinstance(held, yaml.SequenceNode) else []
                texts = [i.flow if i.kept is None else self.source(old[i.kept]) for i in items]
                changes[name] = "[" + ", ".join(texts) + "]" if texts else None
            text = _flow_with(self.splices.text, inner_node, changes)
            if text == "{}":
                self.delete(key)
            else:
                self._set_flow(key, text)
        elif any(lists.values()):
            block = [f"{key}:"]
            for name, items in lists.items():
                if items:
                    block += [f"  {name}:", *(f"    {line}" for item in items for line in item.block)]
            self.delete(key)
            self._add_lines(block)
        else:
            self.delete(key)

    def set_inner(self, key: str, inner_key: str, text: str) -> None:
        """Sets one scalar inside the mapping under ``key``, which is made if it is not there."""
        node = self.get(key)
        if isinstance(node, yaml.MappingNode) and not node.flow_style and not self.flow:
            inner = MapEdit(self.splices, node, self.indent + 2)
            inner.set_scalar(inner_key, text)
        elif self.flow or isinstance(node, yaml.MappingNode):
            # Two changes of one flow mapping are made on top of each other.
            before = self._flow_inner.setdefault(key, {})
            before[inner_key] = text
            flow = _flow_with(self.splices.text, node if isinstance(node, yaml.MappingNode) else None, {**before})
            if self.flow:
                self._flow_changes[key] = flow
            else:
                self._pending[key] = flow
        elif key in self._new_maps:
            self._new_maps[key].append(f"  {inner_key}: {text}")
        else:
            self._new_maps[key] = [f"{key}:", f"  {inner_key}: {text}"]

    def delete(self, key: str) -> None:
        """Removes the entry, if it is there; its lines stay as comments."""
        entry = next(((k, v) for k, v in self.node.value if k.value == key), None)
        if entry is None:
            return
        if self.flow:
            self._flow_changes[key] = None
            return
        start = int(entry[0].start_mark.index)
        self.splices.comment_out(start, max(true_end(entry[1]), int(entry[0].end_mark.index)) - 1)

    def finish(self) -> None:
        """Writes the collected changes."""
        for key, text in self._pending.items():
            self._set_flow(key, text)
        for block in self._new_maps.values():
            self._add_lines(block)
        if self._flow_changes:
            start, end = int(self.node.start_mark.index), int(self.node.end_mark.index)
            self.splices.keep_line(start)
            self.splices.replace(start, end, _flow_with(self.splices.text, self.node, self._flow_changes))

    def _set_flow(self, key: str, text: str) -> None:
        if self.flow:
            self._flow_changes[key] = text
            return
        node = self.get(key)
        assert node is not None
        start, end = int(node.start_mark.index), true_end(node)
        if "#" in self.splices.text[start:end] and "\n" in self.splices.text[start:end]:
            raise NotSupported(f"a comment stands inside the brackets of {key!r}, and would be lost")
        self.splices.keep_line(start)
        self.splices.replace(start, end, (" " if start == end else "") + text)

    def _add_lines(self, block: list[str]) -> None:
        at = true_end(self.node)
        if self.node.value:
            # A null value ends before its key's line does.
            at = max(at, int(self.node.value[-1][0].end_mark.index))
        pad = " " * self.indent
        self.splices.insert_lines(max(at - 1, 0), [pad + line for line in block])

    def _edit_block_list(self, node: yaml.Node, items: list[Item]) -> None:
        column = int(node.start_mark.column)
        pad = " " * column
        spans = [self._item_lines(item, column) for item in node.value]
        kept = [item.kept for item in items if item.kept is not None]
        if kept != sorted(kept):
            # The order changes, and the first of a family is the preferred source: all are written again.
            text = self.splices.text
            lines: list[str] = []
            for item in items:
                if item.kept is None:
                    lines += [pad + line for line in item.block]
                else:
                    start, end = spans[item.kept]
                    lines += text[start:end].rstrip("\r\n").splitlines()
            for start, end in spans:
                self.splices.replace(start, end, self.splices.was(start, end))
            self.splices.insert_lines(spans[-1][1] - 1, lines)
            return
        for number, (start, end) in enumerate(spans):
            if number not in kept:
                self.splices.replace(start, end, self.splices.was(start, end))
        # New items go above the kept one that they precede; the rest to the end of the list.
        waiting: list[str] = []
        for item in items:
            if item.kept is None:
                waiting += [pad + line for line in item.block]
            elif waiting:
                at = spans[item.kept][0]
                self.splices.replace(at, at, "".join(line + self.splices.newline for line in waiting))
                waiting = []
        if waiting:
            self.splices.insert_lines(spans[-1][1] - 1, waiting)

    def _item_lines(self, item: yaml.Node, column: int) -> tuple[int, int]:
        """The span of whole lines of one item; its dash may stand on a line of its own."""
        text = self.splices.text
        start = self.splices.line_start(int(item.start_mark.index))
        while start > 0 and text[start + column : start + column + 1] != "-":
            start = self.splices.line_start(start - 1)
        end = max(true_end(item) - 1, int(item.start_mark.index))
        return start, self.splices.line_end(end)


def _is_block_list(node: yaml.Node) -> bool:
    return isinstance(node, yaml.SequenceNode) and not node.flow_style and bool(node.value)


def _empty_map() -> yaml.MappingNode:
    return yaml.MappingNode("tag:yaml.org,2002:map", [], flow_style=True)


def _flow_with(text: str, node: yaml.MappingNode | None, changes: dict[str, str | None]) -> str:
    """The flow mapping ``node`` with entries set to new text, added, or removed (``None``)."""
    pieces: list[tuple[str, str]] = []
    tail = ""
    between = ", "
    if node is not None:
        position = int(node.start_mark.index) + 1
        for number, (key, value) in enumerate(node.value):
            start, end = int(key.start_mark.index), max(true_end(value), int(key.end_mark.index))
            lead = text[position:start]
            if number and "#" not in lead:
                between = lead
            body = text[start:end]
            position = end
            if key.value in changes:
                new = changes[key.value]
                if new is None:
                    if "#" in lead or ("#" in body and "\n" in body):
                        raise NotSupported(f"a comment stands inside the braces at {key.value!r}, and would be lost")
                    continue
                body = f"{text[start : int(key.end_mark.index)]}: {new}"
            pieces.append((lead, body))
        tail = text[position : int(node.end_mark.index) - 1]
    present = {k.value for k, _ in node.value} if node is not None else set()
    for name, new in changes.items():
        if name not in present and new is not None:
            if "," in tail:
                tail = tail.replace(",", "", 1)
            pieces.append((between, f"{name}: {new}"))
    result = "{"
    for number, (lead, body) in enumerate(pieces):
        if number == 0:
            result += lead.replace(",", "", 1) if "," in lead and "#" not in lead else lead.lstrip(",")
            result = result.replace("{ ", "{", 1) if result.strip() == "{" and "\n" not in lead else result
        elif "," not in lead:
            result += ", " + lead.lstrip(" ")
        else:
            result += lead
        result += body
    return result + tail + "}"
