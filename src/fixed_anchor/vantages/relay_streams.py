"""TCP through a relay: connections that it makes, and HTTP over them, with TLS spoken at the seat."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.vantages.relay import Failed, Relay


@contextmanager
def stream(
    relay: Relay, address: IPAddress, port: int, interface: str, source: IPAddress | None, timeout: float
) -> Iterator[None]:
    """A connection that the relay makes; closed at the end. Raises :class:`Failed`."""
    where = {"address": str(address), "port": port, "interface": interface}
    relay.call(b"C", timeout, **where, source=str(source) if source is not None else "", timeout=timeout)
    try:
        yield
    finally:
        relay.ask(b"E")


def http_status(relay: Relay, request: bytes, tls_name: str | None, timeout: float) -> str:
    """The status of the answer to an HTTP request over the open stream; TLS is spoken here, not by the relay."""
    import ssl

    try:
        answer = _over_tls(relay, request, tls_name, timeout) if tls_name else _plainly(relay, request, timeout)
    except ssl.SSLError as error:
        return f"accepts, but TLS fails: {error.reason or 'no handshake'}"
    except Failed:
        return "accepts, but does not speak HTTP"
    words = answer.split(b"\r\n", 1)[0].split()
    if len(words) < 2 or not words[0].startswith(b"HTTP/") or not words[1].isdigit():
        return "accepts, but does not speak HTTP"
    return f"status {int(words[1])}"


def _plainly(relay: Relay, request: bytes, timeout: float) -> bytes:
    relay.ask(b"D", request, timeout)
    data = b""
    while b"\r\n" not in data:
        piece = relay.ask(b"G", b"", timeout)
        if not piece:
            break
        data += piece
    return data


def _over_tls(relay: Relay, request: bytes, name: str, timeout: float) -> bytes:
    import ssl

    context = ssl.create_default_context()
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    incoming, outgoing = ssl.MemoryBIO(), ssl.MemoryBIO()
    tls = context.wrap_bio(incoming, outgoing, server_hostname=name)

    def until_done(step: Callable[[], Any]) -> Any:
        while True:
            try:
                return step()
            except ssl.SSLWantReadError:
                if outgoing.pending:
                    relay.ask(b"D", outgoing.read(), timeout)
                piece = relay.ask(b"G", b"", timeout)
                if not piece:
                    incoming.write_eof()
                incoming.write(piece)

    until_done(tls.do_handshake)
    tls.write(request)
    relay.ask(b"D", outgoing.read(), timeout)
    return bytes(until_done(lambda: tls.read(4096)))
