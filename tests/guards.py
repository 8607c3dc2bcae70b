"""Changes with a real guard: hurried, killed, on a disk of their own."""

from __future__ import annotations

import os
import re
import signal
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest

from fixed_anchor.workflow.linux.linux_host import LinuxHost
from tests.changes import NEW, OLD, Scene
from tests.disks import mounted
from tests.machines import OnDisk

EDIT = {"a": (OLD, NEW)}

needs_mount = pytest.mark.skipif(os.geteuid() != 0, reason="mounts a file system and makes it read-only: needs root")


def target_of(scene: Scene) -> LinuxHost:
    """The scene as a target of changes; its engines run under the shell of the machine."""
    return LinuxHost(OnDisk(Path("/"), str(scene.changes.parent), scene.environment))


def tuned(change: Path, **limits: int) -> Path:
    """The change with other limits in its engine."""
    engine = change / "engine.sh"
    text = engine.read_text()
    for name, value in limits.items():
        text, count = re.subn(rf"\b{name}=\d+", f"{name}={value}", text)
        assert count == 1, name
    engine.write_text(text)
    return change


def command(scene: Scene, name: str, text: str) -> None:
    """Puts a command of the test's own before that of the machine."""
    (scene.root / "bin" / name).write_text(f"#!/bin/sh\n{text}\n")
    (scene.root / "bin" / name).chmod(0o755)


def guard_of(change: Path) -> int:
    return int((change / "heartbeat").read_text().split()[0])


def kill_guard(change: Path) -> None:
    """The guard and what would begin it again."""
    pid = guard_of(change)
    above = int(Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[1])
    if f"supervise\0{change}" in Path(f"/proc/{above}/cmdline").read_text():
        os.kill(above, signal.SIGKILL)
    os.kill(pid, signal.SIGKILL)
    with suppress(FileNotFoundError, ProcessLookupError):
        while "Z" not in Path(f"/proc/{pid}/stat").read_text().split()[2]:
            time.sleep(0.02)


def waiting(scene: Scene, change: Path) -> Path:
    assert scene.verb("start", change).returncode == 0
    scene.wait(change, "waiting")
    return change


def kill_guard_if_any(change: Path) -> None:
    until = time.monotonic() + 120
    while Path(f"/proc/{guard_of(change)}").exists():
        assert time.monotonic() < until
        time.sleep(0.05)


@contextmanager
def small_disk(folder: Path) -> Iterator[None]:
    """A file system of its own at ``folder``, with the same file in it."""
    text = (folder / "a").read_text()
    with mounted(folder):
        (folder / "a").write_text(text)
        yield
