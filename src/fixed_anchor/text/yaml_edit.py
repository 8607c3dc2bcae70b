"""Edits of a YAML mapping, in block or flow style, as splices of its text."""

from __future__ import annotations

from typing import NamedTuple

import yaml

from fixed_anchor.core.errors import NotSupported
from fixed_anchor.text.yaml_flow import flow_with
from fixed_anchor.text.yaml_splice import Splices, true_end


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
        """The value under ``key``, or ``None``."""
        return next((v for k, v in self.node.value if k.value == key), None)

    def source(self, node: yaml.Node) -> str:
        """The text of a node as it stands in the file."""
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
            text = flow_with(self.splices.text, inner_node, changes)
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
            flow = flow_with(self.splices.text, node if isinstance(node, yaml.MappingNode) else None, {**before})
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
            self.splices.replace(start, end, flow_with(self.splices.text, self.node, self._flow_changes))

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
