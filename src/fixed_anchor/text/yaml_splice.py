"""Editing YAML by splicing its text.

Loading and dumping a document reformats it, in any library. Here the parser only
says where each node begins and ends, and edits replace exactly those characters.
Replaced lines stay above the new ones as comments that begin with ``# was:``.
"""

from __future__ import annotations

from collections.abc import Iterable

import yaml

from fixed_anchor.text.lines import MARK, WAS


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
        self.text = text.removeprefix(MARK)
        # It stays where it is; the parser counts places behind it.
        self._mark = text[: len(text) - len(self.text)]
        self.newline = "\r\n" if "\r\n" in text else "\n"
        #: Start, end, minus the depth, a running number, and the new text.
        self._edits: list[tuple[int, int, int, int, str]] = []
        self._commented: set[int] = set()

    def replace(self, start: int, end: int, new: str, depth: int = 0) -> None:
        """Of several insertions at one place the deeper ones come first: they end an inner block."""
        self._edits.append((start, end, -depth, len(self._edits), new))

    def line_start(self, index: int) -> int:
        """Where the line of ``index`` begins."""
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
        return self._mark + text

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
        # Items of a list may stand at the column of its key (YAML 1.2, section 8.2.1), and belong to it all the same.
        is_item = bool(written) and written[0].lstrip(" ").startswith("-")
        self.replace(at, at, "".join(line + self.newline for line in written), 2 * depth + is_item)

    def comment_out(self, start: int, end: int) -> None:
        """Turns all lines from that of ``start`` to that of ``end`` (both included) into comments."""
        first, last = self.line_start(start), self.line_end(end)
        self.replace(first, last, self.was(first, last))
