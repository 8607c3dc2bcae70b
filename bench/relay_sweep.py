"""The ARP sweep of a /22 through a relay over real OpenSSH, against the same sweep made on the host; needs root.

.venv/bin/python -m bench.relay_sweep [ROUNDS]

200 of the 1022 addresses answer, in quiet and with 2,000 foreign ARP and 2,000 UDP packets a second on the segment.
Then the relay's share of an answer's time: with 200 ms of delay on the connection, well above the noise, a TCP
connection and an ARP answer are timed there and here, and the difference is counted in round trips.
"""

from __future__ import annotations

import contextlib
import json
import statistics
import subprocess
import sys

from bench.two_hosts import DELAY, delayed, two_hosts
from tests.lab.host import LabHost
from tests.lab.network import Namespace
from tests.lab.seats import Reached, Seat

NETWORK, ANSWERING = "198.18.4.0/22", 200
AT_MOST, ROUND_TRIPS = 1.5, 1.0

#: Sweeps NETWORK, or asks TIMES for one holder: python -c LOOK ssh:NAME|here NETWORK TIMES; prints JSON.
LOOK = """\
import json, sys, time
from ipaddress import IPv4Address, IPv4Network
from pathlib import Path
from fixed_anchor.machines import reach_by
from fixed_anchor.machines.here import Here
from fixed_anchor.machines.seat import Seat
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.packets.arp_probes import QUICKLY, ArpProbes
way, network, times = sys.argv[1], IPv4Network(sys.argv[2]), int(sys.argv[3])
seat = Seat()
machine = Here() if way == "here" else reach_by(way, Path("."), seat)
vantage = machine.vantage(take_stock(machine, beside=False).interface("eth0"))
vantage.converse(ArpProbes(vantage.mac, [IPv4Address("198.18.4.2")], QUICKLY))
def timed(act):
    begun = time.perf_counter()
    act()
    return time.perf_counter() - begun
if times:
    one = IPv4Address("198.18.4.10")
    def answered():
        probes, begun, at = ArpProbes(vantage.mac, [one], QUICKLY, until_answered=True), time.perf_counter(), []
        receive = probes.receive
        probes.receive = lambda frame: (receive(frame), at.append(time.perf_counter()))
        vantage.converse(probes)
        return at[0] - begun
    connects = [timed(lambda: vantage.connect(one, 22, None, 5.0)) for _ in range(times)]
    print(json.dumps([sorted(taken)[times // 2] for taken in (connects, [answered() for _ in range(times)])]))
else:
    probes = ArpProbes(vantage.mac, network.hosts(), QUICKLY)
    seconds = timed(lambda: vantage.converse(probes))
    print(json.dumps([sum(map(bool, probes.holders.values())), seconds, vantage.drops()]))
seat.close()
"""

#: Foreign ARP requests and UDP packets, RATE a second of each, until it is killed: python -c NOISE INTERFACE RATE.
NOISE = """\
import socket, sys, time
from ipaddress import IPv4Address
from fixed_anchor.packets.arp import request_frame
interface, rate = sys.argv[1], int(sys.argv[2])
wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW)
wire.bind((interface, 0))
arp = request_frame("00:00:5e:00:53:e9", IPv4Address("203.0.113.77"), IPv4Address("203.0.113.78"))
head = "450000200001000040110000cb00714dcb0071ff14e914e9000c0000"
udp = b"\\xff" * 6 + arp[6:12] + b"\\x08\\x00" + bytes.fromhex(head)
begun, sent = time.monotonic(), 0
while True:
    while sent < (time.monotonic() - begun) * rate:
        wire.send(arp)
        wire.send(udp + b"foam")
        sent += 1
    time.sleep(0.002)
"""


def seen(host: LabHost, way: str, times: int = 0) -> list[float]:
    home = ("env", "-C", "/root", "HOME=/root", "PYTHONDONTWRITEBYTECODE=1")
    done = host(*home, sys.executable, "-c", LOOK, way, NETWORK, str(times), check=False)
    assert done.returncode == 0, done.stdout[-500:] + done.stderr[-2000:]
    told: list[float] = json.loads(done.stdout)
    return told


def sweeps(name: str, harbour: LabHost, desk: LabHost, rounds: int) -> bool:
    """Whether none was missed, and the relay took no longer than it may."""
    taken: dict[str, list[float]] = {"here": [], "ssh:near": []}
    found = set()
    for _ in range(rounds):
        for host, way in ((harbour, "here"), (desk, "ssh:near")):
            count, seconds, lost = seen(host, way)
            found.add((count, lost))
            taken[way].append(seconds)
    local, relay = (statistics.median(taken[way]) for way in ("here", "ssh:near"))
    print(
        f"{name}: on the host {local:.2f} s, through the relay {relay:.2f} s, ratio {relay / local:.2f} (at most "
        f"{AT_MOST:g}); found, and frames lost, each time: {sorted(found)}"
    )
    return found == {(ANSWERING, 0)} and relay <= AT_MOST * local


def main() -> None:
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 3
    with two_hosts() as (segment, harbour, desk), contextlib.ExitStack() as ends:
        holders = segment.neighbour("203.0.113.60", "00:00:5e:00:53:60")
        for n in range(ANSWERING):
            holders("ip", "address", "add", f"198.18.{4 + n // 60}.{10 + 2 * (n % 60)}/22", "dev", "eth0")
        harbour("ip", "address", "add", "198.18.4.5/22", "dev", "eth0")
        seat = Seat(desk)
        reached = Reached(harbour)
        seat.knows(reached, alias="near")
        ends.enter_context(delayed(desk, 3200, reached.address, 22))
        seat.append(
            seat.config, f"Host far\n  HostName 127.0.0.1\n  Port 3200\n  HostKeyAlias {reached.address}\n  User root\n"
        )
        good = sweeps("/22, 200 answer", harbour, desk, rounds)
        noisy: Namespace = segment.neighbour("203.0.113.77", "00:00:5e:00:53:e9")
        noise = subprocess.Popen(["ip", "netns", "exec", noisy.name, sys.executable, "-c", NOISE, "eth0", "2000"])
        ends.callback(noise.kill)
        good &= sweeps("the same with 2,000 foreign ARP and 2,000 UDP packets/s", harbour, desk, rounds)
        noise.kill()
        here, far = seen(harbour, "here", 9), seen(desk, "ssh:far", 9)
        trips = [(there - local) / DELAY for local, there in zip(here, far, strict=True)]
        print(
            f"with {DELAY * 1000:.0f} ms of delay the relay's share of an answer: TCP {trips[0]:.2f}, ARP "
            f"{trips[1]:.2f} round trips (at most {ROUND_TRIPS:g}, and a half for noise)"
        )
    if not good or max(trips) > ROUND_TRIPS + 0.5:
        raise SystemExit("above what is allowed")


if __name__ == "__main__":
    main()
