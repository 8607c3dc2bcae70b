"""A point-to-point link between two network namespaces, as a program: ``tunnel.py PID-OR-NAME PID-OR-NAME``.

Both ends are ``tun0``, without a MAC (tun(7) of the kernel's documentation); packets are carried over one by one. It
prints ``listening`` when both are there.
"""

from __future__ import annotations

import ctypes
import fcntl
import os
import select
import struct
import sys
from pathlib import Path

CLONE_NEWNET = 0x40000000
TUNSETIFF, IFF_TUN, IFF_NO_PI = 0x400454CA, 0x1, 0x1000


def end(namespace: str) -> int:
    """Opens ``tun0`` in a namespace of ``ip netns``."""
    # As os.setns() of later versions of Python.
    entered = ctypes.CDLL(None, use_errno=True).setns(
        os.open(Path("/run/netns") / namespace, os.O_RDONLY), CLONE_NEWNET
    )
    assert entered == 0, os.strerror(ctypes.get_errno())
    tun = os.open("/dev/net/tun", os.O_RDWR)
    fcntl.ioctl(tun, TUNSETIFF, struct.pack("16sH22x", b"tun0", IFF_TUN | IFF_NO_PI))
    return tun


if __name__ == "__main__":
    one, other = end(sys.argv[1]), end(sys.argv[2])
    print("listening", flush=True)
    while True:
        for tun in select.select([one, other], [], [])[0]:
            packet = os.read(tun, 65535)
            try:
                os.write(other if tun == one else one, packet)
            except OSError:
                # An end that is down takes nothing.
                continue
