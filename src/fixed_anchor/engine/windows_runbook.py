"""A change of a Windows machine in one file, to carry there: the engine, the runbook, and the data as one text."""

from __future__ import annotations

import difflib
import hashlib
import json

import msgspec

from fixed_anchor.change.change import Terms
from fixed_anchor.change.settings import SettingsContent
from fixed_anchor.core.errors import printable
from fixed_anchor.engine.windows_data import ENDING, PARTS, change_data, part, undoing
from fixed_anchor.machines.windows.windows_facts import WindowsFacts

#: Lines around a difference: all of them.
_WHOLE = 10_000
_MORE = """
$carried = ConvertFrom-Json -InputObject @'
{data}
'@
Run-Book
exit $done.status
"""


def windows_runbook(host: str, content: SettingsContent, terms: Terms, facts: WindowsFacts) -> bytes:
    """The script for a change; its last line binds all the others."""
    carried = {
        "change": json.dumps(change_data(host, content, terms)),
        "way_back": json.dumps(change_data(host, undoing(content), terms)),
        "about": json.dumps(terms.notes),
        "told": [" ".join(printable(line).split()) for line in terms.told],
        "interface": "\n".join(printable(name) for name in content.interfaces),
        "facts": msgspec.json.encode(facts).decode(),
        "shown": _shown(content),
        "ending": part(ENDING),
    }
    # Escaped as JSON in ASCII it holds no line end, and so nothing that could end the quotation.
    data = json.dumps(carried)
    text = "".join(map(part, ("opening", *PARTS, "runbook"))) + _MORE.format(data=data)
    return text.encode("ascii") + b"#END " + hashlib.sha256(text.encode("ascii")).hexdigest().encode() + b"\n"


def _shown(content: SettingsContent) -> list[str]:
    """The settings as a diff, and what runs, as a draft shows it."""
    before, after = content.before.lines(), content.after.lines()
    lines = difflib.unified_diff(
        before, after, "settings", "settings", "as they are", "as drafted", lineterm="", n=_WHOLE
    )
    said = [line for line in lines if not line.startswith("@@")]
    said += [f"then run  {printable(act.shown)}" for act in content.acts]
    return [*said, *([content.restart] if content.restart else [])]
