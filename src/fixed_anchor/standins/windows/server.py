"""What the module that stands for Windows' commands talks to: one simulated machine, for several processes at once.

It reads one request in each line, as JSON, from a Unix socket, and answers in a line. The machine is the JSON file that
the collector's tests use as well, so whatever changes it here is seen without PowerShell, and the other way round.
"""

from __future__ import annotations

import json
import os
import socketserver
import subprocess
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from fixed_anchor.standins.windows.addressing import Failed, boot_adapter
from fixed_anchor.standins.windows.by_itself import settled
from fixed_anchor.standins.windows.calls import CALLS, call
from fixed_anchor.standins.windows.state import State


class WindowsServer:
    """Serves the machine in ``file`` at ``address``, a path for a socket.

    Where ``dies_at`` is a number, whoever makes that change to the machine, counted from 1, dies as soon as it is made.
    ``runs`` begins what a task runs, given its arguments as one text, and tells how to end it in a power cut; without
    it no task runs, and nobody is told.
    """

    def __init__(self, file: Path, address: Path, runs: Callable[[str], subprocess.Popen[bytes]] | None = None) -> None:
        self.file, self.address, self._runs = file, address, runs
        self.running: dict[str, subprocess.Popen[bytes]] = {}
        self.dies_at: int | None = None
        self.changes = 0
        self._lock = threading.Lock()
        owner = self

        class Handler(socketserver.StreamRequestHandler):
            def handle(self) -> None:
                for line in self.rfile:
                    answer = owner.answer(json.loads(line))
                    if answer.get("hangs"):
                        # Until whoever asks is gone.
                        self.rfile.read()
                        return
                    self.wfile.write(json.dumps(answer).encode() + b"\n")

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
        self.power_cut()

    def state(self) -> State:
        """The machine as it is by now."""
        with self._lock:
            return settled(self._read())

    @contextmanager
    def changing(self) -> Iterator[State]:
        """The machine, for a block that describes it otherwise; meanwhile nobody is answered."""
        with self._lock:
            state = self._read()
            yield state
            self._write(state)

    def answer(self, request: dict[str, Any]) -> dict[str, Any]:
        """The answer to one request: a ``value``, an ``error``, that whoever asks ``dies``, or ``hangs``."""
        name, arguments = request.get("call", ""), request.get("arguments") or {}
        with self._lock:
            state = self._read()
            if state.get("hangs", {}).get(name, 0):
                state["hangs"][name] -= 1
                self._write(state)
                return {"hangs": True}
            if name in ("state", "loading"):
                self._write(settled(state))
                return {"value": state}
            if name == "start_task":
                return self._start(state, str(arguments.get("name")), str(arguments.get("path")))
            if name == "stop_task":
                self._stop(str(arguments.get("name")))
                return {"value": None}
            try:
                value = call(state, name, arguments)
            except Failed as failed:
                # Calls that fail so many times are counted.
                self._write(state)
                return {"error": str(failed)}
            self._write(state)
            if name not in CALLS:
                # What is only asked kills nobody.
                return {"value": value}
            self.changes += 1
            return {"dies": True} if self.dies_at == self.changes else {"value": value}

    def _start(self, state: State, name: str, path: str) -> dict[str, Any]:
        """Begins a task. While it runs nothing new is begun; where nothing starts nobody is told."""
        try:
            task = call(state, "get_task", {"name": name, "path": path})
        except Failed as failed:
            return {"error": str(failed)}
        alive = name in self.running and self.running[name].poll() is None
        if self._runs is not None and not alive and not state.get("tasks_fail"):
            self.running[name] = self._runs(task["Actions"][0]["Arguments"])
        return {"value": None}

    def _stop(self, name: str) -> None:
        """Ends what runs of a task."""
        running = self.running.pop(name, None)
        if running is not None:
            running.kill()
            running.wait()

    def power_cut(self) -> None:
        """Whatever runs ends at once."""
        for process in self.running.values():
            process.kill()
            process.wait()
        self.running.clear()

    def due(self) -> None:
        """What the scheduler does each minute: it begins tasks that do not run."""
        with self._lock:
            state = self._read()
            for name, task in list(state.get("tasks", {}).items()):
                self._start(state, name, task["TaskPath"])

    def boot(self) -> None:
        """The machine goes down and comes up: only what is kept is there, and its tasks begin."""
        self.power_cut()
        with self.changing() as state:
            for adapter in state["adapters"]:
                boot_adapter(state, adapter)
            state["name"] = state.pop("coming_name", state["name"])
            state["booted"] = state.get("booted", 0) + 1
        self.due()

    def _read(self) -> State:
        return json.loads(self.file.read_text())  # type: ignore[no-any-return]

    def _write(self, state: State) -> None:
        beside = self.file.with_suffix(".new")
        beside.write_text(json.dumps(state))
        os.replace(beside, self.file)
