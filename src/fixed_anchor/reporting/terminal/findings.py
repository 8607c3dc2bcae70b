"""How a finding is shown, and what was asked about an address."""

from __future__ import annotations

from collections.abc import Iterable

from rich.console import Console
from rich.text import Text

from fixed_anchor.core.errors import printable
from fixed_anchor.core.findings import Consulted, Finding, NotConsulted
from fixed_anchor.core.times import on_the_clock
from fixed_anchor.reporting.terminal.paper import STYLES, plural, put, put_rows, styled

#: The width of the column of severities.
_KIND = 14

#: Of more findings of one kind than this, only the first ones are shown.
_SHOWN_EACH = 20


def counts(findings: Iterable[Finding]) -> str:
    """``2 blockers, 1 warning``, in the order in which they come."""
    found: dict[str, int] = {}
    for one in findings:
        found[one.shown_severity] = found.get(one.shown_severity, 0) + 1
    return ", ".join(plural(n, kind, "undetermined" if kind == "undetermined" else None) for kind, n in found.items())


def show_findings(out: Console, findings: Iterable[Finding], indent: int = 0, named: bool = True) -> None:
    """Findings, each with what it says, where it was seen and what to do; ``named`` says of which host, too."""
    by_code: dict[str, list[Finding]] = {}
    for found in findings:
        by_code.setdefault(found.code, []).append(found)
    for code, several in by_code.items():
        shown = several if len(several) <= _SHOWN_EACH else several[:5]
        for found in shown:
            _show_finding(out, found, indent, named)
        if len(shown) < len(several):
            left = f"... and {len(several) - len(shown)} more {code}; --code {code} shows them all"
            put(out, left, indent=indent, style=STYLES[several[0].shown_severity])


def _show_finding(out: Console, found: Finding, indent: int, named: bool) -> None:
    kind = found.shown_severity
    line = styled(f"{kind:<{_KIND}}", STYLES[kind])
    line.append(found.code, style="bold")
    where = "  ".join(t for t in (found.host if named else None, found.interface) if t)
    if where:
        line.append(f"  {printable(where)}", style="dim")
    put(out, line, indent=indent, hang=indent + _KIND)
    rows = [("what", found.message), ("seen in", found.seen_in), ("do", found.remedy)]
    put_rows(out, [(label, styled(text)) for label, text in rows], indent=indent + _KIND)


def show_looks(
    out: Console, consulted: Iterable[Consulted], not_consulted: Iterable[NotConsulted], indent: int = 2
) -> None:
    """What was asked, and what it said; what could not be asked, and why."""
    rows: list[tuple[Text, str, Text]] = []
    for looked in consulted:
        said = styled(looked.said).append(f"   {printable(on_the_clock(looked.at))}", style="dim")
        rows.append((styled("asked", "green"), looked.source, said))
    for missing in not_consulted:
        rows.append((styled("not asked", "yellow"), missing.source, styled(missing.why)))
    # A long name has its text below it rather than beside.
    widest = max((len(source) for _, source, _ in rows if len(source) <= 32), default=0)
    for kind, source, text in rows:
        line = kind + Text(" " * (11 - kind.cell_len)) + styled(source)
        column = 11 + widest + 2
        if len(source) <= widest:
            put(out, line + Text(" " * (column - line.cell_len)) + text, indent=indent, hang=indent + column)
        else:
            put(out, line, indent=indent, hang=indent + 11)
            put(out, text, indent=indent + 13, hang=indent + 13)
