"""``fixed-anchor report``: one page to hand over, of a plan, a run, or a change."""

from __future__ import annotations

import time
from pathlib import Path

import click

from fixed_anchor import __version__
from fixed_anchor.commands.app import App
from fixed_anchor.commands.chosen import split_change
from fixed_anchor.commands.common import AT_ONCE, HOSTS, PLAN, POOLS, ending_in, examples
from fixed_anchor.core.addresses import AddressRange
from fixed_anchor.core.errors import EXIT_DONE, InputError, worst
from fixed_anchor.core.garbage_collection import paused
from fixed_anchor.disk.durable import write_beside
from fixed_anchor.workflow.drafts import judged
from fixed_anchor.workflow.handover import Handover, handover
from fixed_anchor.workflow.run_records import RunRecord, seat_runs


@click.command(
    help="Write one page to hand over: before and after, diffs, findings with evidence, verification, map, timeline.",
    epilog=examples(
        ("fixed-anchor report plan.yaml -o report.html", "all hosts, each with its last change"),
        ("fixed-anchor report plan.yaml --run 4 -o run-4.html", "what one run did"),
        ("fixed-anchor report plan.yaml --change tide-db:2 -o tide-db.md", "one change, as Markdown"),
    ),
)
@PLAN
@HOSTS
@click.option("--run", "number", type=click.IntRange(1), metavar="NUMBER", help="The hosts and changes of this run.")
@click.option("--change", "changes", multiple=True, metavar="HOST:NUMBER", help="This change of this host; repeatable.")
@AT_ONCE
@POOLS
@click.option("--no-wire", is_flag=True, help="Send no packets: the page shows what hosts and sources say.")
@click.option(
    "-o",
    "output",
    required=True,
    type=click.Path(dir_okay=False),
    callback=ending_in(".html", ".md", also=(".htm", ".markdown")),
    help="The page to write, .html or .md.",
)
@click.pass_context
def command(
    ctx: click.Context,
    plan: str,
    hosts: tuple[str, ...],
    number: int | None,
    changes: tuple[str, ...],
    at_once: int,
    pools: tuple[AddressRange, ...],
    no_wire: bool,
    output: str,
) -> None:
    app = App(ctx)
    if sum(map(bool, (hosts, number, changes))) > 1:
        raise click.UsageError("--host, --run and --change exclude each other")
    run, wanted = _run(number), _wanted(changes, plan)
    if run is not None:
        wanted = {turn.host: [] for turn in run.turns}
        for turn in run.turns:
            wanted[turn.host] += [turn.change] if turn.change else []
    site = app.site(plan, at_once)
    gone = [name for name in wanted if name not in site.plan.hosts]
    if gone:
        raise InputError(f"no such host in the plan: {', '.join(gone)}", file=plan, remedy="Name the plan of that run.")
    names = hosts or tuple(wanted)
    with paused(), app.status("looking at the hosts" if no_wire else "looking at the hosts, and probing, about 7 s"):
        facts, judgement = judged(site, names, pools, wire=not no_wire)
        targets = {host.name: target for host in facts.hosts if (target := app.reach.of_plan(site, host)) is not None}
        for host, numbers in wanted.items() if changes else ():
            for typed in numbers if host in targets else ():
                targets[host]().number(typed)
        report = handover(facts, judgement, targets, wanted, run, at_once)
    with app.status("writing the page"):
        write_beside(Path(output), _rendered(report, output).encode(), 0o600)
    app.remark(f"wrote {output}")
    for name, error in site.unreached.items():
        app.remark(f"{name}: {error.what}", style="yellow")
    ctx.exit(worst([EXIT_DONE, *(error.exit_status for error in site.unreached.values())]))


def _rendered(report: Handover, output: str) -> str:
    from fixed_anchor.reporting.page.render import as_html, as_markdown

    made = time.strftime("%Y-%m-%d %H:%M %Z")
    render = as_html if Path(output).suffix.lower() in (".html", ".htm") else as_markdown
    return render(report, made, __version__)


def _run(number: int | None) -> RunRecord | None:
    if number is None:
        return None
    store = seat_runs()
    return store.read(store.number(number))


def _wanted(changes: tuple[str, ...], plan: str) -> dict[str, list[str]]:
    """The changes that were named, by host. Raises a usage error for what is none."""
    wanted: dict[str, list[str]] = {}
    for change in changes:
        host, typed = split_change(change, plan)
        if host is None or typed is None or not typed.isdecimal():
            raise click.UsageError(f"{change!r} is no change; write HOST:NUMBER, such as tide-db:0001")
        wanted.setdefault(host, []).append(typed)
    return wanted
