"""Hosts over SSH, by way of the user's own OpenSSH client. Nothing needs to be installed there, Python neither."""

from __future__ import annotations

from fixed_anchor.machines.seat import Way, nowhere_else
from fixed_anchor.machines.ssh.destination import parse_destination
from fixed_anchor.machines.ssh.machine import SshMachine


def reach(way: Way) -> SshMachine:
    """The host of ``ssh:[user@]name[:port]``, always the same for one seat, so that its connection lasts.

    Nothing is connected before it is asked something.
    """
    destination = parse_destination(way.rest)
    return way.seat.kept(
        (way.name, str(destination), way.addresses, way.macs, way.elsewhere is nowhere_else),
        lambda: SshMachine(destination, way),
    )
