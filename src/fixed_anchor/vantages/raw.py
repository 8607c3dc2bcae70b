"""A raw socket on an interface of this machine (packet(7)); needs root or CAP_NET_RAW."""

from __future__ import annotations

import errno
import logging
import select
import socket
import struct
from contextlib import ExitStack
from ipaddress import IPv4Address, IPv6Address

from fixed_anchor.core.errors import NoAccess
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.packets.conversation import Conversation
from fixed_anchor.packets.ethernet import ETHERTYPE_IPV6, VLAN_NUMBER, mac_bytes
from fixed_anchor.vantages import packet_filter
from fixed_anchor.vantages.exchange import exchange
from fixed_anchor.vantages.own_sockets import OwnSockets, WithoutNeighbours
from fixed_anchor.vantages.protocol import Vantage

_log = logging.getLogger(__name__)

_SOL_PACKET = 263
_ADD_MEMBERSHIP = 1
_STATISTICS = 6
_AUXDATA = 8
_VLAN_VALID = 0x10
#: A packet to another host, as if_packet.h numbers it.
PACKET_OTHERHOST = 3
_ALL_GROUPS = 2
_RECEIVE_BUFFER = 4 * 1024 * 1024


class RawVantage(OwnSockets):
    """Sends and receives whole Ethernet frames on an interface."""

    has_neighbours = True

    def __init__(
        self,
        interface: str,
        mac: str,
        own: IPv4Address | None = None,
        link_local: IPv6Address | None = None,
        vlan: int | None = None,
    ) -> None:
        self.interface = interface
        self.mac = mac
        self.own = own
        self.link_local = link_local
        self.name = f"raw socket on {interface}" + (f", VLAN {vlan}" if vlan is not None else "")
        self.table = None
        self.why_not: str | None = None
        self._dropped = 0

    @property
    def frames(self) -> RawVantage:
        return self

    def drops(self) -> int:
        return self._dropped

    def converse(self, conversation: Conversation) -> None:
        with ExitStack() as open_sockets:
            # One socket a kind of frame, each with a filter: they see less of the unrelated traffic.
            wires = [open_sockets.enter_context(self._socket(kind, conversation)) for kind in conversation.ethertypes]
            exchange(
                conversation,
                lambda frame: _send(self.interface, wires[0], frame),
                lambda wait: _drain(self, wires, conversation, wait),
            )
            for wire in wires:
                _, dropped = struct.unpack("II", wire.getsockopt(_SOL_PACKET, _STATISTICS, 8))
                self._dropped += dropped

    def _socket(self, ethertype: int, conversation: Conversation) -> socket.socket:
        try:
            # Bound to nothing until the filter is on: nothing unwanted gets in before.
            wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
        except PermissionError:
            raise NoAccess("a raw socket needs root", remedy="run it with sudo") from None
        try:
            packet_filter.attach(wire, ethertype, conversation.arp_range)
            wire.setsockopt(_SOL_PACKET, _AUXDATA, 1)
            wire.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _RECEIVE_BUFFER)
            wire.bind((self.interface, ethertype))
            if ethertype == ETHERTYPE_IPV6:
                # Another host's duplicate detection goes to a group that this one is not in.
                index = socket.if_nametoindex(self.interface)
                wire.setsockopt(_SOL_PACKET, _ADD_MEMBERSHIP, struct.pack("iHH8s", index, _ALL_GROUPS, 0, b""))
        except OSError as error:
            wire.close()
            if error.errno == errno.ENETDOWN:
                raise is_off(self.interface) from None
            raise NoAccess(f"no packets can be sent on {self.interface}: {error.strerror}") from None
        return wire


def is_off(interface: str) -> NoAccess:
    """The error of a link over which nothing is sent before it is switched on."""
    return NoAccess(
        f"{interface} is switched off", remedy=f"`cutover` switches it on, or `ip link set dev {interface} up`"
    )


def on(found: SurveyedInterface) -> Vantage:
    """The vantage on a surveyed interface of this machine."""
    if found.link.mac is None:
        return WithoutNeighbours(found.name)
    return RawVantage(found.name, found.link.mac, *own_addresses(found), found.link.vlan)


def own_addresses(found: SurveyedInterface) -> tuple[IPv4Address | None, IPv6Address | None]:
    """The addresses of an interface from which it may ask: one of IPv4, and its link-local one.

    Any of its own may ask (RFC 4861, section 4.3), where somebody keeps the link-local one away.
    """
    own = next((a.address.ip for a in found.addresses if isinstance(a.address.ip, IPv4Address)), None)
    six = [a.address.ip for a in found.addresses if isinstance(a.address.ip, IPv6Address)]
    return own, next((a for a in six if a.is_link_local), next(iter(six), None))


def _send(interface: str, wire: socket.socket, frame: bytes) -> bool:
    if _log.isEnabledFor(logging.DEBUG):
        _log.debug("%s sends %s", interface, frame.hex())
    try:
        wire.send(frame)
    except OSError as error:
        if error.errno in (errno.ENOBUFS, errno.EAGAIN):
            return False
        raise NoAccess(f"no packets can be sent on {interface}: {error.strerror}") from None
    return True


def is_tagged(told: list[tuple[int, int, bytes]]) -> bool:
    """Whether ``PACKET_AUXDATA`` (packet(7)) says that the kernel took a tag off a frame."""
    for level, what, data in told:
        if level == _SOL_PACKET and what == _AUXDATA and len(data) >= 18:
            status, tag = struct.unpack_from("I", data)[0], struct.unpack_from("H", data, 16)[0]
            if status & _VLAN_VALID and tag & VLAN_NUMBER:
                return True
    return False


def of_another_vlan(tagged: bool, kind: int, frame: bytes, mac: str) -> bool:
    """Whether the kernel has stripped a frame of its tag: then it is of another segment.

    For a socket of one protocol the tag is forgotten by then; but where no VLAN device takes the frame, it has been
    marked as another host's, although it is to us or to everybody.
    """
    return tagged or (kind == PACKET_OTHERHOST and (bool(frame[0] & 1) or frame[:6] == mac_bytes(mac)))


def _drain(vantage: RawVantage, wires: list[socket.socket], conversation: Conversation, wait: float) -> None:
    """Hands over what has arrived; waits at most ``wait`` seconds for the first frame."""
    ready = select.select(wires, [], [], max(wait, 0))[0]
    for wire in ready:
        while True:
            try:
                frame, told, _, address = wire.recvmsg(65535, 64, socket.MSG_DONTWAIT)
            except BlockingIOError:
                break
            except OSError as error:
                if error.errno == errno.ENETDOWN:
                    raise is_off(vantage.interface) from None
                raise NoAccess(f"{vantage.interface} was lost while listening: {error.strerror}") from None
            if address[2] != socket.PACKET_OUTGOING and not of_another_vlan(
                is_tagged(told), address[2], frame, vantage.mac
            ):
                if _log.isEnabledFor(logging.DEBUG):
                    _log.debug("%s receives %s", vantage.interface, frame.hex())
                conversation.receive(frame)
