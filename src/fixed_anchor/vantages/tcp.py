"""Connections over this machine's own sockets, through one interface and from one of its addresses (RFC 9293).

Nothing is sent over a plain connection: that it comes about, or is refused, is the answer.
"""

from __future__ import annotations

import contextlib
import errno
import logging
import socket
from urllib.parse import urlsplit

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.reaching import ACCEPTS, REFUSES, SILENT, UNREACHABLE

_log = logging.getLogger(__name__)


def connect(address: IPAddress, port: int, interface: str, source: IPAddress | None, timeout: float) -> str:
    """How ``address`` takes a connection to ``port``: a word of :mod:`fixed_anchor.core.reaching`."""
    try:
        _connected(address, port, interface, source, timeout).close()
    except OSError as error:
        return word_of(error.errno)
    return ACCEPTS


def fetch(address: IPAddress, url: str, interface: str, source: IPAddress | None, timeout: float) -> str:
    """What the server at ``address`` says to a HEAD request for ``url`` (RFC 9110, section 9.3.2).

    ``status 204`` and the like, or a word of :mod:`fixed_anchor.core.reaching`. That a TLS certificate is the right
    one is not looked at: what is asked is whether the way there is open.
    """
    import http.client
    import ssl

    parts = urlsplit(url)
    host, secure = parts.hostname or "", parts.scheme == "https"
    port = parts.port or (443 if secure else 80)
    try:
        tcp = _connected(address, port, interface, source, timeout)
    except OSError as error:
        return word_of(error.errno)
    with contextlib.closing(tcp):
        try:
            if secure:
                context = ssl.create_default_context()
                context.check_hostname = False
                context.verify_mode = ssl.CERT_NONE
                tcp = context.wrap_socket(tcp, server_hostname=host)
            asking = http.client.HTTPConnection(host, port, timeout=timeout)
            asking.sock = tcp
            path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
            asking.request("HEAD", path, headers={"Connection": "close", "User-Agent": "fixed-anchor"})
            return f"status {asking.getresponse().status}"
        except ssl.SSLError as error:
            return f"accepts, but TLS fails: {error.reason or 'no handshake'}"
        except (OSError, http.client.HTTPException):
            return "accepts, but does not speak HTTP"


def _connected(
    address: IPAddress, port: int, interface: str, source: IPAddress | None, timeout: float
) -> socket.socket:
    _log.debug("connects to %s port %d through %s from %s", address, port, interface, source or "any address")
    tcp = socket.socket(socket.AF_INET if address.version == 4 else socket.AF_INET6, socket.SOCK_STREAM)
    try:
        tcp.settimeout(timeout)
        # Other interfaces may lead there, too; what they can do proves nothing of this one.
        with contextlib.suppress(PermissionError):
            tcp.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, interface.encode())
        if source is not None:
            tcp.bind((str(source), 0))
        tcp.connect((str(address), port))
    except OSError:
        tcp.close()
        raise
    return tcp


def word_of(number: int | None) -> str:
    """How a connection was taken that ended with this errno: a word of :mod:`fixed_anchor.core.reaching`."""
    if number == errno.ECONNREFUSED:
        return REFUSES
    if number in (errno.EHOSTUNREACH, errno.ENETUNREACH, errno.EACCES, errno.EPERM, errno.EADDRNOTAVAIL):
        return UNREACHABLE
    # A connection that is taken and at once cut off was taken.
    return ACCEPTS if number == errno.ECONNRESET else SILENT
