"""A relay on a reached host as a vantage: the same conversations as over a raw socket, sent and received there."""

from __future__ import annotations

import errno
import random
from collections.abc import Callable
from contextlib import AbstractContextManager
from ipaddress import IPv4Address
from urllib.parse import urlsplit

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.errors import NoAccess
from fixed_anchor.core.reaching import ACCEPTS
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.packets.conversation import Conversation
from fixed_anchor.packets.ipv4 import Echo
from fixed_anchor.vantages import packet_filter
from fixed_anchor.vantages.across_router import PORTS, WAIT, is_reply, is_reply6, request6
from fixed_anchor.vantages.exchange import exchange
from fixed_anchor.vantages.protocol import Said
from fixed_anchor.vantages.raw import of_another_vlan, own_addresses
from fixed_anchor.vantages.relay import Failed, Relay
from fixed_anchor.vantages.relay_streams import http_status, stream
from fixed_anchor.vantages.tcp import word_of

_DNS = 53
_TRUNCATED = 0x02

#: Holds the relay while something is asked; starts it where it does not run.
Held = Callable[[], AbstractContextManager[Relay]]


class RelayVantage:
    """An interface of a reached host, seen through a relay there."""

    table = None

    def __init__(self, host: str, held: Held, found: SurveyedInterface) -> None:
        vlan = f", VLAN {found.link.vlan}" if found.link.vlan is not None else ""
        self.interface = found.name
        self.has_neighbours = found.link.mac is not None
        self.mac = found.link.mac or ""
        self.own, self.link_local = own_addresses(found)
        self.name = f"relay on {host}, {found.name}{vlan}"
        self.why_not: str | None = None
        self._held = held
        self._dropped = 0

    @property
    def frames(self) -> RelayVantage | None:
        return self if self.has_neighbours else None

    def drops(self) -> int:
        return self._dropped

    def converse(self, conversation: Conversation) -> None:
        filters = {k: packet_filter.instructions(k, conversation.arp_range) for k in conversation.ethertypes}
        kinds = [(kind, code.hex()) for kind, code in filters.items()]
        with self._held() as relay:
            try:
                relay.frames.clear()
                # The first frame goes with it: an answer takes one round trip more than there.
                relay.begin(b"O", interface=self.interface, ethertypes=kinds)
                exchange(
                    conversation,
                    lambda frame: _sent(relay, frame),
                    lambda wait: self._hand_over(relay, conversation, wait),
                )
                self._dropped += int(relay.call(b"X")["dropped"])
            except Failed as failed:
                raise NoAccess(f"no packets can be sent on {self.interface}: {failed.said}") from None

    def _hand_over(self, relay: Relay, conversation: Conversation, wait: float) -> None:
        for data in relay.received(wait):
            kind, tagged, frame = data[0], bool(data[1]), data[2:]
            if not of_another_vlan(tagged, kind, frame, self.mac):
                conversation.receive(frame)

    # --- what ordinary sockets can ask ----------------------------------------------------

    def ask_dns(self, server: IPAddress, question: bytes, timeout: float, over_tcp: bool = False) -> bytes | None:
        with self._held() as relay:
            try:
                if not over_tcp:
                    words = {"server": str(server), "port": _DNS, "question": question.hex(), "timeout": timeout}
                    answer = bytes.fromhex(relay.call(b"U", timeout, **words)["answer"])
                    if len(answer) < 3 or not answer[2] & _TRUNCATED:
                        return answer or None
                return self._dns_over_tcp(relay, server, question, timeout)
            except Failed:
                return None

    def _dns_over_tcp(self, relay: Relay, server: IPAddress, question: bytes, timeout: float) -> bytes | None:
        with stream(relay, server, _DNS, "", None, timeout):
            relay.ask(b"D", len(question).to_bytes(2, "big") + question, timeout)
            data = b""
            while len(data) < 2 or len(data) < 2 + int.from_bytes(data[:2], "big"):
                piece = relay.ask(b"G", b"", timeout)
                if not piece:
                    return None
                data += piece
            return data[2:]

    def connect(self, address: IPAddress, port: int, source: IPAddress | None, timeout: float) -> str:
        with self._held() as relay:
            try:
                with stream(relay, address, port, self.interface, source, timeout):
                    return ACCEPTS
            except Failed as failed:
                return word_of(failed.number or errno.ETIMEDOUT)

    def fetch(self, address: IPAddress, url: str, source: IPAddress | None, timeout: float) -> str:
        parts = urlsplit(url)
        secure = parts.scheme == "https"
        port = parts.port or (443 if secure else 80)
        path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
        host = f"[{parts.hostname}]" if ":" in (parts.hostname or "") else parts.hostname
        request = (
            f"HEAD {path} HTTP/1.1\r\nHost: {host}:{port}\r\nConnection: close\r\nUser-Agent: fixed-anchor\r\n\r\n"
        )
        with self._held() as relay:
            try:
                with stream(relay, address, port, self.interface, source, timeout):
                    return http_status(
                        relay, request.encode("ascii", "replace"), parts.hostname if secure else None, timeout
                    )
            except Failed as failed:
                return word_of(failed.number or errno.ETIMEDOUT)

    def across_router(self, address: IPAddress) -> tuple[list[Said], list[Said]]:
        with self._held() as relay:
            answered: list[Said] = []
            not_asked: list[Said] = []
            try:
                echoed = _echo(relay, address)
                answered.append(("echo across the router", "answered" if echoed else "no answer"))
            except Failed as failed:
                not_asked.append(("echo across the router", failed.said))
            answer = ""
            for port in PORTS:
                try:
                    with stream(relay, address, port, "", None, WAIT / len(PORTS) * 2):
                        answer = f"port {port} accepts"
                except Failed as failed:
                    answer = f"port {port} refuses" if failed.number == errno.ECONNREFUSED else ""
                if answer:
                    break
            answered.append(("TCP across the router", answer or f"no answer on ports {', '.join(map(str, PORTS))}"))
            return answered, not_asked


def _sent(relay: Relay, frame: bytes) -> bool:
    relay.send(b"F", frame)
    return True


def _echo(relay: Relay, address: IPAddress) -> bool:
    """Whether ``address`` answers an echo request (RFC 792; RFC 4443, section 4.1)."""
    identifier = random.randrange(1, 65536)
    if isinstance(address, IPv4Address):
        messages = [Echo(True, identifier, n, b"anchor").encode().hex() for n in range(2)]
        answer = relay.call(b"I", WAIT, address=str(address), protocol=1, messages=messages, timeout=WAIT)
        return any(is_reply(bytes.fromhex(text), identifier) for text in answer["answers"])
    messages = [request6(identifier).hex()]
    answer = relay.call(b"I", WAIT, address=str(address), protocol=58, messages=messages, timeout=WAIT)
    return any(is_reply6(bytes.fromhex(text), identifier) for text in answer["answers"])
