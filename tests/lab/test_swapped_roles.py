"""Two hosts swap their addresses; a neighbour that has the old MACs in its cache reaches the new owner at once."""

from __future__ import annotations

import subprocess
import sys
import textwrap

import pytest

from tests.lab.conftest import MakeHost
from tests.lab.host import LabHost
from tests.lab.network import Namespace, Segment, wait_for
from tests.lab.test_matrix import ANOTHER, STACKS, cutover, plan

OTHER, ASIDE = "203.0.113.21", "203.0.113.22"
SIX = {ANOTHER: "2001:db8:7e:1::20", OTHER: "2001:db8:7e:1::21", ASIDE: "2001:db8:7e:1::22"}

#: Listens until a MAC has announced an address, then pings it, and prints how many times it took.
WATCH = textwrap.dedent(
    """
    import socket, subprocess, sys
    address, mac = sys.argv[1], bytes.fromhex(sys.argv[2].replace(":", ""))
    version = 6 if ":" in address else 4
    packed = socket.inet_pton(socket.AF_INET6 if version == 6 else socket.AF_INET, address)
    wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(3))
    wire.bind(("eth0", 3))
    print("listening", flush=True)
    while True:
        frame = wire.recv(2048)
        if version == 4:
            # A request whose sender and target are the same address: RFC 5227, section 2.3.
            said = frame[12:14] == b"\\x08\\x06" and frame[22:28] == mac and frame[28:32] == frame[38:42] == packed
        else:
            # An advertisement to all nodes that nobody asked for: RFC 4861, section 7.2.6.
            to_all = frame[38:54] == socket.inet_pton(socket.AF_INET6, "ff02::1")
            said = frame[54:55] == b"\\x88" and to_all and frame[62:78] == packed and frame[80:86] == mac
        if said:
            break
    pings = 1
    while subprocess.run(["ping", "-c", "1", "-W", "5", address], capture_output=True).returncode:
        pings += 1
    print(pings, flush=True)
    """
)


class Watch:
    """Waits in a neighbour for the announcement of an address by a host."""

    def __init__(self, neighbour: Namespace, address: str, host: LabHost) -> None:
        argv = ["ip", "netns", "exec", neighbour.name, sys.executable, "-c", WATCH, address, host.mac]
        self.process = subprocess.Popen(argv, stdout=subprocess.PIPE, text=True)
        assert self.process.stdout is not None
        assert self.process.stdout.readline() == "listening\n"

    def pings(self) -> int:
        """From the announcement to the first answer. Fails where nothing was announced within two minutes."""
        try:
            return int(self.process.communicate(timeout=120)[0])
        finally:
            self.process.kill()


def forgetful(neighbour: Namespace) -> Namespace:
    """The neighbour, which of itself does not ask again for an hour who has an address."""
    for version in ("ipv4", "ipv6"):
        neighbour("sysctl", "-qw", f"net.{version}.neigh.eth0.base_reachable_time_ms=3600000")
    return neighbour


def cached(neighbour: Namespace, address: str) -> str:
    assert neighbour("ping", "-c", "1", "-W", "2", address, check=False).returncode == 0, address
    return neighbour("ip", "neigh", "show", address).stdout


pytestmark = pytest.mark.one_in(6)


def pytest_generate_tests(metafunc: pytest.Metafunc) -> None:
    whole = metafunc.config.getoption("--whole-matrix")
    some = {"test_neighbours_reach_the_new_owner_at_once": ("networkd", "ifupdown")}
    metafunc.parametrize("stack", STACKS if whole else some.get(metafunc.function.__name__, STACKS))


def test_neighbours_reach_the_new_owner_at_once(stack: str, make_host: MakeHost, segment: Segment) -> None:
    files, units = STACKS[stack]
    hosts = [make_host(files, units), make_host(files, units)]
    neighbour = forgetful(segment.neighbour("203.0.113.9", "00:00:5e:00:53:09"))
    neighbour("ip", "address", "add", "2001:db8:7e:1::9/64", "dev", "eth0")
    for host, address in zip(hosts, (ANOTHER, OTHER), strict=True):
        plan(host, f'hold: [{address}, "{SIX[address]}"]')
        cutover(host, "--no-grace")
    for host, address in zip(hosts, (ANOTHER, OTHER), strict=True):
        assert host.mac in cached(neighbour, address)
        assert host.mac in cached(neighbour, SIX[address])
    for host, address in ((hosts[0], ASIDE), (hosts[1], ANOTHER), (hosts[0], OTHER)):
        watches = [Watch(neighbour, a, host) for a in (address, SIX[address])]
        plan(host, f'hold: [{address}, "{SIX[address]}"]')
        cutover(host, "--no-grace")
        assert [watch.pings() for watch in watches] == [1, 1]
        assert host.mac in neighbour("ip", "neigh", "show", address).stdout


def test_a_rollback_announces_the_former_address(stack: str, make_host: MakeHost, segment: Segment) -> None:
    host = make_host(*STACKS[stack])
    leased = host.leased_address()
    neighbour = forgetful(segment.neighbour("203.0.113.9", "00:00:5e:00:53:09"))
    assert host.mac in cached(neighbour, leased)
    plan(host, f"hold: {ANOTHER}")
    watch = Watch(neighbour, leased, host)
    begun = host.tool_argv("cutover", "plan.yaml", "--confirm-within", "600", "--no-grace")
    process = subprocess.Popen(begun, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT)
    state = host.disk("/var/lib/fixed-anchor/changes/0001/state")
    wait_for("the wait", lambda: state.exists() and state.read_text() == "waiting\n", 60)
    # Meanwhile the neighbour has heard that the address is elsewhere.
    neighbour("ip", "neigh", "replace", leased, "lladdr", "00:00:5e:00:53:99", "dev", "eth0", "nud", "reachable")
    assert host.tool("restore", "1").returncode == 0
    assert watch.pings() == 1
    process.communicate(timeout=240)
    log = host.read("/var/lib/fixed-anchor/changes/0001/log")
    assert f"\nannounced: {leased}\n" in log.split("state: rolling-back")[1], log


def test_a_rollback_announces_nothing_that_another_machine_answers_for(
    stack: str, make_host: MakeHost, segment: Segment
) -> None:
    host = make_host(*STACKS[stack])
    leased = host.leased_address()
    plan(host, f"hold: {ANOTHER}")
    begun = host.tool_argv("cutover", "plan.yaml", "--confirm-within", "600", "--no-grace")
    process = subprocess.Popen(begun, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT)
    state = host.disk("/var/lib/fixed-anchor/changes/0001/state")
    wait_for("the wait", lambda: state.exists() and state.read_text() == "waiting\n", 60)
    # Somebody else has taken the address that was free for a while; it claims it in silence.
    squatter = segment.neighbour(leased, "00:00:5e:00:53:99")
    host.tool("restore", "1")
    process.communicate(timeout=120)
    log = host.read("/var/lib/fixed-anchor/changes/0001/log").split("state: rolling-back")[1]
    if host.holds(leased):
        assert f"not announced: {leased}: 00:00:5e:00:53:99 has it too" in log, log
    assert f"\nannounced: {leased}\n" not in log, log
    assert squatter("ip", "-4", "addr").stdout.count(leased) == 1
