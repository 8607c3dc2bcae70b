"""``fixed-anchor probe``: is this address free?"""

from __future__ import annotations

from typing import Any

import click

from fixed_anchor.commands.common import JSON, App
from fixed_anchor.core.addresses import IPAddress, parse_address
from fixed_anchor.core.errors import EXIT_AGAINST, EXIT_DONE, EXIT_UNDETERMINED
from fixed_anchor.reporting.documents import as_text, probe_document
from fixed_anchor.reporting.terminal import show_probe
from fixed_anchor.workflow.probe import probe

EXIT_OF = {"free": EXIT_DONE, "taken": EXIT_AGAINST, "undetermined": EXIT_UNDETERMINED}


class AddressType(click.ParamType[IPAddress]):
    """One IP address, without a prefix."""

    name = "address"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> IPAddress:
        try:
            return parse_address(str(value))
        except ValueError as error:
            self.fail(f"{error}; one address at a time, without a prefix", param, ctx)


@click.command(help="Is this address free? Asks the wire, and says what was asked.")
@click.argument("addresses", metavar="ADDRESS...", nargs=-1, required=True, type=AddressType())
@click.option("--interface", metavar="IF", help="Ask on this interface.  [default: the one on the address's subnet]")
@JSON
@click.pass_context
def command(ctx: click.Context, addresses: tuple[IPAddress, ...], interface: str | None, as_json: bool) -> None:
    app = App(ctx)
    with app.status("probing the segment, about 7 s"):
        result = probe(app.machine(), addresses, interface)
    if as_json:
        click.echo(as_text(probe_document(result)))
    else:
        show_probe(app.out, result)
    ctx.exit(EXIT_OF[result.verdict])
