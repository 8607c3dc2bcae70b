"""``fixed-anchor survey``: take stock of a host."""

from __future__ import annotations

from pathlib import Path

import click

from fixed_anchor.commands.app import App
from fixed_anchor.commands.common import HOSTS, JSON, examples
from fixed_anchor.core.errors import EXIT_DONE, AnchorError, InputError
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.machines.collected import collector_source
from fixed_anchor.machines.files import write_beside
from fixed_anchor.machines.tree import Tree
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.reporting.documents import as_text
from fixed_anchor.reporting.documents.parts import problem
from fixed_anchor.reporting.documents.stock import HostStock, SurveyDocument, host_stock
from fixed_anchor.reporting.terminal.survey import show_survey


@click.command(
    help="Take stock: interfaces, addresses, leases, gateways, resolvers, and where they are declared.",
    epilog=examples(
        ("fixed-anchor survey", "this machine, as it is now"),
        ("fixed-anchor survey --plan plan.yaml --host tide-db", "a host that the plan reaches"),
    ),
)
@click.option("--root", type=click.Path(), help="Read the file tree below this folder instead of this machine.")
@click.option("--plan", type=click.Path(readable=False), help="Take stock of the hosts of this plan.")
@HOSTS
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
    hosts: tuple[str, ...],
    output: str | None,
    collector: bool,
    as_json: bool,
) -> None:
    app = App(ctx, as_json)
    if collector:
        if as_json:
            raise click.UsageError("--collector prints a script; it has no --json")
        if output is None:
            click.echo(collector_source(), nl=False)
        else:
            write_beside(Path(output), collector_source().encode(), 0o755)
        return
    if root is not None and plan is not None:
        raise click.UsageError("--root and --plan exclude each other")
    if hosts and plan is None:
        raise click.UsageError("--host names hosts of a plan: it goes with --plan PLAN")
    if plan is not None:
        found = _of_plan(app, plan, hosts)
    elif root is not None:
        found = [(root, take_stock(Tree(Path(root))))]
    else:
        machine = app.machine()
        found = [(machine.name, take_stock(machine))]
    failed = [(name, error) for name, error in found if isinstance(error, AnchorError)]
    if len(failed) == len(found):
        raise failed[0][1]
    exit_status = failed[0][1].exit_status if failed else EXIT_DONE
    document = SurveyDocument(command="survey", hosts=[_stock(name, result) for name, result in found])
    document.exit_status = exit_status
    if output is not None:
        write_beside(Path(output), (as_text(document) + "\n").encode(), 0o644)
    if as_json:
        app.print_document(document, exit_status)
    elif output is None:
        for number, (name, result) in enumerate(found):
            if number:
                app.say("")
            if isinstance(result, AnchorError):
                app.say(f"{name}: {result}", style="yellow")
            else:
                show_survey(app.out, result)
    ctx.exit(exit_status)


def _of_plan(app: App, plan: str, names: tuple[str, ...]) -> list[tuple[str, HostSurvey | AnchorError]]:
    """Every host of the plan that is reached, or those that are named; one that does not answer is its error."""
    site = app.site(plan)
    unreached: list[str] = []
    found: list[tuple[str, HostSurvey | AnchorError]] = []
    for planned in site.hosts(names):
        try:
            survey = site.survey(planned)
        except AnchorError as error:
            found.append((planned.name, error))
            continue
        if survey is not None:
            found.append((planned.name, survey))
            continue
        unreached.append(planned.name)
        if names or len(site.plan.hosts) == 1:
            what = f"{planned.name} is not reached from here: none of its MACs is on this machine"
            found.append((planned.name, InputError(what, file=plan, line=planned.line)))
    if not found:
        raise InputError("no host of this plan is reached from here", file=plan)
    if unreached and not names:
        app.remark(f"not reached from here: {', '.join(unreached)}")
    return found


def _stock(name: str, result: HostSurvey | AnchorError) -> HostStock:
    return HostStock(host=name, error=problem(result, name)) if isinstance(result, AnchorError) else host_stock(result)
