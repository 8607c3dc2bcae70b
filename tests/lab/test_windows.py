"""A whole cutover of a Windows machine from a seat: real sshd, real network, a real PowerShell, its scheduled task."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from tests.lab.conftest import MakeHost
from tests.lab.host import LabHost
from tests.lab.seats import SSH, Reached, Seat
from tests.lab.test_matrix import ANOTHER, STACKS
from tests.lab.windows import HOME, WindowsThere
from tests.powershell import needs_powershell

pytestmark = [needs_powershell, pytest.mark.one_in(2)]

NETWORKD = STACKS["networkd"]
PLAN = """\
plan: 1
segments:
  quay:
    subnet: 203.0.113.0/24
    gateway: 203.0.113.1
    resolvers: [203.0.113.2]
    search: [ternpoint.example]
    pools: [203.0.113.100 - 203.0.113.199]
hosts:
  gannet-ws:
    reach: ssh:gannet-ws
    interfaces:
      Ethernet: {{segment: quay, mac: "{mac}", {what}}}
"""


def neighbours(*unreachable: str) -> list[dict[str, object]]:
    there = {"index": 4, "address": "203.0.113.1", "mac": "00-00-5E-00-53-01", "state": "Reachable"}
    nobody = [{"index": 4, "address": a, "mac": "00-00-00-00-00-00", "state": "Unreachable"} for a in unreachable]
    return [there, *nobody]


@pytest.fixture
def place(make_host: MakeHost) -> Iterator[tuple[Seat, LabHost, WindowsThere]]:
    """A seat, which looks from beside as well, and a Windows machine that leases."""
    host = make_host(NETWORKD[0], (*NETWORKD[1], SSH))
    leased = host.leased_address()
    lease = {"address": f"{leased}/24", "gateway": "203.0.113.1", "server": "203.0.113.1",
             "resolvers": ["203.0.113.2"], "domain": "ternpoint.example"}  # fmt: skip
    said = {"adapters": {"Ethernet": {"mac": host.mac, "lease": lease}}, "neighbours": neighbours(ANOTHER)}
    wire = {"detection": 0.5, "identification": 0.3, "lease": 0.3, "no_lease": 1.0,
            "networks": {"203.0.113.1": "Private"}, "answers": ["203.0.113.1"]}  # fmt: skip
    seat = Seat(make_host(*NETWORKD))
    there = WindowsThere(host, said, wire)
    reached = Reached(host, more="ForceCommand /usr/local/bin/windows-session\n")
    seat.knows(reached, alias="gannet-ws")
    seat.write("/root/plan.yaml", PLAN.format(mac=host.mac, what=f"hold: {ANOTHER}"))
    with there:
        yield seat, host, there


def test_from_a_seat(place: tuple[Seat, LabHost, WindowsThere]) -> None:
    """Unattended: proven by the machine, by the seat beside it, and over a new connection; and back to its lease."""
    seat, host, there = place
    old, before = there.leased, there.lines()
    log = host.disk(f"{HOME}/state/changes")
    # Behind the router there is nothing.
    accepted = ("--accept", "forwarding-not-proven", "--because", "nothing is beyond it")
    done = seat.tool("cutover", "plan.yaml", "--host", "gannet-ws", "--unattended", *accepted)
    said = done.stdout + done.stderr
    assert done.returncode == 0, said + "".join(f.read_text() for f in log.glob("*/log"))
    assert f"{ANOTHER} is this host, by its host key and its MAC" in said
    assert f"{seat.host.name} finds {ANOTHER} at this host alone" in said, said
    assert "the network profile is Private, as before" in said
    assert host.holds(ANOTHER)
    assert not host.holds(old)
    told = seat.does("status", "--plan", "plan.yaml", "--host", "gannet-ws")
    assert "0001 on Ethernet, is confirmed" in told
    seat.does("verify", "plan.yaml", "--host", "gannet-ws", says=["the state is as planned"])
    back = seat.tool("restore", "--plan", "plan.yaml", "--host", "gannet-ws", "--unattended", "--confirm-within", "120")
    assert back.returncode == 0, back.stdout + back.stderr + (log / "0002/log").read_text()
    assert host.holds(old)
    assert not host.holds(ANOTHER)
    assert there.lines() == before


def test_nobody_confirms(place: tuple[Seat, LabHost, WindowsThere]) -> None:
    """The seat goes away with its session; the guard's task rolls it back alone."""
    seat, host, there = place
    old, before = there.leased, there.lines()
    done = seat.tool("cutover", "plan.yaml", "--host", "gannet-ws", "--confirm-within", "20")
    assert done.returncode == 3, done.stdout + done.stderr
    assert "nobody confirmed it in time" in done.stdout + done.stderr
    assert host.holds(old)
    assert not host.holds(ANOTHER)
    assert there.lines() == before
