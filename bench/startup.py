"""How light the start is: `fixed-anchor --version` against a process that only imports click.

.venv/bin/python bench/startup.py [ROUNDS]
"""

from __future__ import annotations

import sys

import measure


def main() -> None:
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 15
    cases = {
        "import click": ([sys.executable, "-c", "import click"], (0,)),
        "fixed-anchor --version": ([measure.PROGRAM, "--version"], (0,)),
    }
    taken = measure.medians(cases, rounds)
    floor, ours = (taken[name][0] for name in cases)
    for name, (seconds, memory) in taken.items():
        print(f"{name:<24} {seconds * 1000:5.0f} ms  {memory:4.0f} MiB")
    print(f"{ours / floor:.2f} times the floor (at most 1.3)")


if __name__ == "__main__":
    main()
