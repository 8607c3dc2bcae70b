"""``fixed-anchor confirm``: keep the open change."""

from __future__ import annotations

import os

import click

from fixed_anchor.commands.common import App
from fixed_anchor.core.errors import ChangeOpen
from fixed_anchor.engine import driver


@click.command(help="Keep the open change, for good.")
@click.argument("change", required=False)
@click.pass_context
def command(ctx: click.Context, change: str | None) -> None:
    app = App(ctx)
    machine = app.machine()
    if change is None:
        change = driver.open_change(machine)
        if change is None:
            raise ChangeOpen(f"no change is open on {machine.name}", remedy="there is nothing to confirm")
    number = driver.folder_of(machine, change).rpartition("/")[2]
    driver.confirm(machine, number, os.environ.get("SUDO_USER") or os.environ.get("USER") or "a person")
    back = app.command_for(machine, f"restore {number}")
    app.out.print(f"change {number}: confirmed   to go back: {back}", soft_wrap=True)
