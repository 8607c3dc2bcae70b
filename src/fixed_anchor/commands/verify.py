"""``fixed-anchor verify``: prove that a plan is in force."""

from __future__ import annotations

import time

import click

from fixed_anchor.commands.app import App
from fixed_anchor.commands.common import AT_ONCE, HOSTS, JSON, PLAN, examples
from fixed_anchor.core.errors import EXIT_AGAINST, EXIT_DONE, EXIT_UNDETERMINED, worst
from fixed_anchor.core.flapping import Flapping
from fixed_anchor.core.times import utc
from fixed_anchor.core.verification import VerifyResult
from fixed_anchor.reporting.documents.verifying import VerifyDocument, hosts_verified
from fixed_anchor.reporting.terminal.verify import show_changed, show_flapping, show_verify
from fixed_anchor.workflow.reached.site import Site
from fixed_anchor.workflow.verify import verify

EXIT_OF = {"as planned": EXIT_DONE, "not as planned": EXIT_AGAINST, "undetermined": EXIT_UNDETERMINED}


@click.command(
    help="Prove that the plan is what is in force, and what a reboot will load.",
    epilog=examples(
        ("sudo fixed-anchor verify plan.yaml", "is all of it in force?"),
        ("sudo fixed-anchor verify plan.yaml --watch --every 10", "again every 10 s, until Ctrl-C"),
    ),
)
@PLAN
@HOSTS
@AT_ONCE
@click.option("--watch", is_flag=True, help="Repeat it until you interrupt, and tell of everything that changes.")
@click.option(
    "--every", type=click.IntRange(1, 3600), default=5, show_default=True, metavar="SECONDS", help="With --watch."
)
@click.option("--for", "lasting", type=click.IntRange(1), metavar="SECONDS", help="End --watch after this time.")
@JSON
@click.pass_context
def command(
    ctx: click.Context,
    plan: str,
    hosts: tuple[str, ...],
    at_once: int,
    watch: bool,
    every: int,
    lasting: int | None,
    as_json: bool,
) -> None:
    app = App(ctx, as_json)
    if lasting is not None and not watch:
        raise click.UsageError("--for goes with --watch")
    site = app.site(plan, at_once)
    site.whereabouts.asks_segments = True
    with app.status("verifying"):
        result = verify(site, hosts)
    if not watch:
        exit_status = _exit_status(site, result)
        if as_json:
            app.print_document(_document(plan, site, hosts, result), exit_status)
        show_verify(app.out, result)
        ctx.exit(exit_status)
    ctx.exit(_watch(app, plan, site, hosts, result, every, lasting))


def _exit_status(site: Site, result: VerifyResult) -> int:
    """The worst of what was found and of hosts that did not answer."""
    return worst([EXIT_OF[result.verdict], *(error.exit_status for error in site.unreached.values())])


def _document(plan: str, site: Site, hosts: tuple[str, ...], result: VerifyResult) -> VerifyDocument:
    names = [host.name for host in site.hosts(hosts)]
    document = VerifyDocument(command="verify", plan=plan, hosts=hosts_verified(result, names, site.unreached))
    document.verdict = result.verdict  # type: ignore[assignment]
    return document


def _watch(
    app: App, plan: str, site: Site, hosts: tuple[str, ...], first: VerifyResult, every: int, lasting: int | None
) -> int:
    """Repeats the verification and tells what changes; with ``--json`` one document a line for each round."""
    from fixed_anchor.reporting.documents import as_line

    flapping = Flapping()
    begun, result, so_far = time.monotonic(), first, EXIT_DONE
    try:
        while True:
            changed = flapping.seen(result)
            status = _exit_status(site, result)
            so_far = worst([so_far, status])
            if app.as_json:
                document = _document(plan, site, hosts, result)
                document.exit_status = status
                click.echo(as_line(document))
            elif flapping.rounds == 1:
                show_verify(app.out, result)
                app.say(f"looked at again every {every} s; Ctrl-C ends it", style="dim")
            else:
                show_changed(app.out, utc(), changed)
            if lasting is not None and time.monotonic() - begun + every > lasting:
                break
            time.sleep(every)
            # Afresh, but for the connections.
            site = app.site(plan, site.at_once)
            result = verify(site, hosts)
    except KeyboardInterrupt:
        app.remark("")
    if not app.as_json:
        show_flapping(app.out, flapping)
    return so_far
