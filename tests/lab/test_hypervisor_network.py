"""A hypervisor's network, in all its forms: what the daemon makes of the XML is what we read in it."""

from __future__ import annotations

from pathlib import Path

import msgspec

from fixed_anchor.core.claims import Claims
from fixed_anchor.sources import SOURCES
from fixed_anchor.sources.protocol import Origin, Reader
from tests.hypervisor_networks import ACCEPTED, REFUSED
from tests.lab.hypervisor import Hypervisor
from tests.lab.servers import Rooted


def read(text: str, kind: str = "libvirt") -> Claims:
    return SOURCES[kind].claims(text.encode(), Origin(kind, "quay.xml", "quay.xml"), Reader(Path("/")))


def placeless(claims: Claims) -> dict[str, list[object]]:
    """What is claimed, without the places."""
    found: dict[str, list[object]] = {}
    for what in ("pools", "subnets", "reservations", "records", "listed"):
        rows = msgspec.to_builtins(getattr(claims, what), enc_hook=str)
        bare = [{k: v for k, v in row.items() if k not in ("place", "said_in")} for row in rows]
        found[what] = sorted(bare, key=str)
    return found


def test_what_the_daemon_makes_of_it_is_what_we_read(hypervisor: Hypervisor) -> None:
    """Its own dump says the same as the file; so does the configuration that it writes for its DHCP server."""
    different = []
    for name, text in ACCEPTED.items():
        assert hypervisor.define(text) == "", name
        ours = read(text)
        if placeless(read(hypervisor.virsh("net-dumpxml", "--inactive", "quay").stdout)) != placeless(ours):
            different.append(f"{name}: the dump")
        started = hypervisor.virsh("net-start", "quay")
        if name != "host-interface":
            assert started.returncode == 0, (name, started.stderr)
        if hypervisor.settings("quay").exists():
            theirs = SOURCES["dnsmasq"].claims(
                hypervisor.settings("quay").read_bytes(),
                Origin("dnsmasq", "quay.conf", str(hypervisor.settings("quay"))),
                Rooted(hypervisor.root),
            )
            different += [f"{name}: {what}" for what in _differences(ours, theirs)]
        else:
            assert (ours.pools, ours.subnets) == ((), ()), name
        hypervisor.virsh("net-destroy", "quay")
        hypervisor.virsh("net-undefine", "quay")
        for file in hypervisor.settings("quay").parent.glob("quay.*"):
            file.unlink()
    assert different == []


def _differences(ours: Claims, theirs: Claims) -> list[str]:
    mine, own = placeless(ours), placeless(theirs)
    found = [f"{what}: {mine[what]} {own[what]}" for what in ("pools", "reservations") if mine[what] != own[what]]
    told = {s.network: s for s in theirs.subnets}
    for subnet in ours.subnets:
        server = told.pop(subnet.network, None)
        if server is None and not theirs.pools and subnet.network.version == 4:
            continue  # for hosts alone the daemon names no mask: dnsmasq takes that of the bridge
        if server is None:
            found.append(f"{subnet.network} is not served")
        elif (server.routers is not None and server.routers != subnet.routers) or server.search != subnet.search:
            found.append(f"{subnet} {server}")
    # Subnets in which it only advertises a prefix are not given out by DHCP.
    return found + [f"{network} is served" for network in told if network.version == 4]


def test_the_daemon_refuses_it_too(hypervisor: Hypervisor) -> None:
    assert [name for name, (text, _) in REFUSED.items() if not hypervisor.define(text)] == []
