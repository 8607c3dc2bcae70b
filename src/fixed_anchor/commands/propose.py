"""``fixed-anchor propose``: write a plan from what is there."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click
import msgspec

from fixed_anchor.commands.app import App
from fixed_anchor.commands.common import AT_ONCE, HOSTS_TO_REACH, JSON, RangeType, examples
from fixed_anchor.commands.given import address_option, given_hosts, given_in_folder, pools_of, vantage_of
from fixed_anchor.commands.propose_site import write_site_plan
from fixed_anchor.core.addresses import AddressRange, IPAddress
from fixed_anchor.core.errors import InputError
from fixed_anchor.core.plan import SOURCE_KINDS
from fixed_anchor.disk.durable import write_beside
from fixed_anchor.planfile.writer import ProposedPlan, plan_text
from fixed_anchor.reporting.documents.stock import Proposed, ProposeDocument
from fixed_anchor.workflow.propose import joined, propose, with_pick, with_site
from fixed_anchor.workflow.site_plan import Policy


class SourceType(click.ParamType[tuple[str, str]]):
    """``KIND:PATH``, as a pair."""

    name = "kind:path"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> tuple[str, str]:
        if isinstance(value, tuple):
            return value
        kind, _, path = str(value).partition(":")
        if kind not in SOURCE_KINDS or not path:
            self.fail(f"{value!r} is no source; write KIND:PATH with one of {', '.join(SOURCE_KINDS)}", param, ctx)
        return kind, path


@click.command(
    help="Write a plan from what is there. Nothing is added that was not there or asked for.",
    epilog=examples(
        ("sudo fixed-anchor propose --keep -o plan.yaml", "keep today's address, and write the plan"),
        (
            "fixed-anchor propose --host ssh:tide-db --host ssh:tide-ns1 --pick -o plan.yaml",
            "one plan of two hosts over SSH",
        ),
        (
            "fixed-anchor propose --surveys surveys --list wanted.xlsx --keep --extend -o plan.yaml",
            "a whole site: from the list, else today's address",
        ),
        (
            "fixed-anchor propose --survey tide-db.json --at 203.0.113.20 -o plan.yaml",
            "for another host, from its survey",
        ),
    ),
)
@click.option(
    "--survey",
    "survey_file",
    type=click.Path(dir_okay=False),
    help="A survey of another host: in JSON, or what the collector printed.",
)
@click.option(
    "--surveys",
    "surveys",
    type=click.Path(file_okay=False),
    help="A folder of surveys and of what collectors printed: a plan of all these hosts.",
)
@click.option(
    "--list",
    "listed",
    type=click.Path(dir_okay=False),
    help="A spreadsheet or CSV with the address that each host is to hold, by its name or MAC.",
)
@HOSTS_TO_REACH
@AT_ONCE
@click.option("--interface", help="The interface to convert.")
@click.option("--keep", is_flag=True, help="Keep today's address.")
@click.option(
    "--at",
    metavar="ADDRESS[/PREFIX]",
    callback=address_option,
    help="The address to hold; with its prefix where the interface has no address today.",
)
@click.option("--pick", is_flag=True, help="Let the tool pick a free address, and say why that one.")
@click.option(
    "--from",
    "ranges",
    multiple=True,
    type=RangeType(),
    help="With --pick: pick an address of this range, FIRST-LAST; repeatable.",
)
@click.option("--pool", "pools", multiple=True, type=RangeType(), help="A DHCP pool of the segment, FIRST-LAST.")
@click.option("--no-pool", is_flag=True, help="Say that the segment has no DHCP pool.")
@click.option("--plan", "site_plan", type=click.Path(readable=False), help="A plan of the site: what it says counts.")
@click.option(
    "--source", "sources", multiple=True, type=SourceType(), help="A source of knowledge, KIND:PATH; repeatable."
)
@click.option("-o", "output", required=True, metavar="PLAN", help="The plan to write; - prints it.")
@click.option(
    "--extend", is_flag=True, help="Add the hosts that the plan has not yet; everything in it stays as it is."
)
@click.option("--replace", is_flag=True, help="Overwrite the plan if it exists.")
@JSON
@click.pass_context
def command(
    ctx: click.Context,
    survey_file: str | None,
    surveys: str | None,
    listed: str | None,
    hosts: tuple[str, ...],
    at_once: int,
    interface: str | None,
    keep: bool,
    at: tuple[IPAddress, int | None] | None,
    pick: bool,
    ranges: tuple[AddressRange, ...],
    pools: tuple[AddressRange, ...],
    no_pool: bool,
    site_plan: str | None,
    sources: tuple[tuple[str, str], ...],
    output: str,
    extend: bool,
    replace: bool,
    as_json: bool,
) -> None:
    app = App(ctx, as_json)
    if ranges and not pick:
        raise click.UsageError("--from is where --pick looks: say --pick, too")
    if sum((keep, at is not None, pick)) != 1 and not (listed is not None and sum((keep, pick)) < 2 and at is None):
        raise click.UsageError("say which address: --keep, --at ADDRESS, or --pick")
    known = pools_of(pools, no_pool)
    if hosts and survey_file is not None:
        raise click.UsageError("--survey and --host exclude each other")
    if at is not None and len(hosts) > 1:
        raise click.UsageError("--at is the address of one host; for several say --keep or --pick")
    if surveys is not None and (survey_file is not None or at is not None):
        raise click.UsageError("--surveys is about many hosts: it goes with --keep, --pick or --list")
    if extend and (replace or output == "-"):
        raise click.UsageError("--extend adds to the plan that -o names: not with --replace, nor with -o -")
    if output != "-" and Path(output).exists() and not (replace or extend):
        remedy = "Overwrite it with --replace, or add to it with --extend."
        raise InputError("the file exists already", file=output, remedy=remedy)
    site = app.site(site_plan, at_once) if site_plan is not None else None
    plan = site.plan if site is not None else None
    folder = Path(output).absolute().parent if output != "-" else Path.cwd()
    if surveys is not None or listed is not None or extend:
        with app.status("taking stock"):
            every = given_in_folder(app, surveys, folder) if surveys is not None else []
            if hosts or survey_file is not None or surveys is None:
                every += given_hosts(app, site, hosts, at_once, survey_file, folder)
        policy = Policy(keep, pick, ranges, interface, known, sources)
        ctx.exit(write_site_plan(app, every, policy, listed, output, extend, plan, folder))
    with app.status("taking stock"):
        given = given_hosts(app, site, hosts, at_once, survey_file, folder)
    made: list[ProposedPlan] = []
    for one in given:
        try:
            stock = msgspec.to_builtins(one.stock)
            address, prefix = at if at is not None else (None, None)
            proposed = with_site(propose(stock, interface, address, known, prefix, plan), plan, sources, folder)
        except ValueError as error:
            raise InputError(f"this is not a survey ({error})", file=survey_file) from None
        proposed = msgspec.structs.replace(proposed, host=one.name, reach=one.reach)
        if pick:
            with app.status(f"probing the segment for {one.name}, about 7 s"):
                proposed = with_pick(proposed, plan, folder, vantage_of(one, proposed.interface), made)
            app.remark(f"picked {proposed.hold[0]}" + (f" for {one.name}:" if len(given) > 1 else ":"), style="bold")
            for reason in proposed.reasons:
                app.remark(reason, indent=2)
        made.append(proposed)
    made = joined(made)
    text = plan_text(made)
    if output != "-":
        write_beside(Path(output), text.encode(), 0o644)
        app.remark(f"wrote {output}; next: fixed-anchor check {output}")
    if as_json:
        proposals = [Proposed(p.host, p.interface, [str(a) for a in p.hold], list(p.reasons)) for p in made]
        app.print_document(
            ProposeDocument(command="propose", file=None if output == "-" else output, plan=text, hosts=proposals)
        )
    if output == "-":
        click.echo(text, nl=False)
