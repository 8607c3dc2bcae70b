"""Would the server lease this address to a stranger? What we say, and what the real one does with a pool of it."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from fixed_anchor.core.addresses import parse_address
from fixed_anchor.core.knowledge import Knowledge
from fixed_anchor.planfile.reader import plan_from_text
from tests.lab.network import Segment
from tests.lab.servers import Server
from tests.lab.test_dhcp_servers import asked

ADDRESS, OWNER, STRANGER = "203.0.113.50", "00:00:5e:00:53:21", "00:00:5e:00:53:2f"
PLAN = "plan: 1\nsegments: {quay: {subnet: 203.0.113.0/24}}\nhosts: {}\n"
MAC = {"hw-address": OWNER, "ip-address": ADDRESS}


def kea(
    own: list[dict[str, Any]] | None = None, top: list[dict[str, Any]] | None = None, pool: str = ADDRESS, **more: Any
) -> str:
    """A configuration of Kea; ``more`` are parameters, of the subnet where they begin with ``s_``, or all of it."""
    subnet: dict[str, Any] = {
        "id": 1, "subnet": "203.0.113.0/24", "pools": [{"pool": f"{pool} - {pool}"}],
        "option-data": [{"name": "routers", "data": "203.0.113.1"}],
    }  # fmt: skip
    server: dict[str, Any] = {
        "interfaces-config": {"interfaces": ["br0"], "re-detect": True},
        "lease-database": {"type": "memfile", "persist": False},
        "valid-lifetime": 1200,
        "subnet4": [subnet],
    }
    if own is not None:
        subnet["reservations"] = own
    if top is not None:
        server["reservations"] = top
    for key, value in more.items():
        name = key.removeprefix("s_").replace("_", "-")
        (subnet if key.startswith("s_") else server)[name] = value
    return json.dumps({"Dhcp4": server}, indent=1)


def dhcpd(subnet: str = "", top: str = "", range_: str = f"range {ADDRESS};") -> str:
    return (
        f"authoritative;\ndefault-lease-time 1200;\n{top}\nsubnet 203.0.113.0 netmask 255.255.255.0 {{\n"
        f"  option routers 203.0.113.1;\n  {range_}\n  {subnet}\n}}\n"
    )


def dnsmasq(*lines: str, range_: str = f"dhcp-range={ADDRESS},{ADDRESS},255.255.255.0,20m") -> str:
    head = ["interface=br0", "bind-interfaces", "port=0", "user=root", "no-ping", "dhcp-leasefile=/var/lib/misc/leases"]
    return "\n".join([*head, range_, *lines]) + "\n"


HOST = f"host kept {{ hardware ethernet {OWNER}; fixed-address {ADDRESS}; }}"
CASES: dict[str, tuple[str, str]] = {
    "kea-plain": ("kea", kea()),
    "kea-elsewhere": ("kea", kea(pool="203.0.113.60")),
    "kea-reserved": ("kea", kea([MAC])),
    "kea-reserved-other": ("kea", kea([MAC | {"ip-address": "203.0.113.51"}])),
    "kea-global": ("kea", kea(top=[MAC])),
    "kea-global-on": ("kea", kea(top=[MAC], reservations_global=True)),
    "kea-global-on-only": ("kea", kea(top=[MAC], reservations_global=True, reservations_in_subnet=False)),
    "kea-out-of-pool": ("kea", kea([MAC], reservations_out_of_pool=True)),
    "kea-out-of-pool-subnet": ("kea", kea([MAC], s_reservations_out_of_pool=True)),
    "kea-out-of-pool-undone": ("kea", kea([MAC], reservations_out_of_pool=True, s_reservations_out_of_pool=False)),
    "kea-not-in-subnet": ("kea", kea([MAC], reservations_in_subnet=False)),
    "kea-not-in-subnet-undone": ("kea", kea([MAC], reservations_in_subnet=False, s_reservations_in_subnet=True)),
    "kea-mode-disabled": ("kea", kea([MAC], reservation_mode="disabled")),
    "kea-mode-off": ("kea", kea([MAC], s_reservation_mode="off")),
    "kea-mode-out-of-pool": ("kea", kea([MAC], reservation_mode="out-of-pool")),
    "kea-mode-global": ("kea", kea([MAC], reservation_mode="global")),
    "kea-mode-all": ("kea", kea([MAC], reservation_mode="all")),
    "kea-identifier-not-looked-at": ("kea", kea([MAC], host_reservation_identifiers=["client-id"])),
    "kea-client-id": ("kea", kea([{"client-id": "01:00:00:5e:00:53:21", "ip-address": ADDRESS}])),
    "kea-circuit-id": ("kea", kea([{"circuit-id": "'port7'", "ip-address": ADDRESS}])),
    "kea-class": ("kea", kea([{"hw-address": OWNER, "client-classes": ["quay"], "ip-address": ADDRESS}])),
    "kea-pool-for-class": (
        "kea",
        kea(
            s_pools=[{"pool": f"{ADDRESS}/32", "client-class": "ours"}],
            client_classes=[{"name": "ours", "test": "option[77].exists"}],
        ),
    ),
    "dhcpd-plain": ("dhcpd", dhcpd()),
    "dhcpd-elsewhere": ("dhcpd", dhcpd(range_="range 203.0.113.60;")),
    "dhcpd-host": ("dhcpd", dhcpd(top=HOST)),
    "dhcpd-host-in-subnet": ("dhcpd", dhcpd(HOST)),
    "dhcpd-group": ("dhcpd", dhcpd(top=f"group {{ {HOST} }}")),
    "dhcpd-pool": ("dhcpd", dhcpd(range_=f"pool {{ range {ADDRESS} {ADDRESS}; }}")),
    "dhcpd-pool-known": ("dhcpd", dhcpd(range_=f"pool {{ range {ADDRESS}; deny unknown-clients; }}")),
    "dhcpd-subnet-known": ("dhcpd", dhcpd("deny unknown-clients;")),
    "dhcpd-pool-of-class": (
        "dhcpd",
        dhcpd(
            top='class "ours" { match if hardware = 1:00:00:5e:00:53:21; }',
            range_=f'pool {{ range {ADDRESS}; allow members of "ours"; }}',
        ),
    ),
    "dhcpd-shared": ("dhcpd", f"authoritative;\nshared-network q {{\n{dhcpd().partition('1200;')[2]}}}\n"),
    "dhcpd-two-addresses": ("dhcpd", dhcpd(top=HOST.replace(ADDRESS, f"203.0.113.51, {ADDRESS}"))),
    "dnsmasq-plain": ("dnsmasq", dnsmasq()),
    "dnsmasq-elsewhere": ("dnsmasq", dnsmasq(range_="dhcp-range=203.0.113.60,203.0.113.60,255.255.255.0,20m")),
    "dnsmasq-host": ("dnsmasq", dnsmasq(f"dhcp-host={OWNER},{ADDRESS}")),
    "dnsmasq-host-named": ("dnsmasq", dnsmasq(f"dhcp-host={OWNER},tide-db,{ADDRESS},1h")),
    "dnsmasq-host-by-name": ("dnsmasq", dnsmasq(f"dhcp-host=tide-db,{ADDRESS}")),
    "dnsmasq-host-by-id": ("dnsmasq", dnsmasq(f"dhcp-host=id:01:00:00:5e:00:53:21,{ADDRESS}")),
    "dnsmasq-host-tagged": ("dnsmasq", dnsmasq(f"dhcp-host={OWNER},set:ours,{ADDRESS}")),
    "dnsmasq-host-ignored": ("dnsmasq", dnsmasq(f"dhcp-host={OWNER},ignore")),
    "dnsmasq-static": ("dnsmasq", dnsmasq(range_="dhcp-range=203.0.113.0,static,255.255.255.0,20m")),
    "dnsmasq-range-of-tag": ("dnsmasq", dnsmasq(range_=f"dhcp-range=tag:ours,{ADDRESS},{ADDRESS},255.255.255.0,20m")),
    "dnsmasq-hostsfile": ("dnsmasq", dnsmasq("dhcp-hostsfile=/etc/quay-hosts")),
    "dnsmasq-hostsfile-folder": ("dnsmasq", dnsmasq("dhcp-hostsfile=/etc/quay-hosts.d")),
    "dnsmasq-hostsdir": ("dnsmasq", dnsmasq("dhcp-hostsdir=/etc/quay-hosts.d")),
    "dnsmasq-ethers": ("dnsmasq", dnsmasq("read-ethers")),
    "dnsmasq-ethers-not-read": ("dnsmasq", dnsmasq()),
    "dnsmasq-known-only": ("dnsmasq", dnsmasq("dhcp-ignore=tag:!known")),
}  # fmt: skip
#: Files that some of them name.
BESIDE = {
    "etc/quay-hosts": f"# kept\n{OWNER},{ADDRESS}\n",
    "etc/quay-hosts.d/one": f"{OWNER},{ADDRESS}\n",
    "etc/ethers": f"{OWNER} {ADDRESS}\n",
}


def pytest_generate_tests(metafunc: pytest.Metafunc) -> None:
    whole = metafunc.config.getoption("--whole-matrix")
    names = [name for number, name in enumerate(CASES) if whole or number % 8 == 2]
    metafunc.parametrize("name", names)


def test_what_we_say_is_what_it_offers_to_a_stranger(name: str, bare_segment: Segment, servers_root: Path) -> None:
    kind, text = CASES[name]
    for path, content in BESIDE.items():
        if path != "etc/ethers" or "ethers" in name:
            target = servers_root / path
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_text(content)
    server = Server(kind, servers_root, bare_segment, text)
    claims = server.claims()
    known = Knowledge(plan_from_text(PLAN, "plan.yaml"), [claims])
    address = parse_address(ADDRESS)
    pool = next((p for p in claims.pools if address in p.range), None)
    kept = any(r.keeps_pool_clear for r in known.reservations(address))
    said = pool is not None and not pool.limits and not kept
    offers = [offer["offered"] for offer in asked(bare_segment, STRANGER)]
    assert not server.ended, (bare_segment.folder / f"{kind}.log").read_text()
    assert (ADDRESS in offers) == said, (name, offers, said)
