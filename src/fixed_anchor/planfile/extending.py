"""Adding hosts and segments to a plan that exists: everything else in it stays byte for byte."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

import yaml

from fixed_anchor.core.errors import InputError
from fixed_anchor.planfile.reader import plan_from_text
from fixed_anchor.planfile.writer import ProposedPlan, host_lines, segment_lines
from fixed_anchor.text.yaml_nodes import compose


def natural(name: str) -> list[tuple[int, int, str]]:
    """The order of names in which ``vm2`` comes before ``vm10``."""
    return [(0, int(part), "") if part.isdigit() else (1, 0, part) for part in re.findall(r"\d+|\D+", name.lower())]


def extended(text: str, file: str, every: Sequence[ProposedPlan]) -> str:
    """``text`` with the hosts of ``every``, and with those of their segments that it has not.

    A host comes behind the last one whose name comes before its own, a segment behind the last one. Raises
    :class:`InputError` where the plan is written so that nothing can be put there.
    """
    if not every:
        return text
    before, said = plan_from_text(text, file), yaml.safe_load(text)
    segments = {one.segment: one for one in every if one.segment not in before.segments}
    text = _with(text, file, "segments", {name: list(segment_lines(one)) for name, one in segments.items()}, False)
    text = _with(text, file, "hosts", {one.host: list(host_lines(one)) for one in every}, True)
    if not _has_all_of(yaml.safe_load(text), said):
        raise InputError(
            "nothing can be added to this plan without a change of what it says",
            file=file,
            remedy="Write its segments and hosts as blocks, one name to a line.",
        )
    return text


def _has_all_of(after: Any, before: Any) -> bool:
    """Whether a document says all that another one says, whatever its layout."""
    if isinstance(before, dict):
        return isinstance(after, dict) and all(key in after and _has_all_of(after[key], before[key]) for key in before)
    return bool(after == before)


def _with(text: str, file: str, section: str, blocks: Mapping[str, list[str]], by_name: bool) -> str:
    """``text`` with the ``blocks`` of lines, by their names, below the key ``section``: each at its place, or last."""
    if not blocks:
        return text
    end = "\r\n" if "\r\n" in text else "\n"
    present = text.splitlines(keepends=True)
    if present and not present[-1].endswith("\n"):
        present[-1] += end
    root = compose(text, file)
    assert isinstance(root, yaml.MappingNode)
    keys = [key for key, _ in root.value]
    place = next((n for n, key in enumerate(keys) if key.value == section), None)
    if place is None:
        lines = [line for block in blocks.values() for line in block]
        return "".join(present) + end + "".join(f"{line}{end}" for line in (f"{section}:", *lines))
    node = root.value[place][1]
    if isinstance(node, yaml.ScalarNode) or not node.value or node.flow_style:
        raise InputError(
            f"`{section}:` is not written as a block, one name to a line: nothing can be added to it",
            file=file,
            line=keys[place].start_mark.line + 1,
            remedy="Write it as a block, or make a new plan with another -o.",
        )
    names = [key for key, _ in node.value]
    indent = names[0].start_mark.column
    following = keys[place + 1].start_mark.line if place + 1 < len(keys) else len(present)
    begins = [key.start_mark.line for key in names] + [following]
    added: dict[int, list[str]] = {}
    for name in sorted(blocks, key=natural) if by_name else blocks:
        behind = len(names) - 1
        if by_name:
            behind = max((n for n, key in enumerate(names) if natural(key.value) < natural(name)), default=-1)
        line = _above_its_comments(present, begins[behind + 1], begins[behind] if behind >= 0 else 0)
        block = (" " * (indent - 2) + one if indent >= 2 else one[2 - indent :] for one in blocks[name])
        added.setdefault(line, []).extend(f"{one}{end}" for one in block)
    return "".join(
        one for number in range(len(present) + 1) for one in (*added.get(number, ()), *present[number : number + 1])
    )


def _above_its_comments(lines: list[str], line: int, least: int) -> int:
    """Where a block begins whose key is on ``line``: comments and blank lines right above it are its own."""
    while line > least + 1 and (not lines[line - 1].strip() or lines[line - 1].lstrip().startswith("#")):
        line -= 1
    return line
