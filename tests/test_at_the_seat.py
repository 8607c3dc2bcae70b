"""What a seat knows of hosts: keys that want a touch, lines to correct, where they may be, who could look."""

from __future__ import annotations

import os
import socket
import struct
import subprocess
from collections.abc import Callable
from ipaddress import IPv4Address, ip_interface, ip_network
from pathlib import Path

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fixed_anchor.change import states
from fixed_anchor.change.change import ChangeStatus, Draft, Terms
from fixed_anchor.change.content import FileContent
from fixed_anchor.core.addresses import IPAddress, parse_address
from fixed_anchor.core.config import InterfaceConfig, Route
from fixed_anchor.core.errors import NoAccess, Refused, Unreachable
from fixed_anchor.core.reaching import ACCEPTS, SILENT, UNREACHABLE
from fixed_anchor.core.verification import VerifyCheck, VerifyResult
from fixed_anchor.core.wire import Holder, WireAnswer, more_telling
from fixed_anchor.machines.ssh import corrections as at_the_seat
from fixed_anchor.machines.ssh.alone import why_not_alone
from fixed_anchor.machines.ssh.client import Effective
from fixed_anchor.machines.ssh.corrections import corrections
from fixed_anchor.machines.ssh.destination import Destination
from fixed_anchor.packets.arp import Arp, probe_frame, reply_frame, request_frame
from fixed_anchor.packets.conversation import Conversation
from fixed_anchor.packets.ethernet import Frame
from fixed_anchor.planfile.reader import read_plan
from fixed_anchor.vantages import packet_filter
from fixed_anchor.workflow.beside.neighbour_checks import NeighbourChecks
from fixed_anchor.workflow.beside.on_segment import Neighbour, vantage_for
from fixed_anchor.workflow.driving import drive
from fixed_anchor.workflow.events import Member
from fixed_anchor.workflow.network.look import Looked
from fixed_anchor.workflow.reached.site import Site
from fixed_anchor.workflow.run import Run
from tests.machines import Told, one_link
from tests.test_over_ssh import SSH

OLD, NEW = "203.0.113.140", parse_address("203.0.113.20")
OWN, OTHER, SEEN_FROM = "00:00:5e:00:53:11", "00:00:5e:00:53:99", "00:00:5e:00:53:14"
KEY = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIMFXq5n4MRlnB7vlimGppngW6/W+gmtRphfFBc0Inyrb"


@pytest.mark.parametrize(
    ("kind", "refused"),
    [
        ("ED25519", False),
        ("ED25519-SK", True),
        ("ECDSA-SK", True),
        ("ED25519-SK-CERT", True),
        ("RSA-CERT", False),
        (None, False),
    ],
)
def test_keys_that_want_a_touch(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, kind: str | None, refused: bool
) -> None:
    (tmp_path / "ssh").write_text(SSH)
    (tmp_path / "ssh").chmod(0o755)
    monkeypatch.setenv("PATH", f"{tmp_path}:{os.environ['PATH']}")
    monkeypatch.setenv("SAID", str(tmp_path / "said"))
    told = f"debug1: Server accepts key: /home/wren/.ssh/key one {kind} SHA256:abc agent\\n" if kind else ""
    monkeypatch.setenv("ERRORS", f"debug1: Connecting\\n{told}")
    why = why_not_alone("tide-db", Destination("tide-db", None, None), "")
    assert isinstance(why, Refused) == refused
    if why is not None:
        assert f"/home/wren/.ssh/key one ({kind})" in str(why)
    assert " -v " in f" {(tmp_path / 'said').read_text()}"


def hashed(name: str) -> str:
    """The name as `ssh-keygen -H` writes it."""
    import base64
    import hashlib
    import hmac

    salt = b"salt of the sea, 20b"
    digest = hmac.new(salt, name.encode(), hashlib.sha1).digest()
    return f"|1|{base64.b64encode(salt).decode()}|{base64.b64encode(digest).decode()}"


SAYS = Effective(OLD, 22, known_hosts=("~/.ssh/known_hosts",))


@pytest.mark.parametrize(
    ("config", "known", "says", "known_as", "expected"),
    [
        # The block that is for it, not the first one with that address.
        (
            f"Host tide-ns*\n  HostName {OLD}\nHost tide-* !tide-web\n  User wren\n  hostname={OLD}\n",
            f"{OLD} {KEY}\n",
            SAYS,
            OLD,
            [
                f"config, line 5, instead of `hostname={OLD}`: HostName {NEW}",
                f"known_hosts, beside line 1, which knows its key by {OLD} alone: {NEW} {KEY}",
            ],
        ),
        # Included, with a hashed name; off port 22.
        (
            "Host *\n  Include more/*.conf\n",
            f"# keys\n{hashed(f'[{OLD}]:2222')} {KEY}\n",
            Effective(OLD, 2222, known_hosts=("~/.ssh/known_hosts",)),
            f"[{OLD}]:2222",
            [
                f"more/a.conf, line 1, instead of `HostName {OLD}`: HostName {NEW}",
                f"known_hosts, beside line 2, which knows its key by [{OLD}]:2222 alone: [{NEW}]:2222 {KEY}",
            ],
        ),
        # An authority, which stands there with the plain name at any port.
        (
            f"Host tide-db\n  HostName {OLD}\n",
            f"@cert-authority {OLD} {KEY} station\n",
            Effective(OLD, 2222, known_hosts=("~/.ssh/known_hosts",)),
            OLD,
            [f": HostName {NEW}", f": @cert-authority {NEW} {KEY}"],
        ),
        # Known by the new address already; by a name of its own; said nowhere that could be found.
        (f"HostName {OLD}\n", f"{OLD},{NEW} {KEY}\n", SAYS, OLD, [f"config, line 1, instead of `HostName {OLD}`"]),
        (
            "",
            f"tide {KEY}\n",
            Effective(OLD, 22, "tide"),
            "tide",
            ["ssh for `Host tide-db`, instead of `HostName"],
        ),
        ("Host tide-db\n", f"{NEW} {KEY}\n", Effective(str(NEW), 22), str(NEW), []),
        # A name: in /etc/hosts, in DNS, right already.
        (
            "",
            "",
            Effective("quay-db", 22),
            "quay-db",
            [f"2, instead of `{OLD} db quay-db # old`: {NEW} db"],
        ),
        (
            "",
            "",
            Effective("db.ternpoint.example", 22),
            "db",
            [f"PTR record of {NEW}: db.ternpoint.example. IN A {NEW}"],
        ),
        ("", "", Effective("right.ternpoint.example", 22), "right", []),
    ],
)
def test_the_lines_to_correct(
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    config: str,
    known: str,
    says: Effective,
    known_as: str,
    expected: list[str],
) -> None:
    (tmp_path / ".ssh" / "more").mkdir(parents=True)
    (tmp_path / ".ssh" / "config").write_text(config)
    (tmp_path / ".ssh" / "more" / "a.conf").write_text(f"HostName {OLD}\n")
    (tmp_path / ".ssh" / "known_hosts").write_text(known)
    (tmp_path / "hosts").write_text(f"127.0.0.1 localhost\n{OLD} db quay-db # old\n")
    monkeypatch.setenv("HOME", str(tmp_path))
    monkeypatch.setattr(at_the_seat, "_HOSTS", tmp_path / "hosts")
    monkeypatch.setattr(at_the_seat, "_CONFIGS", (Path("~/.ssh/config"),))

    def resolve(name: str, port: None) -> list[tuple[object, ...]]:
        return [(0, 0, 0, "", (str(NEW) if name.startswith("right") else OLD, 0))]

    monkeypatch.setattr(socket, "getaddrinfo", resolve)
    lines = corrections(Destination("tide-db", None, None), says, NEW, known_as)
    assert len(lines) == len(expected), lines
    for one, part in zip(lines, expected, strict=True):
        assert part in ": ".join(one)
    for one in lines:
        if "beside line" in one.where:
            # What is told to be added is what ssh looks for.
            (tmp_path / ".ssh" / "known_hosts").write_text(f"{one.line}\n")
            new = f"[{NEW}]:2222" if known_as.startswith("[") else str(NEW)
            found = subprocess.run(["ssh-keygen", "-F", new, "-f", tmp_path / ".ssh" / "known_hosts"], check=False)
            assert found.returncode == 0


class Beside:
    """A vantage of a neighbour, on whose segment these MACs answer for the address that is asked for."""

    name, table, why_not, has_neighbours = "beside", None, None, True
    mac, own, link_local = SEEN_FROM, None, None

    def __init__(self, macs: set[str], said: str = ACCEPTS) -> None:
        self.macs, self.said = macs, said
        self.lost = False

    @property
    def frames(self) -> Beside:
        return self

    def drops(self) -> int:
        return 0

    def converse(self, conversation: Conversation) -> None:
        if self.lost:
            raise NoAccess("the connection was lost")
        for send in conversation.sends():
            asked = Arp.decode(Frame.decode(send.frame).payload)
            for mac in self.macs if asked.target == NEW or str(asked.target) == OLD else ():
                conversation.receive(reply_frame(mac, asked.target, asked))

    def connect(self, address: IPAddress, port: int, source: IPAddress | None, timeout: float) -> str:
        return self.said


@pytest.mark.parametrize(
    ("before", "after", "finds", "ssh"),
    [
        (Beside({OWN}), Beside({OWN}), ("pass", True), ("pass", True)),
        (Beside({OWN}), Beside(set(), SILENT), ("fail", True), ("fail", True)),
        # Ports that are isolated from one another, and a firewall: as before.
        (Beside(set(), SILENT), Beside(set(), SILENT), ("fail", False), ("fail", False)),
        (Beside(set()), Beside({OWN}), ("pass", True), ("pass", True)),
        # A second owner is one, whatever was before.
        (Beside({OWN}), Beside({OWN, OTHER}), ("fail", True), ("pass", True)),
        (Beside(set(), SILENT), Beside({OTHER}), ("fail", True), ("pass", False)),
        (None, Beside({OWN}, SILENT), ("pass", True), ("fail", False)),
    ],
)
def test_what_a_neighbour_sees(
    monkeypatch: pytest.MonkeyPatch,
    before: Beside | None,
    after: Beside,
    finds: tuple[str, bool],
    ssh: tuple[str, bool],
) -> None:
    monkeypatch.setattr("time.sleep", lambda seconds: None)
    neighbour = Neighbour("tide-ns2", before or after)  # type: ignore[arg-type]
    checks = NeighbourChecks("tide-db", "eth0", frozenset({OWN}), neighbour, 22)
    if before is not None:
        checks.before((parse_address(OLD),))
    checks.neighbour = Neighbour("tide-ns2", after)  # type: ignore[arg-type]
    wanted = InterfaceConfig("eth0", ipv4="fixed", addresses=(ip_interface(f"{NEW}/24"),))
    made = {check.code: check for check in checks.made(wanted)}
    assert (made["neighbour-finds"].outcome, made["neighbour-finds"].required) == finds
    assert (made["neighbour-ssh"].outcome, made["neighbour-ssh"].required) == ssh
    if OTHER in after.macs:
        assert OTHER in made["neighbour-finds"].observed
    # A neighbour that is lost, or hears no gateway any more, says nothing of the host.
    route = Route(ip_network("0.0.0.0/0"), parse_address("203.0.113.1"))
    far = msgspec.structs.replace(wanted, routes=(route,))
    silent = [check for check in checks.made(far) if check.outcome == "fail" and check.required]
    assert [check.code for check in silent] == (["neighbour-finds"] if OTHER in after.macs else [])
    after.lost = True
    assert checks.made(wanted) == []


def test_a_neighbour_without_ipv6_speaks_of_ipv4_alone(monkeypatch: pytest.MonkeyPatch) -> None:
    """That it cannot connect to an address of the other version is no word about the host."""
    checks = NeighbourChecks("tide-db", "eth0", frozenset({OWN}), Neighbour("tide-ns2", Beside({OWN})), 22)  # type: ignore[arg-type]
    checks.before((parse_address(OLD),))
    checks.neighbour = Neighbour("tide-ns2", Beside({OWN}, UNREACHABLE))  # type: ignore[arg-type]
    wanted = InterfaceConfig("eth0", ipv6="fixed", addresses=(ip_interface("2001:db8:7e:1::20/64"),))
    monkeypatch.setattr(NeighbourChecks, "_look", lambda *said: Looked({}, {}))
    monkeypatch.setattr("time.sleep", lambda seconds: None)
    (made,) = (check for check in checks.made(wanted) if check.code == "neighbour-ssh")
    assert (made.outcome, made.required, made.observed) == ("fail", False, UNREACHABLE)


def test_of_two_looks_the_one_that_saw_somebody_counts() -> None:
    nobody = WireAnswer(NEW, (), "3 probes", "one", "now")
    itself, other = (WireAnswer(NEW, (Holder(mac, "ARP reply"),), "3 probes", "two", "now") for mac in (OWN, OTHER))
    probed = WireAnswer(NEW, (), "3 probes", "three", "now", probers=(OTHER,))
    own = frozenset({OWN})
    assert more_telling(nobody, other, own) is other
    assert more_telling(itself, probed, own) is probed
    assert more_telling(probed, other, own) is other
    assert more_telling(nobody, itself, own) is nobody


@pytest.mark.parametrize(
    ("reach", "said"),
    [
        ({}, "tide-ns1 or tide-ns2 could: say `reach: ssh:tide-ns1` in the plan"),
        ({"tide-ns2": "ssh:tide-ns2"}, "tide-ns2 could, and does not answer"),
    ],
)
def test_who_could_look_is_named(tmp_path: Path, reach: dict[str, str], said: str) -> None:
    hosts = "".join(
        f"  {name}:\n    {f'reach: {reach[name]}' if name in reach else ''}\n    interfaces:\n"
        f'      eth0: {{segment: quay, mac: "00:00:5e:00:53:1{number}", hold: 203.0.113.2{number}}}\n'
        for number, name in enumerate(("tide-ns1", "tide-ns2"))
    )
    (tmp_path / "plan.yaml").write_text(f"plan: 1\nsegments:\n  quay: {{subnet: 203.0.113.0/24}}\nhosts:\n{hosts}")
    here = Told(one_link("192.0.2.9/24", leased=False), {})
    site = Site(read_plan(tmp_path / "plan.yaml"), here)
    for name in reach:
        site.unreached[name] = NoAccess("it is down")
    host = site.plan.hosts["tide-ns1"]
    found = vantage_for(site, host, host.interfaces[0])
    assert said in (found.why_not or ""), found.why_not


def test_where_a_host_may_be(site: Path) -> None:
    """Where it was, what is reserved for it, its lease: each with how it is known."""
    told = Site(read_plan(site / "plan.yaml"), Told(one_link("192.0.2.9/24"), {}))
    host = told.plan.hosts["tide-db"]
    told.whereabouts.had[host.name] = [parse_address(OLD)]
    found = list(told.whereabouts.of(host)())
    assert found[0] == (parse_address(OLD), "which it had before")
    assert any("leased to it by" in how for _, how in found), found
    stranger = told.plan.hosts["gannet-ws"]
    assert not {address for address, _ in told.whereabouts.of(stranger)()} & {address for address, _ in found}


class Gone:
    """A target that begins a change, and answers nothing from then on, or from when it was asked to keep it."""

    name = "tide-db"

    def __init__(self, waits: bool) -> None:
        self.waits = waits

    def open_change(self) -> None:
        return None

    def begin(self, draft: object, terms: object) -> str:
        return "0001"

    def status(self, number: str) -> ChangeStatus:
        if not self.waits:
            raise Unreachable("tide-db is not reached")
        return ChangeStatus(number, states.WAITING, "eth0", 60)

    def verify(self, *asked: object) -> VerifyResult:
        check = VerifyCheck("address-present", True, self.name, "eth0", "kernel", "x", "x", "pass")
        return VerifyResult((check,))

    def answers_anew(self, *asked: object) -> VerifyCheck:
        return VerifyCheck("answers-anew", True, self.name, "eth0", "the seat", "x", "x", "pass")

    def from_elsewhere(self, wanted: object) -> tuple[VerifyCheck, ...]:
        return ()

    def give_verdict(self, *said: object) -> None:
        """It is taken."""

    def decide(self, *said: object) -> None:
        self.waits = False
        raise Unreachable("the connection to tide-db was lost")


@pytest.mark.parametrize(
    ("unattended", "anew", "waits", "said"),
    [
        (False, False, False, "rolled back by its guard, unless somebody has confirmed it; not seen again"),
        (True, False, False, "kept or rolled back by its guard; not seen again"),
        (True, True, False, "rolled back by its guard; not seen again"),
        # It was asked to be kept, and nobody knows whether that arrived.
        (True, True, True, "kept, or rolled back by its guard; not seen again"),
    ],
)
def test_what_is_said_of_a_host_that_is_not_seen_again(
    monkeypatch: pytest.MonkeyPatch, unattended: bool, anew: bool, waits: bool, said: str
) -> None:
    now = [0.0]
    monkeypatch.setattr("time.monotonic", lambda: now[0])
    monkeypatch.setattr("time.sleep", lambda seconds: now.__setitem__(0, now[0] + 30))
    draft = Draft("tide-db", "networkd", (), FileContent(("eth0",), ()), ())
    terms = Terms(60, unattended, {}, anew=anew)
    run = Run((Member("tide-db", draft, terms),))
    drive(run, {"tide-db": Gone(waits)}, lambda event: None)  # type: ignore[dict-item]
    outcome = run.outcome("tide-db")
    assert outcome is not None
    assert isinstance(outcome.error, Unreachable)
    assert outcome.error.what.startswith("change 0001 of tide-db: ")
    assert said in outcome.error.what


def passes(program: bytes, frame: bytes) -> bool:
    """What the kernel makes of a filter: the few operations that ours have (BPF, packet(7))."""
    instructions = list(struct.iter_unpack("HBBI", program))
    at = value = 0
    loads: dict[int, Callable[[int], int]] = {0x20: lambda k: int.from_bytes(frame[k : k + 4], "big")}
    jumps: dict[int, Callable[[int], bool]] = {
        0x15: lambda k: value == k,
        0x35: lambda k: value >= k,
        0x25: lambda k: value > k,
    }
    while True:
        operation, if_true, if_false, operand = instructions[at]
        at += 1
        if operation == 0x06:
            return bool(operand)
        if operation in loads:
            value = loads[operation](operand)
        else:
            at += if_true if jumps[operation](operand) else if_false


@given(st.ip_addresses(v=4), st.ip_addresses(v=4), st.ip_addresses(v=4), st.ip_addresses(v=4))
def test_of_arp_what_is_about_the_range_passes(
    one: IPv4Address, two: IPv4Address, sender: IPv4Address, target: IPv4Address
) -> None:
    first, last = min(one, two), max(one, two)
    program = packet_filter.instructions(0x0806, (first, last))
    if int(sender):
        assert passes(program, request_frame(OTHER, sender, target)) == (first <= sender <= last)
    assert passes(program, probe_frame(OTHER, target)) == (first <= target <= last)
    assert packet_filter.instructions(0x0806) == b""
