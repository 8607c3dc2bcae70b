"""A router that advertises itself (radvd) and a DHCPv6 server beside it, on a segment of the lab."""

from __future__ import annotations

import shutil
from pathlib import Path

from tests.lab.network import Segment, run

#: What it gives beside addresses and the default route.
MTU, RESOLVER, ROUTE = 1400, "2001:db8:7e:1::1", "2001:db8:7e:20::/64"
SEARCH = ("ternpoint.example", "lofts.ternpoint.example")
LINK_LOCAL = "fe80::1"
RADVD = """\
interface br0 {{
    AdvSendAdvert on;
    MinRtrAdvInterval 3;
    MaxRtrAdvInterval 4;
    AdvLinkMTU {mtu};
    AdvManagedFlag {managed};
    AdvDefaultLifetime 600;
    prefix 2001:db8:7e:1::/64 {{ AdvAutonomous {slaac}; }};
    route {route} {{ }};
    RDNSS {resolver} {{ }};
    DNSSL {search} {{ }};
}};
"""


class Router:
    """It answers at ``fe80::1``; ``dhcp`` has it lease addresses, and none be made of its prefix."""

    def __init__(self, root: Path, segment: Segment, dhcp: bool = False) -> None:
        space = segment.namespace
        space("sysctl", "-qw", "net.ipv6.conf.all.forwarding=1")
        # One address alone to advertise from; setting the mode flushes nothing, and adds no other one.
        space("ip", "link", "set", "br0", "addrgenmode", "none")
        space("ip", "-6", "address", "flush", "dev", "br0", "scope", "link")
        space("ip", "address", "add", f"{LINK_LOCAL}/64", "dev", "br0", "nodad")
        yes = {True: "on", False: "off"}
        text = RADVD.format(
            mtu=MTU, managed=yes[dhcp], slaac=yes[not dhcp],
            route=ROUTE, resolver=RESOLVER, search=" ".join(SEARCH),
        )  # fmt: skip
        (root / "etc/radvd-lab.conf").write_text(text)
        for device in ("null", "urandom"):
            if not (root / "dev" / device).exists():
                run("mknod", "-m", "666", str(root / "dev" / device), "c", "1", "3" if device == "null" else "9")
        argv = ["radvd", "-n", "-C", "/etc/radvd-lab.conf", "-m", "stderr", "-p", "/run/radvd.pid", "-u", "root"]
        self.process = segment.run_server(root, *argv, name="radvd")
        self.segment = segment
        if dhcp:
            dnsmasq = shutil.which("dnsmasq") or "/usr/sbin/dnsmasq"
            space.start(
                dnsmasq, "--keep-in-foreground", "--conf-file=/dev/null", "--interface=br0", "--bind-interfaces",
                "--except-interface=lo", "--user=root", "--port=0", "--log-dhcp", "--log-facility=-", "--pid-file=",
                "--dhcp-range=2001:db8:7e:1::100,2001:db8:7e:1::1ff,64,10m",
                f"--dhcp-leasefile={segment.folder}/leases6",
                f"--dhcp-option=option6:dns-server,[{RESOLVER}]",
                "--dhcp-option=option6:domain-search," + ",".join(SEARCH),
                log=segment.folder / "dhcp6.log",
            )  # fmt: skip

    def stop(self) -> None:
        self.segment.namespace.stop(self.process)
