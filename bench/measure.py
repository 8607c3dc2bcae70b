"""What the benchmarks share: whole processes, timed and measured. Figures are ratios within one run."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import time
from collections.abc import Sequence
from pathlib import Path

PROGRAM = str(Path(sys.executable).with_name("fixed-anchor"))

#: An installed program has its compiled code beside it; a variable that forbids that would be measured instead.
ENVIRONMENT = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}


def run(argv: Sequence[str], accept: tuple[int, ...] = (0,)) -> tuple[float, float]:
    """Seconds and peak memory (MiB) of one process; its output goes nowhere."""
    begun = time.perf_counter()
    process = subprocess.Popen(argv, stdout=subprocess.DEVNULL, env=ENVIRONMENT)
    _, status, usage = os.wait4(process.pid, 0)
    seconds = time.perf_counter() - begun
    code = os.waitstatus_to_exitcode(status)
    if code not in accept:
        raise SystemExit(f"{' '.join(argv)} ended with status {code}")
    return seconds, usage.ru_maxrss / 1024


def medians(cases: dict[str, tuple[Sequence[str], tuple[int, ...]]], rounds: int) -> dict[str, tuple[float, float]]:
    """The medians of several rounds, the cases one after the other in each, so that all see the same machine."""
    for argv, accept in cases.values():
        run(argv, accept)  # once for the compiled code and the disk's cache
    times: dict[str, list[tuple[float, float]]] = {name: [] for name in cases}
    for _ in range(rounds):
        for name, (argv, accept) in cases.items():
            times[name].append(run(argv, accept))
    return {name: (statistics.median(t for t, _ in taken), max(m for _, m in taken)) for name, taken in times.items()}
