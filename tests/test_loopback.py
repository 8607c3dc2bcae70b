"""Real sockets, on loopback alone: DNS over UDP and TCP, and what can be asked across a router."""

from __future__ import annotations

import socket
import threading
from collections.abc import Iterator

import dns.message
import dns.rrset
import pytest

from fixed_anchor.core.addresses import parse_address
from fixed_anchor.vantages import across_router, dns_transport

LOOPBACK = parse_address("127.0.0.1")


class Resolver:
    """A resolver on loopback that answers as it is told: ``plain``, ``truncated``, ``forged-first`` or ``silent``."""

    def __init__(self, manner: str) -> None:
        self.manner = manner
        self.tcp = socket.create_server(("127.0.0.1", 0))
        self.port = self.tcp.getsockname()[1]
        self.udp = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.udp.bind(("127.0.0.1", self.port))
        self.asked_over_tcp = 0
        for serve in (self._serve_udp, self._serve_tcp):
            threading.Thread(target=serve, daemon=True).start()

    def _answer(self, question: bytes, count: int) -> dns.message.Message:
        response = dns.message.make_response(dns.message.from_wire(question))
        name = response.question[0].name
        response.answer.append(
            dns.rrset.from_text_list(name, 60, "IN", "A", [f"203.0.113.{n}" for n in range(1, count + 1)])
        )
        return response

    def _serve_udp(self) -> None:
        while True:
            try:
                question, client = self.udp.recvfrom(4096)
            except OSError:
                return
            if self.manner == "silent":
                continue
            response = self._answer(question, 1)
            if self.manner == "truncated":
                response.answer.clear()
                response.flags |= dns.flags.TC  # type: ignore[attr-defined]
            if self.manner == "forged-first":
                forged = self._answer(question, 5)
                forged.id ^= 1
                self.udp.sendto(forged.to_wire(), client)
            self.udp.sendto(response.to_wire(), client)

    def _serve_tcp(self) -> None:
        while True:
            try:
                connection, _ = self.tcp.accept()
            except OSError:
                return
            self.asked_over_tcp += 1
            with connection:
                length = int.from_bytes(connection.recv(2), "big")
                whole = self._answer(connection.recv(length), 40).to_wire()
                framed = len(whole).to_bytes(2, "big") + whole
                # In pieces, as a network would deliver it.
                for at in range(0, len(framed), 100):
                    connection.sendall(framed[at : at + 100])

    def close(self) -> None:
        self.udp.close()
        self.tcp.close()


@pytest.fixture
def resolver(request: pytest.FixtureRequest) -> Iterator[Resolver]:
    made = Resolver(request.param)
    yield made
    made.close()


@pytest.mark.parametrize(
    ("resolver", "answers", "over_tcp"),
    [("plain", 1, 0), ("truncated", 40, 1), ("forged-first", 1, 0)],
    indirect=["resolver"],
)
def test_dns_over_udp_and_tcp(resolver: Resolver, answers: int, over_tcp: int) -> None:
    query = dns.message.make_query("tide-db.ternpoint.example", "A")
    data = dns_transport.ask(LOOPBACK, query.to_wire(), 2.0, port=resolver.port)
    assert data is not None
    found = dns.message.from_wire(data)
    assert query.is_response(found)
    assert sum(len(r) for r in found.answer) == answers
    assert resolver.asked_over_tcp == over_tcp


@pytest.mark.parametrize("resolver", ["silent"], indirect=True)
def test_silence_ends_in_time(resolver: Resolver) -> None:
    query = dns.message.make_query("tide-db.ternpoint.example", "A")
    assert dns_transport.ask(LOOPBACK, query.to_wire(), 0.2, port=resolver.port) is None
    resolver.close()
    assert dns_transport.ask(LOOPBACK, query.to_wire(), 0.2, port=resolver.port) is None


@pytest.mark.parametrize(("listening", "said"), [(True, "accepts"), (False, "refuses")])
def test_a_host_beyond_a_router(monkeypatch: pytest.MonkeyPatch, listening: bool, said: str) -> None:
    """Both an accepted and a refused connection prove that somebody is there."""
    with socket.create_server(("127.0.0.1", 0)) as server:
        port = server.getsockname()[1]
        if not listening:
            server.close()
        monkeypatch.setattr(across_router, "PORTS", (port,))
        answered, _ = across_router.look(LOOPBACK, 1.0)
    assert ("TCP across the router", f"port {port} {said}") in answered
    assert across_router.anybody(answered)


def test_nobody_is_not_somebody() -> None:
    assert not across_router.anybody(
        [("echo across the router", "no answer"), ("TCP across the router", "no answer on ports 22")]
    )
