"""``fixed-anchor survey``: take stock of a host."""

from __future__ import annotations

from pathlib import Path

import click

from fixed_anchor.commands.app import App
from fixed_anchor.commands.chosen import say_failed
from fixed_anchor.commands.common import AT_ONCE, HOSTS_TO_REACH, JSON, examples
from fixed_anchor.core.errors import AnchorError, InputError, worst
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.disk.durable import write_beside
from fixed_anchor.reporting.documents import as_text
from fixed_anchor.reporting.documents.parts import problem
from fixed_anchor.reporting.documents.stock import HostStock, SurveyDocument, host_stock
from fixed_anchor.reporting.terminal.survey import show_survey, show_surveys
from fixed_anchor.workflow.reaching import collector as collector_of
from fixed_anchor.workflow.reaching import tree, way_from_anywhere


@click.command(
    help="Take stock: interfaces, addresses, leases, gateways, resolvers, and where they are declared.",
    epilog=examples(
        ("fixed-anchor survey", "this machine, as it is now"),
        ("fixed-anchor survey --host ssh:tide-db", "a host over SSH, by any name that ssh knows"),
        ("fixed-anchor survey --plan plan.yaml --host tide-db", "a host that the plan reaches"),
    ),
)
@click.option("--root", type=click.Path(), help="Read the file tree below this folder instead of this machine.")
@click.option("--plan", type=click.Path(readable=False), help="Take stock of the hosts of this plan.")
@HOSTS_TO_REACH
@AT_ONCE
@click.option("--detail", is_flag=True, help="Of several hosts everything, instead of a table.")
@click.option("-o", "output", type=click.Path(dir_okay=False), help="Write the survey to this file, as JSON.")
@click.option(
    "--collector",
    type=click.Choice(("linux", "windows")),
    is_flag=False,
    flag_value="linux",
    help="Print a read-only script for a host without Python, or for Windows; `survey --host collected:FILE` and "
    "`propose --survey` read what it prints there.",
)
@JSON
@click.pass_context
def command(
    ctx: click.Context,
    root: str | None,
    plan: str | None,
    hosts: tuple[str, ...],
    at_once: int,
    detail: bool,
    output: str | None,
    collector: str | None,
    as_json: bool,
) -> None:
    app = App(ctx, as_json)
    if collector is not None:
        if as_json:
            raise click.UsageError("--collector prints a script; it has no --json")
        source = collector_of(collector)
        if output is None:
            click.echo(source, nl=False)
        else:
            write_beside(Path(output), source.encode(), 0o755)
        return
    if root is not None and plan is not None:
        raise click.UsageError("--root and --plan exclude each other")
    if root is not None and hosts:
        raise click.UsageError("--root and --host exclude each other")
    ways: dict[str, str] = {}
    if plan is not None or hosts:
        with app.status("taking stock"):
            found, ways = _of_hosts(app, plan, hosts, at_once)
    elif root is not None:
        found = [(root, tree(root).survey())]
    else:
        target = app.reach.target()
        found = [(target.name, target.survey())]
    failed = [(name, error) for name, error in found if isinstance(error, AnchorError)]
    if len(failed) == len(found) == 1:
        raise failed[0][1]
    exit_status = worst(error.exit_status for _, error in failed)
    document = SurveyDocument(command="survey", hosts=[_stock(name, result, ways.get(name)) for name, result in found])
    document.exit_status = exit_status
    if output is not None:
        write_beside(Path(output), (as_text(document) + "\n").encode(), 0o644)
    if as_json:
        app.print_document(document, exit_status)
    elif output is None:
        surveys = [(name, result) for name, result in found if not isinstance(result, AnchorError)]
        if len(found) > 1 and not detail:
            show_surveys(app.out, found)
            ctx.exit(exit_status)
        for number, (_, result) in enumerate(surveys):
            if number:
                app.say("")
            show_survey(app.out, result)
        for name, error in failed:
            say_failed(app, name, error)
    ctx.exit(exit_status)


def _of_hosts(
    app: App, plan: str | None, names: tuple[str, ...], at_once: int
) -> tuple[list[tuple[str, HostSurvey | AnchorError]], dict[str, str]]:
    """Every host of the plan that is reached, or those that are named, and how; one that fails is its error."""
    site = app.site(plan, at_once) if plan is not None else None
    every = app.reach.surveyed(site, names, at_once)
    found: list[tuple[str, HostSurvey | AnchorError]] = []
    unreached: list[str] = []
    for one in every:
        if one.survey is not None:
            found.append((one.name, one.survey))
        elif not one.reached and not names and len(every) > 1:
            unreached.append(one.name)
        else:
            found.append((one.name, one.why_not))
    if not found:
        raise InputError("no host of this plan is reached from here", file=plan)
    if unreached:
        app.remark(f"not reached from here: {', '.join(unreached)}")
    ways = {one.name: way for one in every if (way := way_from_anywhere(site, one.name, one.reach)) is not None}
    return found, ways


def _stock(name: str, result: HostSurvey | AnchorError, reach: str | None) -> HostStock:
    if isinstance(result, AnchorError):
        return HostStock(host=name, reach=reach, error=problem(result, name))
    return host_stock(result, reach)
