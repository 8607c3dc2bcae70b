"""Namespaces, segments and neighbours of the lab. Nothing here touches the machine's own network."""

from __future__ import annotations

import itertools
import os
import shutil
import subprocess
import time
from collections.abc import Iterable
from ipaddress import IPv6Address
from pathlib import Path

_numbers = itertools.count(1)
PREFIX = f"fa{os.getpid() % 100000}"


def run(*argv: str, check: bool = True, **more: object) -> subprocess.CompletedProcess[str]:
    done = subprocess.run(argv, capture_output=True, text=True, check=False, **more)  # type: ignore[call-overload]
    if check and done.returncode != 0:
        raise AssertionError(f"{' '.join(argv)} failed ({done.returncode}): {done.stdout}{done.stderr}")
    return done


class Namespace:
    """A network namespace that ends with the test."""

    def __init__(self, role: str) -> None:
        self.name = f"{PREFIX}-{role}-{next(_numbers)}"
        run("ip", "netns", "add", self.name)
        self("ip", "link", "set", "lo", "up")
        self.processes: list[subprocess.Popen[bytes]] = []

    def __call__(self, *argv: str, check: bool = True) -> subprocess.CompletedProcess[str]:
        return run("ip", "netns", "exec", self.name, *argv, check=check)

    def start(self, *argv: str, log: Path) -> subprocess.Popen[bytes]:
        """Starts a server in the namespace; it is ended by its own process id."""
        with open(log, "ab") as out:
            process = subprocess.Popen(
                ["ip", "netns", "exec", self.name, *argv], stdin=subprocess.DEVNULL, stdout=out, stderr=out
            )
        self.processes.append(process)
        return process

    def stop(self, process: subprocess.Popen[bytes]) -> None:
        process.terminate()
        try:
            process.wait(5)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()
        self.processes.remove(process)

    def close(self) -> None:
        for process in list(self.processes):
            self.stop(process)
        run("ip", "netns", "del", self.name, check=False)


class Segment:
    """The quay of Tern Point: a bridge with a router on it that is DHCP server and resolver."""

    name = "quay"
    router = "203.0.113.1"
    resolver = "203.0.113.2"
    router6 = "2001:db8:7e:1::1"
    pool = ("203.0.113.100", "203.0.113.199")
    router_mac = "00:00:5e:00:53:01"
    bridge = "br0"

    def __init__(self, folder: Path, serve: bool = True) -> None:
        """``serve`` runs the router's own DHCP and DNS server; others may be run by :meth:`run_server`."""
        self.folder = folder
        self.namespace = Namespace(self.name)
        self.neighbours: list[Namespace] = []
        self._ports: dict[tuple[str, str], str] = {}
        self.namespace("ip", "link", "add", "br0", "type", "bridge", "forward_delay", "0")
        self.namespace("ip", "link", "set", "br0", "address", self.router_mac)
        # One address may go without the others.
        self.namespace("sysctl", "-qw", "net.ipv4.conf.br0.promote_secondaries=1")
        # A router, which says so of what it cannot pass on.
        self.namespace("sysctl", "-qw", "net.ipv4.ip_forward=1", "net.ipv6.conf.all.forwarding=1")
        self.namespace("ip", "link", "set", "br0", "up")
        for address in (f"{self.router}/24", f"{self.resolver}/24", f"{self.router6}/64"):
            self.namespace("ip", "address", "add", address, "dev", "br0")
        self.server = self._serve() if serve else None

    def run_server(self, root: Path, *argv: str, name: str) -> subprocess.Popen[bytes]:
        """Runs a server of the tree ``root`` on the router; what it prints goes to ``NAME.log``."""
        return self.namespace.start("chroot", str(root), *argv, log=self.folder / f"{name}.log")

    def _serve(self, knows_site: bool = True) -> subprocess.Popen[bytes]:
        # The DHCP server keeps its leases in the test's folder, and answers DNS for the site.
        dnsmasq = shutil.which("dnsmasq") or "/usr/sbin/dnsmasq"
        return self.namespace.start(
            dnsmasq,
            "--keep-in-foreground",
            "--conf-file=/dev/null",
            "--interface=br0",
            "--bind-interfaces",
            "--user=root",
            "--no-resolv",
            "--no-hosts",
            "--no-ping",
            "--log-dhcp",
            "--log-facility=-",
            "--pid-file=",
            f"--dhcp-range={self.pool[0]},{self.pool[1]},255.255.255.0,2m",
            f"--dhcp-leasefile={self.folder}/{self.name}.leases",
            f"--dhcp-option=option:router,{self.router}",
            f"--dhcp-option=option:dns-server,{self.resolver}",
            *(self._names() if knows_site else ()),
            log=self.folder / f"{self.name}.log",
        )

    @staticmethod
    def _names() -> tuple[str, ...]:
        return (
            "--domain=ternpoint.example",
            "--local=/ternpoint.example/",
            "--host-record=gull.ternpoint.example,203.0.113.9",
            "--ptr-record=19.113.0.203.in-addr.arpa,tide-db.ternpoint.example",
            "--ptr-record=20.100.51.198.in-addr.arpa,tide-db.labs.ternpoint.example",
            f"--ptr-record={IPv6Address('2001:db8:7e:1::20').reverse_pointer},tide-db.ternpoint.example",
        )

    def isolate(self) -> None:
        """From now on its resolver has nobody to ask, and refuses every name; leases stay as they are."""
        assert self.server is not None
        self.namespace.stop(self.server)
        self.server = self._serve(knows_site=False)

    def move_pool(self, first: str, last: str) -> None:
        """From now on the router leases other addresses, and knows nothing of the old leases."""
        assert self.server is not None
        self.namespace.stop(self.server)
        (self.folder / f"{self.name}.leases").unlink(missing_ok=True)
        self.pool = (first, last)
        self.server = self._serve()

    def lose(self, address: str) -> None:
        """The router does not answer at ``address`` any more."""
        self.namespace("ip", "address", "del", f"{address}/24", "dev", "br0")

    def regain(self, address: str) -> None:
        self.namespace("ip", "address", "add", f"{address}/24", "dev", "br0")

    def dhcp_log(self) -> str:
        return (self.folder / f"{self.name}.log").read_text(errors="replace")

    def attach(self, namespace: Namespace, interface: str, mac: str) -> None:
        """Lays a cable from the bridge to ``interface`` of ``namespace``."""
        port = f"p{next(_numbers)}"
        self.namespace("ip", "link", "add", port, "type", "veth", "peer", "name", interface, "netns", namespace.name)
        self.namespace("ip", "link", "set", port, "master", self.bridge, "up")
        self._ports[namespace.name, interface] = port
        namespace("ip", "link", "set", interface, "address", mac)

    def port_of(self, namespace: Namespace, interface: str = "eth0") -> str:
        """The port of the bridge to which that interface is laid."""
        return self._ports[namespace.name, interface]

    def neighbour(self, address: str, mac: str, echo: bool = True) -> Namespace:
        """A neighbour that holds ``address``; without ``echo`` it drops every ping."""
        namespace = Namespace("neighbour")
        self.neighbours.append(namespace)
        self.attach(namespace, "eth0", mac)
        if not echo:
            namespace("sysctl", "-qw", "net.ipv4.icmp_echo_ignore_all=1")
        namespace("ip", "address", "add", f"{address}/24", "dev", "eth0")
        namespace("ip", "link", "set", "eth0", "up")
        return namespace

    def close(self) -> None:
        for namespace in (*self.neighbours, self.namespace):
            namespace.close()


class Branch(Segment):
    """A further segment ``198.18.NUMBER.0/24`` behind the router of another one; nothing serves on it."""

    def __init__(self, beside: Segment, number: int) -> None:
        self.folder, self.namespace = beside.folder, beside.namespace
        self.name, self.bridge = f"branch{number}", f"br{number + 1}"
        self.router = f"198.18.{number}.1"
        self.neighbours: list[Namespace] = []
        self._ports: dict[tuple[str, str], str] = {}
        self.server = None
        self.namespace("ip", "link", "add", self.bridge, "type", "bridge", "forward_delay", "0")
        self.namespace("ip", "link", "set", self.bridge, "up")
        self.namespace("ip", "address", "add", f"{self.router}/24", "dev", self.bridge)

    def close(self) -> None:
        for namespace in self.neighbours:
            namespace.close()


class Labs(Segment):
    """The second segment, with a router of its own."""

    name = "labs"
    router = "198.51.100.1"
    resolver = "198.51.100.2"
    router6 = "2001:db8:7e:2::1"
    pool = ("198.51.100.100", "198.51.100.199")
    router_mac = "00:00:5e:00:53:02"


def wait_for(what: str, condition: object, seconds: float = 30.0, every: float = 0.2) -> None:
    """Waits until ``condition()`` is true; fails the test with ``what`` where it never is.

    ``seconds`` are what it takes at most on an idle machine: one that other tests keep busy gets four times as long.
    """
    until = time.monotonic() + 4 * seconds
    while not condition():  # type: ignore[operator]
        assert time.monotonic() < until, f"not within {seconds:g} s: {what}"
        time.sleep(every)


def missing_tools() -> list[str]:
    return [tool for tool in _needed() if shutil.which(tool, path=f"{os.environ['PATH']}:/usr/sbin:/sbin") is None]


def _needed() -> Iterable[str]:
    return ("mmdebstrap", "ip", "dnsmasq", "unshare", "nsenter", "sysctl")
