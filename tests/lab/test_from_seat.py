"""Whole conversions of other hosts over real OpenSSH, and what becomes of them when seat, link or sshd fail."""

from __future__ import annotations

import itertools
from pathlib import Path

import pytest

from tests.lab.conftest import MakeHost
from tests.lab.faults import CHANGE, Halt, Running, ends, log, state, wholly_new, wholly_old
from tests.lab.network import Segment, run, wait_for
from tests.lab.seats import PLAN, SSH, Reached, Seat
from tests.lab.test_matrix import ANOTHER, STACKS

#: Stack, port of sshd, whether its host key has a certificate, and whether the seat reaches it through a jump host.
WAYS = list(itertools.product(STACKS, (22, 2222), (False, True), (False, True)))
#: What is tried in every run: each of the three choices both ways, and the daemons that differ most.
COVER = [
    ("netplan-networkd", 22, False, False),
    ("ifupdown", 2222, False, True),
    ("NetworkManager", 22, True, True),
]


pytestmark = pytest.mark.one_in(6)


def words_of(way: tuple[str, int, bool, bool]) -> str:
    stack, port, certificate, jump = way
    return f"{stack}-{port}{'-certificate' if certificate else ''}{'-jump' if jump else ''}"


@pytest.mark.parametrize(
    "way",
    [pytest.param(way, id=words_of(way), marks=() if way in COVER else pytest.mark.beyond_cover) for way in WAYS],
)
def test_a_whole_conversion(make_host: MakeHost, tmp_path: Path, way: tuple[str, int, bool, bool]) -> None:
    """By every command, to another address and back; the change is confirmed over the new address."""
    stack, port, certificate, jump = way
    files, units = STACKS[stack]
    host = make_host(files, (*units, SSH))
    seat = Seat(make_host(*STACKS["networkd"]))
    authority = None
    if certificate:
        authority = tmp_path / "authority"
        run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(authority))
    if jump:
        between = Reached(make_host(STACKS["networkd"][0], (*STACKS["networkd"][1], SSH)))
        seat.knows(between, alias="mooring")
    seat.knows(Reached(host, port, authority), jump="mooring" if jump else None)
    old = host.leased_address()

    seat.does("survey", "--host", "ssh:tide-db", says=[old, "leased"])
    pools = "203.0.113.100-203.0.113.199"
    seat.does("propose", "--host", "ssh:tide-db", "--at", ANOTHER, "--pool", pools, "-o", "plan.yaml")
    assert "reach: ssh:tide-db" in seat.host.read("/root/plan.yaml").replace('"', "")
    seat.does("probe", ANOTHER, "--plan", "plan.yaml", "--from", "tide-db", says=["free", "relay on tide-db"])
    seat.does("check", "plan.yaml", says=["your-session-rides-here", "plan.yaml: clear"])
    seat.does("draft", "plan.yaml", says=[ANOTHER])
    refused = seat.tool("cutover", "plan.yaml")
    assert refused.returncode == 2, refused.stderr
    assert "tide-db" in refused.stderr

    cutover = seat.begins("cutover", "plan.yaml", "--host", "tide-db", "--confirm-within", "120")
    wait_for(f"the verdict: {log(host)}", host.disk(f"{CHANGE}/verdict").exists, 90)
    seat.does("status", "--plan", "plan.yaml", says=["confirm --plan plan.yaml tide-db:0001", "automatic rollback"])
    assert host.holds(old), "the address of the session stays until the decision"
    assert host.holds(ANOTHER)
    seat.does("confirm", "--plan", "plan.yaml", "tide-db:0001", says=["change 0001: confirmed"])
    assert f"in a session on {ANOTHER}" in log(host)
    out, _ = cutover.communicate(timeout=240)
    assert cutover.returncode == 0, out
    assert b"change 0001: confirmed" in out
    assert not host.leased()
    assert host.addresses().count(" inet ") == 1
    wait_for("the lease to be given back", lambda: f"DHCPRELEASE(br0) {old}" in host.segment.dhcp_log(), 20)

    verified = seat.tool("verify", "plan.yaml")
    assert "the state is as planned" in verified.stdout, verified.stdout + verified.stderr
    assert f"      HostName {ANOTHER}\n" in verified.stderr, verified.stderr
    seat.does("history", "--plan", "plan.yaml", says=["0001", "confirmed"])
    host.reboot()
    seat.does("verify", "plan.yaml", says=["the state is as planned"])
    said = seat.does("restore", "--plan", "plan.yaml", "--host", "tide-db", says=["change 0002: confirmed"])
    second = host.read(f"{CHANGE[:-1]}2/log")
    wait_for(f"the lease: {host.addresses()} {said} {second}", host.leased, 30)
    assert not host.holds(ANOTHER)


STATES = ("prepared", "leaving", "writing", "activating", "waiting", "committing", "rolling-back")
STRIKES = ("seat-killed", "link-cut", "sshd-restarted")
#: What is tried in every run; the stacks in turn.
SOME = {"seat-killed": ("writing",), "link-cut": ("committing",), "sshd-restarted": ("waiting",)}


def struck() -> list[object]:
    turn = itertools.cycle(STACKS)
    rows = [(next(turn), strike, at) for strike in STRIKES for at in STATES]
    return [
        pytest.param(*row, marks=() if row[2] in SOME[row[1]] else pytest.mark.beyond_cover, id="-".join(row))
        for row in rows
    ]


@pytest.mark.parametrize(("stack", "strike", "at"), struck())
def test_struck(make_host: MakeHost, segment: Segment, stack: str, strike: str, at: str) -> None:
    """The seat dies, its link is cut, sshd ends with all sessions: wholly old or new, and a second seat is told so."""
    files, units = STACKS[stack]
    host = make_host(files, (*units, SSH))
    reached = Reached(host)
    seat, second = Seat(make_host(*STACKS["networkd"])), Seat(make_host(*STACKS["networkd"]))
    for one in (seat, second):
        one.knows(reached)
        one.write("/root/plan.yaml", PLAN.format(what=f"hold: {ANOTHER}"))
    halt = Halt(host, at)
    words = ["--unattended"] if at == "committing" else []
    seconds = "5" if at == "rolling-back" else "25"
    argv = seat.host.tool_argv(
        "cutover", "plan.yaml", "--host", "tide-db", "--confirm-within", seconds, "--patience", "8", *words
    )
    running = Running(host, argv=argv)
    halt.reached(90)
    port = segment.port_of(seat.host.namespace)
    if strike == "seat-killed":
        running.kill()
    elif strike == "link-cut":
        segment.namespace("ip", "link", "set", port, "down")
    else:
        host("sh", "-c", "pkill -9 -f '^sshd: ' ; true")
        reached.restart_sshd()
    told = second.tool("status", "--plan", "plan.yaml")
    assert told.returncode == 0, told.stdout + told.stderr
    assert f"change 0001 on eth0: {at}" in told.stdout, told.stdout
    halt.release()
    end = ends(host, "confirmed", "rolled-back")
    if at == "committing":
        assert end == "confirmed", log(host)
    if strike == "link-cut":
        segment.namespace("ip", "link", "set", port, "up")
    if strike != "seat-killed":
        # It finds the host again, and tells how it ended.
        assert running.ended() == {"confirmed": 0, "rolled-back": 3}[end], running.said()
    told = second.tool("status", "--plan", "plan.yaml")
    assert f"is {end}" in told.stdout, told.stdout + told.stderr
    if end == "confirmed":
        wholly_new(host)
    else:
        wholly_old(host, running.before)
    assert state(host) == end
