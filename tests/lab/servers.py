"""The real DHCP servers of the lab, each with the same pool, reservation and options."""

from __future__ import annotations

import json
from pathlib import Path

from fixed_anchor.core.claims import Claims
from fixed_anchor.sources import SOURCES
from fixed_anchor.sources.protocol import Origin, Reader
from tests.lab.network import Namespace, Segment, run, wait_for

RESERVED_MAC, RESERVED = "00:00:5e:00:53:21", "203.0.113.50"

KEA = {
    "Dhcp4": {
        "interfaces-config": {"interfaces": ["br0"], "re-detect": True},
        "lease-database": {"type": "memfile", "name": "/var/lib/kea/leases4.csv", "lfc-interval": 0},
        "valid-lifetime": 1200,
        "subnet4": [
            {
                "id": 1,
                "subnet": "203.0.113.0/24",
                "pools": [{"pool": "203.0.113.100 - 203.0.113.199"}],
                "option-data": [
                    {"name": "routers", "data": "203.0.113.1"},
                    {"name": "domain-name-servers", "data": "203.0.113.2"},
                    {"name": "domain-search", "data": "ternpoint.example"},
                ],
                "reservations": [{"hw-address": RESERVED_MAC, "ip-address": RESERVED}],
            }
        ],
    }
}
DHCPD = f"""\
authoritative;
default-lease-time 1200;
subnet 203.0.113.0 netmask 255.255.255.0 {{
  option routers 203.0.113.1;
  option domain-name-servers 203.0.113.2;
  option domain-search "ternpoint.example";
  range 203.0.113.100 203.0.113.199;
  host reserved {{ hardware ethernet {RESERVED_MAC}; fixed-address {RESERVED}; }}
}}
"""
DNSMASQ = f"""\
interface=br0
bind-interfaces
port=0
user=root
dhcp-range=203.0.113.100,203.0.113.199,255.255.255.0,20m
dhcp-option=option:router,203.0.113.1
dhcp-option=option:dns-server,203.0.113.2
dhcp-option=option:domain-search,ternpoint.example
dhcp-host={RESERVED_MAC},{RESERVED}
dhcp-leasefile=/var/lib/misc/leases
"""


def furnish(root: Path) -> None:
    """Makes the folders and devices that the servers want in their tree."""
    for folder in ("run/kea", "run/lock/kea", "var/lib/kea", "dev"):
        (root / folder).mkdir(parents=True, exist_ok=True)
    for device, minor in {"null": "3", "zero": "5", "random": "8", "urandom": "9"}.items():
        if not (root / "dev" / device).exists():
            run("mknod", "-m", "666", str(root / "dev" / device), "c", "1", minor)


class Server:
    """A running server: its files are below ``root``, a tree with the server's package in it."""

    def __init__(self, kind: str, root: Path, segment: Segment, text: str | None = None) -> None:
        """With the configuration ``text``, or the usual one."""
        self.kind = kind
        self.root = root
        self.config = root / {"kea": "etc/kea/lab.conf", "dhcpd": "etc/dhcp/lab.conf", "dnsmasq": "etc/lab.conf"}[kind]
        leases = {
            "kea": "var/lib/kea/leases4.csv",
            "dhcpd": "var/lib/dhcp/lab.leases",
            "dnsmasq": "var/lib/misc/leases",
        }
        self.leases = root / leases[kind]
        self.config.parent.mkdir(parents=True, exist_ok=True)
        self.leases.parent.mkdir(parents=True, exist_ok=True)
        furnish(root)
        self.config.write_text(text or {"kea": json.dumps(KEA), "dhcpd": DHCPD, "dnsmasq": DNSMASQ}[kind])
        inside = "/" + str(self.config.relative_to(root))
        if kind == "dhcpd":
            self.leases.write_text("")
            argv = ["dhcpd", "-4", "-f", "-cf", inside, "-lf", "/var/lib/dhcp/lab.leases", "-pf", "/run/d.pid", "br0"]
        else:
            argv = {"kea": ["kea-dhcp4", "-c", inside], "dnsmasq": ["dnsmasq", "-k", "-C", inside]}[kind]
        self.process = segment.run_server(root, *argv, name=kind)
        listening = ("ss", "-Hlun")
        wait_for(f"{kind} to listen", lambda: ":67 " in segment.namespace(*listening).stdout or self.ended, 60, 0.1)

    @property
    def ended(self) -> bool:
        return self.process.poll() is not None

    def claims(self, what: str = "") -> Claims:
        """What our own reader makes of the server's own file: its configuration, or with ``-leases`` its leases."""
        path = self.leases if what else self.config
        kind = self.kind + what
        return SOURCES[kind].claims(path.read_bytes(), Origin(kind, path.name, str(path)), Rooted(self.root))


class Rooted(Reader):
    """Reads in the server's own tree: its absolute paths count from there."""

    def path(self, name: str, beside: str | None = None) -> str:
        return f"{self.folder}{name}" if name.startswith("/") else super().path(name, beside)


def lease_to(segment: Segment, root: Path, mac: str) -> str:
    """The address that a real client with ``mac`` is leased."""
    client = Namespace("client")
    segment.neighbours.append(client)
    segment.attach(client, "eth0", mac)
    client("ip", "link", "set", "eth0", "up")
    said: list[str] = []

    def leased() -> bool:
        name = mac.replace(":", "")
        done = client(
            "chroot", str(root), "dhclient", "-4", "-1", "-v", "-sf", "/bin/true", "-lf", f"/tmp/{name}.leases",
            "-pf", f"/tmp/{name}.pid", "eth0", check=False,
        )  # fmt: skip
        said.append(done.stderr)
        return done.returncode == 0

    wait_for(f"a lease for {mac}: {said[-1:]}", leased, 60, 1)
    text = (root / f"tmp/{mac.replace(':', '')}.leases").read_text()
    # The client goes on in the background, and writes down its number only then.
    number = root / f"tmp/{mac.replace(':', '')}.pid"
    wait_for("the client's process number", lambda: number.exists() and number.read_text().strip() != "", 20)
    run("kill", number.read_text().strip(), check=False)
    return text.split("fixed-address ")[1].split(";")[0]
