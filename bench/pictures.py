"""A map of 4,096 addresses as PNG, and a report of 200 hosts against `check` of the same hosts.

.venv/bin/python -m bench.pictures

The map is drawn by a process of its own, which imports matplotlib: its seconds and its memory count. The report's floor
is `check` alone, in the same run.
"""

from __future__ import annotations

import json
import os
import resource
import subprocess
import sys
import tempfile
import time
from ipaddress import IPv4Network
from pathlib import Path

from bench.waves import lay_out
from fixed_anchor.core.addresses import AddressRange
from fixed_anchor.core.segment_map import POOL, Mark, SegmentMap, Sighting, ruler_of

#: Seconds and MiB of the map; how much longer a report may take than `check`; and the bytes of its page.
MAP, MEMORY, REPORT, SIZE = 3.0, 250.0, 2.0, 5_000_000
EVERY, COUNT = 3, 200


def segment() -> SegmentMap:
    """A /20 of which every third address is a host's."""
    net = IPv4Network("198.18.0.0/20")
    begin = net.network_address
    marks = tuple(Mark(begin + n, f"host-{n}", "eth0", n % 2 == 0, True) for n in range(10, 4090, EVERY))
    first = int(begin) + 512
    pool = (AddressRange(4, first, first + 255), POOL, "kea")
    sightings = [Sighting(mark.address, "answers", "0a:00:00:00:00:01") for mark in marks]
    return SegmentMap("lofts", (ruler_of(net, [pool], marks, (), sightings),))


def draw() -> None:
    """Draws the map, and prints how long that took with the import, and the memory of this process."""
    found, begun = segment(), time.perf_counter()
    from fixed_anchor.reporting.pictures.segment_map import picture

    drawn = picture([found], "bench", "png")
    seconds = time.perf_counter() - begun
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(json.dumps({"seconds": seconds, "MiB": memory, "bytes": len(drawn)}))


def timed(folder: Path, *words: str) -> float:
    """The seconds of a command."""
    begun = time.perf_counter()
    argv = [sys.executable, "-m", "fixed_anchor", *words]
    subprocess.run(argv, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False)
    return time.perf_counter() - begun


def main() -> int:
    """Prints every figure; the exit status is 1 where one is beyond its limit."""
    # The first import of matplotlib ever makes its list of fonts.
    command = [sys.executable, "-m", "bench.pictures", "draw"]
    runs = [json.loads(subprocess.run(command, capture_output=True, check=True).stdout) for _ in range(3)][1:]
    best = min(runs, key=lambda run: run["seconds"])
    print(f"map of 4096 addresses: {best['seconds']:.2f} s with the import, {best['MiB']:.0f} MiB")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        lay_out(folder, COUNT)
        os.environ["XDG_STATE_HOME"] = str(folder / "state")
        check = min(timed(folder, "check", "plan.yaml") for _ in range(2))
        report = min(timed(folder, "report", "plan.yaml", "-o", "report.html") for _ in range(2))
        size = (folder / "report.html").stat().st_size
    print(f"report of {COUNT} hosts: {report:.1f} s, {report / check:.2f} of check ({check:.1f} s), {size} bytes")
    beyond = [
        best["seconds"] > MAP and "the map takes too long",
        best["MiB"] > MEMORY and "the map takes too much memory",
        report / check > REPORT and "the report takes too long",
        size > SIZE and "the page is too large",
    ]
    wrong = [text for text in beyond if text]
    print("; ".join(wrong) or "all within their limits")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(draw() if sys.argv[1:] == ["draw"] else main())
