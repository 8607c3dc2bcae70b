"""Hosts with two links on two segments, on every stack: there, through a reboot, and back through another."""

from __future__ import annotations

import subprocess

import pytest

from tests.lab.conftest import IFUPDOWN2, NETWORKD, MakeHost
from tests.lab.host import MAC, MAC1, LabHost
from tests.lab.network import Labs, wait_for
from tests.lab.test_matrix import NM_UNITS, cutover

ETHERNETS = "network:\n  version: 2\n{}  ethernets:\n    eth0:\n      dhcp4: true\n    eth1:\n      dhcp4: true\n"
PROFILE = (
    "[connection]\nid={0}\nuuid=5b0f6f6c-1111-4222-8333-94445555666{1}\ntype=ethernet\ninterface-name=eth{1}\n\n"
    "[ipv4]\nmethod=auto\n\n[ipv6]\nmethod=auto\n"
)
SHARED = "# every wired link\n[Match]\nName=eth*\n\n[Network]\nDHCP=ipv4\n"
PROFILES = "/etc/NetworkManager/system-connections"

#: Files and units of a host with both links on their leases, by stack.
STACKS: dict[str, tuple[dict[str, str], tuple[str, ...]]] = {
    "netplan-networkd": ({"/etc/netplan/50-tide.yaml": ETHERNETS.format("")}, NETWORKD),
    "netplan-NetworkManager": (
        {"/etc/netplan/50-tide.yaml": ETHERNETS.format("  renderer: NetworkManager\n")}, NM_UNITS,
    ),
    "ifupdown": (
        {
            "/etc/network/interfaces": "auto lo eth0 eth1\niface lo inet loopback\n\niface eth0 inet dhcp\n\n"
            "iface eth1 inet dhcp\n"
        },
        ("networking.service",),
    ),
    "ifupdown2": (
        {
            "/etc/network/interfaces": "auto lo eth0 eth1\niface lo inet loopback\n\niface eth0 inet dhcp\n\n"
            "iface eth1 inet dhcp\n"
        }
        | IFUPDOWN2,
        ("networking.service",),
    ),
    "NetworkManager": (
        {
            f"{PROFILES}/quay.nmconnection": PROFILE.format("Quay", 0),
            f"{PROFILES}/labs.nmconnection": PROFILE.format("Labs", 1),
        },
        NM_UNITS,
    ),
    "networkd": ({"/etc/systemd/network/80-wired.network": SHARED}, NETWORKD),
}  # fmt: skip

PLAN = """\
plan: 1
segments:
  quay:
    subnet: 203.0.113.0/24
    gateway: 203.0.113.1
    resolvers: [203.0.113.2]
    search: [ternpoint.example]
    pools: [203.0.113.100 - 203.0.113.199]
  labs:
    subnet: 198.51.100.0/24
    gateway: 198.51.100.1
    resolvers: [198.51.100.2]
    search: [labs.ternpoint.example]
    pools: [198.51.100.100 - 198.51.100.199]
hosts:
  tide-db:
    interfaces:
"""
QUAY, LABS = "203.0.113.20", "198.51.100.20"
#: What eth0 and eth1 are planned for; nothing where the plan does not mention one.
PLANS: dict[str, dict[str, str]] = {
    # With neither a gateway nor search domains NetworkManager would not ask the resolvers of a link.
    "second alone": {"eth1": f"segment: labs, hold: {LABS}, gateway: none, search: []"},
    "both": {"eth0": f"segment: quay, hold: {QUAY}", "eth1": f"segment: labs, hold: {LABS}, gateway: none"},
    "with metrics": {
        "eth0": f"segment: quay, hold: {QUAY}, metric: 50", "eth1": f"segment: labs, hold: {LABS}, metric: 200",
    },
}  # fmt: skip

EVERY = [(stack, name) for stack in STACKS for name in PLANS]
#: A cover of them for every run: each plan, and each daemon.
COVER = [EVERY[number] for number in (6, 10, 14, 16)]


pytestmark = pytest.mark.one_in(6)


def plan(host: LabHost, interfaces: dict[str, str]) -> None:
    macs = {"eth0": MAC, "eth1": MAC1}
    lines = [f'      {name}: {{mac: "{macs[name]}", {said}}}\n' for name, said in interfaces.items()]
    host.write("/root/plan.yaml", PLAN + "".join(lines))


def default_routes(host: LabHost) -> dict[str, int]:
    """The links with a default route, each with its metric."""
    found = {}
    for line in host("ip", "-4", "route", "show", "default").stdout.splitlines():
        words = line.split()
        found[words[words.index("dev") + 1]] = int(words[words.index("metric") + 1]) if "metric" in words else 0
    return found


def is_planned(host: LabHost, labs: Labs, name: str) -> None:
    planned = PLANS[name]
    for link, address, segment in (("eth0", QUAY, host.segment), ("eth1", LABS, labs)):
        if link in planned:
            wait_for(f"{address} on {link}", lambda a=address, n=link: f" {a}/" in host.addresses(link=n), 40)  # type: ignore[misc]
            assert " dynamic " not in host.addresses(link=link)
            assert segment.namespace("ping", "-c", "1", "-W", "2", address, check=False).returncode == 0
        else:
            wait_for(f"a lease on {link}", lambda n=link: " dynamic " in host.addresses(link=n), 40)  # type: ignore[misc]
    if name == "with metrics":
        assert default_routes(host) == {"eth0": 50, "eth1": 200}
    else:
        wait_for("the one default route", lambda: list(default_routes(host)) == ["eth0"], 20)
    wait_for("names", lambda: host.resolves("gull.ternpoint.example"), 15)
    verified = host.tool("verify", "plan.yaml")
    assert verified.returncode == 0, verified.stdout + verified.stderr


def is_leased(host: LabHost) -> None:
    for link in ("eth0", "eth1"):
        wait_for(f"a lease on {link}", lambda n=link: " dynamic " in host.addresses(link=n), 40)  # type: ignore[misc]
        assert not any(f" {a}/" in host.addresses(link=link) for a in (QUAY, LABS))
    wait_for("names", lambda: host.resolves("gull.ternpoint.example"), 15)
    verified = host.tool("verify", "plan.yaml")
    assert verified.returncode == 0, verified.stdout + verified.stderr


def pytest_generate_tests(metafunc: pytest.Metafunc) -> None:
    """All of them with ``--whole-matrix``, or a covering selection."""
    whole = metafunc.config.getoption("--whole-matrix")
    if "name" in metafunc.fixturenames:
        metafunc.parametrize(("stack", "name"), EVERY if whole else COVER)
    elif "stack" in metafunc.fixturenames:
        metafunc.parametrize("stack", list(BRIDGES) if whole else ["ifupdown"])


def test_there_and_back(stack: str, name: str, make_host: MakeHost, labs: Labs) -> None:
    host = make_host(*STACKS[stack], links=2)
    wait_for("a lease on eth1", lambda: " dynamic " in host.addresses(link="eth1"), 40)
    before = host.etc_digest()
    plan(host, PLANS[name])
    cutover(host)
    is_planned(host, labs, name)
    host.reboot()
    is_planned(host, labs, name)
    plan(host, {n: s.split(",")[0] + ", ipv4: dhcp" for n, s in PLANS[name].items()})
    cutover(host)
    is_leased(host)
    host.reboot()
    is_leased(host)
    assert host.etc_digest() != before


def test_the_resolver_of_a_lease_that_was_written_over(make_host: MakeHost, labs: Labs) -> None:
    """The second link's client wrote resolv.conf last; that the first lease's resolver refuses all is no news."""
    host = make_host(*STACKS["ifupdown"], links=2)
    for link in ("eth0", "eth1"):
        wait_for(f"a lease on {link}", lambda n=link: " dynamic " in host.addresses(link=n), 40)  # type: ignore[misc]
    host.segment.isolate()
    assert host.segment.resolver not in host("cat", "/etc/resolv.conf").stdout, host("cat", "/etc/resolv.conf").stdout
    plan(host, {"eth0": PLANS["both"]["eth0"]})
    cutover(host)
    wait_for("an answer", lambda: host.answers(QUAY), 20)


# --- a bridge with a guest on it --------------------------------------------------------

BRIDGE_PROFILE = (
    "[connection]\nid=Bridge\nuuid=5b0f6f6c-2222-4222-8333-944455556661\ntype=bridge\ninterface-name=br0\n\n"
    f"[bridge]\nstp=false\nmac-address={MAC}\n\n[ipv4]\nmethod=auto\n\n[ipv6]\nmethod=disabled\n"
)
PORT_PROFILE = (
    "[connection]\nid=Port\nuuid=5b0f6f6c-2222-4222-8333-944455556662\ntype=ethernet\ninterface-name=eth0\n"
    "master=br0\nslave-type=bridge\n"
)
NETPLAN_BRIDGE = (
    "network:\n  version: 2\n{}  ethernets:\n    eth0: {{dhcp4: false}}\n"
    "  bridges:\n    br0:\n      interfaces: [eth0]\n"
    f'      macaddress: "{MAC}"\n      dhcp4: true\n      parameters: {{{{stp: false, forward-delay: 0}}}}\n'
)
BRIDGES: dict[str, tuple[dict[str, str], tuple[str, ...]]] = {
    "netplan-networkd": ({"/etc/netplan/50-tide.yaml": NETPLAN_BRIDGE.format("")}, NETWORKD),
    "netplan-NetworkManager": (
        {"/etc/netplan/50-tide.yaml": NETPLAN_BRIDGE.format("  renderer: NetworkManager\n")}, NM_UNITS,
    ),
    "ifupdown": (
        {
            "/etc/network/interfaces": "auto lo br0\niface lo inet loopback\n\niface eth0 inet manual\n\n"
            f"iface br0 inet dhcp\n    bridge_ports eth0\n    bridge_stp off\n    bridge_fd 0\n    bridge_hw {MAC}\n"
        },
        ("networking.service",),
    ),
    "NetworkManager": (
        {f"{PROFILES}/bridge.nmconnection": BRIDGE_PROFILE, f"{PROFILES}/port.nmconnection": PORT_PROFILE}, NM_UNITS,
    ),
    "networkd": (
        {
            "/etc/systemd/network/10-br0.netdev": f"[NetDev]\nName=br0\nKind=bridge\nMACAddress={MAC}\n\n"
            "[Bridge]\nSTP=no\nForwardDelaySec=0\n",
            "/etc/systemd/network/20-port.network": "[Match]\nName=eth0\n\n[Network]\nBridge=br0\n",
            "/etc/systemd/network/30-bridge.network": "[Match]\nName=br0\n\n[Network]\nDHCP=ipv4\n",
        },
        NETWORKD,
    ),
}  # fmt: skip


def with_guest(host: LabHost) -> subprocess.Popen[bytes]:
    """Puts a guest on the bridge, as a hypervisor does: a port that no file knows of. Watches that it stays there."""
    host("ip", "link", "add", "vnet0", "type", "veth", "peer", "name", "guest0")
    host("ip", "link", "set", "vnet0", "master", "br0", "up")
    host("ip", "link", "set", "guest0", "up")
    wait_for("the guest's link", lambda: guest_has_its_link(host), 10)
    watch = "while sleep 0.05; do ip -o link show vnet0 | grep -q 'master br0.*state UP' || echo gone >>/run/gone; done"
    return host.start("sh", "-c", watch)


def guest_has_its_link(host: LabHost) -> bool:
    shown = host("ip", "-o", "link", "show", "vnet0", check=False).stdout
    return "master br0" in shown and "state UP" in shown


def guest_kept_its_link(host: LabHost, watcher: subprocess.Popen[bytes]) -> None:
    assert guest_has_its_link(host)
    assert watcher.poll() is None
    assert host("cat", "/run/gone", check=False).stdout == ""
    watcher.kill()
    watcher.wait()


def bridge_leased(host: LabHost) -> bool:
    return " dynamic " in host("ip", "-o", "-4", "address", "show", "dev", "br0", check=False).stdout


def test_a_bridge_with_a_guest(stack: str, make_host: MakeHost) -> None:
    host = make_host(*BRIDGES[stack], lease=False)
    wait_for("a lease on the bridge", lambda: bridge_leased(host), 60)
    watcher = with_guest(host)
    port = host.tool("survey")
    assert port.returncode == 0, port.stderr
    plan(host, {"eth0": f"segment: quay, hold: {QUAY}"})
    refused = host.tool("check", "plan.yaml", "--no-wire")
    assert "eth0 is a port of br0" in refused.stdout, refused.stdout
    host.write("/root/plan.yaml", PLAN + f'      br0: {{mac: "{MAC}", segment: quay, hold: {QUAY}}}\n')
    cutover(host)
    wait_for("an answer from the bridge", lambda: host.answers(QUAY), 40)
    guest_kept_its_link(host, watcher)
    host.reboot()
    wait_for("an answer from the bridge after the reboot", lambda: host.answers(QUAY), 60)
    watcher = with_guest(host)
    host.write("/root/plan.yaml", PLAN + f'      br0: {{mac: "{MAC}", segment: quay, ipv4: dhcp}}\n')
    cutover(host)
    wait_for("a lease on the bridge again", lambda: bridge_leased(host), 60)
    assert not host.answers(QUAY)
    guest_kept_its_link(host, watcher)
    host.reboot()
    wait_for("a lease on the bridge after the reboot", lambda: bridge_leased(host), 60)
