"""What the module that stands for Windows' commands talks to: one simulated machine, for several processes at once.

It reads one request in each line, as JSON, from a Unix socket, and answers in a line. The machine is the JSON file that
the collector's tests use as well, so whatever changes it here is seen without PowerShell, and the other way round.
"""

from __future__ import annotations

import json
import os
import socketserver
import threading
from pathlib import Path
from typing import Any

from fixed_anchor.standins.windows.addressing import Failed, boot_adapter, settled
from fixed_anchor.standins.windows.calls import CALLS, call
from fixed_anchor.standins.windows.state import State


class WindowsServer:
    """Serves the machine in ``file`` at ``address``, a path for a socket.

    Where ``dies_at`` is a number, whoever makes that change to the machine, counted from 1, dies as soon as it is made.
    """

    def __init__(self, file: Path, address: Path) -> None:
        self.file, self.address = file, address
        self.dies_at: int | None = None
        self.changes = 0
        self._lock = threading.Lock()
        owner = self

        class Handler(socketserver.StreamRequestHandler):
            def handle(self) -> None:
                for line in self.rfile:
                    self.wfile.write(json.dumps(owner.answer(json.loads(line))).encode() + b"\n")

        self._server = socketserver.ThreadingUnixStreamServer(str(address), Handler)
        self._server.daemon_threads = True
        self._thread = threading.Thread(target=self._server.serve_forever, daemon=True)

    def __enter__(self) -> WindowsServer:
        self._thread.start()
        return self

    def __exit__(self, *of: object) -> None:
        self._server.shutdown()
        self._server.server_close()
        self.address.unlink(missing_ok=True)

    def state(self) -> State:
        """The machine as it is by now."""
        with self._lock:
            return settled(self._read())

    def answer(self, request: dict[str, Any]) -> dict[str, Any]:
        """The answer to one request: a ``value``, an ``error``, or that the asking process ``dies``."""
        name, arguments = request.get("call", ""), request.get("arguments") or {}
        with self._lock:
            state = self._read()
            if name == "state":
                self._write(settled(state))
                return {"value": state}
            try:
                value = call(state, name, arguments)
            except Failed as failed:
                return {"error": str(failed)}
            self._write(state)
            self.changes += name in CALLS
            return {"dies": True} if self.dies_at == self.changes else {"value": value}

    def boot(self) -> None:
        """The machine goes down and comes up: only what is kept is there."""
        with self._lock:
            state = self._read()
            for adapter in state["adapters"]:
                boot_adapter(state, adapter)
            state["name"] = state.pop("coming_name", state["name"])
            state["booted"] = state.get("booted", 0) + 1
            self._write(state)

    def _read(self) -> State:
        return json.loads(self.file.read_text())  # type: ignore[no-any-return]

    def _write(self, state: State) -> None:
        beside = self.file.with_suffix(".new")
        beside.write_text(json.dumps(state))
        os.replace(beside, self.file)
