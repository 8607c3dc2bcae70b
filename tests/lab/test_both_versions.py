"""Hosts with both IP versions: a change that is about IPv4 leaves IPv6 as it was, there and back, on every stack.

Routers advertise themselves; DHCPv6 leases addresses, or is asked for and nobody answers, as on most such networks.
"""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.lab.advertising import Router
from tests.lab.conftest import MakeHost
from tests.lab.network import Segment, wait_for
from tests.lab.test_advertised import files_of
from tests.lab.test_matrix import STACKS

PLAN = """\
plan: 1
segments:
  quay: {subnet: 203.0.113.0/24, gateway: 203.0.113.1, resolvers: 203.0.113.2, search: ternpoint.example,
         pools: [203.0.113.100 - 203.0.113.199]}
hosts:
  tide-db: {interfaces: {eth0: {mac: "00:00:5e:00:53:11", segment: quay, hold: 203.0.113.20}}}
"""
#: Whether a DHCPv6 server leases addresses, and how the files of the host ask: ``slaac`` does not ask for a lease.
WAYS = {"advertisements": (False, "slaac"), "asked in vain": (False, "dhcp"), "leased": (True, "dhcp")}
EVERY = [(stack, way) for stack in STACKS for way in WAYS]
#: The reported one, and one that leases.
COVER = [("networkd", "asked in vain"), ("netplan-NetworkManager", "leased")]


def pytest_generate_tests(metafunc: pytest.Metafunc) -> None:
    metafunc.parametrize(("stack", "way"), EVERY if metafunc.config.getoption("--whole-matrix") else COVER)


def test_there_and_back(stack: str, way: str, make_host: MakeHost, segment: Segment, servers_root: Path) -> None:
    leases, asks = WAYS[way]
    Router(servers_root, segment, leases)
    # ifupdown's client gives up on DHCPv6 after a minute, and with it the whole interface.
    files, units = files_of(stack, "slaac" if stack == "ifupdown" and not leases else asks)
    host = make_host(files, units)
    wait_for("an address from the router", lambda: " dynamic " in host.addresses("-6"), 60)

    def both() -> None:
        assert " dynamic " in host.addresses("-6"), host.addresses("-6")
        assert "proto ra" in host("ip", "-6", "route", "show", "default").stdout

    both()
    host.write("/root/plan.yaml", PLAN)
    done = host.tool("cutover", "plan.yaml", "--unattended")
    assert done.returncode == 0, done.stdout + done.stderr
    both()
    assert host.holds("203.0.113.20")
    assert not host.leased()
    back = host.tool("restore")
    assert back.returncode == 0, back.stdout + back.stderr
    both()
    assert host.leased()
    # A change that nobody confirms is said to be undone when both versions are as they were.
    undone = host.tool("cutover", "plan.yaml", "--confirm-within", "5")
    assert undone.returncode == 3, undone.stdout + undone.stderr
    both()
    assert host.leased()
