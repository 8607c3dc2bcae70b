"""The text of a YAML mapping in braces, with entries set, added or removed."""

from __future__ import annotations

import yaml

from fixed_anchor.core.errors import NotSupported
from fixed_anchor.text.yaml_splice import true_end


def flow_with(text: str, node: yaml.MappingNode | None, changes: dict[str, str | None]) -> str:
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
