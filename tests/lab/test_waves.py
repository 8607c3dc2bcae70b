"""Many real hosts with one command: in waves, with one that rolls back, and all of them back again."""

from __future__ import annotations

from tests.lab.conftest import MakeHost
from tests.lab.faults import Halt
from tests.lab.network import Segment
from tests.lab.test_matrix import STACKS
from tests.lab.waves import Room


def test_one_of_six_rolls_back(make_host: MakeHost, segment: Segment) -> None:
    """A neighbour takes an address between check and activation; a seventh host has a wrong gateway."""
    room = Room(make_host, [*STACKS, "networkd", "ifupdown"])
    names = [host.name for host in room.hosts]
    holds = {name: f"203.0.113.{20 + number}" for number, name in enumerate(names)}
    struck, wrong = names[5], names[6]
    room.plan(holds, gateways={wrong: "203.0.113.77"})
    dry = room.seat.tool("cutover", "plan.yaml", "--all", "--dry-run")
    print(dry.stdout, dry.stderr)
    halt = Halt(room.host(struck), "prepared")
    running = room.seat.begins("cutover", "plan.yaml", "--all", "--unattended", "--patience", "15")
    halt.reached(240)
    segment.neighbour(holds[struck], "00:00:5e:00:53:66")
    halt.release()
    out = running.communicate(timeout=400)[0].decode()
    print(out)
    assert running.returncode == 4, out
