"""``fixed-anchor cutover``: bring a plan into force, guarded."""

from __future__ import annotations

import time
from pathlib import Path

import click

from fixed_anchor.change.change import Terms
from fixed_anchor.commands.common import (
    CONFIRM_WITHIN,
    GRACE,
    NOTE,
    PATIENCE,
    PLAN,
    POOLS,
    UNATTENDED,
    AcceptType,
    App,
    acceptances,
    addresses_to_hold,
    patience_of,
)
from fixed_anchor.commands.watching import watch
from fixed_anchor.core.addresses import AddressRange
from fixed_anchor.core.baseline import Judge
from fixed_anchor.core.errors import ChangeOpen, InputError
from fixed_anchor.core.rules.gateways import forwarding_findings
from fixed_anchor.reporting.terminal import show_draft, show_findings, show_verify, verdict_line
from fixed_anchor.workflow.carry_out import about, refuse_unless_accepted, told
from fixed_anchor.workflow.check import check
from fixed_anchor.workflow.evidence import load
from fixed_anchor.workflow.linux_host import LinuxHost
from fixed_anchor.workflow.verify import verify


@click.command(help="Check, save, write, bring into force, verify, and wait for confirmation; else roll it all back.")
@PLAN
@click.option("--host", help="The host of the plan to change; needed where the plan reaches it.")
@POOLS
@CONFIRM_WITHIN
@GRACE
@UNATTENDED
@PATIENCE
@click.option(
    "--evidence",
    type=click.Path(dir_okay=False),
    help="Evidence saved by `check`, for sources that this host cannot see; the wire is looked at afresh.",
)
@click.option("--accept", "accepted", multiple=True, type=AcceptType(), help="Override this finding; repeatable.")
@click.option("--because", metavar="TEXT", help="Why you override it; kept with the change.")
@NOTE
@click.pass_context
def command(
    ctx: click.Context,
    plan: str,
    host: str | None,
    pools: tuple[AddressRange, ...],
    confirm_within: int,
    grace: bool | None,
    unattended: bool,
    patience: int | None,
    evidence: str | None,
    accepted: tuple[tuple[str, str | None], ...],
    because: str | None,
    note: str | None,
) -> None:
    app = App(ctx)
    passes = acceptances(accepted, because)
    site = app.site(plan)
    planned, machine = site.target(host)
    target = LinuxHost(machine)
    already = target.open_change()
    if already is not None:
        raise ChangeOpen(
            f"change {already} is open on {machine.name}",
            remedy=f"first: {app.command_for(machine, f'confirm {already}')}, or restore {already}",
        )
    survey = site.survey(planned)
    if survey is None:
        raise InputError(f"{planned.name} is not reached from here", file=plan, line=planned.line)
    # Drafting first: what cannot be written is refused before any packet is sent.
    drafted = target.draft(site.plan, planned, survey, addresses_to_hold(grace, machine, survey))
    carried = load(Path(evidence), int(time.time())) if evidence is not None else None
    if carried is not None:
        app.out.print(f"evidence of {evidence}: {carried.age(int(time.time()))}; the wire is looked at afresh")
    with app.status("probing the segment, and what answers today, about 10 s"):
        result = check(site, (planned.name,), pools, carried=carried)
        before = target.baseline(drafted, survey)
    if unattended:
        # Nobody will be there to look.
        result = result.with_more(forwarding_findings(planned.name, before, drafted.wanted))
    show_findings(app.out, result.findings)
    app.out.print(verdict_line(plan, result))
    used = refuse_unless_accepted(result, passes)
    if drafted.content.is_empty:
        verified = verify(site, (planned.name,))
        if verified.verdict == "as planned":
            show_verify(app.out, verified)
            app.out.print("nothing to do: the files declare this already, and it is in force")
            return
    show_draft(app.out, [drafted])
    notes = about("cutover", plan, drafted, used, note)
    if carried is not None:
        notes["evidence"] = carried.told(int(time.time()))
    terms = Terms(confirm_within, unattended, notes, told(notes, drafted), Judge(before), patience_of(patience))
    ctx.exit(watch(app, target, drafted, terms))
