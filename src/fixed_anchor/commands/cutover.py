"""``fixed-anchor cutover``: bring a plan into force, guarded."""

from __future__ import annotations

import time
from pathlib import Path
from typing import NoReturn

import click

from fixed_anchor.change.change import Terms
from fixed_anchor.commands import offers
from fixed_anchor.commands.app import App
from fixed_anchor.commands.common import (
    CONFIRM_WITHIN,
    GRACE,
    JSON,
    NOTE,
    PATIENCE,
    POOLS,
    UNATTENDED,
    AcceptType,
    AddressType,
    acceptances,
    examples,
    patience_of,
)
from fixed_anchor.commands.cutover_all import Wishes, cutover_all
from fixed_anchor.commands.cutover_one import OnePlan, Wish, refuse_unasked
from fixed_anchor.commands.failure import tell_line
from fixed_anchor.commands.given import address_option, pools_of
from fixed_anchor.commands.watching import watch
from fixed_anchor.commands.window import MomentType, window_of
from fixed_anchor.core.addresses import AddressRange, IPAddress
from fixed_anchor.core.baseline import Judge
from fixed_anchor.core.errors import (
    EXIT_DONE,
    EXIT_ROLLED_BACK,
    AnchorError,
    ChangeOpen,
    Refused,
    Undetermined,
)
from fixed_anchor.core.verification import AS_PLANNED
from fixed_anchor.reporting.documents.changes import ChangeDocument, HostChanged, checks
from fixed_anchor.reporting.documents.drafting import host_drafted
from fixed_anchor.reporting.documents.parts import found_finding, problem
from fixed_anchor.reporting.terminal.check import verdict_line
from fixed_anchor.reporting.terminal.draft import show_draft
from fixed_anchor.reporting.terminal.findings import show_findings
from fixed_anchor.reporting.terminal.verify import show_verify
from fixed_anchor.workflow.beginning import Judged, addresses_to_hold, is_kept_anew, judge, survey_of
from fixed_anchor.workflow.events import Member
from fixed_anchor.workflow.evidence import load
from fixed_anchor.workflow.notes import about, told
from fixed_anchor.workflow.verify import verify

#: So many hosts are changed at the same time, where nobody says otherwise.
_AT_ONCE = 8

_HOST = click.option(
    "--host",
    "hosts",
    multiple=True,
    metavar="NAME",
    shell_complete=offers.hosts,
    help="The host of the plan; needed where the plan reaches it. With --all it takes the seat or a jump host in. "
    "Without a plan how the host is reached, ssh:NAME.",
)


@click.command(
    help="Check, save, write, bring into force, verify, and wait for confirmation; else roll it all back.",
    epilog=examples(
        ("sudo fixed-anchor cutover plan.yaml --dry-run", "check and draft, and do nothing"),
        ("sudo fixed-anchor cutover plan.yaml --confirm-within 300", "rolled back after 5 min unless you confirm"),
        ("sudo fixed-anchor cutover --keep", "without a plan: this host keeps the address that it leases"),
        ("fixed-anchor cutover --at 203.0.113.20 --host ssh:tide-db", "without a plan: another host, over SSH"),
        ("fixed-anchor cutover plan.yaml --all --dry-run", "every host that it reaches: in which order, and why"),
    ),
)
@click.argument("plan", required=False, type=click.Path(readable=False))
@_HOST
@click.option(
    "--at",
    metavar="ADDRESS[/PREFIX]",
    callback=address_option,
    help="Without a plan: the address to hold; with its prefix where the interface has no address today.",
)
@click.option("--keep", is_flag=True, help="Without a plan: keep today's address.")
@click.option("--pick", is_flag=True, help="Without a plan: let the tool pick a free address.")
@click.option("--interface", help="Without a plan: the interface to convert.")
@click.option("--no-pool", is_flag=True, help="Without a plan: the segment has no DHCP pool.")
@click.option("-o", "output", metavar="PLAN", help="Without a plan: write the plan that is made into this file.")
@click.option("--yes", is_flag=True, help="Without a plan: begin without asking.")
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
@click.option(
    "--accept",
    "accepted",
    multiple=True,
    type=AcceptType(),
    shell_complete=offers.codes,
    help="Override this finding; repeatable.",
)
@click.option("--because", metavar="TEXT", help="Why you override it; kept with the change.")
@NOTE
@click.option("--all", "every", is_flag=True, help="All hosts that the plan reaches, in their order, in waves.")
@click.option(
    "--at-once",
    type=click.IntRange(1, 200),
    metavar="NUMBER",
    help=f"With --all: how many hosts are changed at the same time, at most; {_AT_ONCE} unless you say so.",
)
@click.option(
    "--tolerate",
    type=click.IntRange(0),
    metavar="NUMBER",
    help="With --all: how many hosts may end badly before no further one is begun; 0 unless you say so.",
)
@click.option(
    "--park",
    "parks",
    multiple=True,
    type=AddressType(),
    help="With --all: a free address where a host may wait that swaps its address with another one; repeatable.",
)
@click.option(
    "--not-before",
    type=MomentType(),
    help="With --all: no change begins before this time, 22:00 or 2026-12-02T22:00.",
)
@click.option(
    "--until",
    type=MomentType(),
    help="With --all: no change begins that might not have ended by this time, confirmation included.",
)
@click.option(
    "--events",
    type=click.Path(dir_okay=False, allow_dash=True),
    metavar="FILE",
    help="With --all: a line of JSON for each step of each host, behind what FILE has; `-` is standard output.",
)
@click.option("--dry-run", is_flag=True, help="Check and draft, and do nothing.")
@JSON
@click.pass_context
def command(
    ctx: click.Context,
    plan: str | None,
    hosts: tuple[str, ...],
    at: tuple[IPAddress, int | None] | None,
    keep: bool,
    pick: bool,
    interface: str | None,
    no_pool: bool,
    output: str | None,
    yes: bool,
    pools: tuple[AddressRange, ...],
    confirm_within: int,
    grace: bool | None,
    unattended: bool,
    patience: int | None,
    evidence: str | None,
    accepted: tuple[tuple[str, str | None], ...],
    because: str | None,
    note: str | None,
    every: bool,
    at_once: int | None,
    tolerate: int | None,
    parks: tuple[IPAddress, ...],
    not_before: str | None,
    until: str | None,
    events: str | None,
    dry_run: bool,
    as_json: bool,
) -> None:
    app = App(ctx, as_json or events == "-")
    passes = acceptances(accepted, because)
    ways = sum((at is not None, keep, pick))
    if plan is not None and (ways or interface or no_pool or output or yes):
        raise click.UsageError(
            "a plan says the address: --at, --keep, --pick, --interface, --no-pool, -o and --yes go without one"
        )
    if plan is None and (ways != 1 or every):
        raise click.UsageError("name a PLAN; or one host without one: say --keep, --pick or --at ADDRESS")
    if every and plan is not None:
        if evidence is not None:
            raise click.UsageError("--evidence is about one host; with --all every host is looked at afresh")
        if parks and not (unattended or dry_run):
            raise click.UsageError(
                "--park goes with --unattended: a host that waits at a parking address is not where its plan says, "
                "and `confirm` would not find it there"
            )
        if events == "-" and as_json:
            raise click.UsageError("--events - and --json both want standard output")
        limit = at_once or _AT_ONCE
        wishes = Wishes(
            plan=plan,
            named=hosts,
            pools=pools,
            confirm_within=confirm_within,
            grace=grace,
            unattended=unattended,
            patience=patience_of(patience),
            accepted=passes,
            note=note,
            parks=parks,
            at_once=limit,
            tolerate=tolerate or 0,
            events=events,
            window=window_of(not_before, until),
            as_json=as_json,
            dry_run=dry_run,
        )
        site = app.site(plan, limit)
        # A name that is mistyped is told of before anybody is asked.
        site.hosts(hosts)
        site.whereabouts.asks_segments = True
        ctx.exit(cutover_all(app, site, wishes))
    if len(hosts) > 1 or at_once is not None or tolerate is not None or parks or events or not_before or until:
        raise click.UsageError(
            "several hosts, --at-once, --tolerate, --park, --not-before, --until and --events go with --all"
        )
    one = None
    if plan is None:
        known = pools_of(pools, no_pool)
        refuse_unasked(app, yes, dry_run)
        one = OnePlan(app, Wish(at, pick, hosts[0] if hosts else None, interface, known, output, yes))
        plan, site, hosts = one.file, one.site(), (one.host,) if one.host is not None else ()
    else:
        site = app.site(plan)
    planned, target = app.reach.to_change(site, hosts[0] if hosts else None)
    site.whereabouts.asks_segments = True
    already = target.open_change()
    if already is not None:
        raise ChangeOpen(
            f"change {already} is open on {target.name}",
            remedy=f"first: {app.command_for(target, 'confirm', already)}, or restore {already}",
        )
    survey = survey_of(site, planned)
    anew = unattended and is_kept_anew(planned, target, survey)
    alone = target.rights.why_not_alone() if anew and not dry_run else None
    if alone is not None:
        raise alone
    # Drafting first: what cannot be written is refused before any packet is sent.
    drafted = target.draft(site.plan, planned, survey, addresses_to_hold(grace, target, survey))
    carried = load(Path(evidence), int(time.time())) if evidence is not None else None
    if carried is not None:
        app.say(f"evidence of {evidence}: {carried.age(int(time.time()))}; the wire is looked at afresh")
    # Over a link that is off nobody is heard. When the command ends without a change, it is off again.
    keep_on = ctx.with_resource(target.switched_on(drafted, survey))
    off = [i.name for i in survey.interfaces if i.name in drafted.interfaces and i.link.bare and not i.link.bare.up]
    if off:
        app.remark(f"switched on for the probe: {', '.join(off)}")
    with app.status("probing the segment, and what answers today, about 10 s"):
        judged = judge(site, target, planned, drafted, pools, carried, unattended)
    show_findings(app.out, judged.judgement.findings)
    app.say(verdict_line(plan, judged.judgement))
    try:
        used = judged.judgement.unless_accepted(passes)
    except (Refused, Undetermined) as refused:
        _end_without(app, plan, judged, refused, dry_run)
    if dry_run:
        _end_without(app, plan, judged, None, dry_run)
    if drafted.content.is_empty:
        verified = verify(site, (planned.name,))
        if verified.verdict == AS_PLANNED:
            show_verify(app.out, verified)
            nothing = "nothing to do: it is configured so already, and it is in force"
            if as_json:
                made = HostChanged(host=target.name, done=nothing, checks=checks(verified))
                app.print_document(ChangeDocument(command="cutover", plan=plan, hosts=[made]))
            app.say(nothing)
            return
    show_draft(app.out, [drafted])
    if one is not None and not one.may_begin(f"{', '.join(drafted.interfaces)} on {target.name}"):
        return
    notes = about("cutover", plan, drafted, used, note, app.seat_of(target), judged.judgement.findings)
    if one is not None:
        notes["plan_text"] = one.text
    if carried is not None:
        notes["evidence"] = carried.told(int(time.time()))
    let_pass = frozenset({"sole-owner"} if any(a.code == "owner-not-provable" for a in used) else ())
    judge_of = Judge(judged.before, let_pass=let_pass)
    terms = Terms(confirm_within, unattended, notes, told(notes, drafted), judge_of, patience_of(patience), anew)
    keep_on(True)
    try:
        watched = watch(app, target, Member(target.name, drafted, terms), judged.judgement.findings)
    except Refused:
        keep_on(False)
        raise
    # A change that ended before its first step has left everything as it was, but this.
    keep_on(watched.exit_status != EXIT_ROLLED_BACK)
    if as_json and watched.made is not None:
        app.print_document(ChangeDocument(command="cutover", plan=plan, hosts=[watched.made]), watched.exit_status)
    ctx.exit(watched.exit_status)


def _end_without(app: App, plan: str, judged: Judged, refused: AnchorError | None, dry_run: bool) -> NoReturn:
    """Ends the command without a change: what it would do, or why it refuses, with what was found.

    The exit status is that which the change would have, or has.
    """
    status, drafted = refused.exit_status if refused is not None else EXIT_DONE, judged.draft
    if refused is not None and not dry_run and not app.as_json:
        raise refused
    if app.as_json:
        made = HostChanged(
            host=drafted.host,
            error=problem(refused, drafted.host) if refused is not None else None,
            done="nothing was done",
            findings=[found_finding(f) for f in judged.judgement.findings],
            draft=host_drafted(drafted),
        )
        if refused is not None and not dry_run:
            tell_line(refused)
        app.print_document(ChangeDocument(command="cutover", plan=plan, hosts=[made]), status)
    show_draft(app.out, [drafted])
    app.say(f"it would be refused: {refused}" if refused is not None else "this is what it would do; nothing was done")
    raise click.exceptions.Exit(status)
