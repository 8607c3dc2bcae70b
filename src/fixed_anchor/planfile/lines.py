"""The line of any part of a plan, for findings that are made when the plan has long been read."""

from __future__ import annotations

from functools import cached_property

import yaml

from fixed_anchor.text.yaml_nodes import compose


class PlanLines:
    """The lines of a plan's text. It is parsed again when the first line is asked for: most plans need none."""

    def __init__(self, text: str, file: str) -> None:
        self._text = text
        self._file = file
        self._keys: dict[int, dict[str, tuple[yaml.Node, yaml.Node]]] = {}

    def __eq__(self, other: object) -> bool:
        # Where something stands is no part of what a plan says.
        return isinstance(other, PlanLines)

    __hash__ = None  # type: ignore[assignment]

    @cached_property
    def _root(self) -> yaml.Node:
        return compose(self._text, self._file)

    def line(self, path: tuple[str | int, ...]) -> int | None:
        """The line of a part: keys of mappings and numbers in lists, from the top; ``None`` where it is not there.

        A number of what is no list means the one thing that stands there.
        """
        node, line = self._root, 1
        for part in path:
            if isinstance(part, str):
                key, node = self._entries(node).get(part, (None, node))
                if key is None:
                    return None
                # What stands behind its key on the same line, or below it, is named by the key.
                line = int(key.start_mark.line) + 1
            elif isinstance(node, yaml.SequenceNode):
                if part >= len(node.value):
                    return None
                node = node.value[part]
                line = int(node.start_mark.line) + 1
            elif isinstance(node, yaml.ScalarNode):
                line = int(node.start_mark.line) + 1
        return line

    def _entries(self, node: yaml.Node) -> dict[str, tuple[yaml.Node, yaml.Node]]:
        if id(node) not in self._keys:
            pairs = node.value if isinstance(node, yaml.MappingNode) else ()
            self._keys[id(node)] = {key.value: (key, value) for key, value in pairs if isinstance(key, yaml.ScalarNode)}
        return self._keys[id(node)]
