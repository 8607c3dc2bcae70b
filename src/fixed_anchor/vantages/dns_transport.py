"""DNS messages over this machine's own sockets: UDP, and TCP where an answer is cut short (RFC 7766)."""

from __future__ import annotations

import logging
import socket
import time

from fixed_anchor.core.addresses import IPAddress

_log = logging.getLogger(__name__)

_TRUNCATED = 0x02


def ask(server: IPAddress, question: bytes, timeout: float, over_tcp: bool = False, port: int = 53) -> bytes | None:
    """The answer of ``server``, or ``None``. Answers to other questions are passed over."""
    _log.debug("asks %s port %d: %s", server, port, question.hex())
    if over_tcp:
        return _over_tcp(server, question, timeout, port)
    family = socket.AF_INET if server.version == 4 else socket.AF_INET6
    until = time.monotonic() + timeout
    with socket.socket(family, socket.SOCK_DGRAM) as udp:
        try:
            # Connected: the kernel passes over what comes from elsewhere.
            udp.connect((str(server), port))
            udp.send(question)
            while (left := until - time.monotonic()) > 0:
                udp.settimeout(left)
                answer = udp.recv(65535)
                if answer[:2] == question[:2]:
                    break
            else:
                return None
        except OSError:
            return None
    if len(answer) > 2 and answer[2] & _TRUNCATED:
        return _over_tcp(server, question, timeout, port) or answer
    return answer


def _over_tcp(server: IPAddress, question: bytes, timeout: float, port: int) -> bytes | None:
    try:
        with socket.create_connection((str(server), port), timeout) as tcp:
            tcp.sendall(len(question).to_bytes(2, "big") + question)
            head = _exactly(tcp, 2)
            return _exactly(tcp, int.from_bytes(head, "big")) if head else None
    except OSError:
        return None


def _exactly(tcp: socket.socket, count: int) -> bytes | None:
    data = b""
    while len(data) < count:
        piece = tcp.recv(count - len(data))
        if not piece:
            return None
        data += piece
    return data
