"""A lab host whose SSH sessions end in a real PowerShell over a simulated Windows machine.

What is in force on that machine is put into force in the host's namespace, so that others on the segment meet it there.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import threading
from typing import Any

from fixed_anchor.standins.windows.server import WindowsServer
from fixed_anchor.standins.windows.state import machine
from tests.lab.host import LabHost
from tests.powershell import PWSH
from tests.windows_seat import IMPORTS, argv_of_task

#: The folder of the simulated machine in the host, and the libraries that a PowerShell wants there.
HOME, LIBRARIES = "/srv/windows", "/opt/lib"
_NEEDED = ("libstdc++.so.6", "libgcc_s.so.1")
_ENVIRONMENT = {
    "FIXED_ANCHOR_WINDOWS_SERVER": f"{HOME}/s",
    "FIXED_ANCHOR_STATE": f"{HOME}/state",
    "LD_LIBRARY_PATH": LIBRARIES,
    "HOME": "/root",
}

SESSION = f"""#!{sys.executable}
import base64, os, sys
words = os.environ.get("SSH_ORIGINAL_COMMAND", "").split()
if not words or words[0] != "powershell":
    print("'exec' is not recognized as an internal or external command,", file=sys.stderr)
    raise SystemExit(1)
at = words.index("-EncodedCommand") + 1
program = {IMPORTS!r} + base64.b64decode(words[at]).decode("utf-16-le")
words[at] = base64.b64encode(program.encode("utf-16-le")).decode()
os.environ.update({_ENVIRONMENT!r})
os.execv({PWSH!r}, [{PWSH!r}, "-NoLogo", *words[1:]])
"""


class WindowsThere:
    """The simulated machine of a host, served for as long as it is entered. Its one adapter has the host's MAC."""

    def __init__(self, host: LabHost, said: dict[str, Any], wire: dict[str, Any]) -> None:
        self.host = host
        self.leased = host.leased_address()
        host.write("/usr/local/bin/windows-session", SESSION, 0o755)
        folder = host.disk(HOME)
        folder.mkdir(parents=True)
        for name in _NEEDED:
            host.disk(LIBRARIES).mkdir(exist_ok=True)
            host.disk(f"{LIBRARIES}/{name}").write_bytes(_library(name))
        self.file = folder / "machine.json"
        state = machine(said)
        leases = {state["adapters"][0]["guid"]: said["adapters"]["Ethernet"]["lease"]}
        self.file.write_text(
            json.dumps(state | {"root": str(host.disk("/")).rstrip("/"), "wire": {"leases": leases, **wire}})
        )
        # The name of a socket is short.
        self._folder = os.open(folder, os.O_RDONLY)
        address = folder.__class__(f"/proc/self/fd/{self._folder}/s")
        self.server = WindowsServer(self.file, address, self._run_task)
        self._ends = threading.Event()
        self._mirror = threading.Thread(target=self._mirrors, daemon=True)

    def __enter__(self) -> WindowsThere:
        # From now on addresses are what the machine says.
        self.host("systemctl", "stop", "systemd-networkd.socket", "systemd-networkd.service", check=False)
        self.server.__enter__()
        self._mirror.start()
        return self

    def __exit__(self, *of: object) -> None:
        self._ends.set()
        self._mirror.join()
        self.server.__exit__()
        os.close(self._folder)

    def _run_task(self, arguments: str) -> subprocess.Popen[bytes]:
        settings = [f"{name}={value}" for name, value in _ENVIRONMENT.items()]
        return self.host.start("env", *settings, *argv_of_task(arguments))

    def _mirrors(self) -> None:
        has: set[str] | None = None
        while not self._ends.wait(0.1):
            adapter = self.server.state()["adapters"][0]
            active = [a for a in adapter["addresses"] if a["store"] == "ActiveStore" and ":" not in a["address"]]
            wanted = {f"{a['address']}/{a['prefix']}" for a in active if a["state"] == "Preferred"}
            hops = [r["next_hop"] for r in adapter["routes"] if r["store"] == "ActiveStore"]
            if wanted == has:
                continue
            for address in wanted - (has or set()):
                self.host("ip", "address", "replace", address, "dev", "eth0", check=False)
            for address in (has or set()) - wanted:
                self.host("ip", "address", "del", address, "dev", "eth0", check=False)
            for hop in hops:
                self.host("ip", "route", "replace", "default", "via", hop, check=False)
            has = wanted

    def lines(self) -> dict[str, Any]:
        """What a restart would bring."""
        adapter = self.server.state()["adapters"][0]
        return {key: [x for x in adapter[key] if x["store"] == "PersistentStore"] for key in ("addresses", "routes")}


def _library(name: str) -> bytes:
    said = subprocess.run(["/sbin/ldconfig", "-p"], capture_output=True, text=True, check=True).stdout
    path = next(line.split("=> ")[1] for line in said.splitlines() if name in line and "x86-64" in line)
    with open(path.strip(), "rb") as file:
        return file.read()
