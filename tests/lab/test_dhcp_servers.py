"""The real servers: what we read in their files is what they do, and what they answer is what we understand."""

from __future__ import annotations

import json
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.documents import addresses, findings
from tests.lab.conftest import MakeHost
from tests.lab.network import Namespace, Segment, wait_for
from tests.lab.servers import RESERVED, RESERVED_MAC, Server, lease_to
from tests.lab.test_matrix import plan

pytestmark = pytest.mark.one_in(3)

KINDS = ("kea", "dhcpd", "dnsmasq")

#: Asks DHCP servers from the interface eth0 of the namespace it is run in, and prints what they said.
ASK = """\
import json, sys
from ipaddress import IPv4Address
from fixed_anchor.vantages.raw import RawVantage
from fixed_anchor.workflow.network.look import look
own = IPv4Address(sys.argv[2]) if len(sys.argv) > 2 else None
looked = look(RawVantage("eth0", sys.argv[1], own), [], ask_dhcp=True)
print(json.dumps([{k: str(getattr(s, k)) for k in s.__struct_fields__} for s in looked.servers]))
"""


def asked(segment: Segment, mac: str, own: str | None = None) -> list[dict[str, str]]:
    namespace = Namespace("asker")
    segment.neighbours.append(namespace)
    segment.attach(namespace, "eth0", mac)
    namespace("ip", "link", "set", "eth0", "up")
    if own is not None:
        namespace("ip", "address", "add", f"{own}/24", "dev", "eth0")
    done = namespace(sys.executable, "-c", ASK, mac, *([own] if own else []))
    found: list[dict[str, str]] = json.loads(done.stdout)
    return found


@pytest.mark.parametrize("kind", KINDS)
def test_what_is_read_is_what_the_server_does(kind: str, bare_segment: Segment, servers_root: Path) -> None:
    server = Server(kind, servers_root, bare_segment)
    config = server.claims()
    (subnet,) = config.subnets
    assert (str(subnet.network), str(subnet.routers[0]), subnet.search) == (
        "203.0.113.0/24", "203.0.113.1", ("ternpoint.example",),
    )  # fmt: skip
    (reservation,) = config.reservations
    assert lease_to(bare_segment, servers_root, RESERVED_MAC) == str(reservation.address) == RESERVED
    mac = "00:00:5e:00:53:22"
    leased = lease_to(bare_segment, servers_root, mac)
    assert any(leased in [str(a) for a in _all(p.range)] for p in config.pools)
    wait_for("the lease on the server's disk", lambda: leased in server.leases.read_text(), 10)
    leases = {str(c.address): c for c in server.claims("-leases").leases}
    assert leases[leased].mac == mac
    assert leases[leased].state == "active"
    assert not server.claims("-leases").broken

    # Its offers, in all their parts; and no lease is taken by asking.
    before = len(server.claims("-leases").leases)
    (offer,) = asked(bare_segment, "00:00:5e:00:53:23")
    assert offer["server"] == "203.0.113.1"
    assert offer["mac"] == bare_segment.router_mac
    assert offer["offered"].startswith("203.0.113.1")
    assert offer["prefix"] == "24"
    assert "203.0.113.1" in offer["routers"]
    assert "203.0.113.2" in offer["resolvers"]
    assert "ternpoint.example" in offer["search"]
    assert offer["lease_seconds"] == "1200"
    # A host with an address of its own is told the same, INFORM or not.
    (informed,) = asked(bare_segment, "00:00:5e:00:53:24", "203.0.113.77")
    assert (informed["server"], informed["routers"]) == (offer["server"], offer["routers"])
    active = [c for c in server.claims("-leases").leases if c.state == "active"]
    assert len(active) == before
    assert "00:00:5e:00:53:23" not in {c.mac for c in active}


def _all(pool: object) -> Iterator[object]:
    from ipaddress import IPv4Address

    for number in range(pool.first, pool.last + 1):  # type: ignore[attr-defined]
        yield IPv4Address(number)


def test_an_unknown_second_server_is_found(make_host: MakeHost, segment: Segment) -> None:
    """The stray server's pool is its own, and so is the router that it names."""
    stray = segment.neighbour("203.0.113.250", "00:00:5e:00:53:66")
    stray.start(
        "dnsmasq", "-k", "--conf-file=/dev/null", "--port=0", "--interface=eth0", "--bind-interfaces", "--no-ping",
        "--user=root", "--pid-file=", "--dhcp-range=203.0.113.210,203.0.113.220,255.255.255.0,2m",
        f"--dhcp-leasefile={segment.folder}/stray", log=segment.folder / "stray.log",
    )  # fmt: skip
    host = make_host()
    plan(host, "hold: 203.0.113.20")
    done = host.tool("check", "plan.yaml", "--json")
    found = [f for f in findings(done.stdout) if f["code"] == "unknown-dhcp-server"]
    assert [f["address"] for f in found] == ["203.0.113.250"], done.stdout
    assert "00:00:5e:00:53:66" in found[0]["message"]
    evidence = addresses(done.stdout)[0]["asked"]
    assert sum(c["source"] == "DHCP servers on the wire" for c in evidence) == 2


def test_names_over_udp_and_tcp(bare_segment: Segment, servers_root: Path) -> None:
    names = [f"host-with-a-long-name-{n}.ternpoint.example" for n in range(40)]
    data = "\n".join(f'  local-data-ptr: "203.0.113.20 {name}"' for name in names)
    (servers_root / "etc/unbound/lab.conf").write_text(
        "server:\n  interface: 203.0.113.2\n  access-control: 203.0.113.0/24 allow\n  chroot: \"\"\n  username: \"\"\n"
        "  max-udp-size: 512\n  use-syslog: no\n  do-daemonize: no\n  pidfile: \"\"\n"
        '  local-zone: "ternpoint.example." static\n  local-data: "tide-db.ternpoint.example. A 203.0.113.9"\n'
        f'  local-zone: "113.0.203.in-addr.arpa." static\n{data}\n'
    )  # fmt: skip
    bare_segment.run_server(servers_root, "unbound", "-d", "-c", "/etc/unbound/lab.conf", name="unbound")
    neighbour = bare_segment.neighbour("203.0.113.30", "00:00:5e:00:53:30")
    script = (
        "from ipaddress import ip_address as a\nfrom fixed_anchor.vantages.raw import RawVantage\n"
        "from fixed_anchor.workflow.network.names import records\n"
        "found = records(RawVantage('eth0', '00:00:5e:00:53:30'), a('203.0.113.2'), [a('203.0.113.20')],"
        " ['tide-db.ternpoint.example'])\n"
        "pointers = [r for r in found.records if r.kind == 'PTR']\n"
        "print(len(pointers), [str(r.address) for r in found.records if r.kind == 'A'])\n"
    )
    said: list[str] = []

    def answered() -> bool:
        said.append(neighbour(sys.executable, "-c", script, check=False).stdout.strip())
        return said[-1] == "40 ['203.0.113.9']"

    wait_for("all names", answered, 20, 0.5)
