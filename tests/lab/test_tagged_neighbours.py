"""What a neighbour says in another VLAN, and the kernel hands over without its tag, is not of this segment."""

from __future__ import annotations

import subprocess
import sys
import textwrap

from tests.lab.host import LabHost
from tests.lab.network import Segment, wait_for

TARGET, MAC = "203.0.113.30", "00:00:5e:00:53:7a"

#: Answers every ARP question for an address, with a tag of the VLAN that is told.
ANSWER = textwrap.dedent(
    """
    import socket, sys
    target, mac, vlan = socket.inet_aton(sys.argv[1]), bytes.fromhex(sys.argv[2].replace(":", "")), int(sys.argv[3])
    wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(0x0806))
    wire.bind(("eth0", 0x0806))
    print("listening", flush=True)
    while True:
        frame = wire.recv(2048)
        if frame[38:42] == target:
            tag = b"\\x81\\x00" + vlan.to_bytes(2, "big") if vlan else b""
            reply = bytes.fromhex("0001080006040002") + mac + target + frame[22:32]
            wire.send(frame[6:12] + mac + tag + b"\\x08\\x06" + reply)
    """
)


def test_another_vlan_is_not_believed(host: LabHost, segment: Segment) -> None:
    neighbour = segment.neighbour("203.0.113.29", MAC)
    for vlan, verdict in ((7, "free"), (0, "taken")):
        argv = ["ip", "netns", "exec", neighbour.name, sys.executable, "-c", ANSWER, TARGET, MAC, str(vlan)]
        process = subprocess.Popen(argv, stdout=subprocess.PIPE, text=True)
        try:
            assert process.stdout is not None
            assert process.stdout.readline() == "listening\n"
            said = host.tool("probe", TARGET).stdout
            assert f"{TARGET}  {verdict}" in said, (vlan, said)
        finally:
            process.kill()
            process.wait()
    wait_for("the host", host.leased, 10)
