"""`check --no-wire` on large plans, against a process that only loads the same plan's YAML.

The floor reads the plan into plain values. A check composes the same file with the place of every value (a sixth of the
floor's time), starts (a sixth), reads and indexes 50,000 leases (a tenth), makes 10,000 hosts of it (a tenth), and only
then looks at 20,000 addresses and says what was asked of each, in words or in 13 MB of JSON. Its limits are the floor
itself for the words, and a fifth more for JSON.

.venv/bin/python bench/check_scale.py [ROUNDS]
"""

from __future__ import annotations

import json
import random
import sys
import tempfile
from ipaddress import IPv4Address, IPv4Network
from pathlib import Path

import measure

LOAD = "import sys, yaml; yaml.load(open(sys.argv[1], encoding='utf-8'), Loader=yaml.CSafeLoader)"
SEGMENTS, POOLS_EACH, LEASES_EACH = 40, 10, 1250


def write_site(folder: Path, hosts: int) -> Path:
    """A plan of ``hosts`` hosts with two addresses each, the configuration of its DHCP server, and its leases.

    Addresses come from the range for benchmarks (RFC 2544).
    """
    chance = random.Random(7)
    networks = list(IPv4Network("198.18.0.0/15").subnets(new_prefix=21))[:SEGMENTS]
    lines = ["plan: 1", "segments:"]
    subnets, leases = (
        [],
        ["address,hwaddr,client_id,valid_lifetime,expire,subnet_id,fqdn_fwd,fqdn_rev,hostname,state,user_context"],
    )
    for number, network in enumerate(networks):
        base = int(network.network_address)
        gateway, resolver = IPv4Address(base + 1), IPv4Address(base + 2)
        lines.append(f"  seg{number}: {{subnet: {network}, gateway: {gateway}, resolvers: {resolver}}}")
        pools = [(base + 700 + p * 130, base + 700 + p * 130 + 127) for p in range(POOLS_EACH)]
        subnets.append(
            {
                "id": number + 1,
                "subnet": str(network),
                "pools": [{"pool": f"{IPv4Address(a)} - {IPv4Address(b)}"} for a, b in pools],
                "option-data": [{"name": "routers", "data": str(IPv4Address(base + 1))}],
            }
        )
        inside = [a for first, last in pools for a in range(first, last + 1)]
        for address in chance.sample(inside, LEASES_EACH):
            mac = "02:" + ":".join(f"{b:02x}" for b in address.to_bytes(4, "big")) + ":01"
            leases.append(f"{IPv4Address(address)},{mac},,3600,4102444800,{number + 1},0,0,c{address},0,")
    lines += ["sources:", "  - kea: kea.conf", "  - kea-leases: leases.csv", "hosts:"]
    for number in range(hosts):
        network = networks[number % SEGMENTS]
        base = int(network.network_address) + 10 + 2 * (number // SEGMENTS)
        mac = f"02:00:00:{number >> 16:02x}:{number >> 8 & 255:02x}:{number & 255:02x}"
        lines += [
            f"  host-{number}:",
            f"    hostname: host-{number}.ternpoint.example",
            "    interfaces:",
            "      enp1s0:",
            f'        mac: "{mac}"',
            f"        segment: seg{number % SEGMENTS}",
            f"        hold: [{IPv4Address(base)}, {IPv4Address(base + 1)}]",
        ]
    (folder / "kea.conf").write_text(json.dumps({"Dhcp4": {"subnet4": subnets}}, indent=1))
    (folder / "leases.csv").write_text("\n".join(leases) + "\n")
    plan = folder / f"plan{hosts}.yaml"
    plan.write_text("\n".join(lines) + "\n")
    return plan


def main() -> None:
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 5
    with tempfile.TemporaryDirectory() as name:
        cases = {}
        for hosts in (1000, 10000):
            plan = str(write_site(Path(name), hosts))
            cases[f"load {hosts}"] = ([sys.executable, "-c", LOAD, plan], (0,))
            # 6: without the wire every address is undetermined.
            cases[f"check {hosts}"] = ([measure.PROGRAM, "check", plan, "--no-wire", "--json"], (6,))
            cases[f"read {hosts}"] = ([measure.PROGRAM, "check", plan, "--no-wire"], (6,))
        taken = measure.medians(cases, rounds)
    for case, (seconds, memory) in taken.items():
        print(f"{case:<12} {seconds:6.2f} s  {memory:6.0f} MiB")
    print(f"check of 10,000 hosts: {taken['check 10000'][0] / taken['load 10000'][0]:.2f} times the load (at most 1.2)")
    print(f"the same in words:     {taken['read 10000'][0] / taken['load 10000'][0]:.2f} times the load (at most 1)")
    print(f"10 times the hosts:    {taken['check 10000'][0] / taken['check 1000'][0]:.1f} times the time")


if __name__ == "__main__":
    main()
