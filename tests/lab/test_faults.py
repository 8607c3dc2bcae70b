"""Every fault at every state: the host ends wholly old or wholly new, reachable, and the tool's word is true.

``--whole-matrix`` tries every cell on every stack (some 40 minutes on two processors); without it each
cell is tried on one stack, the stacks taken in turn, and of the states the ones that differ most.
"""

from __future__ import annotations

import itertools
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.lab.conftest import MakeHost
from tests.lab.faults import (
    ANOTHER,
    CHANGE,
    UNIT,
    Halt,
    Running,
    ends,
    engine,
    guard_pid,
    leftovers,
    log,
    stand_before,
    state,
    wholly_new,
    wholly_old,
)
from tests.lab.host import LabHost
from tests.lab.network import Segment, wait_for
from tests.lab.ssh import Admin, tool_line
from tests.lab.test_matrix import EVERY as STACKS

STATES = ("prepared", "leaving", "writing", "activating", "waiting", "committing", "rolling-back")

pytestmark = pytest.mark.one_in(11)

#: What strikes at a state, and the states at which it is tried without ``--whole-matrix``.
STRIKES = {
    "tool-killed": ("leaving", "waiting"),
    "guard-killed": ("activating", "committing", "rolling-back"),
    "power-cut": ("prepared", "writing", "waiting", "committing", "rolling-back"),
    "session-lost": ("activating", "committing"),
}

#: The command by which a stack is told, and one that must be there beforehand.
TELLS = {
    "netplan-networkd": "netplan",
    "netplan-NetworkManager": "netplan",
    "ifupdown": "ip",
    "ifupdown2": "ip",
    "NetworkManager": "nmcli",
    "networkd": "networkctl",
}
FOLDERS = {
    "netplan-networkd": "/etc/netplan",
    "netplan-NetworkManager": "/etc/netplan",
    "ifupdown": "/etc/network",
    "ifupdown2": "/etc/network",
    "NetworkManager": "/etc/NetworkManager/system-connections",
    "networkd": "/etc/systemd/network",
}


def pytest_generate_tests(metafunc: pytest.Metafunc) -> None:
    """Every cell on every stack, or a covering selection of them."""
    whole = metafunc.config.getoption("--whole-matrix")
    if "strike" in metafunc.fixturenames:
        every = [(stack, strike, at) for strike in STRIKES for at in STATES for stack in STACKS]
        turn = itertools.cycle(STACKS)
        some = [(next(turn), strike, at) for strike, states in STRIKES.items() for at in states]
        metafunc.parametrize(("stack", "strike", "at"), every if whole else some)
    elif "stack" in metafunc.fixturenames and "phase" not in metafunc.fixturenames:
        first = sum(map(ord, metafunc.function.__name__)) % len(STACKS)
        metafunc.parametrize("stack", list(STACKS) if whole else [list(STACKS)[first]])


@pytest.fixture
def host(stack: str, make_host: MakeHost, request: pytest.FixtureRequest) -> Iterator[LabHost]:
    files, units = STACKS[stack]
    made = make_host(files, (*units, "ssh.service") if "strike" in request.fixturenames else units)
    yield made
    # A cell that failed may have left something waiting.
    made.disk("/fault/state").unlink(missing_ok=True)


def test_struck(host: LabHost, segment: Segment, tmp_path: Path, strike: str, at: str) -> None:
    """Killed tool, killed guard, cut power, lost session: at the state ``at``, the old address held as well."""
    admin = Admin(host, segment, tmp_path) if strike == "session-lost" else None
    halt = Halt(host, at)
    words = ["--grace", *(["--unattended"] if at == "committing" else [])]
    if admin is None:
        running = Running(host, *words, seconds=5 if at == "rolling-back" else 20)
    else:
        line = tool_line(
            "cutover", "/root/plan.yaml", "--confirm-within", "5" if at == "rolling-back" else "20", *words
        )
        running = Running(host, argv=admin.argv(host.leased_address(), line))
    halt.reached()
    if strike == "tool-killed":
        running.kill()
    elif strike == "guard-killed":
        host.disk("/fault/state").unlink()
        host("kill", "-9", guard_pid(host))
    elif strike == "session-lost":
        sessions = [line.split()[0] for line in host("loginctl", "list-sessions", "--no-legend").stdout.splitlines()]
        assert sessions, "there is no session to lose"
        for session in sessions:
            host("loginctl", "terminate-session", session)
        running.process.wait(20)
    else:
        host.cut_power()
        running.process.wait(20)
        halt.release()
        host.boot()
    halt.release()
    end = ends(host, "confirmed", "rolled-back")
    assert end == ("confirmed" if at == "committing" else "rolled-back"), log(host)
    if strike == "guard-killed":
        assert running.ended() == (0 if end == "confirmed" else 3), running.said()
    if end == "confirmed":
        wholly_new(host)
    else:
        wholly_old(host, running.before)


def test_a_missing_command(host: LabHost, stack: str) -> None:
    gone = "dhclient" if stack.startswith("ifupdown") else TELLS[stack]
    for folder in ("/usr/sbin", "/usr/bin"):
        host.disk(f"{folder}/{gone}").unlink(missing_ok=True)
    running = Running(host, "--unattended")
    assert running.ended() == 1, running.said()
    assert f"the command {gone} is not there; nothing was changed" in running.said()
    assert host.etc_digest() == running.before
    assert host.leased()
    assert "no change is open" in host.tool("status").stdout


#: What a command does instead of its work, and what the reason says of it.
FAILS = {
    "fails": (r"echo first words; printf 'last \033[31mwords\007\n' >&2; exit 1", "it said: first words; last words"),
    "raves": ("yes rave | head -c 10000000; echo no more of that >&2; exit 1", "no more of that"),
    "says nothing": ("exit 1", "a command ended with status 1"),
    "hangs": ("echo still at it; exec sleep 600", "a command did not end within 60 s"),
}


@pytest.mark.parametrize("how", FAILS)
def test_an_activation_command(host: LabHost, stack: str, how: str) -> None:
    """It is told with its own last words: in what is printed, by the status, and in the history."""
    action, words = FAILS[how]
    stand_before(host, TELLS[stack], "activating", action)
    running = Running(host, "--unattended", "--grace")
    assert running.ended() == 3, running.said() + log(host)
    ends(host, "rolled-back")
    wholly_old(host, running.before)
    for said in (running.said(), host.tool("status").stdout, host.tool("history").stdout):
        assert words in " ".join(said.split()), said
        assert "\x1b" not in said
        assert len(said) < 20_000
    if how == "hangs":
        assert "still at it" in running.said()


#: A command of a phase, by stack: who leaves while the old files are there are those of ifupdown alone.
PHASES = {
    "leaving": {"ifupdown": "dhclient", "ifupdown2": "dhclient"},
    "committing": TELLS | {"ifupdown2": "ip"},
    "rolling-back": TELLS | {"ifupdown": "ifup", "ifupdown2": "ifup"},
}
#: What is tried in every run; the others behind the flag.
_IN_COVER = (("leaving", "ifupdown"), ("committing", "networkd"), ("rolling-back", "netplan-NetworkManager"))
_PHASE_ROWS = [
    pytest.param(
        *(stack, phase, how),
        id=f"{stack}-{phase}-{how}",
        marks=() if how == "fails" and (phase, stack) in _IN_COVER else pytest.mark.beyond_cover,
    )
    for phase, by_stack in PHASES.items()
    for stack in STACKS
    if stack in by_stack
    for how in FAILS
]


@pytest.mark.parametrize(("stack", "phase", "how"), _PHASE_ROWS)
def test_a_command_of_another_phase(host: LabHost, stack: str, phase: str, how: str) -> None:
    """It is told with its own last words; what is kept is not said to be whole, and what is back is really back."""
    action, words = FAILS[how]
    if how == "hangs":
        # Once: a phase has many calls, and waits for each as long as it may take.
        action = f"if mkdir /run/hung 2>/dev/null; then {action}; fi"
    stand_before(host, PHASES[phase][stack], phase, action)
    # A machine at work on other things takes its time to look; where the deadline ends it, it is soon.
    words_of, seconds = ([], 5) if phase == "rolling-back" else (["--unattended"], 30)
    running = Running(host, "--grace", *words_of, seconds=seconds)
    status = running.ended()
    end = ends(host, "confirmed", "rolled-back", "stuck")
    said = " ".join(running.said().split())
    # One that says nothing, or was ended: 1, 137, 143.
    in_log = words if "said" in words or "rave" in how else "step ended: status 1"
    written = " ".join(log(host).split())
    # What hangs may be a question of the engine, which then asks once more.
    assert in_log in written or (how == "hangs" and "no answer within 10 s (try 1 of 2)" in written), written
    assert "\x1b" not in said
    assert len(said) < 20_000
    if phase == "leaving":
        assert (status, end) == (3, "rolled-back")
        assert words in said
        wholly_old(host, running.before)
    elif phase == "committing":
        assert end == "confirmed"
    elif end == "rolled-back":
        wholly_old(host, running.before)
    else:
        assert status == 5
        assert words in said


def _small_disk(host: LabHost, stack: str) -> None:
    """The stack's files and the changes on one small disk of their own."""
    host("mkdir", "-p", "/mnt/small", "/var/lib/fixed-anchor", FOLDERS[stack])
    host("mount", "-t", "tmpfs", "-o", "size=6m,mode=755", "tmpfs", "/mnt/small")
    for number, folder in enumerate((FOLDERS[stack], "/var/lib/fixed-anchor")):
        host("cp", "-a", folder, f"/mnt/small/{number}")
        host("mount", "--bind", f"/mnt/small/{number}", folder)
    # It stands for a disk: a state folder in memory would be refused.
    host.write(
        "/usr/local/sbin/stat",
        '#!/bin/sh\ncase $* in "-f -c %T "*) echo ext2/ext3 ;; *) exec /usr/bin/stat "$@" ;; esac\n',
        0o755,
    )


FILL = "dd if=/dev/zero of=/mnt/small/fill bs=4k 2>/dev/null; sync"


def test_a_disk_that_fills_while_the_copies_are_saved(host: LabHost, stack: str) -> None:
    if stack == "NetworkManager":
        pytest.skip("the profile there is created: there is no file of which a copy is saved")
    _small_disk(host, stack)
    stand_before(host, "cp", "", FILL)
    running = Running(host, "--unattended")
    assert running.ended() == 1, running.said()
    assert "nothing was changed" in running.said()
    host("rm", "/mnt/small/fill")
    assert host.etc_digest() == running.before
    assert host.leased()
    assert "no change is open" in host.tool("status").stdout


def test_a_disk_that_fills_while_the_files_are_written(host: LabHost, stack: str) -> None:
    _small_disk(host, stack)
    halt = Halt(host, "writing")
    running = Running(host, "--unattended", "--grace")
    halt.reached()
    host("sh", "-c", FILL)
    halt.release()
    assert running.ended() == 3, running.said()
    host("rm", "/mnt/small/fill")
    wait_for("the end", lambda: not host("sh", "-c", f"ls {UNIT}", check=False).stdout, 20)
    assert host("cat", f"{CHANGE}/state").stdout == "rolled-back\n"
    assert host.etc_digest() == running.before
    assert host("find", "/etc", "-name", ".fixed-anchor*").stdout == ""
    assert host.leased()


def test_a_folder_that_is_read_only(host: LabHost, stack: str) -> None:
    folder = FOLDERS[stack]
    host("mkdir", "-p", folder)
    host("mount", "--bind", folder, folder)
    host("mount", "-o", "remount,bind,ro", folder)
    running = Running(host, "--unattended")
    assert running.ended() == 4, running.said()
    assert "nothing was changed" in running.said()
    assert host.etc_digest() == running.before
    assert host.leased()


def test_a_folder_that_becomes_read_only(host: LabHost, stack: str) -> None:
    """What cannot be written any more is as it was; the second name of a file may have to stay."""
    folder = FOLDERS[stack]
    host("mount", "--bind", folder, folder)
    halt = Halt(host, "writing")
    running = Running(host, "--unattended", "--grace")
    halt.reached()
    host("mount", "-o", "remount,bind,ro", folder)
    halt.release()
    assert running.ended() == 3, running.said() + log(host)
    host("mount", "-o", "remount,bind,rw", folder)
    for path in leftovers(host):
        assert "could not be removed" in log(host)
        host("rm", path)
    wholly_old(host, running.before)


def test_the_gateway_goes_for_a_while(host: LabHost, segment: Segment) -> None:
    halt = Halt(host, "waiting")
    running = Running(host, "--unattended", "--grace", seconds=60)
    halt.reached()
    segment.lose(segment.router)
    host("ip", "neigh", "flush", "dev", "eth0")
    halt.release()
    wait_for("the way back", lambda: state(host) == "rolling-back", 60)
    time.sleep(3)
    segment.regain(segment.router)
    assert running.ended() == 3, running.said() + log(host)
    wholly_old(host, running.before)


def test_the_gateway_goes_for_good(host: LabHost, segment: Segment) -> None:
    """Putting back cannot bring it; the host is as before all the same, and what is missing is said."""
    halt = Halt(host, "waiting")
    running = Running(host, "--unattended", seconds=60)
    halt.reached()
    segment.lose(segment.router)
    host("ip", "neigh", "flush", "dev", "eth0")
    halt.release()
    assert running.ended() == 5, running.said() + log(host)
    assert state(host) == "stuck"
    assert "everything is as it was, only the gateway, which answered before, does not" in log(host)
    assert host.leased()
    assert not host.holds(ANOTHER)
    assert host.tool("status").returncode == 5
    segment.regain(segment.router)
    again = host.tool("restore", "1")
    assert again.returncode == 0, again.stdout + again.stderr
    ends(host, "rolled-back")
    wholly_old(host, running.before)


def test_the_resolver_goes(host: LabHost, segment: Segment) -> None:
    halt = Halt(host, "waiting")
    running = Running(host, "--unattended", "--grace", seconds=60)
    halt.reached()
    segment.lose("203.0.113.2")
    halt.release()
    assert running.ended() == 3, running.said()
    assert "not as planned" in running.said()
    segment.regain("203.0.113.2")
    wholly_old(host, running.before)


def test_a_neighbour_takes_the_address_after_the_check(host: LabHost, segment: Segment) -> None:
    halt = Halt(host, "prepared")
    running = Running(host, "--unattended", "--grace", seconds=60)
    halt.reached()
    segment.neighbour(ANOTHER, "00:00:5e:00:53:5a", echo=False)
    halt.release()
    assert running.ended() == 3, running.said()
    assert "00:00:5e:00:53:5a" in running.said()
    ends(host, "rolled-back")
    assert host.etc_digest() == running.before
    assert host.leased()
    assert not host.holds(ANOTHER)


@pytest.mark.parametrize("shift", ["+1 day", "-1 day"])
def test_the_clock_is_set(host: LabHost, shift: str) -> None:
    """Neither earlier nor later: the deadline counts the time since boot."""
    stand_before(host, "date", "waiting", f"exec /bin/date -d '{shift}' \"$@\"")
    running = Running(host, seconds=15)
    # The last look before it waited: on a busy machine that it waits is seen late.
    looks = [time.monotonic()]

    def waits() -> bool:
        looks.append(time.monotonic())
        return state(host) == "waiting"

    wait_for("the change to be in force", waits, 60, 0.05)
    wait_for("the end of the wait", lambda: state(host) != "waiting", 30, 0.05)
    # Whole seconds, counted up: promised are 15, and not one less.
    assert time.monotonic() - looks[-2] > 14.5
    assert running.ended() == 3, running.said()
    wholly_old(host, running.before)


@pytest.mark.parametrize("decision", ["roll-back", "confirm"])
def test_the_file_is_edited_during_the_wait(host: LabHost, decision: str) -> None:
    running = Running(host, "--grace", seconds=300)
    wait_for("the verification", host.disk(f"{CHANGE}/verdict").exists, 60)
    edited = host.read(f"{CHANGE}/manifest").splitlines()[0].split(" ", 5)[5]
    host.write(edited, host.read(edited) + "# by hand\n", host.disk(edited).stat().st_mode & 0o777)
    assert engine(host, decision).returncode == 0
    running.ended()
    assert f"edited by hand since: {edited}" in log(host)
    assert "# by hand" in host("sh", "-c", f"cat {CHANGE}/found/*").stdout
    if decision == "confirm":
        wholly_new(host)
    else:
        wholly_old(host, running.before)


@pytest.mark.parametrize("left", [1, 0], ids=["last-second", "at-once"])
def test_confirmed_at_the_end(host: LabHost, left: int) -> None:
    """Whoever is first decides, once; the other is told."""
    running = Running(host, "--grace", seconds=25)
    wait_for("the verification", host.disk(f"{CHANGE}/verdict").exists, 60)
    until = int(host.read(f"{CHANGE}/deadline")) - left

    def now() -> float:
        return float(host("cat", "/proc/uptime").stdout.split()[0])

    wait_for("the end", lambda: now() >= until - 0.1, 60, 0.01)
    done = engine(host, "confirm")
    end = ends(host, "confirmed", "rolled-back")
    assert (done.returncode, end) in ((0, "confirmed"), (7, "rolled-back")), done.stderr
    assert running.ended() == (0 if end == "confirmed" else 3), running.said()
    if end == "confirmed":
        wholly_new(host)
    else:
        wholly_old(host, running.before)
