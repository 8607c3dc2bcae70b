"""An administrator's SSH sessions: OpenSSH in the host, key login from a neighbour."""

from __future__ import annotations

import shlex
import subprocess
import sys
import threading
import time
from pathlib import Path

from tests.lab.host import LabHost
from tests.lab.network import Segment, run, wait_for

ADMIN = ("203.0.113.230", "00:00:5e:00:53:e6")


class Admin:
    """A neighbour on the segment whose key the host's root accepts."""

    def __init__(self, host: LabHost, segment: Segment, folder: Path) -> None:
        self.host = host
        self.key = folder / "key"
        self.namespace = segment.neighbour(*ADMIN)
        run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(self.key))
        host.disk("/root/.ssh").mkdir(mode=0o700, exist_ok=True)
        host.write("/root/.ssh/authorized_keys", self.key.with_suffix(".pub").read_text())
        wait_for("sshd", lambda: self.run(host.leased_address(), "true").returncode == 0, 30)

    def argv(self, address: str, command: str) -> list[str]:
        options = (
            *("-i", str(self.key), "-F", "/dev/null"),
            *("-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null"),
            *("-o", "ConnectTimeout=5", "-o", "BatchMode=yes", "-o", "LogLevel=ERROR"),
        )
        return ["ip", "netns", "exec", self.namespace.name, "ssh", *options, f"root@{address}", command]

    def run(self, address: str, command: str, seconds: float = 120) -> subprocess.CompletedProcess[str]:
        return run(*self.argv(address, command), check=False, timeout=seconds, stdin=subprocess.DEVNULL)

    def tool(self, address: str, *words: str) -> subprocess.CompletedProcess[str]:
        """``fixed-anchor`` in a new session on ``address``."""
        return self.run(address, tool_line(*words))


def tool_line(*words: str) -> str:
    """The command line of the tool for a session's shell."""
    return shlex.join(
        ["env", "PYTHONDONTWRITEBYTECODE=1", sys.executable, "-m", "fixed_anchor", "--color", "never", *words]
    )


class Echo:
    """A session that gives back each byte; it is sent one every 20 ms, and the waits are kept."""

    def __init__(self, admin: Admin, address: str) -> None:
        argv = admin.argv(address, "exec cat")
        self.process = subprocess.Popen(argv, stdin=subprocess.PIPE, stdout=subprocess.PIPE, bufsize=0)
        self.last = time.monotonic()
        self.longest = 0.0
        self._ended = threading.Event()
        threading.Thread(target=self._send, daemon=True).start()
        threading.Thread(target=self._receive, daemon=True).start()

    def _send(self) -> None:
        assert self.process.stdin is not None
        while not self._ended.is_set():
            try:
                self.process.stdin.write(b".")
            except OSError:
                return
            time.sleep(0.02)

    def _receive(self) -> None:
        assert self.process.stdout is not None
        # Signing in takes its time, too.
        self.process.stdout.read(1)
        self.last = time.monotonic()
        while self.process.stdout.read(1):
            now = time.monotonic()
            self.longest, self.last = max(self.longest, now - self.last), now

    def silent_for(self) -> float:
        """Seconds since the last byte came back."""
        return time.monotonic() - self.last

    def close(self) -> None:
        self._ended.set()
        self.process.kill()
        self.process.wait()
