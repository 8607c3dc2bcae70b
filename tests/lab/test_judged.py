"""Good changes are kept and bad ones are not, on real networks that are slow, isolated, odd or wrong: one row each.

The same rows are tried with the stand-ins in ``tests/test_judged.py``. Tagged neighbours, four hosts at once, and
both IP versions on every stack have files of their own here.
"""

from __future__ import annotations

import re
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.lab.conftest import NETWORKD, MakeHost
from tests.lab.host import LabHost
from tests.lab.network import Namespace, Segment, wait_for
from tests.lab.test_matrix import NETWORK

QUAY = "/etc/systemd/network/20-quay.network"
PLANNED = {
    "subnet": "203.0.113.0/24", "gateway": "203.0.113.1", "resolvers": "203.0.113.2", "search": "ternpoint.example",
    "pools": "[203.0.113.100 - 203.0.113.199]",
}  # fmt: skip
FAR = "198.18.16.9"
IN_FORCE = ("activating", "waiting")
IN_TABLE = "\n[DHCPv4]\nRouteTable=100\n\n[RoutingPolicyRule]\nTable=100\nPriority=1000\n"
ALONE = "[Match]\nName=eth0\n\n[Network]\nLinkLocalAddressing=ipv4\n"
TUNNEL = "[Match]\nName=tun0\n\n[Network]\nDHCP=no\nAddress=203.0.113.70/32\n"

#: Rows for the whole table only: the same ones are tried with the stand-ins in every run.
BEYOND_COVER = pytest.mark.beyond_cover


pytestmark = pytest.mark.one_in(3)


class Site:
    """A host on the quay, and what a row does to the network around it."""

    def __init__(self, host: LabHost, segment: Segment) -> None:
        self.host, self.segment = host, segment
        self.processes: list[subprocess.Popen[str]] = []

    def plan(self, hold: str = "203.0.113.20", interface: str = "eth0", **keys: str) -> None:
        lines = "".join(f"    {key}: {text}\n" for key, text in (PLANNED | keys).items())
        known = f'eth0: {{mac: "{self.host.mac}", segment: quay'
        what = (
            f"{known}, hold: {hold}}}"
            if interface == "eth0"
            else f"{known}}}, {interface}: {{segment: quay, hold: {hold}}}"
        )
        holder = f"  {self.host.name}: {{interfaces: {{{what}}}}}\n"
        self.host.write("/root/plan.yaml", f"plan: 1\nsegments:\n  quay:\n{lines}hosts:\n{holder}")

    def cutover(self, *words: str) -> tuple[int, str]:
        if "--patience" not in words:
            words += ("--patience", "3")
        done = self.host.tool("cutover", "plan.yaml", "--unattended", *words)
        return done.returncode, re.sub(r" *\n +", " ", done.stdout + done.stderr)

    def restored(self) -> None:
        done = self.host.tool("restore", "--patience", "8")
        assert done.returncode == 0, done.stdout + done.stderr

    def run(self, namespace: str, script: str, *words: str) -> None:
        """Runs a program of the lab in a namespace until the row ends."""
        enter = ["ip", "netns", "exec", namespace] if namespace else []
        argv = [*enter, sys.executable, str(Path(__file__).with_name(script)), *words]
        self.processes.append(subprocess.Popen(argv, stdout=subprocess.PIPE, text=True))
        out = self.processes[-1].stdout
        assert out is not None
        assert out.readline() == "listening\n"

    def resolver(self, *words: str) -> None:
        """A second resolver of the segment, with a fault."""
        apart = self.segment.neighbour("203.0.113.3", "00:00:5e:00:53:03")
        self.run(apart.name, "odd_resolver.py", "203.0.113.3", *words)

    def uplink(self) -> Namespace:
        """Somebody beyond the router, who takes connections to port 80."""
        far = Namespace("far")
        self.segment.neighbours.append(far)
        router = self.segment.namespace
        router("ip", "link", "add", "up0", "type", "veth", "peer", "name", "eth0", "netns", far.name)
        router("ip", "address", "add", "198.18.16.1/24", "dev", "up0")
        router("ip", "link", "set", "up0", "up")
        far("ip", "address", "add", f"{FAR}/24", "dev", "eth0")
        far("ip", "link", "set", "eth0", "up")
        far("ip", "route", "add", "default", "via", "198.18.16.1")
        argv = ["ip", "netns", "exec", far.name, sys.executable, "-m", "http.server", "80", "--directory", "/mnt"]
        self.processes.append(subprocess.Popen(argv, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, text=True))
        wait_for("the server", lambda: ":80 " in far("ss", "-Hltn").stdout, 10)
        return far

    def close(self) -> None:
        for process in self.processes:
            process.kill()
            process.wait()


@pytest.fixture
def site(make_host: MakeHost, segment: Segment, request: pytest.FixtureRequest) -> Iterator[Site]:
    text, lease = getattr(request, "param", (NETWORK, True))
    made = Site(make_host({QUAY: text}, NETWORKD, lease), segment)
    yield made
    made.close()


def test_the_gateway_is_a_printer(site: Site) -> None:
    site.segment.neighbour("203.0.113.50", "00:00:5e:00:53:5a")
    site.plan(gateway="203.0.113.50")
    status, said = site.cutover()
    assert (status, "gateway-differs" in said) == (1, True), said
    status, said = site.cutover("--accept", "gateway-differs", "--because", "a test")
    assert status == 3, said
    assert "fail gateway-forwards" in re.sub(" +", " ", said)
    assert site.host.leased()


@BEYOND_COVER
def test_the_gateway_drops_echo_and_the_prefix_widens(site: Site) -> None:
    site.segment.namespace("sysctl", "-qw", "net.ipv4.icmp_echo_ignore_all=1")
    site.plan(subnet="203.0.112.0/22")
    status, said = site.cutover()
    assert (status, "prefix-differs" in said) == (1, True), said
    site.plan(subnet="203.0.112.0/22", was="203.0.113.0/24")
    status, said = site.cutover()
    # The DHCP server says the former prefix still: a warning, and no reason to stop.
    assert status == 0, said
    assert "some gateways never do" in said
    assert "whether its uplink works was not seen" in said
    site.restored()


@BEYOND_COVER
@pytest.mark.parametrize(
    ("fault", "status", "words"),
    [
        (("only-tcp",), 3, "answers over TCP only"),
        (("refuses",), 3, "203.0.113.3 gave no usable answer"),
        (("admits", "203.0.113.20"), 0, "ternpoint.example SOA: NOERROR"),
    ],
)
def test_a_new_resolver(site: Site, fault: tuple[str, ...], status: int, words: str) -> None:
    site.resolver(*fault)
    site.plan(resolvers="203.0.113.3")
    done, said = site.cutover()
    assert (done, words in said) == (status, True), said


@pytest.mark.parametrize("site", [(NETWORK + "DNS=203.0.113.3\n[DHCPv4]\nUseDNS=no\n", True)], indirect=True)
@pytest.mark.parametrize(
    ("admits", "status", "words"),
    [
        (False, 0, "gave no usable answer; it was so before the change"),
        (True, 3, "answered ternpoint.example SOA before the change, and now says REFUSED"),
    ],
)
def test_the_resolver_of_before(site: Site, admits: bool, status: int, words: str) -> None:
    """One that refuses everything, as before; and one that refuses the new address alone."""
    site.resolver(*(("admits", site.host.leased_address()) if admits else ("refuses",)))
    site.plan(resolvers="203.0.113.3")
    done, said = site.cutover()
    assert (done, words in said) == (status, True), said


@BEYOND_COVER
def test_a_resolver_on_the_host_itself(site: Site) -> None:
    site.run(site.host.namespace.name, "odd_resolver.py", "127.0.0.1", "admits", "127.0.0.1")
    site.plan(resolvers="127.0.0.1")
    status, said = site.cutover()
    assert status == 0, said
    site.restored()


def test_reachable_before_and_after(site: Site) -> None:
    far = site.uplink()
    site.plan(reachable=f'["{FAR}:80", "{FAR}:81", "http://{FAR}/"]')
    status, said = site.cutover()
    # Port 81 was closed before, too.
    assert status == 0, said
    assert f"{FAR} port 80 accepts, beyond 203.0.113.1" in said
    assert "nobody takes connections to port 81; it was so before the change" in said
    assert "status 200" in said
    site.restored()
    # Who goes by the source address keeps the new one out.
    far("ip", "route", "add", "blackhole", "203.0.113.20/32")
    status, said = site.cutover()
    assert (status, f"fail reachable {FAR}:80" in re.sub(" +", " ", said)) == (3, True), said


@BEYOND_COVER
def test_the_far_end_forwards_after_half_a_minute(site: Site) -> None:
    """A switch port that is flapped by the change forwards again after 30 s; with the patience that everybody has."""
    site.plan()
    port = site.segment.port_of(site.host.namespace)

    def flap() -> None:
        state = site.host.disk("/var/lib/fixed-anchor/changes/0001/state")
        wait_for("the change", lambda: state.exists() and state.read_text().strip() in IN_FORCE, 60, 0.05)
        space = site.segment.namespace
        space("ip", "link", "set", port, "down")
        space("ip", "link", "set", port, "up")
        space("ip", "link", "set", "dev", port, "type", "bridge_slave", "state", "4")
        time.sleep(30)
        space("ip", "link", "set", "dev", port, "type", "bridge_slave", "state", "3")

    away = threading.Thread(target=flap)
    away.start()
    begun = time.monotonic()
    done = site.host.tool("cutover", "plan.yaml", "--unattended")
    away.join()
    assert done.returncode == 0, done.stdout + done.stderr
    assert time.monotonic() - begun > 30


@pytest.mark.parametrize(
    "site",
    [(NETWORK + IN_TABLE, True)],
    indirect=True,
)
def test_a_default_route_in_another_table(site: Site) -> None:
    site.plan()
    assert "default" not in site.host("ip", "route").stdout
    status, said = site.cutover()
    assert status == 0, said
    # Back in that table, where it was.
    site.restored()


@BEYOND_COVER
def test_a_full_length_prefix_with_a_gateway_on_link(site: Site) -> None:
    site.plan("203.0.113.20/32", gateway="203.0.113.1")
    status, said = site.cutover()
    assert status == 0, said
    assert site.host.answers("203.0.113.20")
    site.restored()


def test_proxy_arp(site: Site) -> None:
    """A router that stands in for every address of the segment is a second owner of none."""
    proxy = site.segment.neighbour("203.0.113.60", "00:00:5e:00:53:6a")
    proxy("ip", "link", "add", "in0", "type", "veth", "peer", "name", "in1")
    proxy("ip", "link", "set", "in0", "up")
    proxy("ip", "link", "set", "in1", "up")
    proxy("ip", "address", "del", "203.0.113.60/24", "dev", "eth0")
    proxy("ip", "address", "add", "203.0.113.60/32", "dev", "eth0")
    proxy("ip", "route", "add", "203.0.113.0/24", "dev", "in0")
    for setting in ("ip_forward", "conf.eth0.proxy_arp"):
        proxy("sysctl", "-qw", f"net.ipv4.{setting}=1")
    site.plan()
    status, said = site.cutover()
    assert status == 0, said
    assert "answered-by-proxy" in said


@BEYOND_COVER
@pytest.mark.parametrize("site", [(ALONE, False)], indirect=True)
@pytest.mark.parametrize("refuses", [False, True])
def test_no_usable_address_before(site: Site, refuses: bool) -> None:
    wait_for("an address of its own", lambda: "169.254." in site.host("ip", "-4", "address").stdout, 30)
    if refuses:
        site.resolver("refuses")
    site.plan(resolvers="203.0.113.3" if refuses else "203.0.113.2")
    status, said = site.cutover()
    # There is no baseline that would excuse anything.
    assert (status, "(as before)" in said) == (3 if refuses else 0, False), said


@BEYOND_COVER
@pytest.mark.parametrize("site", [(TUNNEL, False)], indirect=True)
def test_a_point_to_point_link(site: Site) -> None:
    site.segment.namespace("sysctl", "-qw", "net.ipv4.conf.br0.proxy_arp=1")
    site.run("", "tunnel.py", site.host.namespace.name, site.segment.namespace.name)
    site.segment.namespace("ip", "link", "set", "tun0", "up")
    site.segment.namespace("ip", "route", "add", "203.0.113.20/32", "dev", "tun0")
    far = site.uplink()
    assert far.name
    wait_for("tun0", lambda: "203.0.113.70" in site.host("ip", "-4", "address").stdout, 20)
    site.plan("203.0.113.20/32", "tun0", gateway="203.0.113.1", reachable=f'"{FAR}:80"')
    status, said = site.cutover()
    assert status == 0, said
    assert "not-probed" not in said
