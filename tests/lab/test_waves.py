"""Many real hosts with one command: in waves, with one that rolls back, and all of them back again."""

from __future__ import annotations

import itertools
import json
import random
import shutil
import subprocess
import time
from collections.abc import Iterable, Iterator
from contextlib import contextmanager

import pytest

from tests.lab.conftest import MakeHost
from tests.lab.faults import Halt
from tests.lab.host import LabHost
from tests.lab.network import Segment, wait_for
from tests.lab.test_matrix import STACKS
from tests.lab.waves import Room, states

ALL = ("cutover", "plan.yaml", "--all", "--unattended", "--patience", "15")


def test_one_of_six_rolls_back(make_host: MakeHost, segment: Segment) -> None:
    """A neighbour takes an address between check and activation; a seventh host has a wrong gateway."""
    room = Room(make_host, [*STACKS, "networkd", "ifupdown"])
    names = [host.name for host in room.hosts]
    holds = {name: f"203.0.113.{20 + number}" for number, name in enumerate(names)}
    struck, wrong = names[5], names[6]
    room.plan(holds, gateways={wrong: "203.0.113.77"})
    before = room.leases()
    halt = Halt(room.host(struck), "prepared")
    running = room.seat.begins(*ALL, "--note", "ticket 37")
    halt.reached(240)
    intruder = segment.neighbour(holds[struck], "00:00:5e:00:53:66")
    halt.release()
    out = running.communicate(timeout=400)[0].decode()
    assert running.returncode == 3, out
    assert out.index(wrong) < out.index("wave 1"), "named before anything begins"
    assert "5 of 6 changes confirmed" in out
    good = {name: holds[name] for name in names[:5]}
    room.hold(good)
    assert room.changes(struck) == ["rolled-back"], out
    assert f"203.0.113.25: {'00:00:5e:00:53:66'}" in out.replace(" has ", ": ") or "00:00:5e:00:53:66" in out
    assert room.host(struck).leased()
    assert room.changes(wrong) == []
    assert room.host(wrong).leased_address() == before[wrong]

    intruder("ip", "link", "set", "eth0", "down")
    room.plan(holds, gateways={wrong: "203.0.113.77"})
    again = room.run(*ALL, status=1)
    assert states(again) == {struck: "confirmed"}, again
    assert [one["host"] for one in again["left_out"]] == [wrong]
    assert again["run"] == "0001"
    room.hold(good | {struck: holds[struck]})
    assert [len(room.changes(name)) for name in names] == [1, 1, 1, 1, 1, 2, 0]

    room.seat.does("restore", "--run", "1", "--dry-run", says=["6 hosts to restore"])
    back = room.run("restore", "--run", "1")
    assert set(states(back).values()) == {"confirmed"}, back
    for name in names:
        wait_for(f"the lease of {name}: {room.logs()}", room.host(name).leased, 60)
        assert not room.host(name).holds(holds[name])


@contextmanager
def talking(at: LabHost, addresses: Iterable[str]) -> Iterator[dict[str, float]]:
    """A neighbour asks ``addresses`` ten times a second meanwhile; at its end how long each was silent, in seconds."""
    longest: dict[str, float] = {}
    pings = {}
    for address in addresses:
        argv = at.argv("ping", "-D", "-n", "-i", "0.1", address)
        pings[address] = subprocess.Popen(argv, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, text=True)
    yield longest
    at("pkill", "-INT", "ping")
    for address, process in pings.items():
        out = process.communicate(timeout=30)[0]
        times = [float(line.split("]")[0][1:]) for line in out.splitlines() if "bytes from" in line]
        longest[address] = max((b - a for a, b in itertools.pairwise(times)), default=0.0)


@pytest.mark.beyond_cover
def test_a_swap_and_a_chain(make_host: MakeHost, segment: Segment) -> None:
    """Two hosts change places over a parking address, three hand theirs on; neighbours hear them all the time."""
    room = Room(make_host, ["networkd", "ifupdown", "NetworkManager", "netplan-networkd", "networkd"])
    names = [host.name for host in room.hosts]
    first = {name: f"203.0.113.{20 + number}" for number, name in enumerate(names)}
    room.plan(first)
    assert set(states(room.run(*ALL)).values()) == {"confirmed"}
    room.hold(first)
    one, two, *chain = names
    second = {one: first[two], two: first[one]}
    second |= {chain[0]: first[chain[1]], chain[1]: first[chain[2]], chain[2]: "203.0.113.30"}
    room.plan(second)

    refused = room.seat.tool(*ALL, "--dry-run")
    assert refused.returncode == 1
    assert "a circle" in refused.stdout
    assert one in refused.stdout
    told = room.run(*ALL, "--park", "203.0.113.40", "--dry-run")
    hosts = [turn["host"] for turn in told["order"] if turn["host"] in chain]
    assert hosts == chain[::-1]

    # Who talks to a host that changes hears the address again as soon as its next holder has it.
    with talking(room.seat.host, sorted(set(first.values()))) as longest:
        done = room.run(*ALL, "--park", "203.0.113.40")
    assert set(states(done).values()) == {"confirmed"}, done
    room.hold(second)
    print(f"longest silence: {longest}")

    back = room.run("restore", "--run", "2")
    assert set(states(back).values()) == {"confirmed"}, back
    room.hold(first)


def serve_names(host: LabHost) -> None:
    """Has the host answer DNS for the site, at every address that it has or will have."""
    host.namespace.start(
        shutil.which("dnsmasq") or "/usr/sbin/dnsmasq",
        "--keep-in-foreground",
        "--conf-file=/dev/null",
        "--bind-dynamic",
        "--interface=eth0",
        "--user=root",
        "--no-resolv",
        "--no-hosts",
        "--pid-file=",
        "--domain=ternpoint.example",
        "--local=/ternpoint.example/",
        "--host-record=gull.ternpoint.example,203.0.113.9",
        log=host.folder / "names.log",
    )


STAYS = "203.0.113.31"
FIXED = f"""[Match]
Name=eth0
[Network]
Address={STAYS}/24
Gateway=203.0.113.1
DNS=203.0.113.2
Domains=ternpoint.example
"""


@pytest.mark.beyond_cover
def test_resolvers_among_the_hosts(make_host: MakeHost, segment: Segment) -> None:
    """One moves and comes first, in two changes; the other keeps its address, gains another, and comes last."""
    room = Room(make_host, ["networkd", "ifupdown", "NetworkManager"])
    moving, *users = [host.name for host in room.hosts]
    staying = room.add("networkd", {"/etc/systemd/network/20-quay.network": FIXED}, STAYS).name
    for name in (moving, staying):
        serve_names(room.host(name))
    holds = {moving: "203.0.113.30", staying: f"{STAYS}, 203.0.113.32"}
    holds |= {users[0]: "203.0.113.21", users[1]: "203.0.113.22"}
    room.plan(holds, resolvers=f"203.0.113.30, {STAYS}")
    told = room.run(*ALL, "--dry-run")
    turns = [(turn["host"], turn["part"]) for turn in told["order"]]
    assert turns[0] == (moving, "first"), told
    assert set(turns[1:3]) == {(users[0], "whole"), (users[1], "whole")}
    assert set(turns[3:]) == {(staying, "whole"), (moving, "second")}
    old = room.host(moving).leased_address()
    running = room.seat.begins(*ALL)
    out = running.communicate(timeout=500)[0].decode()
    assert running.returncode == 0, out + room.logs()
    room.hold(holds)
    assert [len(room.changes(name)) for name in holds] == [2, 1, 1, 1]
    for name in users:
        assert room.host(name).resolves("gull.ternpoint.example")
    assert not room.host(moving).holds(old)

    back = room.run("restore", "--run", "1")
    assert set(states(back).values()) == {"confirmed"}, back
    for name in (moving, *users):
        wait_for(f"the lease of {name}: {room.logs()}", room.host(name).leased, 60)
    assert room.host(staying).addresses().count(" inet ") == 1
    assert room.changes(moving) == ["confirmed"] * 4


@pytest.mark.beyond_cover
def test_the_seat_is_killed(make_host: MakeHost) -> None:
    """At any moment of a run; the same command again does what is left, and the record is true."""
    room = Room(make_host, ["networkd", "ifupdown", "netplan-networkd"])
    holds = {host.name: f"203.0.113.{20 + number}" for number, host in enumerate(room.hosts)}
    room.plan(holds)
    words = (*ALL, "--confirm-within", "25")
    drawn = random.Random(37)
    for _ in range(20):
        before = {name: len(room.changes(name)) for name in holds}
        moment = drawn.uniform(3, 40)
        running = room.seat.begins(*words)
        time.sleep(moment)
        room.seat.host("pkill", "-9", "-f", "fixed_anchor", check=False)
        running.wait(30)
        killed = {name: room.changes(name)[before[name] :] for name in holds}
        until = time.monotonic() + 150
        while True:
            again = room.seat.tool(*words)
            if again.returncode == 0 or time.monotonic() > until:
                break
            # A host whose change is open is left out until its guard has ended it.
            assert again.returncode in (1, 4), again.stdout + again.stderr
            time.sleep(3)
        assert again.returncode == 0, f"killed after {moment:.1f} s\n{again.stdout}{again.stderr}{room.logs()}"
        room.hold(holds)
        ends = {name: room.changes(name)[before[name] :] for name in holds}
        assert all(one.count("confirmed") == 1 for one in ends.values()), (moment, killed, ends)
        assert all(set(one) <= {"confirmed", "rolled-back"} for one in ends.values()), (moment, killed, ends)
        print(f"killed after {moment:.1f} s: {killed} -> {ends}")

        shown = room.run("history", "--runs")
        run = [one for one in shown["runs"] if one["kind"] == "cutover"][-1]
        for name in holds:
            of_host = {
                turn["change"]: turn["state"] for turn in run["turns"] if turn["host"] == name and turn["change"]
            }
            true = dict(zip(sorted(of_host), ends[name], strict=True))
            assert of_host == true, (name, of_host, true, json.dumps(run))
        assert run["sittings"][-1]["ended"] is not None
        back = room.run("restore", "--run", str(int(run["number"])))
        assert set(states(back).values()) == {"confirmed"}, back
        for name in holds:
            wait_for(f"the lease of {name}", room.host(name).leased, 60)
