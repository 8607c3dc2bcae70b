"""Two hosts of the lab on one segment, one of which runs an sshd: what a bench from a seat begins with."""

from __future__ import annotations

import contextlib
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

from tests.lab.host import LabHost
from tests.lab.network import Segment, wait_for
from tests.lab.seats import SSH
from tests.lab.test_matrix import STACKS

#: Seconds of a round trip through :func:`delayed`: well above the noise.
DELAY = 0.2

#: Passes bytes on after half of DELAY each way, for as long as it runs: python -c DELAYED PORT HOST PORT.
_DELAYED = """\
import asyncio, sys
async def pump(reader, writer):
    loop = asyncio.get_running_loop()
    while data := await reader.read(65536):
        loop.call_later({half}, writer.write, data)
    loop.call_later({half}, writer.close)
async def serve(reader, writer):
    there = await asyncio.open_connection(sys.argv[2], int(sys.argv[3]))
    await asyncio.gather(pump(reader, there[1]), pump(there[0], writer))
async def main():
    async with await asyncio.start_server(serve, "127.0.0.1", int(sys.argv[1])) as server:
        await server.serve_forever()
asyncio.run(main())
"""


@contextlib.contextmanager
def two_hosts() -> Iterator[tuple[Segment, LabHost, LabHost]]:
    """The segment, the host with an sshd, and the one at which somebody sits; both have booted and have a lease."""
    files, units = STACKS["networkd"]
    with tempfile.TemporaryDirectory() as folder, contextlib.ExitStack() as ends:
        segment = Segment(Path(folder))
        ends.callback(segment.close)
        harbour = LabHost("harbour", Path(folder), segment, files, (*units, SSH))
        ends.callback(harbour.close)
        desk = LabHost("desk", Path(folder), segment, files, units, mac="00:00:5e:00:53:e6")
        ends.callback(desk.close)
        for host in (harbour, desk):
            host.boot()
            wait_for("a lease", host.leased, 60)
        yield segment, harbour, desk


@contextlib.contextmanager
def delayed(desk: LabHost, port: int, address: str, to: int) -> Iterator[None]:
    """On ``desk`` the local ``port`` leads to the port ``to`` of ``address``, a DELAY away."""
    words = ("-c", _DELAYED.format(half=DELAY / 2), str(port), address, str(to))
    passing = subprocess.Popen(["ip", "netns", "exec", desk.namespace.name, sys.executable, *words])
    try:
        yield
    finally:
        passing.kill()
        passing.wait()
