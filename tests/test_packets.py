from __future__ import annotations

import random
from ipaddress import IPv4Address, IPv4Network, IPv6Address

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fixed_anchor.packets import dhcp, ipv6
from fixed_anchor.packets.announcements import Announcements
from fixed_anchor.packets.arp import REPLY, REQUEST, Arp, probe_frame, reply_frame
from fixed_anchor.packets.arp_probes import AFTERWARDS, CAREFULLY, CONTROL, QUICKLY, ArpProbes, Pattern
from fixed_anchor.packets.conversation import Together
from fixed_anchor.packets.dhcp_questions import DhcpQuestions
from fixed_anchor.packets.dhcp_release import Release
from fixed_anchor.packets.echoes import Echoes
from fixed_anchor.packets.ethernet import ETHERTYPE_ARP, ETHERTYPE_IPV6, Frame, PacketError
from fixed_anchor.packets.ipv4 import Echo, IPv4, checksum, echo_frame
from fixed_anchor.packets.ipv6 import Icmpv6, IPv6, Neighbour
from fixed_anchor.packets.neighbour_probes import NeighbourProbes
from fixed_anchor.packets.udp import Udp

OWN, OTHER, THIRD = "00:00:5e:00:53:11", "00:00:5e:00:53:5a", "00:00:5e:00:53:5b"
TARGET = IPv4Address("203.0.113.20")
TARGET6 = IPv6Address("2001:db8:7e:1::20")
LOCAL = ipv6.link_local_of(OWN)

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


@pytest.mark.parametrize("kind", [Frame, Arp, IPv4, Echo, IPv6, dhcp.Dhcp])
@given(data=st.binary(max_size=120))
def test_arbitrary_bytes_raise_only_our_error(kind, data) -> None:
    try:
        kind.decode(data)
    except PacketError:
        pass


def conversations() -> list:
    gateway = IPv4Address("203.0.113.1")
    return [
        ArpProbes(OWN, [TARGET]),
        NeighbourProbes(OWN, LOCAL, [TARGET6]),
        Echoes(OWN, TARGET, OTHER, gateway),
        Echoes(OWN, TARGET6, OTHER, IPv6Address("2001:db8:7e:1::1")),
        DhcpQuestions(OWN, TARGET),
    ]


@given(st.binary(max_size=400), st.sampled_from([b"\x08\x06", b"\x08\x00", b"\x86\xdd", b"\x81\x00"]), st.data())
def test_conversations_ignore_arbitrary_frames(noise: bytes, kind: bytes, data: st.DataObject) -> None:
    for conversation in conversations():
        conversation.receive(noise)
        conversation.receive(bytes(12) + kind + noise)
        # A real frame, cut or with a byte changed, is ignored or counted, and never believed.
        sent = next(iter(conversation.sends())).frame
        at = data.draw(st.integers(0, len(sent) - 1))
        conversation.receive(sent[:at])
        if not isinstance(conversation, ArpProbes):  # ARP has no checksum: changed, it is somebody else's probe
            conversation.receive(sent[:at] + bytes([sent[at] ^ 0x41]) + sent[at + 1 :])
        assert not any(getattr(conversation, "holders", {}).values())
        assert not getattr(conversation, "answers", None)


def test_a_probe_on_the_wire() -> None:
    frame = probe_frame(OWN, TARGET)
    assert frame.hex() == (
        "ffffffffffff00005e0053110806000108000604000100005e00531100000000000000000000cb007114" + 18 * "00"
    )


@pytest.mark.parametrize("seed", range(5))
def test_timing_is_that_of_rfc_5227(seed: int) -> None:
    probes = ArpProbes(OWN, [TARGET], chance=random.Random(seed))
    first, second, third = (send.at for send in probes.sends())
    assert 0 <= first <= 1
    assert 1 <= second - first <= 2
    assert 1 <= third - second <= 2
    assert probes.deadline == third + 2


def test_many_addresses_are_probed_together_and_paced() -> None:
    probes = ArpProbes(OWN, [IPv4Address(int(TARGET) + n) for n in range(254)])
    times = [send.at for send in probes.sends()]
    assert len(times) == 3 * 254
    assert times == sorted(times)
    assert probes.deadline < 8


def test_a_sweep_asks_the_silent_ones_once_more() -> None:
    targets = [IPv4Address(int(TARGET) + n) for n in range(100)]
    probes = ArpProbes(OWN, targets, QUICKLY)
    sent = 0
    for send in probes.sends():
        sent += 1
        request = Arp.decode(Frame.decode(send.frame).payload)
        if int(request.target) % 2:
            probes.receive(reply_frame(OTHER, request.target, request))
    assert sent == 150
    assert sum(bool(h) for h in probes.holders.values()) == 50
    assert probes.deadline == pytest.approx(1.03, abs=0.01)


@pytest.mark.parametrize("pattern", [CAREFULLY, AFTERWARDS, QUICKLY, CONTROL], ids=lambda p: p.words)
def test_whoever_answers_is_never_probed_twice(pattern: Pattern) -> None:
    """dhcpcd gives its lease up at the second probe within 10 s; a request, which names its sender, harms nobody."""
    targets = [IPv4Address(int(TARGET) + n) for n in range(4)]
    own = IPv4Address("203.0.113.9")
    for sender in (own, None):
        probes = ArpProbes(OWN, targets, pattern, sender=sender)
        sent: dict[IPv4Address, list[IPv4Address]] = {target: [] for target in targets}
        for send in probes.sends():
            request = Arp.decode(Frame.decode(send.frame).payload)
            sent[request.target].append(request.sender)
            if int(request.target) % 2:
                probes.receive(reply_frame(OTHER, request.target, request))
        for target, senders in sent.items():
            probed = senders.count(IPv4Address(0))
            if not int(target) % 2:
                # The silent ones get all of them: with a request first, a quick look has one probe less.
                assert probed == pattern.passes - (pattern is QUICKLY and sender is not None)
            else:
                assert probed == (1 if sender is None else 0)
            assert senders.count(own) >= (sender is not None)
        answered = "ARP requests from 203.0.113.9" if sender is not None else pattern.words
        assert [probes.asked_of(t) == answered for t in targets if int(t) % 2] == [True, True]


def test_its_own_address_is_asked_for_by_probes_alone() -> None:
    """A request that comes from the address asked for would announce it."""
    probes = ArpProbes(OWN, [TARGET], AFTERWARDS, sender=TARGET)
    senders = {Arp.decode(Frame.decode(send.frame).payload).sender for send in probes.sends()}
    assert (senders, probes.asked) == ({IPv4Address(0)}, AFTERWARDS.words)


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
    # A probe is no answer.
    assert (probes.holders[TARGET], probes.probers[TARGET]) == ({THIRD: "ARP reply"}, {OTHER})
    tagged = _arp(REQUEST, OTHER, TARGET, elsewhere)
    again = ArpProbes(OWN, [TARGET], until_answered=True)
    again.receive(tagged[:12] + b"\x81\x00\x00\x07" + tagged[12:])  # a frame of another VLAN
    assert not again.finished
    again.receive(tagged[:12] + b"\x81\x00\xe0\x00" + tagged[12:])  # one with a priority
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


# --- IPv6 -----------------------------------------------------------------------------------

ip6 = st.ip_addresses(v=6)


@given(ip6, ip6, st.binary(max_size=60), st.integers(0, 255))
def test_ipv6_and_udp_round_trip(source, destination, data, hop_limit) -> None:
    packet = IPv6(source, destination, 17, b"", hop_limit)
    whole = IPv6(source, destination, 17, Udp(546, 547, data).encode6(packet), hop_limit)
    decoded = IPv6.decode(whole.encode() + b"padding")
    assert decoded == whole
    assert Udp.decode(decoded) == Udp(546, 547, data)
    # Between virtual machines the sum may hold that of the pseudo-header alone.
    length = len(whole.payload).to_bytes(4, "big")
    unfinished = ~checksum(source.packed + destination.packed + length + bytes([0, 0, 0, 17])) & 0xFFFF
    left = whole.payload[:6] + unfinished.to_bytes(2, "big") + whole.payload[8:]
    assert Udp.decode(IPv6(source, destination, 17, left)).payload == data


def test_a_solicitation_on_the_wire() -> None:
    frame = Frame.decode(ipv6.solicitation_frame(OWN, LOCAL, TARGET6))
    assert frame.destination == "33:33:ff:00:00:20"
    packet = IPv6.decode(frame.payload)
    assert (str(packet.source), str(packet.destination)) == ("fe80::200:5eff:fe00:5311", "ff02::1:ff00:20")
    assert Neighbour.decode(packet) == Neighbour(True, TARGET6, OWN)
    with pytest.raises(PacketError, match="came over a router"):
        Neighbour.decode(IPv6(packet.source, packet.destination, 58, packet.payload, 254))


def _advertisement(target: IPv6Address, mac: str = OTHER) -> bytes:
    return ipv6.advertisement_frame(mac, target, LOCAL, OWN)


def test_who_counts_as_an_ipv6_holder() -> None:
    probes = NeighbourProbes(OWN, LOCAL, [TARGET6], until_answered=True)
    assert [round(send.at) for send in probes.sends()] == [0, 1, 2]
    probes.receive(_advertisement(IPv6Address("2001:db8:7e:1::21")))
    probes.receive(_advertisement(TARGET6, OWN))
    broken = bytearray(_advertisement(TARGET6))
    broken[40] ^= 1
    probes.receive(bytes(broken))
    assert (probes.holders[TARGET6], probes.ignored, probes.finished) == ({}, 1, False)
    # Another host's duplicate detection for the same address: from ::, without its MAC in an option.
    group = ipv6.solicited_node(TARGET6)
    detection = Neighbour(True, TARGET6).encode(IPv6Address("::"), group)
    whole = IPv6(IPv6Address("::"), group, 58, detection).encode()
    probes.receive(Frame(ipv6.multicast_mac(group), THIRD, ETHERTYPE_IPV6, whole).encode())
    probes.receive(_advertisement(TARGET6))
    assert (probes.holders[TARGET6], probes.probers[TARGET6]) == ({OTHER: "neighbour advertisement"}, {THIRD})
    assert probes.finished


def test_ipv6_echo() -> None:
    router = IPv6Address("2001:db8:7e:1::1")
    echoes = Echoes(OWN, TARGET6, OTHER, router)
    echoes.receive(ipv6.echo6_frame(OTHER, OWN, router, TARGET6, False, echoes.identifier ^ 1, 0))
    echoes.receive(ipv6.echo6_frame(OTHER, OWN, router, TARGET6, True, echoes.identifier, 0))
    assert not echoes.answered
    echoes.receive(ipv6.echo6_frame(OTHER, OWN, router, TARGET6, False, echoes.identifier, 0))
    assert echoes.finished


@pytest.mark.parametrize("kind", [0, 60])
def test_extension_headers_are_stepped_over(kind: int) -> None:
    inner = Icmpv6(128, 0, b"\0\1\0\2").encode(LOCAL, TARGET6)
    packet = IPv6(LOCAL, TARGET6, kind, bytes([58, 0, 1, 4, 0, 0, 0, 0]) + inner)
    assert IPv6.decode(packet.encode()).protocol == 58
    with pytest.raises(PacketError):
        IPv6.decode(IPv6(LOCAL, TARGET6, kind, bytes([58, 9])).encode())


# --- DHCP -----------------------------------------------------------------------------------

SERVER = IPv4Address("203.0.113.1")


def _offer(asked: dhcp.Dhcp, kind: int = dhcp.OFFER, mac: str = OWN) -> dhcp.Dhcp:
    said = {
        dhcp.MESSAGE_TYPE: bytes([kind]),
        dhcp.SERVER_ID: SERVER.packed,
        dhcp.SUBNET_MASK: bytes([255, 255, 255, 0]),
        dhcp.ROUTERS: SERVER.packed,
        dhcp.RESOLVERS: SERVER.packed + TARGET.packed,
        dhcp.LEASE_TIME: (3600).to_bytes(4, "big"),
        dhcp.SEARCH: b"\x09ternpoint\x07example\0\x03lab\xc0\0",
        dhcp.STATIC_ROUTES: bytes([22, 198, 18, 4, 203, 0, 113, 5]),
    }
    return dhcp.Dhcp(True, asked.transaction, mac, said, your=TARGET)


def test_what_an_offer_says() -> None:
    questions = DhcpQuestions(OWN, TARGET)
    assert [Udp.decode(IPv4.decode(Frame.decode(s.frame).payload)).destination for s in questions.sends()] == [67] * 4
    offer = _offer(questions.discover)
    decoded = dhcp.Dhcp.decode(offer.encode())
    assert decoded == offer
    assert (decoded.server, decoded.prefix, decoded.lease_seconds) == (SERVER, 24, 3600)
    assert decoded.search == ("ternpoint.example", "lab.ternpoint.example")
    assert decoded.routes == ((IPv4Network("198.18.4.0/22"), IPv4Address("203.0.113.5")),)
    assert decoded.addresses(dhcp.RESOLVERS) == (SERVER, TARGET)


def test_only_answers_to_our_questions_count() -> None:
    questions = DhcpQuestions(OWN, TARGET)
    assert questions.inform is not None
    other = dhcp.question(dhcp.DISCOVER, questions.discover.transaction ^ 1, OWN)
    wrong = [
        _offer(other),
        _offer(questions.discover, mac=OTHER),
        _offer(questions.discover, dhcp.ACK),
        _offer(questions.inform, dhcp.OFFER),
    ]
    for message in wrong:
        questions.receive(dhcp.reply_frame(message, OTHER, SERVER))
    assert questions.answers == []
    cut = bytearray(dhcp.reply_frame(_offer(questions.discover), OTHER, SERVER))
    questions.receive(bytes(cut[:120]))
    assert questions.ignored == 1
    for message in (_offer(questions.discover), _offer(questions.discover), _offer(questions.inform, dhcp.ACK)):
        questions.receive(dhcp.reply_frame(message, OTHER, SERVER))
    assert [(a.server, a.mac, a.message.kind) for a in questions.answers] == [
        (SERVER, OTHER, dhcp.OFFER),
        (SERVER, OTHER, dhcp.ACK),
    ]
    # Nothing that takes a lease ever leaves.
    kinds = {
        dhcp.Dhcp.decode(Udp.decode(IPv4.decode(Frame.decode(s.frame).payload)).payload).kind for s in questions.sends()
    }
    assert kinds == {dhcp.DISCOVER, dhcp.INFORM}


options = st.dictionaries(st.integers(1, 254).filter(lambda c: c != dhcp.OVERLOAD), st.binary(max_size=600), max_size=8)


@given(st.booleans(), st.integers(0, 2**32 - 1), macs, options, ipv4, ipv4, st.booleans())
def test_dhcp_round_trips(reply, transaction, mac, said, client, your, broadcast) -> None:
    message = dhcp.Dhcp(reply, transaction, mac, said, client, your, broadcast)
    decoded = dhcp.Dhcp.decode(message.encode())
    assert decoded == message
    # Whatever the options hold, what is made of them raises nothing.
    _ = (decoded.server, decoded.prefix, decoded.lease_seconds, decoded.search, decoded.routes, decoded.kind)


@pytest.mark.parametrize("value", [b"\xc0\0", b"\x05ab", b"\x40" + bytes(64), b"\x01a\xc0\x09"])
def test_names_that_lead_nowhere(value: bytes) -> None:
    with pytest.raises(PacketError):
        dhcp.domains(value)


def test_options_overrunning_the_end() -> None:
    good = _offer(dhcp.question(dhcp.DISCOVER, 7, OWN)).encode().rstrip(b"\0")
    for cut in range(241, len(good) - 1):
        try:
            decoded = dhcp.Dhcp.decode(good[:cut])
        except PacketError:
            continue
        assert len(decoded.options) <= 8
    # What is before it counts, and that it does so is told.
    cut_short = dhcp.Dhcp.decode(good[:-1] + bytes([119, 200, 1]))
    assert cut_short.broken_option == 119
    assert cut_short.options == dhcp.Dhcp.decode(good).options
    assert dhcp.Dhcp.decode(good).broken_option is None


def test_conversations_together() -> None:
    both = Together(ArpProbes(OWN, [TARGET], until_answered=True), NeighbourProbes(OWN, LOCAL, [TARGET6]))
    times = [send.at for send in both.sends()]
    assert (len(times), times) == (6, sorted(times))
    assert set(both.ethertypes) == {0x0806, 0x86DD}
    both.receive(reply_frame(OTHER, TARGET, Arp(REQUEST, OWN, IPv4Address(0), OTHER, TARGET)))
    assert not both.finished


@pytest.mark.parametrize("client_id", [None, b"\xff\0\0\0\x01"])
def test_a_release_on_the_wire(client_id: bytes | None) -> None:
    """RFC 2131, table 5: from the address itself to its server, with the identifier that the lease was taken with."""
    server = IPv4Address("203.0.113.1")
    conversation = Release(OWN, OTHER, TARGET, server, client_id)
    (sent,) = conversation.sends()
    frame = Frame.decode(sent.frame)
    packet = IPv4.decode(frame.payload)
    datagram = Udp.decode(packet)
    message = dhcp.Dhcp.decode(datagram.payload)
    assert (frame.source, frame.destination) == (OWN, OTHER)
    assert (packet.source, packet.destination) == (TARGET, server)
    assert (datagram.source, datagram.destination) == (dhcp.CLIENT_PORT, dhcp.SERVER_PORT)
    assert (message.kind, message.reply, message.mac) == (dhcp.RELEASE, False, OWN)
    assert (message.client, message.your, message.broadcast) == (TARGET, IPv4Address(0), False)
    assert message.options[dhcp.SERVER_ID] == server.packed
    assert message.options.get(61) == client_id
    assert dhcp.ASKED_FOR not in message.options.values()


@pytest.mark.parametrize("is_router", [False, True])
def test_announcements_on_the_wire(is_router: bool) -> None:
    said = list(Announcements(OWN, [TARGET, TARGET6, TARGET], is_router=is_router).sends())
    assert [round(send.at, 1) for send in said] == [0.0, 0.0, 2.0, 2.0]
    four, six = (Frame.decode(send.frame) for send in said[:2])
    assert four.destination == "ff:ff:ff:ff:ff:ff"
    # RFC 5227, section 2.3: a request whose sender and target are both the address.
    assert Arp.decode(four.payload) == Arp(REQUEST, OWN, TARGET, "00:00:00:00:00:00", TARGET)
    assert six.destination == "33:33:00:00:00:01"
    packet = IPv6.decode(six.payload)
    assert (packet.source, packet.destination, packet.hop_limit) == (TARGET6, ipv6.ALL_NODES, 255)
    # RFC 4861, section 7.2.6: override, never solicited; a router says that it is one.
    assert Neighbour.decode(packet) == Neighbour(False, TARGET6, OWN, 0xA0 if is_router else 0x20)


def test_what_another_machine_claims_is_not_announced_again() -> None:
    announcements = Announcements(OWN, [TARGET, TARGET6])
    frames = []
    for send in announcements.sends():
        frames.append(send.frame)
        announcements.receive(send.frame)
        announcements.receive(reply_frame(OTHER, TARGET, Arp(REQUEST, OWN, TARGET, OTHER, TARGET)))
    assert announcements.contested == {TARGET: (OTHER,)}
    assert len(frames) == 3, "the second one of the contested address is not sent"
