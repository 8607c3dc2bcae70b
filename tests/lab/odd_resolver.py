"""A resolver with a fault, as a program: ``odd_resolver.py ADDRESS refuses|only-tcp|admits [ADDRESS]``.

It has the names of Tern Point, and refuses all others. It prints ``listening`` when it is there.
"""

from __future__ import annotations

import socket
import socketserver
import sys

import dns.flags
import dns.message
import dns.rcode
import dns.rrset

HERE, FAULT, ADMITTED = sys.argv[1], sys.argv[2], sys.argv[3:]
NAMES = {"gull.ternpoint.example.": "198.18.16.9"}
SOA = "ns.ternpoint.example. hostmaster.ternpoint.example. 1 3600 600 86400 300"


def answer(data: bytes, peer: str) -> bytes:
    query = dns.message.from_wire(data)
    response = dns.message.make_response(query)
    name, kind = query.question[0].name.to_text().lower(), query.question[0].rdtype
    if FAULT == "refuses" or (FAULT == "admits" and peer not in ADMITTED) or not name.endswith("ternpoint.example."):
        response.set_rcode(dns.rcode.REFUSED)
    elif name in NAMES and kind == 1:
        response.answer.append(dns.rrset.from_text(name, 60, "IN", "A", NAMES[name]))
    elif kind == 6:
        response.answer.append(dns.rrset.from_text("ternpoint.example.", 60, "IN", "SOA", SOA))
    return response.to_wire()


class OverTcp(socketserver.BaseRequestHandler):
    def handle(self) -> None:
        head = self.request.recv(2)
        if len(head) == 2:
            said = answer(self.request.recv(int.from_bytes(head, "big")), self.client_address[0])
            self.request.sendall(len(said).to_bytes(2, "big") + said)


class OverUdp(socketserver.BaseRequestHandler):
    def handle(self) -> None:
        data, wire = self.request
        if FAULT != "only-tcp":
            wire.sendto(answer(data, self.client_address[0]), self.client_address)


class Server(socketserver.ThreadingTCPServer):
    allow_reuse_address = True
    address_family = socket.AF_INET


if __name__ == "__main__":
    import threading

    tcp, udp = Server((HERE, 53), OverTcp), socketserver.ThreadingUDPServer((HERE, 53), OverUdp)
    threading.Thread(target=tcp.serve_forever, daemon=True).start()
    print("listening", flush=True)
    udp.serve_forever()
