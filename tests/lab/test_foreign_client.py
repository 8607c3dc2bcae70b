"""Would the server lease this address to a stranger? What we say, and what the real one does with a pool of it."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from fixed_anchor.core.addresses import parse_address
from fixed_anchor.core.claims import Claims
from fixed_anchor.core.knowledge import Knowledge
from fixed_anchor.planfile.reader import plan_from_text
from fixed_anchor.sources import SOURCES
from fixed_anchor.sources.protocol import Origin, Reader
from tests.lab.hypervisor import Hypervisor
from tests.lab.network import Segment
from tests.lab.servers import Server
from tests.lab.test_dhcp_servers import asked

pytestmark = pytest.mark.one_in(6)

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


def libvirt(*dhcp: str, forward: str = "", more: str = "", ip: str = "prefix='24'", pool: str = ADDRESS) -> str:
    """A network on the bridge of the segment; ``dhcp`` are the further elements of its DHCP service."""
    return f"""\
<network xmlns:dnsmasq='http://libvirt.org/schemas/network/dnsmasq/1.0'>
  <name>quay</name>
  <bridge name='br0' stp='off' delay='0'/>
  {forward}
  {more}
  <ip address='203.0.113.1' {ip}>
    <dhcp>
      {f"<range start='{pool}' end='{pool}'/>" if pool else ""}
      {"".join(dhcp)}
    </dhcp>
  </ip>
</network>
"""


def option(*values: str) -> str:
    """Lines that libvirt gives on to its DHCP server."""
    return f"<dnsmasq:options>{''.join(f'<dnsmasq:option value={v!r}/>' for v in values)}</dnsmasq:options>"


#: The other address of a network that has two is somebody's.
NOT_60 = "<host mac='00:00:5e:00:53:22' ip='203.0.113.60'/>"
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
    "dhcpd-known-above-pool": ("dhcpd", dhcpd("deny unknown-clients;", range_=f"pool {{ range {ADDRESS}; }}")),
    "dhcpd-known-at-top": ("dhcpd", dhcpd(top="deny unknown-clients;")),
    "dhcpd-bootp-denied": ("dhcpd", dhcpd("deny bootp; deny duplicates;")),
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
    "dnsmasq-range-old-tag": ("dnsmasq", dnsmasq(range_=f"dhcp-range=lan,{ADDRESS},{ADDRESS},255.255.255.0,20m")),
    "dnsmasq-range-net-tag": ("dnsmasq", dnsmasq(range_=f"dhcp-range=net:lan,{ADDRESS},{ADDRESS},255.255.255.0,20m")),
    "dnsmasq-hostsfile": ("dnsmasq", dnsmasq("dhcp-hostsfile=/etc/quay-hosts")),
    "dnsmasq-hostsfile-folder": ("dnsmasq", dnsmasq("dhcp-hostsfile=/etc/quay-hosts.d")),
    "dnsmasq-hostsdir": ("dnsmasq", dnsmasq("dhcp-hostsdir=/etc/quay-hosts.d")),
    "dnsmasq-ethers": ("dnsmasq", dnsmasq("read-ethers")),
    "dnsmasq-ethers-not-read": ("dnsmasq", dnsmasq()),
    "dnsmasq-known-only": ("dnsmasq", dnsmasq("dhcp-ignore=tag:!known")),
    "libvirt-plain": ("libvirt", libvirt()),
    "libvirt-elsewhere": ("libvirt", libvirt(pool="203.0.113.60")),
    "libvirt-host-by-mac": ("libvirt", libvirt(f"<host mac='{OWNER}' ip='{ADDRESS}'/>")),
    "libvirt-host-named": ("libvirt", libvirt(f"<host mac='{OWNER}' name='tide-db' ip='{ADDRESS}'/>")),
    "libvirt-host-by-name": ("libvirt", libvirt(f"<host name='tide-db' ip='{ADDRESS}'/>")),
    "libvirt-host-of-another-address": ("libvirt", libvirt(f"<host mac='{OWNER}' ip='203.0.113.51'/>")),
    "libvirt-hosts-alone": ("libvirt", libvirt(f"<host mac='{OWNER}' ip='203.0.113.51'/>", pool="")),
    "libvirt-natted": ("libvirt", libvirt(forward="<forward mode='nat'/>")),
    "libvirt-routed": ("libvirt", libvirt(forward="<forward mode='route'/>", ip="netmask='255.255.255.0'")),
    "libvirt-open": ("libvirt", libvirt(f"<host mac='{OWNER}' ip='{ADDRESS}'/>", forward="<forward mode='open'/>")),
    "libvirt-no-prefix": ("libvirt", libvirt(ip="")),
    "libvirt-two-ranges": (
        "libvirt",
        libvirt(f"<range start='{ADDRESS}' end='{ADDRESS}'/>", NOT_60, pool="203.0.113.60"),
    ),
    "libvirt-second-address": ("libvirt", libvirt(more="<ip address='198.51.100.1' prefix='24'/>")),
    "libvirt-two-services": ("libvirt", libvirt(f"</dhcp><dhcp><host mac='{OWNER}' ip='{ADDRESS}'/>")),
    "libvirt-ipv6-too": (
        "libvirt",
        libvirt(more="<ip family='ipv6' address='2001:db8:7e:1::1' prefix='64'><dhcp>"
                     "<range start='2001:db8:7e:1::100' end='2001:db8:7e:1::1ff'/></dhcp></ip>"),
    ),
    "libvirt-ipv6-alone": (
        "libvirt",
        libvirt(pool="", more="<ip family='ipv6' address='2001:db8:7e:1::1' prefix='64'><dhcp>"
                              "<range start='2001:db8:7e:1::100' end='2001:db8:7e:1::1ff'/></dhcp></ip>"),
    ),
    "libvirt-nothing-served": ("libvirt", libvirt("<bootp file='x'/>", pool="")),
    "libvirt-option-known-only": ("libvirt", libvirt(more=option("dhcp-ignore=tag:!known"))),
    "libvirt-option-host": ("libvirt", libvirt(more=option(f"dhcp-host={OWNER},{ADDRESS}"))),
    "libvirt-option-range": (
        "libvirt",
        libvirt(NOT_60, pool="203.0.113.60", more=option(f"dhcp-range={ADDRESS},{ADDRESS},255.255.255.0")),
    ),
    "libvirt-next-hop": (
        "libvirt",
        libvirt(more=f"<route address='198.18.16.0' prefix='24' gateway='{ADDRESS}'/>"),
    ),
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


def test_what_we_say_is_what_it_offers_to_a_stranger(
    name: str, bare_segment: Segment, request: pytest.FixtureRequest
) -> None:
    kind, text = CASES[name]
    if kind == "libvirt":
        hypervisor: Hypervisor = request.getfixturevalue("hypervisor")
        assert hypervisor.define(text) == ""
        hypervisor.serve("quay")
        claims = SOURCES[kind].claims(text.encode(), Origin(kind, "quay.xml", "quay.xml"), Reader(hypervisor.root))
    else:
        claims = _served(kind, name, text, bare_segment, request.getfixturevalue("servers_root"))
    known = Knowledge(plan_from_text(PLAN, "plan.yaml"), [claims])
    address = parse_address(ADDRESS)
    pool = next((p for p in claims.pools if address in p.range), None)
    kept = any(r.keeps_pool_clear for r in known.reservations(address))
    said = pool is not None and not pool.limits and not kept
    offers = [offer["offered"] for offer in asked(bare_segment, STRANGER)]
    assert (ADDRESS in offers) == said, (name, offers, said)


def _served(kind: str, name: str, text: str, segment: Segment, root: Path) -> Claims:
    """Runs a server with the configuration ``text``; what we read in it."""
    for path, content in BESIDE.items():
        if path != "etc/ethers" or "ethers" in name:
            target = root / path
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_text(content)
    server = Server(kind, root, segment, text)
    assert not server.ended, (segment.folder / f"{kind}.log").read_text()
    return server.claims()
