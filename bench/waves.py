"""A whole `cutover --all` of simulated hosts: the seat's own processor time, memory and wall time, and how they grow.

.venv/bin/python -m bench.waves [HOSTS ...]

The hosts are simulated in the same process, and their share is measured and subtracted: the time of every call into
the stand-ins, by the thread that makes it. Each count of hosts runs in a process of its own. The floor of the wall time
is what the order costs anyway: as many waves as there are, each as long as one host alone takes, and the stand-ins'
share, which is no real host's.
"""

from __future__ import annotations

import functools
import importlib
import inspect
import json
import os
import pkgutil
import resource
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from contextlib import redirect_stdout
from pathlib import Path
from typing import Any

#: Hosts of one segment; seconds of the seat's processor for each host; MiB; wall time against its floor; and how much
#: more a host of the most may cost than one of the fewest.
IN_A_SEGMENT, CPU, MEMORY, WALL, GROWTH = 8, 0.010, 250.0, 1.2, 1.2
AT_ONCE = 200


def lay_out(folder: Path, count: int) -> None:
    """A plan and a station of so many hosts, each on a fixed address that moves by half of its segment."""
    plan, station = "plan: 1\nsegments:\n", "station: 1\nsegments:\n"
    hosts, simulated = "hosts:\n", "hosts:\n"
    for number in range(-(-count // IN_A_SEGMENT)):
        net = f"198.{18 + number // 256}.{number % 256}"
        plan += f"  s{number}: {{subnet: {net}.0/24, gateway: {net}.1, resolvers: {net}.2, pools: []}}\n"
        router = f'{{name: router{number}, mac: "02:00:00:00:{number >> 8:02x}:{number & 255:02x}", address: {net}.1}}'
        resolver = (
            router.replace("router", "resolver").replace("02:", "06:", 1).replace(f"{net}.1}}", f"{net}.2, dns: true}}")
        )
        station += f"  s{number}:\n    subnet: {net}.0/24\n    devices: [{router}, {resolver}]\n"
    for number in range(count):
        segment, place = divmod(number, IN_A_SEGMENT)
        net, name = f"198.{18 + segment // 256}.{segment % 256}", f"h{number}"
        mac = f'"0a:00:00:00:{number >> 8:02x}:{number & 255:02x}"'
        interface = f"eth0: {{segment: s{segment}, mac: {mac}"
        hosts += f"  {name}: {{reach: 'standin:station.yaml/{name}', interfaces: "
        hosts += f"{{{interface}, hold: {net}.{100 + place}}}}}}}\n"
        simulated += f"  {name}: {{tree: hosts/{name}, over_ssh: yes, interfaces: {{{interface}}}}}}}\n"
        etc = folder / f"hosts/{name}/etc"
        (etc / "netplan").mkdir(parents=True)
        (etc / "resolv.conf").write_text(f"nameserver {net}.2\n")
        file = etc / "netplan/10-net.yaml"
        file.write_text(
            f"network:\n  version: 2\n  ethernets:\n    eth0:\n      addresses: [{net}.{10 + place}/24]\n"
            f"      routes: [{{to: default, via: {net}.1}}]\n      nameservers: {{addresses: [{net}.2]}}\n"
        )
        file.chmod(0o600)
    (folder / "plan.yaml").write_text(plan + hosts)
    (folder / "station.yaml").write_text(station + simulated)


class Share:
    """The processor time of every call into the stand-ins, from outside of them."""

    def __init__(self) -> None:
        self.seconds = 0.0
        #: Calls from outside, and what timing one of them costs beside what it measures.
        self.calls, self._each = 0, 0.0
        self._inside = threading.local()
        self._lock = threading.Lock()
        nothing, begun = self._timed(lambda: None), time.thread_time()
        for _ in range(100_000):
            nothing()
        self._each = (time.thread_time() - begun - self.seconds) / self.calls
        self.seconds, self.calls = 0.0, 0
        import fixed_anchor.standins as standins

        names = [module.name for module in pkgutil.walk_packages(standins.__path__, f"{standins.__name__}.")]
        # The disks of simulated hosts are folders here.
        for module in (*names, "fixed_anchor.machines.files"):
            for name, member in list(vars(importlib.import_module(module)).items()):
                if getattr(member, "__module__", "") != module:
                    continue
                if inspect.isclass(member):
                    self._wrap(member)
                elif callable(member) and not inspect.isgeneratorfunction(member):
                    for user in [one for name, one in list(sys.modules.items()) if name.startswith("fixed_anchor.")]:
                        if vars(user).get(name) is member:
                            setattr(user, name, self._timed(member))

    @property
    def cost(self) -> float:
        """Seconds that the timing itself took."""
        return self.calls * self._each

    def _wrap(self, kind: type) -> None:
        for name, member in list(vars(kind).items()):
            if inspect.isgeneratorfunction(member):
                setattr(kind, name, self._timed_steps(member))
            elif inspect.isfunction(member):
                setattr(kind, name, self._timed(member))
            elif isinstance(member, property) and member.fget is not None:
                setattr(kind, name, property(self._timed(member.fget)))
            elif isinstance(member, functools.cached_property):
                cached = functools.cached_property(self._timed(member.func))
                cached.__set_name__(kind, name)
                setattr(kind, name, cached)

    def _timed_steps(self, function: Callable[..., Any]) -> Callable[..., Any]:
        @functools.wraps(function)
        def timed(*args: Any, **more: Any) -> Any:
            steps = function(*args, **more)
            following = self._timed(lambda: next(steps, self))
            while (step := following()) is not self:
                yield step

        return timed

    def _timed(self, function: Callable[..., Any]) -> Callable[..., Any]:
        @functools.wraps(function)
        def timed(*args: Any, **more: Any) -> Any:
            if getattr(self._inside, "is_so", False):
                return function(*args, **more)
            self._inside.is_so = True
            begun = time.thread_time()
            try:
                return function(*args, **more)
            finally:
                self._inside.is_so = False
                with self._lock:
                    self.calls += 1
                    self.seconds += time.thread_time() - begun

        return timed


def one_run(count: int) -> None:
    """Carries out a run of so many hosts in this process, and prints the figures as JSON."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        lay_out(folder, count)
        os.chdir(folder)
        os.environ["XDG_STATE_HOME"] = str(folder / "state")
        from fixed_anchor.cli import cli

        share = Share()
        argv = ["cutover", "plan.yaml", "--all", "--unattended", "--at-once", str(AT_ONCE)]
        begun, before = time.perf_counter(), time.process_time()
        with open(os.devnull, "w") as nowhere, redirect_stdout(nowhere):
            status = cli.main(argv, standalone_mode=False)
        wall, cpu = time.perf_counter() - begun, time.process_time() - before
        memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        from fixed_anchor.workflow.run_records import seat_runs

        record = seat_runs().read("0001")
        ended = [turn.state for turn in record.turns]
        assert ended == ["confirmed"] * count, (status, ended, record.sittings)
        waves = max(turn.wave for turn in record.turns)
        print(
            json.dumps(
                {
                    "wall": wall,
                    "cpu": cpu,
                    "standins": share.seconds + share.cost,
                    "timing": share.cost,
                    "waves": waves,
                    "memory": memory,
                }
            )
        )


def measured(count: int) -> dict[str, float]:
    argv = [sys.executable, "-m", "bench.waves", "one", str(count)]
    done = subprocess.run(argv, capture_output=True, text=True, check=False)
    if done.returncode:
        raise SystemExit(done.stdout[-1000:] + done.stderr[-3000:])
    figures: dict[str, float] = json.loads(done.stdout.splitlines()[-1])
    return figures


def main() -> None:
    counts = [int(word) for word in sys.argv[1:]] or [100, 1000]
    alone = measured(1)
    print("hosts  waves  seat ms/host  stand-ins ms/host  wall s  of its floor    MiB")
    costs, faults = {}, []
    for count in counts:
        found = measured(count)
        costs[count] = (found["cpu"] - found["standins"] - (alone["cpu"] - alone["standins"])) / count
        wall = found["wall"] / (found["waves"] * alone["wall"] + found["standins"])
        print(
            f"{count:>5}  {found['waves']:>5}  {1000 * costs[count]:>12.1f}  {1000 * found['standins'] / count:>17.1f}"
            f"  {found['wall']:>6.1f}  {wall:>12.2f}  {found['memory']:>5.0f}",
            flush=True,
        )
        limits = (("ms of the seat", costs[count], CPU), ("wall", wall, WALL), ("MiB", found["memory"], MEMORY))
        faults += [f"{count} hosts: {what} beyond {limit:g}" for what, value, limit in limits if value > limit]
    if costs[counts[-1]] > GROWTH * costs[counts[0]]:
        faults.append(f"a host costs more among {counts[-1]} than among {counts[0]}")
    if faults:
        raise SystemExit("; ".join(faults))


if __name__ == "__main__":
    if sys.argv[1:2] == ["one"]:
        one_run(int(sys.argv[2]))
    else:
        main()
