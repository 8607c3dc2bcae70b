"""This machine."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

from fixed_anchor.machines.files import DiskFiles
from fixed_anchor.machines.protocol import Ran

_PATH = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"


class Here(DiskFiles):
    """The machine that the tool runs on."""

    running = True

    def __init__(self, state_dir: str = "/var/lib/fixed-anchor") -> None:
        super().__init__(Path("/"))
        self.name = os.uname().nodename
        self.state_dir = state_dir

    def run(self, argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
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
