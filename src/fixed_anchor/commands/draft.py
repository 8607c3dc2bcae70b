"""``fixed-anchor draft``: the exact files, as a diff."""

from __future__ import annotations

import os
from pathlib import Path

import click

from fixed_anchor.change.change import Draft
from fixed_anchor.change.files import encode
from fixed_anchor.commands.app import App
from fixed_anchor.commands.chosen import say_failed
from fixed_anchor.commands.common import AT_ONCE, CONFIRM_WITHIN, HOSTS, JSON, PLAN, examples
from fixed_anchor.core.errors import EXIT_AGAINST, EXIT_DONE, worst
from fixed_anchor.core.findings import Finding
from fixed_anchor.disk.durable import write_beside
from fixed_anchor.reporting.documents.drafting import DraftDocument, HostDrafted, host_drafted, servers_drafted
from fixed_anchor.reporting.documents.parts import found_finding, problem
from fixed_anchor.reporting.terminal.draft import show_draft, show_server_drafts
from fixed_anchor.reporting.terminal.findings import show_findings
from fixed_anchor.workflow.carried import runbook_for
from fixed_anchor.workflow.check import OF_DRAFTS, check
from fixed_anchor.workflow.dhcp_server import ServerDraft, draft_reservations
from fixed_anchor.workflow.drafts import draft, foreseen_of
from fixed_anchor.workflow.gather import gather
from fixed_anchor.workflow.reached.site import Site

#: The list of files that a draft removes, beside those that it writes.
REMOVALS = "removals"
#: The drafted settings of a machine that has no files for them.
SETTINGS = "settings"


@click.command(
    help="The exact files as a diff against what is there. Touches nothing on the host.",
    epilog=examples(
        ("fixed-anchor draft plan.yaml --host tide-db", "the exact change of its files"),
        ("fixed-anchor draft plan.yaml --runbook -o carried", "scripts for hosts that are not reached"),
    ),
)
@PLAN
@HOSTS
@AT_ONCE
@click.option("-o", "output", type=click.Path(file_okay=False), help="Write the drafted files below this folder.")
@click.option(
    "--runbook",
    is_flag=True,
    help="One script to carry to a host without Python or network; written below -o, or here.",
)
@CONFIRM_WITHIN
@JSON
@click.pass_context
def command(
    ctx: click.Context,
    plan: str,
    hosts: tuple[str, ...],
    at_once: int,
    output: str | None,
    runbook: bool,
    confirm_within: int,
    as_json: bool,
) -> None:
    app = App(ctx, as_json)
    site = app.site(plan, at_once)
    with app.status("taking stock"):
        drafts, failed = draft(site, hosts)
    # For a draft it is enough what the sources say. Before a runbook is run nobody looks again.
    with app.status("checking"):
        facts = gather(site, hosts, wire=runbook)
        judgement = check(facts, foreseen_of(site, {**failed, **{made.host: made for made in drafts}}))
    findings = judgement.findings
    blocked = {made.host: _blockers(findings, made.host) for made in drafts}
    servers = draft_reservations(facts, findings) if not runbook else []
    written: dict[str, list[str]] = {made.host: [] for made in drafts}
    runbooks: dict[str, str] = {}
    if runbook:
        for made in drafts:
            path = _write_runbook(app, site, made, findings, confirm_within, output or ".")
            if path is not None:
                runbooks[made.host] = path
    elif output is not None:
        for made in drafts:
            written[made.host] = _write_files(app, made, Path(output) / made.host)
        _write_servers(app, servers, Path(output))
    refused = runbook and any(blocked[m.host] and not m.content.is_empty for m in drafts)
    exit_status = worst([EXIT_AGAINST if refused else EXIT_DONE, *(e.exit_status for e in failed.values())])
    if as_json:
        of_host = {made.host: [f for f in findings if f.host == made.host] for made in drafts}
        verdicts = {made.host: judgement.verdict_of_host(made.host) for made in drafts}
        hosts_made = [
            host_drafted(m, verdicts[m.host], of_host[m.host], written[m.host], runbooks.get(m.host))  # type: ignore[arg-type]
            for m in drafts
        ]
        hosts_made += [HostDrafted(host=name, error=problem(error, name)) for name, error in failed.items()]
        document = DraftDocument(command="draft", plan=plan, hosts=hosts_made, dhcp_servers=servers_drafted(servers))
        document.verdict = judgement.verdict  # type: ignore[assignment]
        document.findings = [found_finding(f) for f in judgement.elsewhere]
        app.print_document(document, exit_status)
    for name, error in failed.items():
        say_failed(app, name, error)
    if output is None and not runbook:
        show_draft(app.out, drafts)
        show_server_drafts(app.out, servers)
    if runbook:
        show_findings(app.out, [f for f in findings if f.stops and not f.undetermined])
    else:
        show_findings(app.out, [f for f in findings if f.code in OF_DRAFTS])
        for made in drafts:
            if blocked[made.host]:
                codes = ", ".join(dict.fromkeys(f.code for f in blocked[made.host]))
                app.say(
                    f"{made.host} is blocked: {codes}. `fixed-anchor check {plan} --host {made.host}` says why; "
                    "a cutover refuses",
                    style="bold red",
                )
    ctx.exit(exit_status)


def _blockers(findings: tuple[Finding, ...], host: str) -> list[Finding]:
    """What blocks a host: its own blockers, and those of no single host."""
    return [f for f in findings if f.stops and not f.undetermined and f.host in (None, host)]


def _write_files(app: App, made: Draft, folder: Path) -> list[str]:
    """The drafted files of a host below ``folder``, and what is to be removed there in a list beside them.

    Of a machine that is no matter of files its drafted settings.
    """
    written = []
    shown = made.content.shown()
    if shown.settings is not None:
        if not made.content.is_empty:
            target = folder / SETTINGS
            write_beside(target, "".join(f"{line}\n" for line in shown.settings[1]).encode(), 0o644)
            written.append(os.path.relpath(target))
            app.remark(f"wrote {written[-1]}")
        return written
    gone = [edit.path for edit in shown.edits if edit.after is None]
    for edit in shown.edits:
        if edit.after is not None:
            target = folder / edit.path.lstrip("/")
            write_beside(target, encode(edit.after.text), edit.after.mode)
            written.append(os.path.relpath(target))
            app.remark(f"wrote {written[-1]}")
    removals = folder / REMOVALS
    removals.unlink(missing_ok=True)
    if gone:
        write_beside(removals, "".join(f"{path}\n" for path in gone).encode(), 0o644)
        written.append(os.path.relpath(removals))
        app.remark(f"wrote {written[-1]}: to be removed on {made.host}: {', '.join(gone)}")
    return written


def _write_servers(app: App, servers: list[ServerDraft], folder: Path) -> None:
    """What DHCP servers are to be told below ``folder``: their configurations, or the commands that they take."""
    for server in servers:
        target = folder / "dhcp-servers" / server.path.replace("../", "").lstrip("/")
        if server.edit is not None and server.edit.after is not None:
            write_beside(target, encode(server.edit.after.text), 0o600)
            app.remark(f"wrote {os.path.relpath(target)}, for the DHCP server")
        elif server.commands:
            target = target.with_name(f"{target.name}.reservations.ps1")
            write_beside(target, "".join(f"{command}\r\n" for command in server.commands).encode(), 0o600)
            app.remark(f"wrote {os.path.relpath(target)}, to be run on the DHCP server")


def _write_runbook(
    app: App, site: Site, made: Draft, findings: tuple[Finding, ...], within: int, folder: str
) -> str | None:
    """The runbook of a host; none where it is blocked, since nobody looks again before it is run."""
    survey = site.survey(site.plan.hosts[made.host])
    if survey is None or made.content.is_empty:
        app.remark(f"{made.host}: nothing to do: it is configured so already, so there is no runbook")
        return None
    blockers = _blockers(findings, made.host)
    if blockers:
        codes = ", ".join(dict.fromkeys(f.code for f in blockers))
        app.remark(f"{made.host}: no runbook is made while there is a blocker: {codes}")
        return None
    open_questions = tuple(f for f in findings if f.undetermined and f.host in (None, made.host))
    book = runbook_for(site, made, survey, within, open_questions)
    target = Path(folder) / book.file
    write_beside(target, book.data, 0o700)
    app.remark(f"wrote {os.path.relpath(target)}; carry it to {made.host}, and run there: {book.runs} {book.file} show")
    for question in open_questions:
        app.remark(f"not looked at: {question.message}", indent=2)
    return os.path.relpath(target)
