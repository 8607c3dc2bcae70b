"""``fixed-anchor draft``: the exact files, as a diff."""

from __future__ import annotations

import os
from pathlib import Path

import click

from fixed_anchor.commands.common import HOSTS, JSON, PLAN, App
from fixed_anchor.core.errors import NotSupported
from fixed_anchor.dialects.protocol import encode
from fixed_anchor.machines.files import write_beside
from fixed_anchor.reporting.documents import as_text, draft_document
from fixed_anchor.reporting.terminal import show_draft, show_server_drafts
from fixed_anchor.workflow.check import check_with_knowledge
from fixed_anchor.workflow.dhcp_server import draft_reservations
from fixed_anchor.workflow.draft import draft


@click.command(help="The exact files as a diff against what is there. Touches nothing on the host.")
@PLAN
@HOSTS
@click.option("-o", "output", type=click.Path(file_okay=False), help="Write the drafted files below this folder.")
@click.option("--runbook", is_flag=True, help="One script to carry to a host (not supported yet).")
@JSON
@click.pass_context
def command(
    ctx: click.Context, plan: str, hosts: tuple[str, ...], output: str | None, runbook: bool, as_json: bool
) -> None:
    app = App(ctx)
    if runbook:
        raise NotSupported("--runbook is not supported yet", remedy="run `fixed-anchor cutover` on the host itself")
    site = app.site(plan)
    drafts = draft(site, hosts)
    # What the sources say is enough for this; the wire is not asked.
    checked = check_with_knowledge(site, hosts, wire=False)
    servers = draft_reservations(site, checked.known, checked.result.findings)
    if output is not None:
        for made in drafts:
            for edit in made.edits:
                if edit.after is not None:
                    target = Path(output) / made.host / edit.path.lstrip("/")
                    write_beside(target, encode(edit.after.text), edit.after.mode)
                    app.err.print(f"wrote {os.path.relpath(target)}")
        for server in servers:
            if server.edit is not None and server.edit.after is not None:
                target = Path(output) / "dhcp-servers" / server.edit.path.replace("../", "").lstrip("/")
                write_beside(target, encode(server.edit.after.text), 0o600)
                app.err.print(f"wrote {os.path.relpath(target)}, for the DHCP server")
    if as_json:
        click.echo(as_text(draft_document(drafts, servers)))
    elif output is None:
        show_draft(app.out, drafts)
        show_server_drafts(app.out, servers)
