"""A raw socket on an interface of this machine (packet(7)); needs root or CAP_NET_RAW."""

from __future__ import annotations

import errno
import select
import socket
import struct
import time

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.errors import NoAccess
from fixed_anchor.packets.conversation import Conversation

_ETH_P_ALL = 0x0003
_SOL_PACKET = 263
_PACKET_STATISTICS = 6
_RECEIVE_BUFFER = 4 * 1024 * 1024


class RawVantage:
    """Sends and receives whole Ethernet frames on ``interface``."""

    def __init__(self, interface: str, mac: str) -> None:
        self.interface = interface
        self.mac = mac
        self.name = f"raw socket on {interface}"
        self._dropped = 0

    def drops(self) -> int:
        return self._dropped

    def converse(self, conversation: Conversation) -> None:
        # One socket for one kind of frame sees less of the unrelated traffic.
        kinds = conversation.ethertypes
        kind = kinds[0] if len(kinds) == 1 else _ETH_P_ALL
        try:
            wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(kind))
        except PermissionError:
            raise NoAccess("no permission for a raw socket", remedy="run as root") from None
        with wire:
            wire.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _RECEIVE_BUFFER)
            try:
                wire.bind((self.interface, kind))
            except OSError as error:
                raise NoAccess(f"no packets can be sent on {self.interface}: {error.strerror}") from None
            self._exchange(wire, conversation)
            _, dropped = struct.unpack("II", wire.getsockopt(_SOL_PACKET, _PACKET_STATISTICS, 8))
            self._dropped += dropped

    def _exchange(self, wire: socket.socket, conversation: Conversation) -> None:
        begin = time.monotonic()
        schedule = conversation.schedule
        position = 0
        while not conversation.finished:
            now = time.monotonic() - begin
            if position >= len(schedule) and now >= conversation.deadline:
                break
            if position < len(schedule) and schedule[position].at <= now:
                if not self._send(wire, schedule[position].frame):
                    time.sleep(0.001)
                    self._drain(wire, conversation, 0)
                    continue
                position += 1
                # Answers come while we still send; a socket that nobody reads loses them.
                if position % 64:
                    continue
                self._drain(wire, conversation, 0)
                continue
            until = schedule[position].at if position < len(schedule) else conversation.deadline
            self._drain(wire, conversation, max(until - now, 0))

    def _send(self, wire: socket.socket, frame: bytes) -> bool:
        try:
            wire.send(frame)
        except OSError as error:
            if error.errno in (errno.ENOBUFS, errno.EAGAIN):
                return False
            raise NoAccess(f"no packets can be sent on {self.interface}: {error.strerror}") from None
        return True

    def _drain(self, wire: socket.socket, conversation: Conversation, wait: float) -> None:
        """Hands over what has arrived; waits at most ``wait`` seconds for the first frame."""
        timeout = wait
        while select.select([wire], [], [], timeout)[0]:
            try:
                frame, address = wire.recvfrom(65535)
            except OSError as error:
                raise NoAccess(f"{self.interface} was lost while listening: {error.strerror}") from None
            timeout = 0
            if address[2] != socket.PACKET_OUTGOING:
                conversation.receive(frame)

    def ask_dns(self, server: IPAddress, question: bytes, timeout: float) -> bytes | None:
        family = socket.AF_INET if server.version == 4 else socket.AF_INET6
        with socket.socket(family, socket.SOCK_DGRAM) as udp:
            udp.settimeout(timeout)
            try:
                udp.connect((str(server), 53))
                udp.send(question)
                return udp.recv(65535)
            except OSError:
                return None
