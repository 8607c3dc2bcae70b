"""Sweeps of whole segments with real frames, between namespaces of their own; needs root.

.venv/bin/python bench/sweep.py
"""

from __future__ import annotations

import json
import os
import subprocess
import sys

from fixed_anchor.packets.arp_probes import QUICKLY
from fixed_anchor.packets.conversation import PACE

ASKER, HOLDERS = f"fa-bench-{os.getpid()}-a", f"fa-bench-{os.getpid()}-b"
MAC = "00:00:5e:00:53:11"

SWEEP = """\
import json, sys, time
from ipaddress import IPv4Network
from fixed_anchor.packets.arp_probes import QUICKLY, ArpProbes
from fixed_anchor.vantages.raw import RawVantage
network = IPv4Network(sys.argv[1])
probes = ArpProbes(sys.argv[2], network.hosts(), QUICKLY)
sends, sent = probes.sends, 0
def counted():
    global sent
    for send in sends():
        sent += 1
        yield send
probes.sends = counted
vantage = RawVantage("eth0", sys.argv[2])
begun = time.perf_counter()
vantage.converse(probes)
seconds = time.perf_counter() - begun
print(json.dumps([sum(map(bool, probes.holders.values())), sent, seconds, vantage.drops()]))
"""


def run(*argv: str) -> str:
    return subprocess.run(argv, check=True, capture_output=True, text=True).stdout


def inside(namespace: str, *argv: str) -> str:
    return run("ip", "netns", "exec", namespace, *argv)


def sweep(name: str, network: str, expected: int) -> None:
    found, sent, seconds, drops = json.loads(inside(ASKER, sys.executable, "-c", SWEEP, network, MAC))
    paced = sent / PACE
    allowed = 1.2 * paced + QUICKLY.window
    print(
        f"{name:<34} {found} of {expected} found, {sent} frames in {seconds:.2f} s, {drops} lost; "
        f"{seconds / allowed:.2f} times what is allowed (1.2 x {paced:.2f} s paced + {QUICKLY.window:g} s)"
    )
    if found != expected or drops:
        raise SystemExit("not every holder was found")


def main() -> None:
    for namespace in (ASKER, HOLDERS):
        run("ip", "netns", "add", namespace)
    try:
        inside(ASKER, "ip", "link", "add", "eth0", "type", "veth", "peer", "name", "eth0", "netns", HOLDERS)
        inside(ASKER, "ip", "link", "set", "eth0", "address", MAC)
        for namespace in (ASKER, HOLDERS):
            for link in ("lo", "eth0"):
                inside(namespace, "ip", "link", "set", link, "up")
        for n in range(200):
            inside(HOLDERS, "ip", "address", "add", f"198.18.{4 + n // 60}.{10 + 2 * (n % 60)}/22", "dev", "eth0")
        sweep("/22, 200 answer", "198.18.4.0/22", 200)
        inside(HOLDERS, "ip", "address", "flush", "dev", "eth0")
        inside(HOLDERS, "ip", "route", "add", "local", "198.18.0.0/16", "dev", "lo")
        sweep("/16, all answer", "198.18.0.0/16", 65534)
        shaped = [
            "tc",
            "qdisc",
            "add",
            "dev",
            "eth0",
            "root",
            "tbf",
            "rate",
            "10mbit",
            "burst",
            "32kbit",
            "latency",
            "400ms",
        ]
        inside(HOLDERS, *shaped)
        inside(ASKER, *shaped)
        sweep("/16, all answer, 10 Mbit/s", "198.18.0.0/16", 65534)
    finally:
        for namespace in (ASKER, HOLDERS):
            subprocess.run(["ip", "netns", "del", namespace], check=False)


if __name__ == "__main__":
    main()
