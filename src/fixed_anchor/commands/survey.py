"""``fixed-anchor survey``: take stock of a host."""

from __future__ import annotations

from pathlib import Path

import click

from fixed_anchor.commands.common import JSON, App
from fixed_anchor.core.errors import InputError
from fixed_anchor.machines.collected import collector_source
from fixed_anchor.machines.files import write_beside
from fixed_anchor.machines.tree import Tree
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.reporting.documents import as_text, survey_document
from fixed_anchor.reporting.terminal import show_survey


@click.command(help="Take stock: interfaces, addresses, leases, gateways, resolvers, and where they are declared.")
@click.option("--root", type=click.Path(), help="Read the file tree below this folder instead of this machine.")
@click.option("--plan", type=click.Path(readable=False), help="Take stock of a host of this plan.")
@click.option("--host", help="The host of the plan.")
@click.option("-o", "output", type=click.Path(dir_okay=False), help="Write the survey to this file, as JSON.")
@click.option(
    "--collector",
    is_flag=True,
    help="Print a read-only script for a host without Python; `propose --survey` reads what it prints there.",
)
@JSON
@click.pass_context
def command(
    ctx: click.Context,
    root: str | None,
    plan: str | None,
    host: str | None,
    output: str | None,
    collector: bool,
    as_json: bool,
) -> None:
    app = App(ctx)
    if collector:
        if output is None:
            click.echo(collector_source(), nl=False)
        else:
            write_beside(Path(output), collector_source().encode(), 0o755)
        return
    if root is not None and plan is not None:
        raise click.UsageError("--root and --plan exclude each other")
    if (plan is None) != (host is None):
        raise click.UsageError("--plan and --host go together")
    if root is not None:
        survey = take_stock(Tree(Path(root)))
    elif plan is not None and host is not None:
        site = app.site(plan)
        planned = site.hosts((host,))[0]
        found = site.survey(planned)
        if found is None:
            raise InputError(
                f"{host} is not reached from here: none of its MACs is on this machine", file=plan, line=planned.line
            )
        survey = found
    else:
        survey = take_stock(app.machine())
    document = as_text(survey_document(survey))
    if output is not None:
        write_beside(Path(output), (document + "\n").encode(), 0o644)
    if as_json:
        click.echo(document)
    elif output is None:
        show_survey(app.out, survey)
