"""The house rules that no other tool holds: where the simulated site is mentioned, and what has to say what it does."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from pathlib import Path

SOURCE = Path(__file__).resolve().parents[1] / "src/fixed_anchor"


def test_the_simulated_site_is_a_plug_in() -> None:
    """One lazy line in each registry, and the command that lays it out; nothing else knows that it is there."""
    allowed = {
        "machines/__init__.py": ['"standin": "fixed_anchor.standins.reaching",'],
        "vantages/__init__.py": ['"simulated": ("fixed_anchor.standins.vantage", "on"),'],
    }
    for path in sorted([*SOURCE.rglob("*.py"), *SOURCE.rglob("*.sh")]):
        name = str(path.relative_to(SOURCE))
        if name.startswith("standins/") or name == "commands/demo.py":
            continue
        lines = [
            line.strip() for line in path.read_text().splitlines() if re.search(r"(?i)stand-?ins?\b|simulat", line)
        ]
        assert lines == allowed.get(name, []), name


def _protocols() -> set[str]:
    """The methods that a Protocol declares, or what all rights and sessions are made of: they are documented there."""
    found = set()
    for path in SOURCE.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            is_base = path.name == "access.py" or (
                isinstance(node, ast.ClassDef) and any(ast.unparse(base) == "Protocol" for base in node.bases)
            )
            if isinstance(node, ast.ClassDef) and is_base:
                found |= {item.name for item in node.body if isinstance(item, ast.FunctionDef)}
    return found


def _public(node: ast.Module | ast.ClassDef) -> Iterator[ast.FunctionDef | ast.ClassDef]:
    """Functions and classes of a module, and of its public classes."""
    for item in node.body:
        if isinstance(item, (ast.FunctionDef, ast.ClassDef)) and not item.name.startswith("_"):
            yield item
            if isinstance(item, ast.ClassDef):
                yield from _public(item)


def test_what_is_public_says_what_it_does() -> None:
    #: What click calls by these names, click's own pages describe; a command is described by its help.
    by_click = {"command", "convert", "list_commands", "get_command", "format_commands"}
    known = _protocols() | by_click
    for path in sorted(SOURCE.rglob("*.py")):
        public = _public(ast.parse(path.read_text()))
        missing = [node.name for node in public if not ast.get_docstring(node) and node.name not in known]
        assert missing == [], path
