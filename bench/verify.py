"""How long a verification of a healthy host takes, against a bare survey of it; needs root.

.venv/bin/python -m bench.verify [ROUNDS]

Both are whole processes on a real host of the lab with an address of its own, a gateway and a resolver that answer,
and take turns. What a verification does beyond a survey it mostly waits for: a second in which whoever else holds an
address would answer (RFC 5227, section 2.1.1).
"""

from __future__ import annotations

import statistics
import sys
import tempfile
import time
from pathlib import Path

from tests.lab.host import LabHost
from tests.lab.network import Segment, wait_for
from tests.lab.test_matrix import ANOTHER, PLAN, STACKS

AT_MOST = 5.0


def main() -> None:
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 7
    with tempfile.TemporaryDirectory() as folder:
        segment = Segment(Path(folder))
        host = LabHost("tide-db", Path(folder), segment, *STACKS["networkd"])
        try:
            host.boot()
            wait_for("the lease", host.leased, 60)
            host.write("/srv/plan.yaml", PLAN.format(what=f"hold: {ANOTHER}", mac=host.mac, reservations=""))
            done = host.tool("cutover", "/srv/plan.yaml", "--unattended", "--no-grace")
            assert done.returncode == 0, done.stdout + done.stderr
            taken: dict[tuple[str, ...], list[float]] = {("survey",): [], ("verify", "/srv/plan.yaml"): []}
            for _ in range(rounds):
                for words, times in taken.items():
                    begun = time.monotonic()
                    done = host.tool(*words)
                    times.append(time.monotonic() - begun)
                    assert done.returncode == 0, done.stdout + done.stderr
        finally:
            host.close()
            segment.close()
    floor, ours = (statistics.median(times) for times in taken.values())
    print(f"survey {floor:.2f} s, verify {ours:.2f} s, ratio {ours / floor:.2f}; verify at most {AT_MOST:g} s")
    if ours > AT_MOST:
        raise SystemExit("above what is allowed")


if __name__ == "__main__":
    main()
