"""Filters for raw sockets, so that a busy machine's own traffic does not drown the answers (packet(7), BPF)."""

from __future__ import annotations

import socket
import struct

from fixed_anchor.packets.conversation import ArpRange

_SO_ATTACH_FILTER = 26
_LOAD_BYTE, _LOAD_HALF_INDEXED, _LOAD_HALF, _LOAD_WORD, _HEADER_LENGTH = 0x30, 0x48, 0x28, 0x20, 0xB1
_EQUAL, _AT_LEAST, _ABOVE, _RETURN = 0x15, 0x35, 0x25, 0x06

#: One instruction: operation, jump if true, jump if false, operand.
Instruction = tuple[int, int, int, int]

#: ICMP, and UDP to the port of a DHCP client (68).
_IPV4: tuple[Instruction, ...] = (
    (_LOAD_BYTE, 0, 0, 23),
    (_EQUAL, 4, 0, 1),
    (_EQUAL, 0, 4, 17),
    (_HEADER_LENGTH, 0, 0, 14),
    (_LOAD_HALF_INDEXED, 0, 0, 16),
    (_EQUAL, 0, 1, 68),
    (_RETURN, 0, 0, 0xFFFF),
    (_RETURN, 0, 0, 0),
)
#: ICMPv6, anything behind an extension header, and UDP to the port of a DHCPv6 client (546).
_IPV6: tuple[Instruction, ...] = (
    (_LOAD_BYTE, 0, 0, 20),
    (_EQUAL, 4, 0, 58),
    (_EQUAL, 3, 0, 0),
    (_EQUAL, 0, 3, 17),
    (_LOAD_HALF, 0, 0, 56),
    (_EQUAL, 0, 1, 546),
    (_RETURN, 0, 0, 0xFFFF),
    (_RETURN, 0, 0, 0),
)
_FILTERS = {0x0800: _IPV4, 0x86DD: _IPV6}
_ARP = 0x0806


def instructions(ethertype: int, arp_range: ArpRange = None) -> bytes:
    """The program of ``ethertype`` as the kernel takes it; empty where everything is let through.

    Of ARP those are let through whose sender is in ``arp_range``, and probes (RFC 5227) for an address in it.
    """
    program = _FILTERS.get(ethertype, ())
    if ethertype == _ARP and arp_range is not None:
        first, last = map(int, arp_range)
        program = (
            (_LOAD_WORD, 0, 0, 28),
            (_EQUAL, 0, 1, 0),
            (_LOAD_WORD, 0, 0, 38),
            (_AT_LEAST, 0, 2, first),
            (_ABOVE, 1, 0, last),
            (_RETURN, 0, 0, 0xFFFF),
            (_RETURN, 0, 0, 0),
        )
    return b"".join(struct.pack("HBBI", *instruction) for instruction in program)


def attach(wire: socket.socket, ethertype: int, arp_range: ArpRange = None) -> None:
    """Lets ``wire`` see only what a conversation may want of ``ethertype``; all of it where there is no filter."""
    import ctypes

    code = instructions(ethertype, arp_range)
    if not code:
        return
    buffer = ctypes.create_string_buffer(code, len(code))
    head = struct.pack(
        "HxxxxxxQ" if ctypes.sizeof(ctypes.c_void_p) == 8 else "HxxI", len(code) // 8, ctypes.addressof(buffer)
    )
    wire.setsockopt(socket.SOL_SOCKET, _SO_ATTACH_FILTER, head)
