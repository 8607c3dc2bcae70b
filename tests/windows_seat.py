"""A seat that reaches simulated Windows machines over SSH: an `ssh` that ends in a real PowerShell, tasks included."""

from __future__ import annotations

import json
import os
import shlex
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from fixed_anchor.change.change import Draft, Terms
from fixed_anchor.engine import windows_data
from fixed_anchor.machines import reach_by
from fixed_anchor.machines.seat import Seat
from fixed_anchor.machines.ssh.machine import SshMachine
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.standins.windows.lines import lines_of
from fixed_anchor.standins.windows.server import WindowsServer
from fixed_anchor.standins.windows.state import machine
from fixed_anchor.workflow.windows.windows_host import WindowsHost
from tests.powershell import COMMANDS, PWSH

MODULES = [COMMANDS.with_name("changing.psm1"), COMMANDS.with_name("tasks.psm1"), COMMANDS]
IMPORTS = "".join(f"Import-Module '{module}' -DisableNameChecking\n" for module in MODULES)

SSH = f"""#!{sys.executable}
import base64, os, sys
if "-G" in sys.argv:
    print("hostname fake\\nport 22")
    raise SystemExit
with open(os.environ["SAID"], "a") as said:
    said.write(" ".join(sys.argv[1:]) + "\\n")
words = sys.argv[-1].split()
if words[0] != "powershell":
    print("'exec' is not recognized as an internal or external command,", file=sys.stderr)
    raise SystemExit(1)
at = words.index("-EncodedCommand") + 1
program = os.environ["IMPORTS"] + base64.b64decode(words[at]).decode("utf-16-le")
words[at] = base64.b64encode(program.encode("utf-16-le")).decode()
os.environ["SSH_CONNECTION"] = os.environ.get("CONNECTION", "203.0.113.9 40000 203.0.113.20 22")
os.execv(os.environ["PWSH"], [os.environ["PWSH"], "-NoLogo", *words[1:]])
"""

#: How fast what comes by itself comes there.
WIRE: dict[str, Any] = {
    "detection": 0.2, "identification": 0.2, "lease": 0.2, "no_lease": 0.6,
    "answers": ["198.51.100.1", "203.0.113.1"],
}  # fmt: skip


def argv_of_task(arguments: str) -> list[str]:
    """What a task comes to here, which runs a file with arguments: with the modules before it."""
    words = shlex.split(arguments.replace("\\", "/"))
    file, *rest = words[words.index("-File") + 1 :]
    quoted = " ".join(f"'{word}'" for word in rest)
    command = f"{IMPORTS}& '{file}' {quoted}\nexit $LASTEXITCODE"
    return [PWSH or "", "-NoLogo", "-NoProfile", "-NonInteractive", "-Command", command]


class CountingServer(WindowsServer):
    """One for which a file that is written counts as a change to the machine as well: there, too, one may die."""

    #: For how many seconds the first rename of a second fails; how often one did.
    scans = 0.0
    scanned = 0

    def answer(self, request: dict[str, Any]) -> dict[str, Any]:
        if request.get("call") == "scanned":
            is_held = time.monotonic() % 1 < self.scans / 10
            self.scanned += 1
            return {"value": is_held}
        if request.get("call") != "wrote":
            return super().answer(request)
        self.changes += 1
        return {"dies": True} if self.dies_at == self.changes else {"value": None}


class WindowsSeat:
    """A folder with an `ssh` of its own, and one machine behind it; :attr:`target` is that machine as a target."""

    def __init__(self, folder: Path, said: dict[str, Any], wire: dict[str, Any]) -> None:
        self.folder = folder
        self.file = folder / "machine.json"
        state = machine(said)
        # Who had a lease gets it again.
        described = {a["name"]: said["adapters"].get(a["name"], {}) for a in state["adapters"]}
        leases = {a["guid"]: one["lease"] for a in state["adapters"] if "lease" in (one := described[a["name"]])}
        # Whichever gateway it has, its network is the one that it was.
        category = next((a["category"] for a in state["adapters"] if a["category"]), "Private")
        hops = [r["next_hop"] for a in state["adapters"] for r in a["routes"]]
        networks = dict.fromkeys([*WIRE["answers"], *hops, "198.51.100.254", "2001:db8:7e:2::1"], category)
        wire = {"leases": leases, "networks": networks} | WIRE | wire
        self.file.write_text(json.dumps(state | {"wire": wire, "elevated": True}))
        self.server = CountingServer(self.file, folder / "s", self.run_task)
        self.seat = Seat()
        found = reach_by("ssh:gannet-ws", folder, self.seat, "gannet-ws")
        assert isinstance(found, SshMachine)
        self.machine = found

    def run_task(self, arguments: str) -> subprocess.Popen[bytes]:
        """What the scheduler starts, in a process of its own."""
        argv = argv_of_task(arguments)
        log = open(self.folder / "task.log", "ab")  # noqa: SIM115
        return subprocess.Popen(argv, stdin=subprocess.DEVNULL, stdout=log, stderr=log, start_new_session=True)

    @property
    def target(self) -> WindowsHost:
        """The machine as a target of changes."""
        if self.machine.windows is None:
            take_stock(self.machine)
        return WindowsHost(self.machine)

    def begin(self, draft: Draft, within: int = 60, **terms: Any) -> str:
        """Begins a change of it."""
        notes = {"host": draft.host, "kind": "cutover", "interfaces": list(draft.interfaces)}
        return self.target.begin(draft, Terms(within, notes=notes, **({"unattended": False} | terms)))

    def until(
        self, *wanted: str, number: str = "0001", seconds: float = 240, unless: Callable[[], bool] = lambda: False
    ) -> str:
        """Waits until a change has one of these states, and returns it; or until ``unless`` is so."""
        end = time.monotonic() + seconds
        file = self.change(number) / "state"
        while True:
            now = file.read_text().strip() if file.exists() else ""
            if now in wanted or unless():
                return now
            assert time.monotonic() < end, f"it is {now}\n{self.log(number)}"
            time.sleep(0.05)

    def minute_passes(self) -> bool:
        """The scheduler begins what does not run."""
        self.server.due()
        return False

    def lines(self) -> list[str]:
        """What is kept on all its adapters."""
        state = self.state()
        return sorted(lines_of(state, [a["guid"] for a in state["adapters"]], ()))

    def state(self) -> dict[str, Any]:
        """The machine as it is now."""
        return self.server.state()

    def change(self, number: str = "0001") -> Path:
        """The folder of a change."""
        return self.folder / "FixedAnchor/changes" / number

    def log(self, number: str = "0001") -> str:
        """The log of a change, and what the guard's task printed."""
        file, printed = self.change(number) / "log", self.folder / "task.log"
        return "".join(f.read_text("utf-8", "replace") for f in (file, printed) if f.exists())


@contextmanager
def windows_seat(
    folder: Path, monkeypatch: pytest.MonkeyPatch, said: dict[str, Any], **wire: Any
) -> Iterator[WindowsSeat]:
    """The seat, with its machine served."""
    folder.mkdir(exist_ok=True)
    fake = folder / "bin"
    fake.mkdir()
    (fake / "ssh").write_text(SSH)
    (fake / "ssh").chmod(0o755)
    # Here a network that was identified keeps its category.
    monkeypatch.setattr(windows_data, "CATEGORY_STEADY", 0.4)
    monkeypatch.setattr(windows_data, "CATEGORY_WATCH", 1)
    for name, value in {
        "PATH": f"{fake}:{os.environ['PATH']}", "SAID": str(folder / "said"), "IMPORTS": IMPORTS, "PWSH": PWSH or "",
        "FIXED_ANCHOR_WINDOWS_SERVER": str(folder / "s"), "FIXED_ANCHOR_STATE": str(folder / "FixedAnchor"),
    }.items():  # fmt: skip
        monkeypatch.setenv(name, value)
    there = WindowsSeat(folder, said, wire)
    with there.server:
        try:
            yield there
        finally:
            there.seat.close()
