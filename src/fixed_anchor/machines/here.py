"""This machine."""

from __future__ import annotations

import logging
import os
import shlex
import socket
import subprocess
import tempfile
from collections.abc import Mapping
from pathlib import Path

from fixed_anchor.change.access import Rights
from fixed_anchor.change.files import encode
from fixed_anchor.core.errors import AnchorError, NoAccess
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.daemons.protocol import COPY
from fixed_anchor.machines.fetched import Fetched, one_by_one
from fixed_anchor.machines.files import DiskFiles
from fixed_anchor.machines.readable import Ran, Wanted
from fixed_anchor.machines.session import OwnSession
from fixed_anchor.vantages import vantage_on
from fixed_anchor.vantages.protocol import Vantage

_log = logging.getLogger(__name__)

STATE_DIR = "/var/lib/fixed-anchor"
_PATH = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"


def _below(folder: str, word: str) -> str:
    return folder + word.removeprefix(COPY) if word.startswith(COPY) else word


class Here(DiskFiles):
    """The machine that the tool runs on."""

    running = True

    def __init__(self, state_dir: str = STATE_DIR) -> None:
        super().__init__(Path("/"))
        self.name = socket.gethostname()
        self.session = OwnSession()
        self.state_dir = state_dir

    def fetch(self, wanted: Wanted) -> Fetched:
        return one_by_one(self, wanted)

    def vantage(self, interface: SurveyedInterface) -> Vantage:
        """A raw socket, or without root the kernel's neighbour table."""
        return vantage_on("raw-socket" if os.geteuid() == 0 else "neighbour-table", interface)

    @property
    def is_afar(self) -> bool:
        return False

    @property
    def rights(self) -> Rights:
        return Rights(
            () if self.state_dir == STATE_DIR else ("--state-dir", self.state_dir),
            has_shell=True,
            refusal=self._why_no_change(),
        )

    def _why_no_change(self) -> AnchorError | None:
        if os.geteuid() == 0:
            return None
        return NoAccess("changing this machine needs root", remedy="run it with sudo; nothing was changed")

    def uptime(self) -> float:
        """Seconds since the boot, proc_uptime(5)."""
        return float(Path("/proc/uptime").read_text().split()[0])

    def run(self, argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        ran = self._run(argv, timeout)
        _log.info("%s: status %s", shlex.join(argv), ran.status)
        return ran

    def try_out(self, files: Mapping[str, str], argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        with tempfile.TemporaryDirectory(prefix="fixed-anchor-") as folder:
            for path, text in files.items():
                target = Path(folder + path)
                target.parent.mkdir(parents=True, exist_ok=True)
                target.write_bytes(encode(text))
                target.chmod(0o600)
            return self.run(tuple(_below(folder, word) for word in argv), timeout)

    def _run(self, argv: tuple[str, ...], timeout: float) -> Ran:
        environment = {"PATH": _PATH, "LC_ALL": "C"}
        try:
            done = subprocess.run(
                argv,
                env=environment,
                stdin=subprocess.DEVNULL,
                capture_output=True,
                timeout=timeout,
                check=False,
            )
        except FileNotFoundError:
            return Ran(127, "", f"{argv[0]}: not found")
        except PermissionError:
            return Ran(126, "", f"{argv[0]}: no permission")
        except subprocess.TimeoutExpired:
            return Ran(124, "", f"{argv[0]}: no end after {timeout:g} s")
        return Ran(
            done.returncode,
            done.stdout.decode("utf-8", "replace"),
            done.stderr.decode("utf-8", "replace"),
        )
