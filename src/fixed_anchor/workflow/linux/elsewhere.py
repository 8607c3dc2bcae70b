"""Searching a Linux host for what uses addresses that go: its sockets, and its files."""

from __future__ import annotations

from collections.abc import Iterable

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.elsewhere import Elsewhere, Spelling
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe.listeners import listen_addresses, listeners, ssh_ports


def search_host(machine: Machine, going: frozenset[IPAddress], others: Iterable[IPAddress]) -> Elsewhere:
    """What a host has of addresses of its own that are ``going``, and of those of ``others``."""
    searched = machine.search(Spelling((*sorted(going, key=str), *others)))
    left_out = searched.left_out
    sockets = listeners(machine) if going else ()
    if sockets is None and machine.running:
        left_out = (*left_out, "its sockets: ss(8) told nothing")
    if not going:
        return Elsewhere(mentions=searched.mentions, left_out=left_out)
    return Elsewhere(sockets or (), searched.mentions, listen_addresses(machine), left_out, ssh_ports(machine))
