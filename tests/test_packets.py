from __future__ import annotations

import random
from ipaddress import IPv4Address

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fixed_anchor.packets.arp import REPLY, REQUEST, Arp, probe_frame, reply_frame
from fixed_anchor.packets.conversation import ArpProbes, Echoes
from fixed_anchor.packets.ethernet import ETHERTYPE_ARP, Frame, PacketError
from fixed_anchor.packets.ipv4 import Echo, IPv4, checksum, echo_frame

OWN, OTHER, THIRD = "00:00:5e:00:53:11", "00:00:5e:00:53:5a", "00:00:5e:00:53:5b"
TARGET = IPv4Address("203.0.113.20")

macs = st.binary(min_size=6, max_size=6).map(lambda b: b.hex(":"))
ipv4 = st.ip_addresses(v=4)


@given(st.sampled_from([REQUEST, REPLY]), macs, ipv4, macs, ipv4)
def test_arp_round_trips(operation, sender_mac, sender, target_mac, target) -> None:
    arp = Arp(operation, sender_mac, sender, target_mac, target)
    assert Arp.decode(arp.encode() + b"padding") == arp


@given(ipv4, ipv4, st.binary(max_size=80), st.integers(0, 65535), st.integers(0, 65535), st.booleans())
def test_ipv4_and_echo_round_trip(source, destination, data, identifier, sequence, request) -> None:
    echo = Echo(request, identifier, sequence, data)
    packet = IPv4(source, destination, 1, echo.encode())
    decoded = IPv4.decode(packet.encode() + b"\0\0")
    assert decoded == packet
    assert Echo.decode(decoded.payload) == echo
    assert checksum(packet.encode()[:20]) == 0


@pytest.mark.parametrize("kind", [Frame, Arp, IPv4, Echo])
@given(data=st.binary(max_size=120))
def test_arbitrary_bytes_raise_only_our_error(kind, data) -> None:
    try:
        kind.decode(data)
    except PacketError:
        pass


@given(st.binary(max_size=90))
def test_conversations_ignore_arbitrary_frames(data: bytes) -> None:
    probes = ArpProbes(OWN, [TARGET])
    probes.receive(data)
    probes.receive(bytes(12) + b"\x08\x06" + data)
    assert probes.holders[TARGET] == {}
    echoes = Echoes(OWN, TARGET, OTHER, IPv4Address("203.0.113.1"))
    echoes.receive(bytes(12) + b"\x08\x00" + data)
    assert not echoes.answered


def test_a_probe_on_the_wire() -> None:
    frame = probe_frame(OWN, TARGET)
    assert frame.hex() == (
        "ffffffffffff00005e0053110806000108000604000100005e00531100000000000000000000cb007114" + 18 * "00"
    )


@pytest.mark.parametrize("seed", range(5))
def test_timing_is_that_of_rfc_5227(seed: int) -> None:
    probes = ArpProbes(OWN, [TARGET], chance=random.Random(seed))
    first, second, third = (send.at for send in probes.schedule)
    assert 0 <= first <= 1
    assert 1 <= second - first <= 2
    assert 1 <= third - second <= 2
    assert probes.deadline == third + 2


def test_many_addresses_are_probed_together_and_paced() -> None:
    probes = ArpProbes(OWN, [IPv4Address(int(TARGET) + n) for n in range(254)])
    assert len(probes.schedule) == 3 * 254
    assert [s.at for s in probes.schedule] == sorted(s.at for s in probes.schedule)
    assert probes.deadline < 8


def _arp(operation: int, mac: str, sender: IPv4Address, target: IPv4Address) -> bytes:
    return Frame(OWN, mac, ETHERTYPE_ARP, Arp(operation, mac, sender, OWN, target).encode()).encode()


def test_who_counts_as_a_holder() -> None:
    nobody, elsewhere = IPv4Address(0), IPv4Address("203.0.113.99")
    probes = ArpProbes(OWN, [TARGET])
    probes.receive(_arp(REPLY, OWN, TARGET, nobody))  # our own echo
    probes.receive(_arp(REPLY, OTHER, elsewhere, nobody))  # for another address
    assert probes.holders[TARGET] == {}
    probes.receive(_arp(REQUEST, OTHER, nobody, TARGET))
    probes.receive(_arp(REPLY, THIRD, TARGET, nobody))
    assert probes.holders[TARGET] == {OTHER: "it probes for the address itself", THIRD: "ARP reply"}
    tagged = _arp(REQUEST, OTHER, TARGET, elsewhere)
    again = ArpProbes(OWN, [TARGET], until_answered=True)
    assert not again.finished
    again.receive(tagged[:12] + b"\x81\x00\x00\x07" + tagged[12:])  # a frame with a VLAN tag
    assert again.holders[TARGET] == {OTHER: "its own ARP request"}
    assert again.finished


def test_only_the_right_echo_reply_counts() -> None:
    gateway = IPv4Address("203.0.113.1")
    echoes = Echoes(OWN, TARGET, OTHER, gateway)
    wrong = [
        echo_frame(OTHER, OWN, gateway, TARGET, Echo(True, echoes.identifier, 0)),
        echo_frame(OTHER, OWN, gateway, TARGET, Echo(False, echoes.identifier ^ 1, 0)),
        echo_frame(OTHER, OWN, IPv4Address("203.0.113.9"), TARGET, Echo(False, echoes.identifier, 0)),
    ]
    for frame in wrong:
        echoes.receive(frame)
    assert not echoes.answered
    echoes.receive(echo_frame(OTHER, OWN, gateway, TARGET, Echo(False, echoes.identifier, 0)))
    assert echoes.finished


def test_a_reply_answers_its_request() -> None:
    request = Arp.decode(Frame.decode(probe_frame(OWN, TARGET)).payload)
    reply = Arp.decode(Frame.decode(reply_frame(OTHER, TARGET, request)).payload)
    assert (reply.operation, reply.sender, reply.sender_mac, reply.target_mac) == (REPLY, TARGET, OTHER, OWN)
    assert request.is_probe
