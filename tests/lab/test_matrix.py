"""Every stack, every kind of conversion: on a real host each, and still so after a reboot."""

from __future__ import annotations

import pytest

from tests.lab.conftest import IFUPDOWN2, NETPLAN, NETWORKD, MakeHost
from tests.lab.host import MAC, LabHost
from tests.lab.network import wait_for

pytestmark = pytest.mark.one_in(6)

INTERFACES = (
    "source /etc/network/interfaces.d/*\n\nauto lo\niface lo inet loopback\n\nauto eth0\niface eth0 inet dhcp\n"
)
NETWORK = "# quay\n[Match]\nName=eth0\n\n[Network]\nDHCP=ipv4\n"
NM_UNITS = ("NetworkManager.service",)

#: Files and units of a host on its lease, by stack.
STACKS: dict[str, tuple[dict[str, str], tuple[str, ...]]] = {
    "netplan-networkd": ({"/etc/netplan/50-tide.yaml": NETPLAN}, NETWORKD),
    "netplan-NetworkManager": (
        {"/etc/netplan/50-tide.yaml": NETPLAN.replace("version: 2", "version: 2\n  renderer: NetworkManager")},
        NM_UNITS,
    ),
    "ifupdown": ({"/etc/network/interfaces": INTERFACES}, ("networking.service",)),
    "NetworkManager": ({"/etc/hosts": "127.0.0.1 localhost\n"}, NM_UNITS),
    "networkd": ({"/etc/systemd/network/20-quay.network": NETWORK}, NETWORKD),
}

#: And the second program that reads interfaces(5), in an image of its own.
EVERY = STACKS | {"ifupdown2": ({"/etc/network/interfaces": INTERFACES} | IFUPDOWN2, ("networking.service",))}

PLAN = """\
plan: 1
segments:
  quay:
    subnet: [203.0.113.0/24, "2001:db8:7e:1::/64"]
    gateway: [203.0.113.1, "2001:db8:7e:1::1"]
    resolvers: [203.0.113.2]
    search: [ternpoint.example]
    pools: [203.0.113.100 - 203.0.113.199]
    {reservations}
hosts:
  tide-db:
    interfaces:
      eth0:
        mac: {mac}
        segment: quay
        {what}
"""
ANOTHER = "203.0.113.20"


def plan(host: LabHost, what: str, reservations: str = "") -> None:
    host.write("/root/plan.yaml", PLAN.format(what=what, mac=host.mac, reservations=reservations))


def cutover(host: LabHost, *words: str) -> None:
    done = host.tool("cutover", "plan.yaml", "--unattended", *words)
    log = host.disk("/var/lib/fixed-anchor/changes")
    last = sorted(log.glob("0*/log"))[-1].read_text() if log.is_dir() and list(log.glob("0*/log")) else ""
    assert done.returncode == 0, done.stdout + done.stderr + last


def lease_clients(host: LabHost) -> str:
    return host("sh", "-c", "ps -eo args | grep -E '^[^ ]*(dhclient|udhcpc|dhcpcd)' || true").stdout


def is_static(host: LabHost, *addresses: str) -> None:
    lines = host.addresses() + host.addresses("-6")
    for address in addresses:
        assert f" {address}/" in lines, lines
    assert " dynamic " not in host.addresses(), lines
    assert lease_clients(host) == ""
    assert "via 203.0.113.1" in host.gateway()
    assert host.gateway().count("default") == 1, host.gateway()
    wait_for("names", lambda: host.resolves("gull"), 15)
    assert host.answers(addresses[0])
    verified = host.tool("verify", "plan.yaml")
    assert verified.returncode == 0, verified.stdout + verified.stderr


def is_leased(host: LabHost, gone: str) -> None:
    assert host.leased()
    assert not host.holds(gone)
    assert host.gateway().count("default") == 1, host.gateway()
    wait_for("names", lambda: host.resolves("gull.ternpoint.example"), 15)
    verified = host.tool("verify", "plan.yaml")
    assert verified.returncode == 0, verified.stdout + verified.stderr


def reboot(host: LabHost, *addresses: str) -> None:
    host.reboot()
    for address in addresses:
        wait_for(address, lambda a=address: f" {a}/" in host.addresses() + host.addresses("-6"), 30)  # type: ignore[misc]


@pytest.fixture(params=EVERY)
def on_lease(request: pytest.FixtureRequest, make_host: MakeHost) -> LabHost:
    files, units = EVERY[request.param]
    return make_host(files, units)


def test_keep_the_leased_address(on_lease: LabHost) -> None:
    host = on_lease
    leased = host.leased_address()
    plan(host, f"hold: {leased}", f"reservations: {{{MAC}: {leased}}}")
    cutover(host)
    is_static(host, leased)
    reboot(host, leased)
    is_static(host, leased)


def test_another_address(on_lease: LabHost) -> None:
    host = on_lease
    plan(host, f"hold: {ANOTHER}")
    cutover(host)
    is_static(host, ANOTHER)
    reboot(host, ANOTHER)
    is_static(host, ANOTHER)


def test_two_addresses_and_ipv6(on_lease: LabHost) -> None:
    host = on_lease
    held = (ANOTHER, "203.0.113.21", "2001:db8:7e:1::20")
    plan(host, f'hold: [{ANOTHER}, 203.0.113.21, "2001:db8:7e:1::20"]')
    cutover(host)
    is_static(host, *held)
    assert "via 2001:db8:7e:1::1" in host("ip", "-6", "route", "show", "default").stdout
    reboot(host, *held)
    is_static(host, *held)


def test_back_to_dhcp(on_lease: LabHost) -> None:
    host = on_lease
    plan(host, f"hold: {ANOTHER}")
    cutover(host)
    is_static(host, ANOTHER)
    plan(host, "ipv4: dhcp")
    cutover(host)
    is_leased(host, ANOTHER)
    host.reboot()
    wait_for("a lease", host.leased, 40)
    is_leased(host, ANOTHER)
