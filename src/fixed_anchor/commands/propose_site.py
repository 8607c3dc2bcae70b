"""``fixed-anchor propose --surveys``, ``--list`` and ``--extend``: a plan for a whole site."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from pathlib import Path

import click
import msgspec
from rich.text import Text

from fixed_anchor.commands.app import App
from fixed_anchor.core.errors import EXIT_AGAINST, EXIT_DONE, AnchorError, InputError, printable
from fixed_anchor.core.plan import Plan
from fixed_anchor.disk.durable import write_beside
from fixed_anchor.planfile.extending import extended
from fixed_anchor.planfile.reader import plan_from_text, read_plan
from fixed_anchor.planfile.writer import plan_text
from fixed_anchor.reporting.documents.saved import read_stocks
from fixed_anchor.reporting.documents.stock import HostStock, PlacedHost, Proposed, ProposeDocument, host_stock
from fixed_anchor.reporting.terminal.paper import plural, put_table, styled
from fixed_anchor.vantages.nowhere import Nowhere
from fixed_anchor.vantages.protocol import Vantage
from fixed_anchor.workflow.reaching import collected, collection_from, way_to
from fixed_anchor.workflow.site_plan import NEW, NOT_PLACED, Candidate, Policy, Row, SitePlan, propose_site, read_wanted

_STYLES = {NEW: "bold green", NOT_PLACED: "bold red"}


def read_folder(app: App, name: str, folder: Path) -> list[Candidate]:
    """Every host of the surveys and collections in the folder ``name``; what is neither is told.

    A plan in ``folder`` says how they are reached. Raises :class:`InputError` where the folder cannot be read.
    """
    try:
        files = sorted(path for path in Path(name).iterdir() if path.is_file() and not path.name.startswith("."))
    except OSError as error:
        raise InputError(f"the surveys cannot be read: {error.strerror}", file=name) from None
    found: list[Candidate] = []
    for path in files:
        try:
            host = collected(str(path))
            if host is not None:
                stock = host_stock(host.survey())
                found.append(_candidate(stock, path, collection_from(str(path), folder)))
            else:
                every = read_stocks(str(path))
                found += [_candidate(one, path, way_to(one.reach, folder) if one.reach else None) for one in every]
        except AnchorError as error:
            app.remark(f"not read: {error}", style="yellow")
    if not found:
        raise InputError("there is no survey in this folder", file=name, expected="what `survey -o FILE` writes")
    return found


def _candidate(stock: HostStock, path: Path, reach: str | None) -> Candidate:
    return Candidate(stock.host, msgspec.to_builtins(stock), str(path), reach, partial(_nowhere, str(path)))


def _nowhere(path: str, interface: str) -> Vantage:
    return Nowhere(f"the survey {path} is of another machine")


def write_site_plan(
    app: App,
    candidates: Sequence[Candidate],
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

        made = propose_site(candidates, policy, wanted, existing, site, folder, told)
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
    counts = [(sum(row.outcome == one for row in made.rows), one) for one in (NEW, "in the plan", NOT_PLACED)]
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
