"""The relay of Fixed Anchor: sends and receives on this host for a seat that reached it over SSH.

It is sent over the connection and leaves nothing behind: it runs as long as its standard input is open. It needs
Python 3.6 or later and nothing but its standard library, and imports nothing of this package.
Each message has four bytes of length, one letter, and its contents; those in JSON are answered in JSON.
"""

import array
import errno
import json
import os
import select
import socket
import struct
import sys
import time

# Seconds without a word from the seat after which this ends: a connection that nobody uses any more may last for hours.
IDLE = 300.0

SOL_PACKET, ADD_MEMBERSHIP, STATISTICS, AUXDATA, ALL_GROUPS, ATTACH_FILTER = 263, 1, 6, 8, 2, 26
wires = []
stream = None


def send(letter, contents=b""):
    """One message to the seat."""
    data = struct.pack(">I", len(contents) + 1) + letter + contents
    while data:
        data = data[os.write(1, data) :]


def answer(**message):
    """An answer in JSON."""
    send(b"A", json.dumps(message).encode())


def exactly(count):
    """The next bytes of standard input; ends with it."""
    # No more than that: what comes behind the last message is for whoever started this.
    data = b""
    while len(data) < count:
        piece = os.read(0, count - len(data))
        if not piece:
            sys.exit(0)
        data += piece
    return data


def attach(wire, code):
    """Lets the kernel pass on only what the filter takes."""
    if code:
        program = array.array("B", code)
        wide = struct.calcsize("P") == 8
        head = struct.pack("HxxxxxxQ" if wide else "HxxI", len(code) // 8, program.buffer_info()[0])
        wire.setsockopt(socket.SOL_SOCKET, ATTACH_FILTER, head)


def open_wires(message):
    """A raw socket for each kind of frame, on one interface."""
    close_wires()
    for ethertype, code in message["ethertypes"]:
        wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
        wires.append(wire)
        attach(wire, bytes.fromhex(code))
        wire.setsockopt(SOL_PACKET, AUXDATA, 1)
        wire.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4 << 20)
        wire.bind((message["interface"], ethertype))
        wire.setblocking(False)
        if ethertype == 0x86DD:
            index = socket.if_nametoindex(message["interface"])
            wire.setsockopt(SOL_PACKET, ADD_MEMBERSHIP, struct.pack("iHH8s", index, ALL_GROUPS, 0, b""))


def close_wires():
    """Closes them; returns how many frames were lost."""
    dropped = 0
    for wire in wires:
        dropped += struct.unpack("II", wire.getsockopt(SOL_PACKET, STATISTICS, 8))[1]
        wire.close()
    del wires[:]
    return dropped


def tagged(told):
    """Whether the kernel took a VLAN tag off a frame."""
    for level, what, data in told:
        if level == SOL_PACKET and what == AUXDATA and len(data) >= 18:
            if struct.unpack_from("I", data)[0] & 0x10 and struct.unpack_from("H", data, 16)[0] & 0xFFF:
                return True
    return False


def receive(wire):
    """Passes on all frames that have come."""
    while True:
        try:
            frame, told, _, address = wire.recvmsg(65535, 64)
        except (BlockingIOError, InterruptedError):
            return
        if address[2] != socket.PACKET_OUTGOING:
            send(b"R", bytes([address[2], tagged(told)]) + frame)


def send_frame(frame):
    """Sends a frame; where that fails all wires are closed, so that it is told once."""
    try:
        try:
            wires[0].send(frame)
        except OSError as error:
            if error.errno not in (errno.ENOBUFS, errno.EAGAIN):
                raise
            time.sleep(0.001)
            wires[0].send(frame)
    except OSError:
        close_wires()
        raise


def udp(message):
    """Asks over UDP once; the answer in hexadecimal, empty without one."""
    family = socket.AF_INET6 if ":" in message["server"] else socket.AF_INET
    question = bytes.fromhex(message["question"])
    until = time.time() + message["timeout"]
    with socket.socket(family, socket.SOCK_DGRAM) as asking:
        asking.connect((message["server"], message["port"]))
        asking.send(question)
        while time.time() < until:
            asking.settimeout(max(until - time.time(), 0.01))
            data = asking.recv(65535)
            if data[:2] == question[:2]:
                return data.hex()
    return ""


def connect(message):
    """Opens the one TCP connection, through an interface and from an address where that is wanted."""
    global stream
    disconnect()
    stream = socket.socket(socket.AF_INET6 if ":" in message["address"] else socket.AF_INET, socket.SOCK_STREAM)
    stream.settimeout(message["timeout"])
    if message["interface"]:
        # Other interfaces may lead there, too; what they can do proves nothing of this one.
        try:
            stream.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, message["interface"].encode())
        except PermissionError:
            pass
    if message["source"]:
        stream.bind((message["source"], 0))
    stream.connect((message["address"], message["port"]))


def disconnect():
    """Closes it."""
    global stream
    if stream is not None:
        stream.close()
    stream = None


def icmp(said):
    """Whatever the address answers within the time to messages of a protocol of IP."""
    found = []
    family = socket.AF_INET6 if ":" in said["address"] else socket.AF_INET
    with socket.socket(family, socket.SOCK_RAW, said["protocol"]) as raw:
        raw.connect((said["address"], 0))
        for message in said["messages"]:
            raw.send(bytes.fromhex(message))
        until = time.time() + said["timeout"]
        while time.time() < until and len(found) < 8:
            raw.settimeout(max(until - time.time(), 0.01))
            try:
                found.append(raw.recv(65535).hex())
            except OSError:
                break
            until = min(until, time.time() + 0.2)
    return found


def handle(letter, contents):
    """Does what one message asks for."""
    message = json.loads(contents.decode()) if letter in b"OUCI" else {}
    if letter == b"F":
        # Without a wire that was refused: the seat has been told, and may not have read it yet.
        if wires:
            send_frame(contents)
    elif letter == b"O":
        try:
            open_wires(message)
        except OSError:
            close_wires()
            raise
        answer()
    elif letter == b"X":
        answer(dropped=close_wires())
    elif letter == b"U":
        answer(answer=udp(message))
    elif letter == b"C":
        connect(message)
        answer()
    elif letter == b"D":
        stream.sendall(contents)
        answer()
    elif letter == b"G":
        send(b"D", stream.recv(65535))
    elif letter == b"E":
        disconnect()
        answer()
    elif letter == b"I":
        answer(answers=icmp(message))
    elif letter == b"Q":
        sys.exit(0)


def main():
    """Serves until standard input ends, or nothing has come from the seat for too long."""
    send(b"H", struct.pack(">I", os.getpid()))
    until = time.monotonic() + IDLE
    while True:
        ready = select.select([0, *wires], [], [], max(0.0, until - time.monotonic()))[0]
        if time.monotonic() >= until:
            sys.exit(0)
        for wire in ready:
            if wire != 0:
                receive(wire)
        if 0 in ready:
            message = exactly(struct.unpack(">I", exactly(4))[0])
            until = time.monotonic() + IDLE
            try:
                handle(message[:1], message[1:])
            except (socket.timeout, OSError) as error:
                timed_out = isinstance(error, socket.timeout)
                said = {"errno": 0 if timed_out else error.errno or 0, "error": error.strerror or str(error)}
                # Nobody waits for an answer to a frame.
                send(b"W" if message[:1] == b"F" else b"A", json.dumps(said).encode())


if __name__ == "__main__":
    main()
