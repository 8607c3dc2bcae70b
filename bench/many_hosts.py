"""A survey of fifty hosts over real OpenSSH from one seat, against the bare collector piped over ssh; needs root.

.venv/bin/python -m bench.many_hosts [ROUNDS]

Fifty sshd run on one host of the lab, and the seat is another one. The floor is what anybody could write: the collector
on standard input of `ssh HOST sh -s`, as many at a time; for the sessions alone, which `status` opens and asks once, it
is a bare `ssh HOST true`. With 200 ms of delay, well above the noise, the round trips
after the connection are counted by the time that they take; a bare `ssh HOST true` has two of them, its channel and
its command. The hosts' interfaces(5) include further files, which is one more.
"""

from __future__ import annotations

import contextlib
import statistics
import sys
import threading
import time

from bench.two_hosts import DELAY, delayed, two_hosts
from fixed_anchor.machines.collected import collector_source
from tests.lab.host import LabHost
from tests.lab.seats import Reached, Seat

HOSTS, AT_ONCE = 50, 25
AT_MOST, SESSIONS, ROUND_TRIPS, MEMORY = 1.5, 1.3, 3 + 1, 150.0
PLAN = "plan: 1\nsegments:\n  quay: {subnet: 203.0.113.0/24, gateway: 203.0.113.1, pools: []}\nhosts:\n"


class Memory:
    """The most that the seat's processes of ours and their clients had together, in MiB, by their shares (Pss)."""

    def __init__(self, host: LabHost) -> None:
        self.most = 0.0
        self._host = host
        self._ends = threading.Event()
        self._thread = threading.Thread(target=self._look, daemon=True)
        self._thread.start()

    def _look(self) -> None:
        while not self._ends.is_set():
            total = 0
            pids = self._host("pgrep", "-f", "fixed_anchor|^ssh -T|/ssh -T", check=False).stdout.split()
            for pid in pids:
                with contextlib.suppress(OSError):
                    told = self._host("cat", f"/proc/{pid}/smaps_rollup", check=False).stdout
                    total += sum(int(line.split()[1]) for line in told.splitlines() if line.startswith("Pss:"))
            self.most = max(self.most, total / 1024)
            self._ends.wait(0.2)

    def end(self) -> float:
        self._ends.set()
        self._thread.join()
        return self.most


def timed(seat: Seat, *argv: str) -> float:
    begun = time.monotonic()
    done = seat.host(*argv, check=False)
    assert done.returncode == 0, done.stdout[-500:] + done.stderr[-2000:]
    return time.monotonic() - begun


def survey(seat: Seat, *names: str) -> list[str]:
    argv = seat.host.tool_argv(
        "survey", *[w for name in names for w in ("--host", f"ssh:{name}")], "-o", "/root/all.json"
    )
    return argv[argv.index("env", argv.index("-i")) :]


def main() -> None:
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 3
    with two_hosts() as (_, harbour, desk), contextlib.ExitStack() as ends:
        seat = Seat(desk)
        reached = Reached(harbour, more="MaxStartups 200\n")
        for number in range(HOSTS):
            reached.port = 2200 + number
            harbour("/usr/sbin/sshd", "-p", str(reached.port), "-o", "PidFile=none")
            seat.knows(reached, alias=f"h{number}")
        ends.enter_context(delayed(desk, 3200, reached.address, 2200))
        far = f"Host far\n  HostName 127.0.0.1\n  Port 3200\n  HostKeyAlias [{reached.address}]:2200\n"
        seat.append(seat.config, far)
        seat.write("/root/collector.sh", collector_source())
        names = [f"h{number}" for number in range(HOSTS)]
        plan = [
            f"  {name}: {{reach: 'ssh:{name}', interfaces: {{eth0: {{segment: quay, mac: '00:00:5e:00:53:{n:02x}', "
            f"hold: 203.0.113.{100 + n}}}}}}}\n"
            for n, name in enumerate(names)
        ]
        seat.write("/root/plan.yaml", PLAN + "".join(plan))
        true = f"echo {' '.join(names)} | xargs -n 1 -P {AT_ONCE} sh -c 'ssh -o BatchMode=yes $0 true'"
        status = seat.host.tool_argv("status", "--plan", "/root/plan.yaml")
        status = status[status.index("env", status.index("-i")) :]
        one = "ssh -o BatchMode=yes $0 sh -s </root/collector.sh >/dev/null"
        bare = f"echo {' '.join(names)} | xargs -n 1 -P {AT_ONCE} sh -c '{one}'"
        ours, floor, opened, just_opened = [], [], [], []
        memory = 0.0
        for _ in range(rounds):
            just_opened.append(timed(seat, "sh", "-c", true))
            opened.append(timed(seat, *status))
            floor.append(timed(seat, "sh", "-c", bare))
            looking = Memory(desk)
            ours.append(timed(seat, *survey(seat, *names)))
            memory = max(memory, looking.end())
        ratio = statistics.median(ours) / statistics.median(floor)
        print(
            f"{HOSTS} hosts, {AT_ONCE} at a time: the bare collector {statistics.median(floor):.2f} s, "
            f"a survey {statistics.median(ours):.2f} s, ratio {ratio:.2f} (at most {AT_MOST:g}); "
            f"{memory:.0f} MiB at the seat (at most {MEMORY:g})"
        )
        sessions = statistics.median(opened) / statistics.median(just_opened)
        print(
            f"{HOSTS} sessions: a bare `ssh HOST true` {statistics.median(just_opened):.2f} s, a status "
            f"{statistics.median(opened):.2f} s, ratio {sessions:.2f} (at most {SESSIONS:g})"
        )
        taken: dict[tuple[str, str], list[float]] = {}
        for _ in range(2 * rounds + 1):
            for name in ("h0", "far"):
                taken.setdefault(("true", name), []).append(timed(seat, "ssh", "-o", "BatchMode=yes", name, "true"))
                taken.setdefault(("survey", name), []).append(timed(seat, *survey(seat, name)))
        # A busy machine adds to a time, and nothing takes a delay away: so the shortest of each tell.
        least = {key: min(times) for key, times in taken.items()}
        more = {what: (least[what, "far"] - least[what, "h0"]) / DELAY for what in ("true", "survey")}
        trips = more["survey"] - more["true"] + 2
        print(
            f"with {DELAY * 1000:.0f} ms of delay: a bare command {more['true']:.1f} round trips, a survey "
            f"{more['survey']:.1f}: {trips:.1f} after the connection (at most {ROUND_TRIPS}, and half a one for noise)"
        )
    if ratio > AT_MOST or sessions > SESSIONS or memory > MEMORY or trips > ROUND_TRIPS + 0.5:
        raise SystemExit("above what is allowed")


if __name__ == "__main__":
    main()
