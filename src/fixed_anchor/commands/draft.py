"""``fixed-anchor draft``: the exact files, as a diff."""

from __future__ import annotations

import os
from pathlib import Path

import click

from fixed_anchor.change.change import Draft
from fixed_anchor.change.files import encode
from fixed_anchor.commands.common import CONFIRM_WITHIN, HOSTS, JSON, PLAN, App
from fixed_anchor.core.errors import Refused, printable
from fixed_anchor.core.findings import CheckResult
from fixed_anchor.core.rules.declared import CODES
from fixed_anchor.machines.files import write_beside
from fixed_anchor.reporting.documents import as_text, draft_document
from fixed_anchor.reporting.terminal import show_draft, show_findings, show_server_drafts
from fixed_anchor.workflow.carried import runbook_of
from fixed_anchor.workflow.check import check_with_knowledge
from fixed_anchor.workflow.dhcp_server import draft_reservations
from fixed_anchor.workflow.draft import draft
from fixed_anchor.workflow.site import Site

#: The list of files that a draft removes, beside those that it writes.
REMOVALS = "removals"


@click.command(help="The exact files as a diff against what is there. Touches nothing on the host.")
@PLAN
@HOSTS
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
    output: str | None,
    runbook: bool,
    confirm_within: int,
    as_json: bool,
) -> None:
    app = App(ctx)
    site = app.site(plan)
    drafts = draft(site, hosts)
    # For a draft it is enough what the sources say. Before a runbook is run nobody looks again.
    checked = check_with_knowledge(site, hosts, wire=runbook)
    if runbook:
        _write_runbooks(app, site, plan, drafts, checked.result, confirm_within, output or ".")
        return
    servers = draft_reservations(site, checked.known, checked.result.findings)
    if output is not None:
        for made in drafts:
            _write_files(app, made, Path(output) / made.host)
        for server in servers:
            if server.edit is not None and server.edit.after is not None:
                target = Path(output) / "dhcp-servers" / server.edit.path.replace("../", "").lstrip("/")
                write_beside(target, encode(server.edit.after.text), 0o600)
                app.err.print(f"wrote {os.path.relpath(target)}, for the DHCP server")
    about = tuple(f for f in checked.result.findings if f.code in CODES)
    if as_json:
        click.echo(as_text(draft_document(drafts, servers, about)))
    elif output is None:
        show_draft(app.out, drafts)
        show_server_drafts(app.out, servers)
    if not as_json:
        show_findings(app.out, about)


def _write_files(app: App, made: Draft, folder: Path) -> None:
    """The drafted files of a host below ``folder``, and what is to be removed there in a list beside them."""
    gone = [edit.path for edit in made.content.edits if edit.after is None]
    for edit in made.content.edits:
        if edit.after is not None:
            target = folder / edit.path.lstrip("/")
            write_beside(target, encode(edit.after.text), edit.after.mode)
            app.err.print(f"wrote {os.path.relpath(target)}")
    removals = folder / REMOVALS
    removals.unlink(missing_ok=True)
    if gone:
        write_beside(removals, "".join(f"{path}\n" for path in gone).encode(), 0o644)
        app.err.print(f"wrote {os.path.relpath(removals)}: to be removed on {made.host}: {printable(', '.join(gone))}")


def _write_runbooks(
    app: App, site: Site, plan: str, drafts: list[Draft], checked: CheckResult, within: int, folder: str
) -> None:
    """One runbook a host. Refused while a blocker stands: nobody looks again before it is run."""
    blockers = [f for f in checked.findings if f.stops and not f.undetermined]
    if blockers:
        show_findings(app.out, tuple(blockers))
        raise Refused("a runbook cannot be made while there is a blocker", remedy="see the findings above")
    for made in drafts:
        survey = site.survey(site.plan.hosts[made.host])
        if survey is None or not made.content.edits:
            app.err.print(f"{made.host}: nothing to do: the files declare this already, so there is no runbook")
            continue
        open_questions = tuple(f for f in checked.findings if f.undetermined and f.host in (None, made.host))
        target = Path(folder) / f"{made.host}-runbook.sh"
        write_beside(target, runbook_of(plan, made, survey, within, open_questions), 0o700)
        app.err.print(f"wrote {os.path.relpath(target)}; carry it to {made.host}, and run there: sh {target.name} show")
        for question in open_questions:
            app.err.print(printable(f"  not looked at: {question.message}"), soft_wrap=True)
