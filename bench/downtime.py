"""How long a host is not heard during a cutover, against its stack's usual bare activation; needs root.

.venv/bin/python -m bench.downtime [STACK...]

A neighbour with permanent neighbour entries sends the host a datagram every 2 ms to the old and
the new address; what counts is the longest time in which neither answered. Then the same of the
host's fixed IPv6 address, which the change is not about. NetworkManager takes that one away and
gives it again with whichever of its commands: what is silent then is the kernel's detection of
duplicates, of a random length from 1 to 2 s. Both ways begin from the same host on a lease, booted
anew; they take turns, five times each. The floor is the longest gap while nothing happens, for as
long. The check before a cutover changes nothing and is left out.
"""

from __future__ import annotations

import json
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from tests.lab.host import MAC, LabHost
from tests.lab.network import Namespace, Segment, wait_for
from tests.lab.test_matrix import ANOTHER, NM_UNITS, PLAN
from tests.lab.test_matrix import STACKS as HOSTS

ROUNDS = 5
PROFILE = (
    "[connection]\nid=quay\nuuid=5b0f6f6c-1111-4222-8333-944455556666\ntype=ethernet\ninterface-name=eth0\n"
    "[ipv4]\nmethod=auto\n"
)
#: The fixed IPv6 address of the host, and how each stack declares it beside the IPv4 lease.
SIX = "2001:db8:7e:1::20"
SIX_IN = {
    "netplan": ("dhcp4: true", f'dhcp4: true\n      addresses: ["{SIX}/64"]'),
    "networkd": ("DHCP=ipv4\n", f"DHCP=ipv4\nAddress={SIX}/64\n"),
    "ifupdown": ("inet dhcp\n", f"inet dhcp\n\niface eth0 inet6 static\n    address {SIX}/64\n"),
    "NetworkManager": ("method=auto\n", f"method=auto\n\n[ipv6]\nmethod=manual\naddress1={SIX}/64\n"),
}
PROFILE_FILE = "/etc/NetworkManager/system-connections/quay.nmconnection"

#: The usual commands before and after the files are swapped, and how much of the usual gap ours may be at
#: most, for a kept and for another address, and for the other family.
STACKS: dict[str, tuple[list[list[str]], list[list[str]], tuple[float, float, float]]] = {
    "netplan-networkd": ([], [["netplan", "apply"]], (1.0, 1.0, 1.2)),
    "networkd": ([], [["networkctl", "reload"]], (1.0, 1.0, 1.2)),
    "NetworkManager": (
        [], [["nmcli", "connection", "load", PROFILE_FILE], ["nmcli", "connection", "up", "quay"]], (0.5, 0.5, 1.5),
    ),
    "netplan-NetworkManager": ([], [["netplan", "apply"]], (0.5, 0.5, 1.5)),
    "ifupdown": ([["ifdown", "eth0"]], [["ifup", "eth0"]], (0.5, 1.0, 1.2)),
}  # fmt: skip

#: Answers from the very address that was asked, whichever the interface holds at the time.
RESPONDER = f"""\
import socket, struct, threading
def six():
    t = socket.socket(socket.AF_INET6, socket.SOCK_DGRAM)
    t.setsockopt(socket.IPPROTO_IPV6, 78, 1)
    t.bind(("{SIX}", 9999))
    while True:
        data, peer = t.recvfrom(64)
        try:
            t.sendto(data, peer)
        except OSError:
            pass
threading.Thread(target=six, daemon=True).start()
s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
s.setsockopt(socket.IPPROTO_IP, 8, 1)
s.bind(("0.0.0.0", 9999))
while True:
    data, ancillary, _, peer = s.recvmsg(64, 64)
    info = ancillary[0][2]
    try:
        s.sendmsg([data], [(socket.IPPROTO_IP, 8, struct.pack("=I4s4s", 0, info[8:12], bytes(4)))], 0, peer)
    except OSError:
        pass
"""

#: Sends to every address in turn until its input ends, then prints the longest gap in ms and how many answered.
PROBER = """\
import json, os, select, socket, sys, threading, time
os.nice(-10)
six = ":" in sys.argv[1]
s = socket.socket(socket.AF_INET6 if six else socket.AF_INET, socket.SOCK_DGRAM)
s.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 20)
s.bind(("::" if six else "0.0.0.0", 0))
times, ended = [], False
def receive():
    while not ended:
        if select.select([s], [], [], 0.2)[0]:
            s.recv(64)
            times.append(time.monotonic())
thread = threading.Thread(target=receive)
thread.start()
due = time.monotonic()
while not select.select([sys.stdin], [], [], max(0, due - time.monotonic()))[0]:
    due = max(due + 0.002, time.monotonic() - 0.002)
    for address in sys.argv[1:]:
        try:
            s.sendto(b"x", (address, 9999))
        except OSError:
            pass
ended, end = True, time.monotonic()
thread.join()
# An address that is not back at the end counts as silent until then.
until = [*times[1:], max(end, times[-1])]
print(json.dumps([max(b - a for a, b in zip(times, until)) * 1000, len(times)]))
"""

#: Makes the draft of the plan, and either carries it out as `cutover` does or has the stack load it its usual way.
WAY = """\
import json, os, subprocess, sys
from ipaddress import ip_address
from pathlib import Path
from fixed_anchor.change.change import Terms
from fixed_anchor.machines.here import Here
from fixed_anchor.planfile.reader import read_plan
from fixed_anchor.workflow.driving import drive
from fixed_anchor.workflow.linux.draft_files import draft_host
from fixed_anchor.workflow.linux.linux_host import LinuxHost
from fixed_anchor.workflow.notes import about
from fixed_anchor.workflow.events import Member
from fixed_anchor.workflow.run import Run
from fixed_anchor.workflow.reached.site import Site
way, old, first, then = sys.argv[1], sys.argv[2], json.loads(sys.argv[3]), json.loads(sys.argv[4])
site = Site(read_plan(Path("/root/plan.yaml")), Here("/var/lib/fixed-anchor"))
host, machine = site.target(None)
hold = frozenset([ip_address(old)] if way == "ours" else [])
drafted = draft_host(site.plan, host, machine, site.survey(host), hold)
print("ready", flush=True)
sys.stdin.readline()
if way == "ours":
    terms = Terms(60, True, about("cutover", None, drafted, []))
    run = Run((Member("host", drafted, terms),))
    drive(run, {"host": LinuxHost(machine)}, lambda event: None)
    outcome = run.outcome("host")
    assert outcome.state == "confirmed", outcome
else:
    for argv in first:
        subprocess.run(argv, check=True, capture_output=True)
    for edit in drafted.content.edits:
        Path(edit.path).parent.mkdir(exist_ok=True)
        Path(edit.path).write_text(edit.after.text)
    for argv in then:
        subprocess.run(argv, check=True, capture_output=True)
print("done", flush=True)
"""


class Bench:
    def __init__(self, stack: str, folder: Path) -> None:
        self.stack = stack
        self.first, self.then, self.limits = STACKS[stack]
        # NetworkManager with a file of its own: its automatic profile could not be edited in place.
        self.files, units = ({PROFILE_FILE: PROFILE}, NM_UNITS) if stack == "NetworkManager" else HOSTS[stack]
        form = "netplan" if stack.startswith("netplan") else stack
        self.files = {path: text.replace(*SIX_IN[form]) for path, text in self.files.items()}
        self.segment = Segment(folder)
        self.host = LabHost("tide-db", folder, self.segment, self.files, units)
        self.neighbour: Namespace = self.segment.neighbour("203.0.113.230", "00:00:5e:00:53:e6")
        self.neighbour("ip", "address", "add", "2001:db8:7e:1::e6/64", "dev", "eth0", "nodad")
        self.host.boot()
        self.modes = {path: self.host.disk(path).stat().st_mode for path in self.files}

    def close(self) -> None:
        self.host.close()
        self.segment.close()

    def begin(self, goal: str) -> str:
        """The host on its lease again, whatever was done to it; returns the leased address."""
        self.host.cut_power()
        for path in ("/etc/systemd/network", "/etc/netplan", "/etc/NetworkManager/system-connections"):
            for file in self.host.disk(path).glob("*") if self.host.disk(path).is_dir() else ():
                if file.is_file() and str(file).removeprefix(str(self.host.disk("/"))) not in self.files:
                    file.unlink()
        for path, text in self.files.items():
            self.host.write(path, text, self.modes[path] & 0o777)
        self.host.boot()
        wait_for("the lease", self.host.leased, 60)
        old = self.host.leased_address()
        kept = goal == "kept"
        reservations = f"reservations: {{{MAC}: {old}}}" if kept else ""
        text = PLAN.format(what=f"hold: {old if kept else ANOTHER}", mac=MAC, reservations=reservations)
        self.host.write("/root/plan.yaml", text)
        for address in (old, ANOTHER):
            entry = ("ip", "neigh", "replace", address, "lladdr", MAC, "nud", "permanent", "dev", "eth0")
            self.neighbour(*entry)
        wait_for("the IPv6 address", lambda: SIX in self.host.addresses("-6"), 30)
        self.neighbour("ip", "neigh", "replace", SIX, "lladdr", MAC, "nud", "permanent", "dev", "eth0")
        return old

    def measure(self, way: str, goal: str) -> tuple[float, float]:
        """The longest gap in ms during one conversion, and the floor before it."""
        old = self.begin(goal)
        argv = self.host.argv("env", "PYTHONDONTWRITEBYTECODE=1", sys.executable, "-c")
        responder = subprocess.Popen([*argv, RESPONDER], stderr=subprocess.DEVNULL)
        words = [*argv, WAY, way, old, json.dumps(self.first), json.dumps(self.then)]
        worker = subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
        to, back = worker.stdin, worker.stdout
        assert to is not None
        assert back is not None
        try:
            assert back.readline() == "ready\n"
            # What the boot still has to do must not be measured.
            floor = self.gap([SIX if goal == "other family" else old], lambda: time.sleep(5))

            def convert() -> None:
                to.write("\n")
                to.flush()
                assert back.readline() == "done\n", self.stack
                # Longer than the kernel asks whether an IPv6 address is somebody else's (RFC 4862): up to 2 s here.
                time.sleep(4)

            asked = {"kept": [old], "another": [old, ANOTHER], "other family": [SIX]}[goal]
            return self.gap(asked, convert), floor
        finally:
            responder.kill()
            responder.wait()
            worker.kill()
            worker.wait()

    def gap(self, addresses: list[str], meanwhile: Callable[[], None]) -> float:
        argv = ["ip", "netns", "exec", self.neighbour.name, sys.executable, "-c", PROBER, *addresses]
        prober = subprocess.Popen(argv, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
        time.sleep(0.7)
        meanwhile()
        out, _ = prober.communicate("\n")
        gap, heard = json.loads(out)
        assert heard > 100, f"only {heard} datagrams came back"
        return float(gap)


def main(stacks: list[str]) -> None:
    print(f"longest gap in ms, medians of {ROUNDS}: {'floor':>25} {'usual':>8} {'ours':>8} {'ratio':>7}   at most")
    failed = False
    for stack in stacks:
        with tempfile.TemporaryDirectory() as folder:
            bench = Bench(stack, Path(folder))
            try:
                for goal, limit in zip(("kept", "another", "other family"), bench.limits, strict=True):
                    pairs = [(bench.measure("usual", goal), bench.measure("ours", goal)) for _ in range(ROUNDS)]
                    print(stack, goal, [[f"{gap:.1f}" for gap, _ in pair] for pair in pairs], file=sys.stderr)
                    usual = statistics.median(u for (u, _), _ in pairs)
                    ours = statistics.median(o for _, (o, _) in pairs)
                    floor = statistics.median(f for pair in pairs for _, f in pair)
                    ratio = ours / usual
                    failed |= ratio > limit
                    about = goal if goal == "other family" else f"{goal} address"
                    print(
                        f"{stack:<24} {about:<18} {floor:>14.1f} {usual:>8.1f} {ours:>8.1f} {ratio:>7.2f}  {limit:>6}",
                        flush=True,
                    )
            finally:
                bench.close()
    if failed:
        raise SystemExit("above what is allowed")


if __name__ == "__main__":
    main(sys.argv[1:] or list(STACKS))
