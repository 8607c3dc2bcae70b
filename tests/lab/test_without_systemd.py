"""Hosts that System V init or OpenRC boots: no systemd, so a guard in a session of its own, and a boot script."""

from __future__ import annotations

import pytest

from tests.lab.conftest import MakeHost
from tests.lab.faults import ANOTHER, Halt, Running, ends, guard_pid, log, wholly_new, wholly_old
from tests.lab.host import LabHost
from tests.lab.test_matrix import INTERFACES

SCRIPT = "/etc/init.d/fixed-anchor-roll-back-0001"


pytestmark = pytest.mark.one_in(6)


@pytest.fixture
def host(make_host: MakeHost, request: pytest.FixtureRequest) -> LabHost:
    boots = getattr(request, "param", "sysv")
    made = make_host({"/etc/network/interfaces": INTERFACES}, (), boots=boots)
    if boots == "sysv":
        # Whatever the installation left: once more, so that the same again makes the same files.
        made("insserv")
    return made


CUTS = [("sysv", at) for at in ("writing", "waiting", "committing", "rolling-back")]


@pytest.mark.parametrize(("host", "at"), [*CUTS, ("openrc", "waiting"), ("openrc", "committing")], indirect=["host"])
def test_a_power_cut(host: LabHost, at: str) -> None:
    halt = Halt(host, at)
    running = Running(
        host, *(["--unattended"] if at == "committing" else []), seconds=5 if at == "rolling-back" else 60
    )
    halt.reached()
    assert host.disk(SCRIPT).exists(), log(host)
    host.cut_power()
    running.process.wait(20)
    halt.release()
    host.boot()
    end = ends(host, "confirmed", "rolled-back")
    assert not host.disk(SCRIPT).exists()
    assert [p for d in ("rc*.d", "runlevels/*") for p in host.disk("/etc").glob(f"{d}/*fixed-anchor*")] == []
    if at == "committing":
        assert end == "confirmed"
        wholly_new(host)
    else:
        assert end == "rolled-back"
        wholly_old(host, running.before)


def test_a_killed_guard(host: LabHost) -> None:
    halt = Halt(host, "activating")
    running = Running(host, "--unattended", "--grace")
    halt.reached()
    host("kill", "-9", guard_pid(host))
    host.disk("/fault/state").unlink()
    ends(host, "rolled-back")
    assert running.ended() == 3, running.said()
    assert "guard: a session of its own" in log(host)
    wholly_old(host, running.before)


def test_confirmed_and_still_so_after_a_boot(host: LabHost) -> None:
    running = Running(host, "--unattended", "--grace")
    assert running.ended() == 0, running.said() + log(host)
    wholly_new(host)
    assert not host.disk(SCRIPT).exists()
    host.cut_power()
    host.boot()
    assert host.holds(ANOTHER)
    wholly_new(host)
