"""Asking for the holders of IPv4 addresses with ARP probes (RFC 5227)."""

from __future__ import annotations

import random
from collections.abc import Iterable, Iterator
from ipaddress import IPv4Address

import msgspec

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.packets.arp import REPLY, REQUEST, Arp, probe_frame, request_frame
from fixed_anchor.packets.conversation import PACE, ArpRange, Send
from fixed_anchor.packets.ethernet import ETHERTYPE_ARP, Frame, PacketError

# RFC 5227, section 1.1: the constants of probing, in seconds.
PROBE_WAIT = 1.0
PROBE_NUM = 3
PROBE_MIN = 1.0
PROBE_MAX = 2.0
ANNOUNCE_WAIT = 2.0
#: Seconds that an answer to a request may take before it is probed.
_TO_ANSWER = 0.25


class Pattern(msgspec.Struct, frozen=True):
    """When probes go out: a first wait, then passes over the targets, each after a pause of ``gap`` seconds.

    ``wait`` and ``gap`` are ranges, of which one is chosen by chance. ``window`` is how long is
    listened after the last probe. ``repeat_answered`` asks again where somebody answered, by a request.
    """

    passes: int
    wait: tuple[float, float]
    gap: tuple[float, float]
    window: float
    repeat_answered: bool
    words: str


#: RFC 5227, section 2.1.1.
CAREFULLY = Pattern(
    PROBE_NUM,
    (0.0, PROBE_WAIT),
    (PROBE_MIN, PROBE_MAX),
    ANNOUNCE_WAIT,
    True,
    f"{PROBE_NUM} ARP probes (RFC 5227)",
)
#: Of an address that is in force here already: whether somebody else has it too.
AFTERWARDS = Pattern(PROBE_NUM, (0.0, 0.0), (0.3, 0.3), 1.0, True, f"{PROBE_NUM} ARP probes in one second")
#: Where another machine probes for the same address: asked after again, at a time that it does not choose as well.
AGAIN = Pattern(2, (0.3, 3.0), (PROBE_MIN, PROBE_MAX), ANNOUNCE_WAIT, True, "2 more at random times")
#: Of addresses beside one that somebody answers for: whether the same one answers for them all. A proxy takes up to
#: 0.8 s over each answer (proxy_delay, arp(7)), and more where it is busy.
CONTROL = Pattern(2, (0.0, 0.0), (0.2, 0.2), 2.0, False, "2 ARP probes for others beside it")
#: A first look at a whole segment: a second pass over the silent ones, and no waiting between.
QUICKLY = Pattern(2, (0.0, 0.0), (0.0, 0.0), 1.0, False, "2 ARP probes in quick succession")
#: The same with a request first: one pass less.
_QUICKLY_AFTER_ONE = msgspec.structs.replace(QUICKLY, passes=1, words="1 ARP probe")


class ArpProbes:
    """Probes of many IPv4 addresses together.

    Nobody who has answered is probed, or not again: dhcpcd takes every probe for an address of its own as a claim, and
    gives a leased one up at the second within 10 s, though RFC 5227, section 2.4, counts packets alone that are sent
    from it. So with a ``sender`` plain requests go first, and probes to the silent ones.

    A reply counts, and so does any ARP packet whose sender claims the address. Another machine's
    probe for it (RFC 5227, section 2.1.1: a simultaneous probe) is no answer: ``probers`` has its MAC.
    """

    ethertypes: tuple[int, ...] = (ETHERTYPE_ARP,)

    def __init__(
        self,
        mac: str,
        targets: Iterable[IPv4Address],
        pattern: Pattern = CAREFULLY,
        *,
        until_answered: bool = False,
        sender: IPv4Address | None = None,
        chance: random.Random | None = None,
    ) -> None:
        """``until_answered`` ends the conversation once every target has a holder.

        With ``sender``, an address of this host, a first pass asks as every host does: that harms nobody, some
        switches drop requests from 0.0.0.0, and some proxies answer no other. Never where one of the ``targets`` is
        that address: that would announce it.
        """
        self.mac = mac
        self.targets = tuple(dict.fromkeys(targets))
        self.sender = sender if sender not in self.targets else None
        self.pattern = _QUICKLY_AFTER_ONE if pattern is QUICKLY and self.sender is not None else pattern
        self.asked = self.pattern.words + (f" and a request from {self.sender}" if self.sender is not None else "")
        self._until_answered = until_answered
        self._chance = chance or random.Random()
        self.arp_range: ArpRange = (min(self.targets), max(self.targets)) if self.targets else None
        self.holders: dict[IPAddress, dict[str, str]] = {target: {} for target in self.targets}
        self.probers: dict[IPAddress, set[str]] = {target: set() for target in self.targets}
        #: By the four bytes that stand in a packet: most ARP traffic is about other addresses.
        self._packed = frozenset(target.packed for target in self.targets)
        self.ignored = 0
        self._probed: set[IPAddress] = set()
        self._last = 0.0

    def sends(self) -> Iterator[Send]:
        begin = self._chance.uniform(*self.pattern.wait)
        if self.sender is not None:
            for number, target in enumerate(self.targets):
                self._last = begin + number / PACE
                yield Send(self._last, request_frame(self.mac, self.sender, target))
            begin = self._last + 1 / PACE + _TO_ANSWER
        for number in range(self.pattern.passes):
            if number:
                begin = self._last + 1 / PACE + self._chance.uniform(*self.pattern.gap)
            sent = 0
            for target in self.targets:
                if not self.holders[target]:
                    frame = probe_frame(self.mac, target)
                    self._probed.add(target)
                elif self.pattern.repeat_answered and self.sender is not None:
                    frame = request_frame(self.mac, self.sender, target)
                else:
                    continue
                self._last = begin + sent / PACE
                sent += 1
                yield Send(self._last, frame)

    def asked_of(self, target: IPAddress) -> str:
        """What was asked of one of the targets."""
        only_asked = bool(self.holders[target]) and target not in self._probed
        return f"ARP requests from {self.sender}" if only_asked and self.sender is not None else self.asked

    @property
    def deadline(self) -> float:
        return self._last + self.pattern.window

    def receive(self, frame: bytes) -> None:
        # Of a plain ARP frame only its addresses matter; what none of ours is in is passed over unread.
        if frame[12:14] == b"\x08\x06" and frame[28:32] not in self._packed and frame[38:42] not in self._packed:
            return
        try:
            ethernet = Frame.decode(frame)
            arp = Arp.decode(ethernet.payload) if ethernet.ethertype == ETHERTYPE_ARP else None
        except PacketError:
            self.ignored += 1
            return
        if arp is None or arp.sender_mac == self.mac:
            return
        if arp.sender in self.holders:
            how = "ARP reply" if arp.operation == REPLY else "its own ARP request"
            self.holders[arp.sender].setdefault(arp.sender_mac, how)
        elif arp.is_probe and arp.target in self.holders and arp.operation == REQUEST:
            self.probers[arp.target].add(arp.sender_mac)

    @property
    def finished(self) -> bool:
        """Not early, unless asked for: a second owner may answer later than the first."""
        return self._until_answered and all(self.holders.values())
