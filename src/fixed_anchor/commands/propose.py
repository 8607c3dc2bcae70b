"""``fixed-anchor propose``: write a plan from what is there."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

import click
import msgspec

from fixed_anchor.commands.app import App
from fixed_anchor.commands.common import JSON, RangeType, examples
from fixed_anchor.core.addresses import AddressRange, IPAddress, parse_address
from fixed_anchor.core.errors import InputError
from fixed_anchor.core.plan import SOURCE_KINDS
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.machines.collected import Collected, is_collection
from fixed_anchor.machines.files import write_beside
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.planfile.reader import read_plan
from fixed_anchor.planfile.writer import plan_text
from fixed_anchor.reporting.documents.saved import read_stock
from fixed_anchor.reporting.documents.stock import Proposed, ProposeDocument, host_stock
from fixed_anchor.vantages.nowhere import Nowhere
from fixed_anchor.vantages.protocol import Vantage
from fixed_anchor.workflow.propose import propose, with_pick, with_site
from fixed_anchor.workflow.site import own_vantage


def _address(ctx: click.Context, param: click.Parameter, value: str | None) -> IPAddress | None:
    try:
        return None if value is None else parse_address(value)
    except ValueError as error:
        raise click.BadParameter(f"{error}; the prefix is the segment's") from None


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
@click.option("--interface", help="The interface to convert.")
@click.option("--keep", is_flag=True, help="Keep today's address.")
@click.option("--at", metavar="ADDRESS", callback=_address, help="The address to hold.")
@click.option("--pick", is_flag=True, help="Let the tool pick a free address, and say why that one.")
@click.option("--pool", "pools", multiple=True, type=RangeType(), help="A DHCP pool of the segment, FIRST-LAST.")
@click.option("--no-pool", is_flag=True, help="Say that the segment has no DHCP pool.")
@click.option("--plan", "site_plan", type=click.Path(readable=False), help="A plan of the site: what it says counts.")
@click.option(
    "--source", "sources", multiple=True, type=SourceType(), help="A source of knowledge, KIND:PATH; repeatable."
)
@click.option("-o", "output", required=True, metavar="PLAN", help="The plan to write; - prints it.")
@click.option("--replace", is_flag=True, help="Overwrite the plan if it exists.")
@JSON
@click.pass_context
def command(
    ctx: click.Context,
    survey_file: str | None,
    interface: str | None,
    keep: bool,
    at: IPAddress | None,
    pick: bool,
    pools: tuple[AddressRange, ...],
    no_pool: bool,
    site_plan: str | None,
    sources: tuple[tuple[str, str], ...],
    output: str,
    replace: bool,
    as_json: bool,
) -> None:
    app = App(ctx, as_json)
    if sum((keep, at is not None, pick)) != 1:
        raise click.UsageError("say which address: --keep, --at ADDRESS, or --pick")
    if no_pool and pools:
        raise click.UsageError("--pool and --no-pool exclude each other")
    if output != "-" and Path(output).exists() and not replace:
        raise InputError("the file exists already", file=output, remedy="overwrite it with --replace")
    collected = survey_file is not None and _is_collection(survey_file)
    found: HostSurvey | None = None
    if survey_file is None:
        found = take_stock(app.machine())
        survey = host_stock(found)
    elif collected:
        survey = host_stock(take_stock(Collected(Path(survey_file))))
    else:
        survey = read_stock(survey_file)
    known = () if no_pool else (pools or None)
    site = read_plan(Path(site_plan)) if site_plan is not None else None
    folder = Path(output).absolute().parent if output != "-" else Path.cwd()
    try:
        proposed = with_site(propose(msgspec.to_builtins(survey), interface, at, known), site, sources, folder)
    except ValueError as error:
        raise InputError(f"this is not a survey ({error})", file=survey_file) from None
    if pick:
        vantage: Vantage = Nowhere(f"the survey {survey_file} is of another machine")
        if found is not None:
            vantage = own_vantage(app.machine(), found, proposed.interface)
        with app.status("probing the segment, about 7 s"):
            proposed = with_pick(proposed, site, folder, vantage)
        app.remark(f"picked {proposed.hold[0]}:", style="bold")
        for reason in proposed.reasons:
            app.remark(reason, indent=2)
    if collected and survey_file is not None:
        # So that `check` and `draft` find the host again.
        proposed = msgspec.structs.replace(proposed, reach=f"collected:{os.path.relpath(survey_file, folder)}")
    text = plan_text(proposed)
    if output != "-":
        write_beside(Path(output), text.encode(), 0o644)
        app.remark(f"wrote {output}; next: fixed-anchor check {output}")
    if as_json:
        held = [str(a) for a in proposed.hold]
        made = Proposed(proposed.host, proposed.interface, held, list(proposed.reasons))
        app.print_document(
            ProposeDocument(command="propose", file=None if output == "-" else output, plan=text, hosts=[made])
        )
    if output == "-":
        click.echo(text, nl=False)


def _is_collection(path: str) -> bool:
    try:
        with open(path, "rb") as file:
            return is_collection(file.read(64))
    except OSError as error:
        raise InputError(f"the survey cannot be read: {error.strerror}", file=path) from None
