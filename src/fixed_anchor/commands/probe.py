"""``fixed-anchor probe``: is this address free?"""

from __future__ import annotations

import click

from fixed_anchor.commands import offers
from fixed_anchor.commands.app import App
from fixed_anchor.commands.common import JSON, OF_PLAN, AddressType, examples
from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.errors import EXIT_AGAINST, EXIT_DONE, EXIT_UNDETERMINED
from fixed_anchor.reporting.documents.checking import ProbeDocument, probed
from fixed_anchor.reporting.terminal.probe import show_probe
from fixed_anchor.workflow.probe import probe

EXIT_OF = {"free": EXIT_DONE, "taken": EXIT_AGAINST, "undetermined": EXIT_UNDETERMINED}


@click.command(
    help="Is this address free? Asks the wire, and says what was asked.",
    epilog=examples(
        ("sudo fixed-anchor probe 203.0.113.32", "is this one free?"),
        (
            "sudo fixed-anchor probe 203.0.113.32 203.0.113.33 --interface enp1s0",
            "two of them, asked on this interface",
        ),
        ("fixed-anchor probe 203.0.113.32 --from ssh:tide-db", "asked by another host, on its segment"),
    ),
)
@click.argument("addresses", metavar="ADDRESS...", nargs=-1, required=True, type=AddressType())
@click.option(
    "--from",
    "host",
    metavar="HOST",
    shell_complete=offers.hosts,
    help="Ask from this host of --plan, or from ssh:[USER@]NAME[:PORT], instead of this machine.",
)
@OF_PLAN
@click.option("--interface", metavar="IF", help="Ask on this interface.  [default: the one on the address's subnet]")
@JSON
@click.pass_context
def command(
    ctx: click.Context,
    addresses: tuple[IPAddress, ...],
    host: str | None,
    plan: str | None,
    interface: str | None,
    as_json: bool,
) -> None:
    app = App(ctx, as_json)
    if plan is not None and host is None:
        raise click.UsageError("--plan goes with --from HOST, which says whom to ask from")
    target = app.reach.target() if host is None else app.reach.asker(plan, host)
    with app.status("probing the segment, about 7 s"):
        result = probe(target, addresses, interface)
    if as_json:
        document = ProbeDocument(command="probe", hosts=[probed(result, target.name)])
        document.verdict = result.verdict  # type: ignore[assignment]
        app.print_document(document, EXIT_OF[result.verdict])
    show_probe(app.out, result)
    ctx.exit(EXIT_OF[result.verdict])
