"""What a seat starts on a host ends by itself when nothing is heard from the seat any more."""

from __future__ import annotations

import os
import shutil
import subprocess
import time
from importlib import resources
from pathlib import Path

import pytest

from fixed_anchor.machines import reach_by
from fixed_anchor.machines.seat import Seat
from fixed_anchor.machines.ssh import session, shell_end
from fixed_anchor.machines.ssh.errand import Errand
from fixed_anchor.machines.ssh.machine import SshMachine
from fixed_anchor.vantages.relay import program
from tests.powershell import PWSH
from tests.test_over_ssh import bin_folder, ordinary  # noqa: F401

SHELLS = [shell for shell in ("dash", "bash", "busybox sh") if shutil.which(shell.split()[0])]
MARK = "@0123456789"


def errand_text(seconds: int) -> str:
    """The errand, with another patience."""
    text = resources.files("fixed_anchor.machines.ssh").joinpath("errand.sh").read_text("utf-8")
    assert "\nidle=300\n" in text
    return text.replace("\nidle=300\n", f"\nidle={seconds}\n")


def started(shell: str, seconds: int) -> subprocess.Popen[bytes]:
    argv = [*shell.split(), "-c", errand_text(seconds), "fixed-anchor", MARK, "", ""]
    return subprocess.Popen(argv, stdin=subprocess.PIPE, stdout=subprocess.PIPE, start_new_session=True)


def left_of(group: int) -> list[str]:
    """The processes of a group that still run."""
    out = subprocess.run(["ps", "-eo", "pgid=,stat=,args="], capture_output=True, text=True, check=True).stdout
    rows = [line.split(None, 2) for line in out.splitlines()]
    return [row[2] for row in rows if row[0] == str(group) and not row[1].startswith("Z")]


@pytest.mark.parametrize("shell", SHELLS)
def test_a_session_that_hears_nothing_ends(shell: str) -> None:
    process = started(shell, 1)
    assert process.stdin is not None
    # For as long as it is asked something it goes on.
    for number in range(4):
        process.stdin.write(Errand().encode(number))
        process.stdin.flush()
        time.sleep(0.6)
        assert process.poll() is None
    process.wait(20)
    assert left_of(process.pid) == []


@pytest.mark.parametrize("shell", SHELLS)
def test_a_session_that_is_closed_leaves_nothing_behind(shell: str) -> None:
    process = started(shell, 300)
    process.communicate(Errand().encode(1), timeout=20)
    until = time.monotonic() + 10
    while left_of(process.pid) and time.monotonic() < until:
        time.sleep(0.1)
    assert left_of(process.pid) == []


@pytest.mark.parametrize("shell", SHELLS)
def test_what_watches_a_session_ends_with_it(shell: str) -> None:
    """A shell that is killed leaves its number to somebody else, whom nobody may end for it."""
    process = started(shell, 7)
    process.stdin.write(Errand().encode(1))  # type: ignore[union-attr]
    process.stdin.flush()  # type: ignore[union-attr]
    time.sleep(1.0)
    assert left_of(process.pid)
    process.kill()
    process.wait(10)
    until = time.monotonic() + 15
    while left_of(process.pid) and time.monotonic() < until:
        time.sleep(0.1)
    assert left_of(process.pid) == []
    # It ended before its time, so that it can have ended nobody.
    assert time.monotonic() < until - 8


@pytest.mark.parametrize("shell", SHELLS)
def test_a_command_takes_longer_than_that(shell: str) -> None:
    process = started(shell, 1)
    errand = Errand()
    errand.run(("sleep", "2.5"), 10.0)
    assert process.stdin is not None
    process.stdin.write(errand.encode(1))
    process.stdin.flush()
    time.sleep(2.0)
    assert process.poll() is None
    assert process.stdout is not None
    assert any(b"reply 1" in line for line in process.stdout)
    process.wait(20)
    assert left_of(process.pid) == []


def test_a_session_with_a_password_ends_too(
    ordinary: Path,  # noqa: F811
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """There another program reads what comes, and hands it on to the errand of root."""
    monkeypatch.setenv("SUDO", "password")
    monkeypatch.setattr("fixed_anchor.machines.ssh.session.opening", _hasty)
    seat = Seat(lambda host, refused: "gull's \\cry")
    machine = reach_by("ssh:tide-db", Path("."), seat)
    assert isinstance(machine, SshMachine)
    assert machine.run(("id", "-u")).out == "0\n"
    there = machine.session.open().opened()
    assert isinstance(there, session.ShellSession)
    process = there.channel._process
    process.wait(20)
    # It is asked anew, and answers.
    assert machine.glob("/etc/hostnam[e]") in ([], ["/etc/hostname"])
    seat.close()


def _hasty(mark: str) -> bytes:
    from fixed_anchor.machines.ssh import errand

    source = (ordinary_source(), "idle=300", "idle=1")
    return errand.opening(mark).replace(b"\nidle=300\n", b"\nidle=1\n").replace(b"mark=$1", source[0].encode(), 1)


def ordinary_source() -> str:
    """What the fixture puts before the errand: the programs of the test come first."""
    return f"PATH={os.environ['PATH'].split(':')[0]}:$PATH; mark=$1"


def test_a_session_that_was_not_used_is_made_anew(
    bin_folder: Path,  # noqa: F811
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    seat = Seat()
    machine = reach_by("ssh:tide-db", Path("."), seat)
    assert isinstance(machine, SshMachine)
    machine.read("/etc/hostname")
    first = machine.session.open().opened()
    machine.read("/etc/hostname")
    assert machine.session.open().opened() is first
    monkeypatch.setattr(shell_end, "IDLE", -1.0)
    machine.read("/etc/hostname")
    monkeypatch.undo()
    assert first.channel._process.poll() is not None
    seat.close()


def test_the_relay_that_hears_nothing_ends() -> None:
    text = program().replace("IDLE = 300.0", "IDLE = 1.0")
    assert text != program()
    process = subprocess.Popen(["python3", "-I", "-S", "-c", text, MARK], stdin=subprocess.PIPE, stdout=subprocess.PIPE)
    assert process.wait(20) == 0


@pytest.mark.skipif(PWSH is None, reason="there is no PowerShell (pwsh) on PATH")
def test_a_session_of_powershell_that_hears_nothing_ends() -> None:
    text = resources.files("fixed_anchor.machines.ssh").joinpath("bootstrap.ps1").read_text("ascii")
    assert "Wait(300000)" in text
    assert PWSH is not None
    process = subprocess.Popen(
        [PWSH, "-NoLogo", "-NoProfile", "-NonInteractive", "-Command", text.replace("300000", "1500")],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
    )
    process.wait(60)
