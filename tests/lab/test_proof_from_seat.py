"""What only a seat can prove: the same host at its new address, for others too; and where it went afterwards."""

from __future__ import annotations

import contextlib
import itertools
import re
from collections.abc import Iterator
from functools import partial
from pathlib import Path

import pytest

from tests.lab.conftest import MakeHost
from tests.lab.faults import CHANGE, Halt, log
from tests.lab.host import MAC, LabHost
from tests.lab.network import Branch, Segment, run, wait_for
from tests.lab.seats import PLAN, SSH, Reached, Seat
from tests.lab.test_matrix import ANOTHER, STACKS

NETWORKD = STACKS["networkd"]
UNATTENDED = ("cutover", "plan.yaml", "--host", "tide-db", "--unattended")

#: Stack, whether it keeps the address of its lease, port of sshd, and whether its host key has a certificate.
WAYS = list(itertools.product(STACKS, (False, True), (22, 2222), (False, True)))
#: What is tried in every run.
COVER = [("netplan-networkd", False, 2222, False), ("ifupdown", True, 22, True)]


pytestmark = pytest.mark.one_in(6)


def words_of(way: tuple[str, bool, int, bool]) -> str:
    stack, same, port, certificate = way
    return f"{stack}-{'same' if same else 'another'}-{port}-{'certificate' if certificate else 'key'}"


#: A seat behind the router of the segment: it reaches the hosts there, and hears nothing of them.
DESK = "[Match]\nName=eth0\n\n[Network]\nAddress=192.0.2.9/24\nGateway=192.0.2.1\n"


#: A neighbour whose address comes of no lease: it stays where the server's pool moves.
STAYS = "203.0.113.30"
FIXED = f"[Match]\nName=eth0\n\n[Network]\nAddress={STAYS}/24\nGateway=203.0.113.1\n"


def on_its_own_address(make_host: MakeHost) -> Reached:
    files = {"/etc/systemd/network/20-quay.network": FIXED}
    return Reached(make_host(files, (*NETWORKD[1], SSH), lease=False), address=STAYS)


@pytest.fixture
def far_seat(make_host: MakeHost, segment: Segment) -> Seat:
    segment.namespace("ip", "address", "add", "192.0.2.1/24", "dev", "br0")
    return Seat(make_host({"/etc/systemd/network/20-desk.network": DESK}, NETWORKD[1], lease=False))


def neighbour(make_host: MakeHost, seat: Seat, reached: Reached) -> None:
    """A second host of the plan, on the same segment, that the seat reaches."""
    seat.knows(reached, alias="gull")
    text = seat.host.read("/root/plan.yaml")
    mac = reached.host.mac
    more = f"  gull:\n    reach: ssh:gull\n    interfaces:\n      eth0: {{mac: {mac}, segment: quay, ipv4: dhcp}}\n"
    seat.write("/root/plan.yaml", text + more)


@pytest.mark.parametrize(
    "way",
    [pytest.param(way, id=words_of(way), marks=() if way in COVER else pytest.mark.beyond_cover) for way in WAYS],
)
def test_unattended(make_host: MakeHost, tmp_path: Path, far_seat: Seat, way: tuple[str, bool, int, bool]) -> None:
    """Through a jump host, which looks from beside as well: proven over a new connection, and kept by the seat."""
    stack, same, port, certificate = way
    files, units = STACKS[stack]
    seat, host = far_seat, make_host(files, (*units, SSH))
    between = Reached(make_host(NETWORKD[0], (*NETWORKD[1], SSH)))
    seat.knows(between, alias="mooring")
    authority = None
    if certificate:
        authority = tmp_path / "authority"
        run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(authority))
    old = host.leased_address()
    address = old if same else ANOTHER
    seat.knows(Reached(host, port, authority), alias="tide-db", jump="mooring")
    seat.write("/root/plan.yaml", PLAN.replace(MAC, host.mac).format(what=f"hold: {address}"))
    if same:
        pools = "pools: [203.0.113.100 - 203.0.113.199]"
        text = seat.host.read("/root/plan.yaml")
        seat.write("/root/plan.yaml", text.replace(pools, f"{pools}\n    reservations: {{{host.mac}: {old}}}"))
    neighbour(make_host, seat, between)
    done = seat.tool(*UNATTENDED)
    said = done.stdout + done.stderr
    assert done.returncode == 0, said + log(host)
    assert f"{address} is this host, by its host key and its MAC" in said
    assert f"gull finds {address} at this host alone" in said
    assert f"{address} port {port} takes connections of gull" in said
    assert "unattended" in log(host)
    assert f"in a session on {address}" in log(host)
    assert host.holds(address)
    assert not host.leased()
    if not same:
        # What leads to the old address at the seat is named with its line, and the key's line is there to be added.
        assert f"instead of `HostName {old}`:\n      HostName {address}\n" in done.stderr, done.stderr
        assert "/root/.ssh/config, line " in done.stderr
        key = (authority or Path(seat.host.disk("/root/none"))).with_suffix(".pub")
        kind = key.read_text().split()[1] if certificate else host.read("/etc/ssh/own_key.pub").split()[1]
        assert kind in done.stderr, done.stderr
    seat.does("verify", "plan.yaml", "--host", "tide-db", says=["the state is as planned"])


@pytest.mark.parametrize("cloned", [True, False])
def test_another_machine_takes_the_address_meanwhile(make_host: MakeHost, cloned: bool) -> None:
    """Between check and activation: refused and rolled back, and the machine is named."""
    host = make_host(NETWORKD[0], (*NETWORKD[1], SSH))
    seat = Seat(make_host(*NETWORKD))
    reached = Reached(host)
    seat.knows(reached)
    other = make_host(NETWORKD[0], (*NETWORKD[1], SSH))
    another = Reached(other)
    seat.may_log_in(other)
    if cloned:
        other.disk("/etc/ssh/own_key").write_text(host.read("/etc/ssh/own_key"))
        another.restart_sshd()
    seat.write("/root/plan.yaml", PLAN.format(what=f"hold: {ANOTHER}"))
    halt = Halt(host, "writing")
    before = host.etc_digest()
    cutover = seat.begins(*UNATTENDED, "--patience", "8")
    halt.reached(90)
    other("ip", "address", "add", f"{ANOTHER}/24", "dev", "eth0")
    # The seat goes on believing what it heard first.
    seat.host("ping", "-c", "1", "-W", "1", ANOTHER, check=False)
    halt.release()
    out, _ = cutover.communicate(timeout=240)
    said = out.decode()
    assert cutover.returncode == 3, said + log(host)
    assert other.mac in said, said
    assert host.leased()
    assert not host.holds(ANOTHER)
    assert host.etc_digest() == before


@pytest.mark.parametrize(
    "beside",
    [True, pytest.param(False, marks=pytest.mark.beyond_cover)],
    ids=["with a neighbour", "alone"],
)
def test_back_on_another_lease(make_host: MakeHost, segment: Segment, far_seat: Seat, beside: bool) -> None:
    """A restore is kept where the host is found by its MAC; else its guard goes back to where it was reached."""
    seat, host = far_seat, make_host(NETWORKD[0], (*NETWORKD[1], SSH))
    seat.knows(Reached(host), alias="tide-db")
    seat.write("/root/plan.yaml", PLAN.replace(MAC, host.mac).format(what=f"hold: {ANOTHER}"))
    old = host.leased_address()
    if beside:
        neighbour(make_host, seat, on_its_own_address(make_host))
    seat.does(*UNATTENDED)
    # The server leases its old address to nobody any more.
    segment.move_pool("203.0.113.150", "203.0.113.160")
    restore = ("restore", "--plan", "plan.yaml", "--host", "tide-db", "--confirm-within", "240", "--unattended")
    done = seat.tool(*restore)
    said = done.stdout + done.stderr
    if not beside:
        assert done.returncode == 3, said
        assert host.holds(ANOTHER)
        return
    assert done.returncode == 0, said + host.read(f"{CHANGE[:-1]}2/log")
    now = host.leased_address()
    assert now not in (old, ANOTHER)
    assert f"tide-db is at {now}, found by its MAC {host.mac} from gull" in done.stderr, said
    for _ in range(3):
        # On a machine that is busy one look at a segment may miss it.
        told = seat.tool("--log-level", "debug", "status", "--plan", "plan.yaml", "--host", "tide-db")
        if told.returncode == 0:
            break
    assert "0002 on eth0, is confirmed" in told.stdout, told.stdout + told.stderr
    assert f"instead of `HostName {old}`:\n      HostName {now}\n" in told.stderr, told.stderr


@pytest.mark.beyond_cover
@pytest.mark.parametrize("beside", [True, False], ids=["with a neighbour", "alone"])
def test_rolled_back_to_another_lease(make_host: MakeHost, segment: Segment, far_seat: Seat, beside: bool) -> None:
    """Nobody confirms, and the old lease is gone: found by its MAC, or said not to have been seen again."""
    seat, host = far_seat, make_host(NETWORKD[0], (*NETWORKD[1], SSH))
    seat.knows(Reached(host), alias="tide-db")
    seat.write("/root/plan.yaml", PLAN.replace(MAC, host.mac).format(what=f"hold: {ANOTHER}"))
    if beside:
        neighbour(make_host, seat, on_its_own_address(make_host))
    old = host.leased_address()
    cutover = seat.begins("cutover", "plan.yaml", "--host", "tide-db", "--confirm-within", "25")
    wait_for("the verdict", host.disk(f"{CHANGE}/verdict").exists, 120)
    segment.move_pool("203.0.113.150", "203.0.113.160")
    out, _ = cutover.communicate(timeout=360)
    said = out.decode()
    wait_for("another lease", lambda: host.leased() and host.leased_address() != old, 60)
    if beside:
        assert cutover.returncode == 3, said
        assert f"found by its MAC {host.mac} from gull" in said, said
    else:
        assert cutover.returncode == 4, said
        told = "change 0001 of tide-db: rolled back by its guard, unless somebody has confirmed it; not seen again"
        assert told in " ".join(said.split()), said
        assert old in said
        assert ANOTHER in said


@pytest.fixture
def three(tmp_path: Path, make_host: MakeHost, segment: Segment) -> Iterator[tuple[Seat, list[LabHost]]]:
    """A seat, and a host on each of three segments behind its router, where somebody silent has the planned address."""
    seat = Seat(make_host(*NETWORKD))
    plan = "plan: 1\nsegments:\n"
    hosts = ""
    made: list[LabHost] = []
    with contextlib.ExitStack() as ends:
        for number in range(3):
            branch = Branch(segment, number)
            ends.callback(branch.close)
            branch.neighbour(f"198.18.{number}.20", f"00:00:5e:00:53:8{number}", echo=False)
            lines = f"[Match]\nName=eth0\n\n[Network]\nAddress=198.18.{number}.5/24\nGateway=198.18.{number}.1\n"
            files = {"/etc/systemd/network/20-branch.network": lines}
            name, mac = f"buoy{number}", f"00:00:5e:00:53:4{number}"
            host = LabHost(name, tmp_path, branch, files, (*NETWORKD[1], SSH), mac=mac)
            ends.callback(host.close)
            host.boot()
            seat.knows(Reached(host, address=f"198.18.{number}.5"))
            made.append(host)
            plan += f"  {branch.name}: {{subnet: 198.18.{number}.0/24, gateway: 198.18.{number}.1, pools: []}}\n"
            link = f"{{mac: {mac}, segment: {branch.name}, hold: 198.18.{number}.20}}"
            hosts += f"  {name}:\n    reach: ssh:{name}\n    interfaces:\n      eth0: {link}\n"
        seat.write("/root/plan.yaml", f"{plan}hosts:\n{hosts}")
        yield seat, made


@pytest.mark.parametrize("python", [True, False])
def test_a_check_of_three_segments(three: tuple[Seat, list[LabHost]], python: bool) -> None:
    """From a seat on none of them: a holder that drops pings is found in each, and nothing is left behind there."""
    seat, hosts = three
    if not python:
        for host in hosts:
            host("sh", "-c", "for p in /usr/bin/python3*; do mv $p /root/gone-${p##*/}; done")
    before = [host.etc_digest() for host in hosts]
    done = seat.tool("check", "plan.yaml")
    assert done.returncode == 1, done.stdout + done.stderr
    for number, host in enumerate(hosts):
        assert f"198.18.{number}.20 is held by 00:00:5e:00:53:8{number}" in done.stdout, done.stdout
        assert re.search(rf"^branch{number} +.*{host.name}", done.stdout, re.MULTILINE), done.stdout
    assert ("weaker" in done.stdout) != python, done.stdout
    for host, digest in zip(hosts, before, strict=True):
        wait_for(f"nothing to be left on {host.name}", partial(nothing_left, host), 20)
        assert host.etc_digest() == digest


def nothing_left(host: LabHost) -> bool:
    """No process of an errand or a relay, and no file of ours."""
    processes = host("sh", "-c", "ps -eo args | grep -E '[f]ixed-anchor|[p]ython3 -' || true").stdout
    files = host("sh", "-c", "find / -xdev -newer /proc/1 -name '*anchor*' -o -newer /proc/1 -name '*relay*'").stdout
    return not processes + files


def test_the_relay_goes_with_a_seat_that_is_killed(make_host: MakeHost) -> None:
    host = make_host(NETWORKD[0], (*NETWORKD[1], SSH))
    seat = Seat(make_host(*NETWORKD))
    seat.knows(Reached(host))
    seat.write("/root/plan.yaml", PLAN.format(what=f"hold: {ANOTHER}"))
    check = seat.begins("check", "plan.yaml")
    wait_for("the relay", lambda: "python3" in host("ps", "-eo", "args").stdout, 40, 0.05)
    seat.host("pkill", "-9", "-f", "fixed_anchor", check=False)
    check.wait(20)
    wait_for("nothing to be left", partial(nothing_left, host), 20)
    assert not host.disk(CHANGE).exists()
