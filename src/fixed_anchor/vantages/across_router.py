"""Looking at an address of another segment: only what crosses routers can be asked.

An answer proves that somebody is there. Silence proves nothing: filters, and hosts that answer
their own segment alone, look the same as a free address.
"""

from __future__ import annotations

import errno
import random
import selectors
import socket
import time

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.packets.ethernet import PacketError
from fixed_anchor.packets.ipv4 import Echo

#: Ports at which most servers, printers, and workstations accept or refuse.
PORTS = (22, 80, 443, 445, 3389, 9100)
WAIT = 2.0


def look(address: IPAddress, wait: float = WAIT) -> tuple[list[tuple[str, str]], list[tuple[str, str]]]:
    """What answered for ``address``, and what could not be asked; both as (what, said or why)."""
    answered: list[tuple[str, str]] = []
    not_asked: list[tuple[str, str]] = []
    echo = _echo(address, wait)
    if echo is None:
        not_asked.append(("echo across the router", "no permission without root"))
    else:
        answered.append(("echo across the router", "answered" if echo else "no answer"))
    said = _connect(address, wait)
    words = ", ".join(f"port {port} {what}" for port, what in said.items())
    answered.append(("TCP across the router", words or f"no answer on ports {', '.join(map(str, PORTS))}"))
    return answered, not_asked


def anybody(answered: list[tuple[str, str]]) -> bool:
    """Whether one of the answers of :func:`look` came from the address itself."""
    return any(said.startswith(("answered", "port ")) for _, said in answered)


def is_reply(data: bytes, identifier: int) -> bool:
    """Whether ``data``, an IPv4 packet, is the reply to an echo request of ours (RFC 792)."""
    try:
        reply = Echo.decode(data[(data[0] & 0xF) * 4 :])
    except (PacketError, IndexError):
        return False
    return not reply.request and reply.identifier == identifier


def request6(identifier: int) -> bytes:
    """An echo request of ICMPv6 (RFC 4443, section 4.1); the kernel fills the checksum in (RFC 3542, section 3.1)."""
    return bytes([128, 0, 0, 0]) + identifier.to_bytes(2, "big") + b"\0\1anchor"


def is_reply6(data: bytes, identifier: int) -> bool:
    """Whether ``data``, an ICMPv6 message, is the reply to it."""
    return data[:1] == b"\x81" and data[4:6] == identifier.to_bytes(2, "big")


def _echo(address: IPAddress, wait: float) -> bool | None:
    """Whether an echo request is answered; ``None`` where no request can be sent."""
    if address.version == 6:
        return _echo6(address, wait)
    identifier = random.randrange(1, 65536)
    try:
        raw = socket.socket(socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_ICMP)
    except PermissionError:
        return None
    with raw:
        try:
            raw.connect((str(address), 0))
            for sequence in range(2):
                raw.send(Echo(True, identifier, sequence, b"anchor").encode())
                until = time.monotonic() + wait / 2
                while (left := until - time.monotonic()) > 0:
                    raw.settimeout(left)
                    if is_reply(raw.recv(65535), identifier):
                        return True
        except OSError:
            pass
    return False


def _echo6(address: IPAddress, wait: float) -> bool | None:
    identifier = random.randrange(1, 65536)
    try:
        raw = socket.socket(socket.AF_INET6, socket.SOCK_RAW, socket.getprotobyname("ipv6-icmp"))
    except (PermissionError, OSError):
        return None
    with raw:
        try:
            raw.connect((str(address), 0))
            raw.send(request6(identifier))
            until = time.monotonic() + wait
            while (left := until - time.monotonic()) > 0:
                raw.settimeout(left)
                if is_reply6(raw.recv(65535), identifier):
                    return True
        except OSError:
            pass
    return False


def _connect(address: IPAddress, wait: float) -> dict[int, str]:
    """Which ports accept or refuse a connection: either proves a host. Nothing is sent over one."""
    family = socket.AF_INET if address.version == 4 else socket.AF_INET6
    found: dict[int, str] = {}
    with selectors.DefaultSelector() as waiting:
        for port in PORTS:
            tcp = socket.socket(family, socket.SOCK_STREAM)
            tcp.setblocking(False)
            result = tcp.connect_ex((str(address), port))
            if result in (0, errno.EINPROGRESS):
                waiting.register(tcp, selectors.EVENT_WRITE, port)
            else:
                tcp.close()
        until = time.monotonic() + wait
        while waiting.get_map() and not found and (left := until - time.monotonic()) > 0:
            for key, _ in waiting.select(left):
                tcp = key.fileobj  # type: ignore[assignment]
                result = tcp.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
                if result == 0:
                    found[key.data] = "accepts"
                elif result == errno.ECONNREFUSED:
                    found[key.data] = "refuses"
                waiting.unregister(tcp)
                tcp.close()
        for key in list(waiting.get_map().values()):
            waiting.unregister(key.fileobj)
            key.fileobj.close()  # type: ignore[union-attr]
    return found
