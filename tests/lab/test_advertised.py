"""IPv6 from routers and DHCPv6 made fixed, on each stack: what the plan keeps of it stays, and nothing listens."""

from __future__ import annotations

import time
from pathlib import Path

import pytest

from tests.documents import findings
from tests.lab.advertising import LINK_LOCAL, MTU, RESOLVER, ROUTE, SEARCH, Router
from tests.lab.conftest import NETPLAN, MakeHost
from tests.lab.host import MAC, LabHost
from tests.lab.network import Segment, wait_for
from tests.lab.test_matrix import INTERFACES, NETWORK, STACKS

HELD, HELD6 = "203.0.113.20", "2001:db8:7e:1::20"
PLAN = """\
plan: 1
segments:
  quay:
    subnet: [203.0.113.0/24, "2001:db8:7e:1::/64"]
    gateway: {gateway}
    resolvers: [203.0.113.2]
    search: [ternpoint.example]
    pools: [203.0.113.100 - 203.0.113.199]
hosts:
  tide-db:
    interfaces:
      eth0:
        mac: {mac}
        segment: quay
        hold: [{held}, "{held6}"]
"""
KEPT = f"""\
        mtu: {MTU}
        resolvers: [203.0.113.2, "{RESOLVER}"]
        search: [{", ".join(SEARCH)}]
        routes: [{{destination: "{ROUTE}", next_hop: "{LINK_LOCAL}"}}]
"""
GATEWAYS = {"link-local": LINK_LOCAL, "global": Segment.router6}


@pytest.fixture
def router(request: pytest.FixtureRequest, segment: Segment, servers_root: Path) -> Router:
    """A router on the segment; ``dhcp`` as its parameter has it lease addresses."""
    return Router(servers_root, segment, request.param == "dhcp")


def files_of(stack: str, how: str) -> tuple[dict[str, str], tuple[str, ...]]:
    files, units = STACKS[stack]
    if stack == "networkd":
        files = {path: NETWORK.replace("ipv4", "yes") for path in files}
    elif stack == "ifupdown":
        files = {path: INTERFACES + f"iface eth0 inet6 {'dhcp' if how == 'dhcp' else 'auto'}\n" for path in files}
    elif how == "dhcp":
        files = {path: text.replace("dhcp4: true", "dhcp6: true\n      dhcp4: true") for path, text in files.items()}
    return files, units


def write_plan(host: LabHost, gateway: str, kept: str = "") -> None:
    host.write("/root/plan.yaml", PLAN.format(gateway=gateway, mac=MAC, held=HELD, held6=HELD6) + kept)


def told(host: LabHost, code: str, file: str = "plan.yaml") -> list[dict[str, str]]:
    done = host.tool("check", file, "--json")
    return [f for f in findings(done.stdout) if f["code"] == code]


def is_as_planned(host: LabHost, gateway: str) -> None:
    held = host.addresses("-6")
    assert held.count("inet6") == 1, held
    assert f" {HELD6}/64 " in held
    assert " dynamic " not in held
    routes = host("ip", "-6", "route").stdout
    assert "proto ra" not in routes, routes
    assert f"default via {gateway} dev eth0" in routes, routes
    assert f"{ROUTE} via {LINK_LOCAL} dev eth0" in routes, routes
    assert host("cat", "/sys/class/net/eth0/mtu").stdout.strip() == str(MTU)
    host("ping", "-6", "-c", "1", "-W", "5", Segment.router6)
    resolvers = host.resolvers()
    assert RESOLVER in resolvers, resolvers
    for domain in SEARCH:
        assert domain in resolvers, resolvers
    done = host.tool("verify", "plan.yaml")
    assert done.returncode == 0, done.stdout + done.stderr


pytestmark = pytest.mark.one_in(6)

EVERY = [(s, how, g) for s in STACKS for how in ("slaac", "dhcp") for g in GATEWAYS]
#: Each stack once, either kind of address and of gateway several times; of that every other one.
COVER = [entry for number, entry in enumerate(EVERY) if number % 4 == (number // 4) % 4]


def pytest_generate_tests(metafunc: pytest.Metafunc) -> None:
    if "kind" not in metafunc.fixturenames:
        return
    whole = metafunc.config.getoption("--whole-matrix")
    metafunc.parametrize(("stack", "router", "kind"), EVERY if whole else COVER, indirect=["router"])


def test_what_was_announced_is_kept_and_nothing_listens(
    stack: str, router: Router, kind: str, make_host: MakeHost, request: pytest.FixtureRequest
) -> None:
    how = request.node.callspec.params["router"]
    host = make_host(*files_of(stack, how))
    wait_for("an address from the router", lambda: " dynamic " in host.addresses("-6"), 40)
    # Without an IPv6 gateway the way out would be lost: the routers are what says it today.
    write_plan(host, "203.0.113.1")
    (lost,) = told(host, "no-default-route")
    assert (lost["severity"], LINK_LOCAL in lost["remedy"]) == ("blocker", True)
    gateway = GATEWAYS[kind]
    write_plan(host, f'[203.0.113.1, "{gateway}"]')
    assert told(host, "no-default-route") == []
    (more,) = told(host, "lease-supplied-more")
    # Not all of it reaches every host: the kernel itself takes neither resolvers nor routes.
    assert f"mtu: {MTU}" in more["remedy"]
    # Nor does NetworkManager, which netplan tells to ignore IPv6 unless it is to lease an address.
    by_kernel = stack == "ifupdown" or (stack, how) == ("netplan-NetworkManager", "slaac")
    assert (RESOLVER in more["message"]) == (not by_kernel or how == "dhcp")
    assert (ROUTE in more["message"]) == (not by_kernel)
    write_plan(host, f'[203.0.113.1, "{gateway}"]', KEPT)
    assert told(host, "lease-supplied-more") == []
    done = host.tool("cutover", "plan.yaml", "--unattended")
    assert done.returncode == 0, done.stdout + done.stderr
    # Two of its advertisements go by.
    time.sleep(8)
    is_as_planned(host, gateway)
    host.reboot()
    wait_for("the address after the reboot", lambda: HELD6 in host.addresses("-6"), 40)
    time.sleep(8)
    is_as_planned(host, gateway)


IPV6_ALONE = {
    "networkd": {"/etc/systemd/network/20-quay.network": NETWORK.replace("ipv4", "ipv6")},
    "ifupdown": {"/etc/network/interfaces": "auto lo\niface lo inet loopback\n\nauto eth0\niface eth0 inet6 dhcp\n"},
    "netplan-networkd": {"/etc/netplan/50-tide.yaml": NETPLAN.replace("dhcp4: true ", "dhcp6: true ")},
}


@pytest.mark.parametrize("stack", IPV6_ALONE)
@pytest.mark.parametrize("router", ["dhcp"], indirect=True)
def test_a_host_with_ipv6_alone(stack: str, router: Router, make_host: MakeHost) -> None:
    host = make_host(IPV6_ALONE[stack], STACKS[stack][1], lease=False)
    wait_for("an address from the server", lambda: " dynamic " in host.addresses("-6"), 40)
    wait_for("the router", lambda: LINK_LOCAL in host("ip", "-6", "route").stdout, 20)
    leased = next(line for line in host.addresses("-6").splitlines() if " dynamic " in line)
    # Kept, it is named as it is, and must be reserved, like one of IPv4.
    done = host.tool("propose", "--keep", "--no-pool", "-o", "kept.yaml")
    assert done.returncode == 0, done.stderr
    assert f'hold: ["{leased.split(" inet6 ")[1].split("/")[0]}"]' in host.read("/root/kept.yaml")
    assert told(host, "lease-not-reserved", "kept.yaml")
    done = host.tool("propose", "--at", HELD6, "--no-pool", "-o", "plan.yaml")
    assert done.returncode == 0, done.stderr
    text = host.read("/root/plan.yaml")
    assert 'subnet: "2001:db8:7e:1::/64"' in text
    assert f'gateway: "{LINK_LOCAL}"' in text
    done = host.tool("cutover", "plan.yaml", "--unattended")
    assert done.returncode == 0, done.stdout + done.stderr
    host.reboot()
    wait_for("the address after the reboot", lambda: HELD6 in host.addresses("-6"), 40)
    time.sleep(8)
    assert host.addresses("-6").count("inet6") == 1
    assert host.tool("verify", "plan.yaml").returncode == 0
