"""``fixed-anchor probe``: is this address free?"""

from __future__ import annotations

import click

from fixed_anchor.commands.app import App
from fixed_anchor.commands.common import JSON, AddressType, examples
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
    ),
)
@click.argument("addresses", metavar="ADDRESS...", nargs=-1, required=True, type=AddressType())
@click.option("--interface", metavar="IF", help="Ask on this interface.  [default: the one on the address's subnet]")
@JSON
@click.pass_context
def command(ctx: click.Context, addresses: tuple[IPAddress, ...], interface: str | None, as_json: bool) -> None:
    app = App(ctx, as_json)
    machine = app.machine()
    with app.status("probing the segment, about 7 s"):
        result = probe(machine, addresses, interface)
    if as_json:
        document = ProbeDocument(command="probe", hosts=[probed(result, machine.name)])
        document.verdict = result.verdict  # type: ignore[assignment]
        app.print_document(document, EXIT_OF[result.verdict])
    show_probe(app.out, result)
    ctx.exit(EXIT_OF[result.verdict])
