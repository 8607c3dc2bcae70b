"""Pages of the documentation that are made of the program's own tables.

``python -m fixed_anchor.reporting.pages DIR`` writes ``plan-keys.md`` and ``findings.md``.
"""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path

from fixed_anchor.core.checks import CHECKS
from fixed_anchor.core.errors import EXIT_MEANINGS
from fixed_anchor.core.plan import SOURCE_KINDS
from fixed_anchor.planfile.shape import described
from fixed_anchor.reporting.catalogue import CATALOGUE

_MADE = "<!-- Made by `make docs`: change the program, not this page. -->"


def plan_keys() -> str:
    """The plan, key by key."""
    return "\n".join(_plan_keys()) + "\n"


def findings() -> str:
    """Every finding, every check of a verification, and every exit status."""
    return "\n".join(_findings()) + "\n"


def _plan_keys() -> Iterator[str]:
    yield from ("# The plan, key by key", "", _MADE, "")
    yield (
        "A plan is a YAML file. `fixed-anchor propose` writes one; `docs/plan.schema.json` is its JSON Schema for "
        "editors. A single value may stand wherever a list may. MACs are quoted."
    )
    former = ""
    for key, belongs_to, meaning in described():
        if belongs_to != former:
            yield from ("", f"## Keys of {belongs_to}", "", "| key | meaning |", "| --- | --- |")
            former = belongs_to
        yield f"| `{key}` | {_cell(meaning)} |"
    yield from (
        "",
        "## Kinds of sources",
        "",
        "Each entry of `sources` is `KIND: PATH`; see [sources](sources.md).",
        "",
    )
    yield from ("| kind | further keys beside it |", "| --- | --- |")
    for kind, further in SOURCE_KINDS.items():
        yield f"| `{kind}` | {', '.join(f'`{k}`' for k in further) or 'none'} |"


def _findings() -> Iterator[str]:
    yield from ("# Findings, checks and exit statuses", "", _MADE, "")
    yield "`fixed-anchor explain CODE` says the same. Blockers and what is undetermined stop a cutover."
    yield from (
        "",
        "## Findings",
        "",
        "| code | severity | meaning | why it matters | what to do |",
        "|" + " --- |" * 5,
    )
    for entry in CATALOGUE.values():
        cells = (f"`{entry.code}`", entry.shown_severity, entry.title, entry.why, entry.do)
        yield "| " + " | ".join(_cell(cell) for cell in cells) + " |"
    yield from ("", "## Checks of a verification", "", "| code | asks | passes | fails | excused |", "|" + " --- |" * 5)
    for check in CHECKS.values():
        cells = (f"`{check.code}`", check.asks, check.passes, check.fails, check.excused or "never")
        yield "| " + " | ".join(_cell(cell) for cell in cells) + " |"
    yield from ("", "## Exit statuses", "", "| status | meaning |", "| --- | --- |")
    for status, meaning in EXIT_MEANINGS.items():
        yield f"| {status} | {_cell(meaning)} |"


def _cell(text: str) -> str:
    return text.replace("|", "\\|").replace("\n", " ")


def main(folder: Path) -> None:
    """Writes the pages below ``folder``."""
    (folder / "plan-keys.md").write_text(plan_keys())
    (folder / "findings.md").write_text(findings())


if __name__ == "__main__":
    main(Path(sys.argv[1]))
