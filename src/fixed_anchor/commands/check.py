"""``fixed-anchor check``: all findings of a plan."""

from __future__ import annotations

import click

from fixed_anchor.commands.common import HOSTS, JSON, PLAN, POOLS, App
from fixed_anchor.core.addresses import AddressRange
from fixed_anchor.core.errors import EXIT_AGAINST, EXIT_DONE, EXIT_UNDETERMINED
from fixed_anchor.reporting.documents import as_text, check_document
from fixed_anchor.reporting.terminal import show_check
from fixed_anchor.workflow.check import check

EXIT_OF = {"clear": EXIT_DONE, "blocked": EXIT_AGAINST, "undetermined": EXIT_UNDETERMINED}


@click.command(help="All findings of a plan, and the evidence for every address.")
@PLAN
@HOSTS
@POOLS
@click.option("--no-wire", is_flag=True, help="Send no packets; every address then stays undetermined.")
@JSON
@click.pass_context
def command(
    ctx: click.Context,
    plan: str,
    hosts: tuple[str, ...],
    pools: tuple[AddressRange, ...],
    no_wire: bool,
    as_json: bool,
) -> None:
    app = App(ctx)
    site = app.site(plan)
    with app.err.status("asking the wire, this takes some 7 seconds") if not no_wire else app.err.status("checking"):
        result = check(site, hosts, pools, look_at_wire=not no_wire)
    if as_json:
        click.echo(as_text(check_document(result)))
    else:
        show_check(app.out, plan, result)
    ctx.exit(EXIT_OF[result.verdict])
