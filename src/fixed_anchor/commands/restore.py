"""``fixed-anchor restore``: go back to the saved files."""

from __future__ import annotations

import os

import click

from fixed_anchor.commands.common import CONFIRM_WITHIN, GRACE, UNATTENDED, App, addresses_to_hold
from fixed_anchor.commands.watching import watch
from fixed_anchor.core.errors import InputError, NoAccess
from fixed_anchor.engine import driver
from fixed_anchor.machines.here import Here
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.reporting.terminal import show_draft
from fixed_anchor.workflow.carry_out import about, who
from fixed_anchor.workflow.restore import later_ones, restore_draft


@click.command(help="Put the open change back at once; or bring a confirmed change's former files back, guarded.")
@click.argument("change", required=False)
@CONFIRM_WITHIN
@GRACE
@UNATTENDED
@click.pass_context
def command(ctx: click.Context, change: str | None, confirm_within: int, grace: bool | None, unattended: bool) -> None:
    app = App(ctx)
    machine = app.machine()
    if isinstance(machine, Here) and os.geteuid() != 0:
        raise NoAccess("a change of this machine needs root", remedy="run it with sudo; nothing was changed")
    already = driver.open_change(machine)
    if change is None:
        change = already or _latest_confirmed(machine)
    number = driver.folder_of(machine, change).rpartition("/")[2]
    if number == already:
        driver.put_back(machine, number, who())
        app.out.print(f"change {number}: put-back   the state is as it was before")
        return
    later = later_ones(machine, number)
    if later:
        app.out.print(f"going back behind change {number} undoes the later ones too: {', '.join(later)}")
    drafted = restore_draft(machine, number, addresses_to_hold(grace, take_stock(machine)))
    show_draft(app.out, [drafted])
    notes = about("restore", None, drafted, [])
    notes |= {"restores": number, "undoes": list(later)}
    ctx.exit(watch(app, machine, drafted, confirm_within, unattended, notes))


def _latest_confirmed(machine: Machine) -> str:
    for number in reversed(driver.numbers(machine)):
        if driver.status(machine, number).state == "confirmed":
            return number
    raise InputError(f"there is no change to restore on {machine.name}")
