"""``fixed-anchor check``: all findings of a plan."""

from __future__ import annotations

import time
from pathlib import Path

import click

from fixed_anchor.commands.common import HOSTS, JSON, PLAN, POOLS, App
from fixed_anchor.core.addresses import AddressRange
from fixed_anchor.core.errors import EXIT_AGAINST, EXIT_DONE, EXIT_UNDETERMINED
from fixed_anchor.core.garbage_collection import paused
from fixed_anchor.reporting.documents import as_text, check_document
from fixed_anchor.workflow.check import check_with_knowledge
from fixed_anchor.workflow.evidence import save

EXIT_OF = {"clear": EXIT_DONE, "blocked": EXIT_AGAINST, "undetermined": EXIT_UNDETERMINED}


@click.command(help="All findings of a plan, and the evidence for every address.")
@PLAN
@HOSTS
@POOLS
@click.option("--no-wire", is_flag=True, help="Send no packets; every address is then undetermined.")
@click.option("--evidence", type=click.Path(dir_okay=False), help="Save the evidence, to carry it to a host.")
@JSON
@click.pass_context
def command(
    ctx: click.Context,
    plan: str,
    hosts: tuple[str, ...],
    pools: tuple[AddressRange, ...],
    no_wire: bool,
    evidence: str | None,
    as_json: bool,
) -> None:
    app = App(ctx)
    with paused(), app.status("checking" if no_wire else "probing the segment, about 7 s"):
        site = app.site(plan)
        checked = check_with_knowledge(site, hosts, pools, wire=not no_wire)
    result = checked.result
    if evidence is not None:
        save(Path(evidence), site.plan, result, checked.known, int(time.time()))
        app.err.print(f"wrote {evidence}; use it with: fixed-anchor cutover {plan} --evidence {evidence}")
    if as_json:
        click.echo(as_text(check_document(result)))
    else:
        from fixed_anchor.reporting.terminal import show_check

        chosen = site.hosts(hosts)
        addresses = sum(len(i.hold) + len(i.expect) for h in chosen for i in h.interfaces)
        show_check(app.out, plan, result, addresses)
    ctx.exit(EXIT_OF[result.verdict])
