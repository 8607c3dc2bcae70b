"""Who holds an address: hosts that hide from pings, and how they are found all the same."""

from __future__ import annotations

import sys
from pathlib import Path

from tests.documents import addresses
from tests.lab.host import LabHost
from tests.lab.network import Segment, wait_for

FREE = "203.0.113.77"

#: Answers for an address on eth0, but only the third time that it is asked.
THIRD_TIME = """\
import socket, sys
from ipaddress import IPv4Address
from fixed_anchor.packets.arp import Arp, reply_frame
from fixed_anchor.packets.ethernet import Frame, PacketError
mac, address = sys.argv[1], IPv4Address(sys.argv[2])
wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(0x0806))
wire.bind(("eth0", 0x0806))
print("ready", flush=True)
asked = 0
while True:
    frame, where = wire.recvfrom(2048)
    try:
        arp = Arp.decode(Frame.decode(frame).payload)
    except PacketError:
        continue
    if where[2] != socket.PACKET_OUTGOING and arp.target == address and arp.operation == 1:
        asked += 1
        if asked >= 3:
            wire.send(reply_frame(mac, address, arp))
"""


def probe(host: LabHost, *words: str) -> tuple[int, dict]:
    done = host.tool("probe", *words, "--json")
    assert done.stdout, done.stderr
    return done.returncode, {a["address"]: a for a in addresses(done.stdout)}


def test_everybody_who_is_there_is_found(host: LabHost, segment: Segment, tmp_path: Path) -> None:
    silent, restricted, late, six = (f"00:00:5e:00:53:{n}" for n in ("5a", "5b", "5c", "5d"))
    segment.neighbour("203.0.113.30", silent, echo=False)
    hidden = segment.neighbour("203.0.113.31", restricted, echo=False)
    for setting in ("arp_ignore=2", "arp_filter=1", "arp_announce=2"):
        hidden("sysctl", "-qw", f"net.ipv4.conf.all.{setting}")
    slow = segment.neighbour("203.0.113.200", late, echo=False)
    log = tmp_path / "third"
    slow.start(sys.executable, "-c", THIRD_TIME, late, "203.0.113.32", log=log)
    wait_for("the slow neighbour", lambda: log.exists() and "ready" in log.read_text(), 10)
    holder = segment.neighbour("203.0.113.33", six)
    holder("ip", "address", "add", "2001:db8:7e:1::33/64", "dev", "eth0", "nodad")

    wanted = ["203.0.113.30", "203.0.113.31", "203.0.113.32", "2001:db8:7e:1::33", FREE]
    status, found = probe(host, *wanted, "--interface", "eth0")
    assert status == 1
    for address, mac in zip(wanted, (silent, restricted, late, six), strict=False):
        assert found[address]["verdict"] == "taken", found[address]
        assert [h["mac"] for h in found[address]["holders"]] == [mac]
    assert found[FREE]["verdict"] == "free"
    said = [c["said"] for c in found[FREE]["asked"]]
    assert any(
        "3 ARP probes (RFC 5227) and a request from 203.0.113." in s and s.endswith("no answer") for s in said
    ), said
    assert any(c["source"] == "raw socket on eth0" for c in found[FREE]["asked"])
    # Its own address is taken, too: by itself.
    own = host.addresses().split(" inet ")[1].split("/")[0]
    status, mine = probe(host, own)
    assert (status, mine[own]["holders"][0]["seen_by"]) == (1, "this machine itself")

    # Another segment: the router answers for itself; silence proves nothing there.
    segment.namespace("ip", "address", "add", "198.51.100.1/24", "dev", "br0")
    status, beyond = probe(host, "198.51.100.1", "198.51.100.9")
    assert beyond["198.51.100.1"]["verdict"] == "taken"
    assert beyond["198.51.100.9"]["verdict"] == "undetermined"
    assert any("no interface" in n["why"] for n in beyond["198.51.100.9"]["not_asked"])


def test_without_root_the_silent_host_is_found_too(host: LabHost, segment: Segment) -> None:
    silent = "00:00:5e:00:53:5a"
    segment.neighbour("203.0.113.30", silent, echo=False)
    tool = host.tool_argv("probe", "203.0.113.30", FREE, "203.0.113.1", "--json")
    at = tool.index("env", tool.index("-i") + 1)
    argv = [*tool[:at], "setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", *tool[at:]]
    from tests.lab.network import run

    argv = [word.replace("/root", "/tmp") if word in ("/root", "HOME=/root") else word for word in argv]
    done = run(*argv, check=False)
    assert done.stdout, done.stderr
    found = {a["address"]: a for a in addresses(done.stdout)}
    assert found["203.0.113.30"]["verdict"] == "taken"
    assert found["203.0.113.30"]["holders"] == [{"mac": silent, "seen_by": "resolved by the kernel"}]
    assert found["203.0.113.1"]["verdict"] == "taken"
    assert found[FREE]["verdict"] == "free"
    assert any("without root, which is weaker" in c["said"] for c in found[FREE]["asked"])


def test_pick_and_evidence_on_a_real_host(host: LabHost, segment: Segment) -> None:
    """`propose --pick` passes over a silent holder; the evidence of `check` travels to where the sources are not."""
    taken = "00:00:5e:00:53:5a"
    host.write("/root/dnsmasq.conf", "dhcp-range=203.0.113.100,203.0.113.199,255.255.255.0,2m\n")
    host.write("/root/hosts", "203.0.113.20 gull\n")
    words = ("--pick", "--source", "dnsmasq:dnsmasq.conf", "--source", "hosts:hosts", "-o", "plan.yaml")
    segment.neighbour("203.0.113.21", taken, echo=False)
    done = host.tool("propose", *words)
    assert done.returncode == 0, done.stderr
    assert "203.0.113.21 answered from " + taken in done.stderr
    assert "hold: [203.0.113.19]" in host.read("/root/plan.yaml"), host.read("/root/plan.yaml")
    assert host.tool("check", "plan.yaml", "--evidence", "evidence.json").returncode == 0
    # The sources are gone, as on a host that cannot see them.
    host.disk("/root/dnsmasq.conf").unlink()
    host.disk("/root/hosts").unlink()
    refused = host.tool("cutover", "plan.yaml", "--unattended")
    assert refused.returncode == 6
    assert "source-unreadable" in refused.stdout
    done = host.tool("cutover", "plan.yaml", "--unattended", "--evidence", "evidence.json",
                     "--accept", "evidence-carried-only", "--because", "saved here a moment ago")  # fmt: skip
    assert done.returncode == 0, done.stdout + done.stderr
    assert "the wire is looked at afresh" in done.stdout
    assert host.holds("203.0.113.19")
