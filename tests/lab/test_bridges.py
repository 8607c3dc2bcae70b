"""Bridges of interfaces(5), with two guests on them, while frames go through: both families, MTU and resolvers."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

import pytest

from tests.lab.conftest import IFUPDOWN2, MakeHost
from tests.lab.host import MAC, LabHost
from tests.lab.network import wait_for
from tests.lab.test_matrix import cutover

IFUPDOWN = ("networking.service",)
PORTS = "    bridge_ports eth0\n    bridge_stp off\n    bridge_fd 0\n"
PORTS2 = PORTS.replace("_", "-") + f"    hwaddress {MAC}\n"
LO = "auto lo\niface lo inet loopback\n\niface eth0 inet manual\n\nauto br0\n"
OLD, NEW, OLD6, NEW6 = "203.0.113.60", "203.0.113.20", "2001:db8:7e:1::60", "2001:db8:7e:1::20"
FIXED = f"    address {OLD}/24\n    gateway 203.0.113.1\n"
FIXED6 = f"iface br0 inet6 static\n    address {OLD6}/64\n    gateway 2001:db8:7e:1::1\n    accept_ra 0\n"
#: The files of a host whose bridge has fixed addresses, or a lease.
HOSTS: dict[str, str] = {
    "ifupdown, fixed": f"{LO}iface br0 inet static\n{FIXED}{PORTS}    bridge_hw {MAC}\n\n{FIXED6}",
    "ifupdown, leased": f"{LO}iface br0 inet dhcp\n{PORTS}    bridge_hw {MAC}\n",
    "ifupdown2, fixed": f"{LO}iface br0 inet static\n{FIXED}{PORTS2}\n{FIXED6}",
    "ifupdown2, one stanza": f"{LO}iface br0\n{FIXED}    address {OLD6}/64\n    gateway 2001:db8:7e:1::1\n{PORTS2}",
    "ifupdown2, leased": f"{LO}iface br0 inet dhcp\n{PORTS2}",
}  # fmt: skip

PLAN = f"""\
plan: 1
segments:
  quay:
    subnet: [203.0.113.0/24, "2001:db8:7e:1::/64"]
    gateway: [203.0.113.1, "2001:db8:7e:1::1"]
    resolvers: [203.0.113.2]
    search: [ternpoint.example]
    pools: [203.0.113.100 - 203.0.113.199]
hosts:
  tide-db:
    interfaces:
      br0: {{mac: "{MAC}", segment: quay, hold: [{NEW}, "{NEW6}"], mtu: 1400}}
"""


def pytest_generate_tests(metafunc: pytest.Metafunc) -> None:
    """All of them with ``--whole-matrix``, or a covering selection."""
    whole = metafunc.config.getoption("--whole-matrix")
    metafunc.parametrize("kind", list(HOSTS) if whole else ["ifupdown, fixed", "ifupdown2, leased"])


@contextmanager
def guests(host: LabHost) -> Iterator[list[tuple[str, str]]]:
    """Two guests on ports that no file knows of, in namespaces of their own; each counts what it gets back.

    Yields what was lost, once that is known: the guest, and the last line of its count.
    """
    lost: list[tuple[str, str]] = []
    counts = []
    for number in (0, 1):
        name = f"guest{number}"
        host("ip", "netns", "add", name)
        host("ip", "link", "add", f"vnet{number}", "type", "veth", "peer", "name", "eth0", "netns", name)
        host("ip", "link", "set", f"vnet{number}", "master", "br0", "up")
        host("ip", "-n", name, "address", "add", f"203.0.113.{70 + number}/24", "dev", "eth0")
        host("ip", "-n", name, "link", "set", "eth0", "up")
        heard = lambda n=name: host("ip", "netns", "exec", n, "ping", "-c", "1", "-W", "1", "203.0.113.1", check=False)  # noqa: E731
        wait_for(f"{name} to be heard", lambda h=heard: h().returncode == 0, 20)  # type: ignore[misc]
        # From one guest to the other, and from each to the router.
        other = "203.0.113.71" if number == 0 else "203.0.113.1"
        command = f"ip netns exec {name} ping -i 0.02 -q {other} >/root/{name} 2>&1"
        counts.append((name, host.start("sh", "-c", f"exec {command}")))
    yield lost
    for name, _ in counts:
        host(
            "sh", "-c", f"pkill -INT -f '[p]ing -i 0.02 -q' -n; ip netns pids {name} | xargs -r kill -INT", check=False
        )
    for name, process in counts:
        process.wait(20)
        said = next(line for line in host.read(f"/root/{name}").splitlines() if "packets transmitted" in line)
        sent, back = int(said.split()[0]), int(said.split(", ")[1].split()[0])
        # The last ones may still be under way, on a busy machine; a change that kept nothing would lose dozens.
        if sent - back > 3:
            lost.append((name, said))


def ports(host: LabHost) -> list[str]:
    shown = host("ip", "-o", "link", "show", "master", "br0").stdout.splitlines()
    return sorted(line.split(": ")[1].partition("@")[0] for line in shown if "state UP" in line)


def test_there_and_back(kind: str, make_host: MakeHost) -> None:
    text = HOSTS[kind]
    own = IFUPDOWN2 if kind.startswith("ifupdown2") else {}
    host = make_host({"/etc/network/interfaces": text} | own, IFUPDOWN, lease=False)
    first = " dynamic " if "leased" in kind else f" {OLD}/24 "
    wait_for("the address of the bridge", lambda: first in host.addresses(link="br0"), 60)
    before = host.read("/etc/network/interfaces")
    facts = sorted(" ".join(line.split()[2:4]) for v in ("-4", "-6") for line in host.addresses(v, "br0").splitlines())
    host.write("/root/plan.yaml", PLAN)
    with guests(host) as lost:
        cutover(host)
        assert ports(host) == ["eth0", "vnet0", "vnet1"]
    assert lost == []
    for address, version in ((NEW, "-4"), (NEW6, "-6")):
        assert f" {address}/" in host.addresses(version, "br0")
    assert "mtu 1400" in host("ip", "link", "show", "br0").stdout
    assert not any(old in host.addresses(v, "br0") for old, v in ((OLD, "-4"), (OLD6, "-6")))
    for version, gateway in (("-4", "203.0.113.1"), ("-6", "2001:db8:7e:1::1")):
        routes = host("ip", version, "route", "show", "default").stdout
        assert f"via {gateway} dev br0" in routes
        assert routes.count("default") == 1, routes
    host.reboot()
    wait_for("the address after the reboot", lambda: f" {NEW}/" in host.addresses(link="br0"), 60)
    wait_for("IPv6 after the reboot", lambda: f" {NEW6}/" in host.addresses("-6", "br0"), 60)
    verified = host.tool("verify", "plan.yaml")
    assert verified.returncode == 0, verified.stdout + verified.stderr
    done = host.tool("restore")
    assert done.returncode == 0, done.stdout + done.stderr
    assert host.read("/etc/network/interfaces") == before

    def now() -> list[str]:
        return sorted(" ".join(x.split()[2:4]) for v in ("-4", "-6") for x in host.addresses(v, "br0").splitlines())

    if "leased" in kind:
        wait_for("the lease", lambda: " dynamic " in host.addresses(link="br0"), 60)
    else:
        wait_for(f"{facts}", lambda: now() == facts, 20)
    assert "mtu 1500" in host("ip", "link", "show", "br0").stdout
