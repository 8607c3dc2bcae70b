"""Stops a change at a given state, on a real host, so that a fault can strike there and nowhere else.

The engine records each state with ``mv state.new state``. A ``mv`` of the test's own stands before
the host's, passes everything on, and after the one that records the awaited state waits until it is
let go. ``sync``, ``cp`` and the commands of the stack can be given something to do in the same way.
"""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
from collections.abc import Iterator
from pathlib import Path

from tests.lab.host import LabHost
from tests.lab.network import wait_for
from tests.lab.test_matrix import ANOTHER, plan

CHANGE = "/var/lib/fixed-anchor/changes/0001"
UNIT = "/etc/systemd/system/fixed-anchor-roll-back-0001.service"

_MV = """\
#!/bin/sh
new=
case "$*" in "-f "*"/state.new "*) new=$(cat "$2") ;; esac
/bin/mv "$@"
status=$?
if [ -n "$new" ] && [ "$new" = "$(cat /fault/state 2>/dev/null)" ]; then
    : >/fault/reached
    while [ -e /fault/state ]; do sleep 0.05; done
fi
exit $status
"""

#: Stands before a command of the stack; does ACTION as long as the change is in STATE, else passes on.
_COMMAND = """\
#!/bin/sh
if [ "$(cat {change}/state 2>/dev/null)" = "{state}" ]; then {action}; fi
exec {real} "$@"
"""


class Halt:
    """The state at which the change of ``host`` stops; :meth:`release` lets it go on."""

    def __init__(self, host: LabHost, state: str) -> None:
        self.host = host
        self.state = state
        host.write("/usr/local/bin/mv", _MV, 0o755)
        host.write("/fault/state", state + "\n", 0o644)

    def reached(self, seconds: float = 60) -> None:
        there = self.host.disk("/fault/reached")
        wait_for(f"the change to reach {self.state}; {log(self.host)}", there.exists, seconds, 0.02)

    def release(self) -> None:
        self.host.disk("/fault/state").unlink(missing_ok=True)


def stand_before(host: LabHost, command: str, state: str, action: str) -> None:
    """Makes ``command`` of the host do ``action`` (shell of this test) while the change is in ``state``."""
    folders = ("/usr/sbin", "/usr/bin", "/sbin", "/bin")
    # One that is a link leads somewhere there, not here.
    real = next(f"{d}/{command}" for d in folders if os.path.lexists(host.disk(f"{d}/{command}")))
    text = _COMMAND.format(change=CHANGE, state=state, action=action, real=real)
    host.write(f"/usr/local/sbin/{command}", text, 0o755)


#: Most faults leave a network that does not get better by waiting.
PATIENT = ("--patience", "8")


class Running:
    """``fixed-anchor cutover`` under way on a host, to another address, with what it prints kept."""

    def __init__(
        self, host: LabHost, *words: str, seconds: int = 12, argv: list[str] | None = None, hostname: str | None = None
    ) -> None:
        self.host = host
        plan(host, f"hold: {ANOTHER}")
        if hostname is not None:
            text = host.read("/root/plan.yaml")
            host.write("/root/plan.yaml", text.replace("  tide-db:\n", f"  tide-db:\n    hostname: {hostname}\n"))
        self.before = host.etc_digest()
        self.printed = host.folder / "printed"
        argv = argv or host.tool_argv("cutover", "plan.yaml", "--confirm-within", str(seconds), *PATIENT, *words)
        with open(self.printed, "wb") as out:
            self.process = subprocess.Popen(argv, stdin=subprocess.DEVNULL, stdout=out, stderr=subprocess.STDOUT)

    def kill(self) -> None:
        """SIGKILL to the tool itself, not to the guard that it started."""
        for pid in _below(self.process.pid):
            with contextlib.suppress(ProcessLookupError):
                os.kill(pid, signal.SIGKILL)
        self.process.wait()

    def ended(self, seconds: float = 240) -> int:
        """Its exit status."""
        return self.process.wait(seconds)

    def said(self) -> str:
        return self.printed.read_text(errors="replace")


def _below(pid: int) -> Iterator[int]:
    children = Path(f"/proc/{pid}/task/{pid}/children")
    for child in children.read_text().split() if children.exists() else ():
        yield from _below(int(child))
    yield pid


def guard_pid(host: LabHost) -> str:
    """The guard's process, as the host numbers it."""
    return host.read(f"{CHANGE}/heartbeat").split()[0]


def state(host: LabHost) -> str:
    file = host.disk(f"{CHANGE}/state")
    return file.read_text().strip() if file.exists() else ""


def log(host: LabHost) -> str:
    file = host.disk(f"{CHANGE}/log")
    return file.read_text(errors="replace") if file.exists() else ""


def engine(host: LabHost, verb: str, *words: str) -> subprocess.CompletedProcess[str]:
    """A plain verb, as a person types it on a host without Python."""
    return host("/bin/sh", f"{CHANGE}/engine.sh", verb, CHANGE, *words, check=False)


def ends(host: LabHost, *states: str, seconds: float = 150) -> str:
    """Waits for the end of the change, the guard's clearing away included."""
    wait_for(f"one of {states}: it is {state(host)}", lambda: state(host) in states, seconds)
    if state(host) != "stuck":
        # The lock is the last that the guard clears away.
        wait_for("the lock to go", lambda: not host.disk(f"{CHANGE}/../open").is_symlink(), 20)
        assert not host.disk(UNIT).exists()
    return state(host)


def leftovers(host: LabHost) -> list[str]:
    return host("find", "/etc", "-name", ".fixed-anchor*").stdout.split()


def wholly_old(host: LabHost, before: str) -> None:
    """On disk, in the kernel, reachable, and said so."""
    assert state(host) == "rolled-back", log(host)
    differ = sorted(set(before.splitlines()) ^ set(host.etc_digest().splitlines()))
    assert differ == [], "\n".join([*differ, log(host)])
    assert leftovers(host) == []
    wait_for("the lease", host.leased, 40)
    assert not host.holds(ANOTHER), host.addresses()
    assert host.gateway().count("default") == 1, host.gateway()
    wait_for("an answer", lambda: host.answers(host.leased_address()), 15)
    wait_for("names", lambda: host.resolves("gull.ternpoint.example"), 20)
    assert "no change is open" in host.tool("status").stdout
    history = host.tool("history")
    assert "rolled-back" in history.stdout, history.stdout + history.stderr


def wholly_new(host: LabHost) -> None:
    """On disk, in the kernel, reachable, and said so."""
    assert state(host) == "confirmed", log(host)
    assert leftovers(host) == []
    wait_for("the address", lambda: host.holds(ANOTHER), 30)
    assert not host.leased(), host.addresses()
    assert host.addresses().count(" inet ") == 1, host.addresses()
    wait_for("an answer", lambda: host.answers(ANOTHER), 15)
    wait_for("names", lambda: host.resolves("gull.ternpoint.example"), 20)
    verified = host.tool("verify", "plan.yaml")
    assert verified.returncode == 0, verified.stdout + verified.stderr
    assert not host.disk(UNIT).exists()
    assert "confirmed" in host.tool("history").stdout
