"""``fixed-anchor verify``: prove that a plan is in force."""

from __future__ import annotations

import click

from fixed_anchor.commands.common import HOSTS, JSON, PLAN, App
from fixed_anchor.core.errors import EXIT_AGAINST, EXIT_DONE, EXIT_UNDETERMINED
from fixed_anchor.reporting.documents import as_text, verify_document
from fixed_anchor.reporting.terminal import show_verify
from fixed_anchor.workflow.verify import verify

EXIT_OF = {"as planned": EXIT_DONE, "not as planned": EXIT_AGAINST, "undetermined": EXIT_UNDETERMINED}


@click.command(help="Prove that the plan is what is in force, and what a reboot will load.")
@PLAN
@HOSTS
@JSON
@click.pass_context
def command(ctx: click.Context, plan: str, hosts: tuple[str, ...], as_json: bool) -> None:
    app = App(ctx)
    result = verify(app.site(plan), hosts)
    if as_json:
        click.echo(as_text(verify_document(result)))
    else:
        show_verify(app.out, result)
    ctx.exit(EXIT_OF[result.verdict])
