"""Hosts of other releases, reached over SSH with nothing of ours on them: there, a power cut, a verification, back."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from tests.lab.advertising import Router
from tests.lab.faults import CHANGE, ends, guard_pid, log
from tests.lab.host import LabHost
from tests.lab.image import RELEASES, image_of
from tests.lab.network import Labs, Segment, wait_for
from tests.lab.seats import SSH, Reached, Seat
from tests.lab.test_matrix import ANOTHER, NM_UNITS
from tests.lab.test_matrix import EVERY as STACKS
from tests.lab.test_two_links import STACKS as TWO_LINKS

pytestmark = pytest.mark.one_in(6)

#: Beside those of the matrix: both versions of IP by profiles, and NetworkManager without systemd-resolved.
MORE: dict[str, tuple[dict[str, str], tuple[str, ...]]] = {
    "NetworkManager-alone": ({"/etc/hosts": "127.0.0.1 localhost\n"}, NM_UNITS)
}
EVERY = list(itertools.product(RELEASES, [*STACKS, *MORE]))
#: What is tried in every run: what netplan does not know, and the lease client that is another one.
COVER = [("bullseye", "netplan-networkd"), ("trixie", "ifupdown")]
STUB = "../run/systemd/resolve/stub-resolv.conf"

MakeAged = Callable[..., tuple[LabHost, Seat]]

#: Two links, each with both versions of IP.
PLAN = """\
plan: 1
segments:
  quay:
    subnet: [203.0.113.0/24, "2001:db8:7e:1::/64"]
    gateway: [203.0.113.1, "2001:db8:7e:1::1"]
    resolvers: [203.0.113.2]
    search: [ternpoint.example]
    pools: [203.0.113.100 - 203.0.113.199]
  labs:
    subnet: [198.51.100.0/24, "2001:db8:7e:2::/64"]
    gateway: [198.51.100.1, "2001:db8:7e:2::1"]
    resolvers: [198.51.100.2]
    search: [labs.ternpoint.example]
    pools: [198.51.100.100 - 198.51.100.199]
hosts:
  tide-db:
    reach: ssh:tide-db
    interfaces:
      eth0: {segment: quay, hold: [203.0.113.20, "2001:db8:7e:1::20"]}
      eth1: {segment: labs, hold: [198.51.100.20, "2001:db8:7e:2::20"], gateway: none}
"""
BOTH = list(itertools.product(RELEASES, TWO_LINKS))


@pytest.fixture
def aged(segment: Segment, tmp_path: Path) -> Iterator[MakeAged]:
    """Makes a host of a release and a stack, and the seat that reaches it."""
    made: list[LabHost] = []

    def make(release: str, stack: str, second: Segment | None = None) -> tuple[LabHost, Seat]:
        files, units = TWO_LINKS[stack] if second is not None else (STACKS | MORE)[stack]
        resolved = "resolved" if stack.endswith("networkd") else ""
        host = LabHost(
            "tide-db",
            tmp_path,
            segment,
            files,
            (*units, SSH),
            second=second,
            image=image_of(release, stack == "ifupdown2"),
        )
        made.append(host)
        resolv_conf = host.disk("/etc/resolv.conf")
        resolv_conf.unlink(missing_ok=True)
        if resolved or (release != "bullseye" and stack not in MORE):
            resolv_conf.symlink_to(STUB)
            wants = host.disk("/etc/systemd/system/multi-user.target.wants/systemd-resolved.service")
            wants.parent.mkdir(parents=True, exist_ok=True)
            wants.unlink(missing_ok=True)
            wants.symlink_to("/lib/systemd/system/systemd-resolved.service")
        else:
            mask = host.disk("/etc/systemd/system/systemd-resolved.service")
            mask.unlink(missing_ok=True)
            mask.symlink_to("/dev/null")
        host.boot()
        wait_for("a lease", host.leased, 60)
        mooring = LabHost("mooring", tmp_path, segment, *STACKS["networkd"], mac="00:00:5e:00:53:31")
        made.append(mooring)
        mooring.boot()
        wait_for("a lease", mooring.leased, 60)
        seat = Seat(mooring)
        seat.knows(Reached(host))
        return host, seat

    yield make
    for host in made:
        host.close()


def cover(rows: list[tuple[str, str]], tried: list[tuple[str, str]]) -> list[object]:
    return [
        pytest.param(*row, marks=() if row in tried else pytest.mark.beyond_cover, id="-".join(row)) for row in rows
    ]


def planned(seat: Seat) -> None:
    pools = "203.0.113.100-203.0.113.199"
    seat.does("propose", "--host", "ssh:tide-db", "--at", ANOTHER, "--pool", pools, "-o", "plan.yaml")


def converted(seat: Seat, host: LabHost) -> None:
    done = seat.tool("cutover", "plan.yaml", "--host", "tide-db", "--unattended")
    assert done.returncode == 0, done.stdout + done.stderr + log(host)


@pytest.mark.parametrize(("release", "stack"), cover(EVERY, COVER))
def test_there_and_back(aged: MakeAged, release: str, stack: str) -> None:
    host, seat = aged(release, stack)
    version = {"bullseye": "systemd 247", "trixie": "systemd 257"}[release]
    seat.does("survey", "--host", "ssh:tide-db", says=["leased by", "203.0.113.1", version])
    planned(seat)
    converted(seat, host)
    host.cut_power()
    host.boot()
    wait_for("the address", lambda: host.holds(ANOTHER), 40)
    seat.does("verify", "plan.yaml", says=["the state is as planned"])
    assert not host.leased()
    seat.does("restore", "--plan", "plan.yaml", "--host", "tide-db", says=["change 0002: confirmed"])
    wait_for("the lease", host.leased, 40)
    assert not host.holds(ANOTHER)


@pytest.mark.parametrize(("release", "stack"), cover(BOTH, []))
def test_two_links_and_both_versions(aged: MakeAged, labs: Labs, release: str, stack: str) -> None:
    host, seat = aged(release, stack, labs)
    wait_for("a lease on eth1", lambda: " dynamic " in host.addresses(link="eth1"), 60)
    seat.write("/root/plan.yaml", PLAN)
    converted(seat, host)
    host.cut_power()
    host.boot()
    for link, held in (("eth0", (ANOTHER, "2001:db8:7e:1::20")), ("eth1", ("198.51.100.20", "2001:db8:7e:2::20"))):
        for address in held:
            there = lambda n=link, a=address: f" {a}/" in host.addresses("-4", n) + host.addresses("-6", n)  # noqa: E731
            wait_for(f"{address} on {link}", there, 40)
    seat.does("verify", "plan.yaml", says=["the state is as planned"])
    seat.does("restore", "--plan", "plan.yaml", "--host", "tide-db", says=["change 0002: confirmed"])
    for link in ("eth0", "eth1"):
        wait_for(f"the lease on {link}", lambda n=link: " dynamic " in host.addresses(link=n), 60)


@pytest.mark.parametrize(("release", "stack"), cover(EVERY, [("trixie", "networkd")]))
def test_the_guard_is_killed_and_the_deadline_passes(aged: MakeAged, release: str, stack: str) -> None:
    """Nobody decides, and the guard does not live to see it: a second one, at the boot, rolls back."""
    host, seat = aged(release, stack)
    planned(seat)
    before = host.etc_digest()
    cutover = seat.begins("cutover", "plan.yaml", "--host", "tide-db", "--confirm-within", "30", "--no-grace")
    wait_for(f"the verdict: {log(host)}", host.disk(f"{CHANGE}/verdict").exists, 90)
    host("kill", "-9", guard_pid(host))
    out, _ = cutover.communicate(timeout=400)
    host.cut_power()
    host.boot()
    is_as_before(host, before, out.decode())


@pytest.mark.parametrize(("release", "stack"), cover(EVERY, []))
def test_nobody_confirms(aged: MakeAged, release: str, stack: str) -> None:
    host, seat = aged(release, stack)
    planned(seat)
    before = host.etc_digest()
    done = seat.tool("cutover", "plan.yaml", "--host", "tide-db", "--confirm-within", "10")
    assert done.returncode == 3, done.stdout + done.stderr + log(host)
    is_as_before(host, before, done.stdout)


def is_as_before(host: LabHost, before: str, said: str) -> None:
    """Rolled back: its files, and its lease."""
    ends(host, "rolled-back")
    assert etc_without_locks(before) == etc_without_locks(host.etc_digest()), said + log(host)
    wait_for("the lease", host.leased, 60)
    assert not host.holds(ANOTHER)


def etc_without_locks(digest: str) -> list[str]:
    """What daemons write into /etc by themselves left out: a lease client's resolv.conf tells of another lease."""
    return [line for line in digest.splitlines() if "resolv.conf" not in line]


@pytest.fixture
def router(request: pytest.FixtureRequest, segment: Segment, servers_root: Path) -> Router:
    return Router(servers_root, segment, dhcp=request.param == "DHCPv6")


@pytest.mark.beyond_cover
@pytest.mark.parametrize("router", ["advertised"], indirect=True)
def test_dhcpcd_where_routers_advertise(router: Router, aged: MakeAged) -> None:
    """It does IPv6 by itself: the kernel takes over when it ends, and what goes with it is told."""
    host, seat = aged("trixie", "ifupdown")
    wait_for("an address of the prefix", lambda: "2001:db8:7e:1:" in host.addresses("-6"), 30)
    planned(seat)
    told = seat.tool("check", "plan.yaml").stdout
    assert "ipv6-goes-with-lease" in told, told
    assert "dhcpcd has given eth0 2001:db8:7e:1:" in told
    converted(seat, host)
    assert "2001:db8:7e:1:" in host.addresses("-6")
    assert "via fe80::1" in host("ip", "-6", "route", "show", "default").stdout
    seat.does("restore", "--plan", "plan.yaml", "--host", "tide-db", says=["change 0002: confirmed"])
    wait_for("the lease", host.leased, 40)
    wait_for("the gateway of routers", lambda: "via fe80::1" in host("ip", "-6", "route", "show", "default").stdout, 30)


@pytest.mark.beyond_cover
@pytest.mark.parametrize("router", ["DHCPv6"], indirect=True)
def test_an_address_of_dhcpv6_is_not_lost_unsaid(router: Router, aged: MakeAged) -> None:
    """Nobody but dhcpcd asks DHCPv6 there: a plan that says nothing of IPv6 is refused."""
    host, seat = aged("trixie", "ifupdown")
    wait_for("an address of DHCPv6", lambda: "2001:db8:7e:1::1" in host.addresses("-6"), 30)
    planned(seat)
    refused = seat.tool("cutover", "plan.yaml", "--host", "tide-db", "--unattended")
    assert refused.returncode == 1, refused.stdout + refused.stderr
    assert "nobody else asks DHCPv6" in refused.stdout, refused.stdout
    assert host.leased()
