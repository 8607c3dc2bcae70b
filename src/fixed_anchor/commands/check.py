"""``fixed-anchor check``: all findings of a plan."""

from __future__ import annotations

import time
from pathlib import Path

import click

from fixed_anchor.commands.app import App
from fixed_anchor.commands.common import AT_ONCE, CODES, HOSTS, JSON, PLAN, POOLS, AddressType, examples
from fixed_anchor.core.addresses import AddressRange, IPAddress
from fixed_anchor.core.errors import EXIT_AGAINST, EXIT_DONE, EXIT_UNDETERMINED, InputError, worst
from fixed_anchor.core.garbage_collection import paused
from fixed_anchor.reporting.documents.checking import CheckDocument, hosts_checked
from fixed_anchor.reporting.documents.parts import found_finding
from fixed_anchor.workflow.drafts import judged
from fixed_anchor.workflow.evidence import save

EXIT_OF = {"clear": EXIT_DONE, "blocked": EXIT_AGAINST, "undetermined": EXIT_UNDETERMINED}


@click.command(
    help="All findings of a plan, and the verdict for every address.",
    epilog=examples(
        ("sudo fixed-anchor check plan.yaml", "everything, with the wire"),
        (
            "fixed-anchor check plan.yaml --host tide-db --no-wire --severity blocker",
            "what blocks one host, by files alone",
        ),
    ),
)
@PLAN
@HOSTS
@AT_ONCE
@POOLS
@click.option("--no-wire", is_flag=True, help="Send no packets; every address is then undetermined.")
@click.option("--evidence", type=click.Path(dir_okay=False), help="Save the evidence, to carry it to a host.")
@click.option(
    "--severity",
    "severities",
    multiple=True,
    type=click.Choice(["blocker", "undetermined", "warning", "note"], case_sensitive=False),
    help="Show only findings of this severity; repeatable. The verdict is that of all.",
)
@CODES
@click.option("--address", "addresses", multiple=True, type=AddressType(), help="Show all that was asked about it.")
@click.option("--detail", is_flag=True, help="Show all that was asked about every address.")
@JSON
@click.pass_context
def command(
    ctx: click.Context,
    plan: str,
    hosts: tuple[str, ...],
    at_once: int,
    pools: tuple[AddressRange, ...],
    no_wire: bool,
    evidence: str | None,
    severities: tuple[str, ...],
    codes: tuple[str, ...],
    addresses: tuple[IPAddress, ...],
    detail: bool,
    as_json: bool,
) -> None:
    app = App(ctx, as_json)
    site = app.site(plan, at_once)
    chosen = site.hosts(hosts)
    held = {a for h in chosen for i in h.interfaces for a in i.every_address} if addresses else ()
    for address in addresses:
        if address not in held:
            raise InputError(f"no host that is looked at holds {address}", file=plan, expected="an address of the plan")
    with paused(), app.status("checking" if no_wire else "probing the segment, about 7 s"):
        facts, result = judged(site, hosts, pools, wire=not no_wire)
    exit_status = worst([EXIT_OF[result.verdict], *(error.exit_status for error in site.unreached.values())])
    if evidence is not None:
        save(Path(evidence), site.plan, result, facts.known, int(time.time()))
        app.remark(f"wrote {evidence}; use it with: fixed-anchor cutover {plan} --evidence {evidence}")
    names = [host.name for host in chosen]
    if as_json:
        document = CheckDocument(command="check", plan=plan, hosts=hosts_checked(result, names, site.unreached))
        document.verdict = result.verdict  # type: ignore[assignment]
        document.findings = [found_finding(f) for f in result.elsewhere]
        app.print_document(document, exit_status)
    from fixed_anchor.reporting.terminal.check import Shown, show_check

    shown = Shown(severities, codes, tuple(str(a) for a in addresses), detail)
    show_check(app.out, plan, result, names, shown)
    ctx.exit(exit_status)
