"""``fixed-anchor propose --surveys``, ``--list`` and ``--extend``: a plan for a whole site."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from pathlib import Path

import click
import msgspec
from rich.text import Text

from fixed_anchor.commands.app import App
from fixed_anchor.commands.given import Given, vantage_of
from fixed_anchor.core.errors import EXIT_AGAINST, EXIT_DONE, printable
from fixed_anchor.core.plan import Plan
from fixed_anchor.disk.durable import write_beside
from fixed_anchor.planfile.extending import extended
from fixed_anchor.planfile.reader import plan_from_text, read_plan
from fixed_anchor.planfile.writer import plan_text
from fixed_anchor.reporting.documents.stock import PlacedHost, Proposed, ProposeDocument
from fixed_anchor.reporting.terminal.paper import plural, put_table, styled
from fixed_anchor.workflow.site_plan import (
    NEW,
    NOT_PLACED,
    THERE,
    Candidate,
    Policy,
    Row,
    SitePlan,
    propose_site,
    read_wanted,
)

_STYLES = {NEW: "bold green", NOT_PLACED: "bold red"}


def _candidate(one: Given) -> Candidate:
    stock, where = msgspec.to_builtins(one.stock), one.file or one.reach or one.name
    return Candidate(one.name, stock, where, one.reach, partial(vantage_of, one))


def write_site_plan(
    app: App,
    given: Sequence[Given],
    policy: Policy,
    listed: str | None,
    output: str,
    extend: bool,
    site: Plan | None,
    folder: Path,
) -> int:
    """Writes the plan, or extends it, and tells what became of every host; the exit status."""
    wanted = read_wanted(listed) if listed is not None else []
    before = Path(output).read_bytes().decode() if extend and Path(output).exists() else None
    existing = read_plan(Path(output)) if before is not None else None
    with app.status("choosing addresses") as shown:

        def told(host: str) -> None:
            if shown is not None:
                shown.update(f"picking an address for {printable(host)}")

        made = propose_site(list(map(_candidate, given)), policy, wanted, existing, site, folder, told)
    text = extended(before, output, made.new) if before is not None else plan_text(made.new) if made.new else None
    if text is not None:
        # What was written is a plan, whatever stood in the surveys.
        plan_from_text(text, output)
        if output != "-" and text != before:
            write_beside(Path(output), text.encode(), 0o644)
    status = EXIT_AGAINST if any(row.outcome == NOT_PLACED for row in made.rows) else EXIT_DONE
    if app.as_json:
        _print(app, made, text, output, status)
    _show(app, made)
    if output == "-":
        click.echo(text or "", nl=False)
    elif text is None or text == before:
        app.remark(f"{output}: nothing to add" if extend else "nothing was written")
    else:
        app.remark(f"wrote {output}; next: fixed-anchor check {output}")
    return status


def _show(app: App, made: SitePlan) -> None:
    rows: list[list[str | Text]] = []
    under: list[list[str]] = []
    for row in made.rows:
        outcome = styled(row.outcome, _STYLES.get(row.outcome, "dim"))
        cells: list[str | Text] = [
            styled(row.host, "bold"),
            row.interface or "",
            ", ".join(row.before),
            ", ".join(row.hold),
            outcome,
        ]
        rows.append(cells)
        under.append([printable(row.why)] if row.why else [])
    put_table(app.err, ["host", "interface", "today", "plan", "outcome"], rows, under=under)
    for line in made.disagreements:
        app.remark(f"they disagree: {line}", style="yellow")
    counts = [(sum(row.outcome == one for row in made.rows), one) for one in (NEW, THERE, NOT_PLACED)]
    app.remark(plural(len(made.rows), "host") + ": " + ", ".join(f"{n} {what}" for n, what in counts if n))


def _print(app: App, made: SitePlan, text: str | None, output: str, status: int) -> None:
    app.print_document(
        ProposeDocument(
            command="propose",
            file=None if output == "-" else output,
            plan=text,
            hosts=[Proposed(p.host, p.interface, [str(a) for a in p.hold], list(p.reasons)) for p in made.new],
            placed=[_placed(row) for row in made.rows],
            disagreements=list(map(printable, made.disagreements)),
        ),
        status,
    )


def _placed(row: Row) -> PlacedHost:
    why = printable(row.why) or None
    return PlacedHost(row.host, row.outcome, row.interface, list(row.before), list(row.hold), why)  # type: ignore[arg-type]
