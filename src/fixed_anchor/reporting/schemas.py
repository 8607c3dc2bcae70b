"""The JSON Schemas of the commands' documents, made of their types.

``python -m fixed_anchor.reporting.schemas DIR`` writes one for each command.
"""

from __future__ import annotations

import inspect
import json
import sys
from pathlib import Path
from typing import Any

import msgspec

from fixed_anchor.reporting.documents import EVERY, document_type


def schema(command: str) -> dict[str, Any]:
    """The JSON Schema (draft 2020-12) of what ``command --json`` prints."""
    (root,), definitions = msgspec.json.schema_components([document_type(command)], ref_template="#/$defs/{name}")
    for definition in definitions.values():
        # Releases of msgspec differ in whether they take the indentation out of a docstring.
        definition["description"] = inspect.cleandoc(definition["description"])
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": f"fixed-anchor {command} --json",
        **root,
        "$defs": dict(sorted(definitions.items())),
    }


def main(folder: Path) -> None:
    """Writes the schema of every command below ``folder``."""
    folder.mkdir(parents=True, exist_ok=True)
    for command in EVERY:
        (folder / f"{command}.json").write_text(json.dumps(schema(command), indent=2) + "\n")


if __name__ == "__main__":
    main(Path(sys.argv[1]))
