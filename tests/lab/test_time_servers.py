"""The time daemon of each stack follows the servers of the plan by its own word, after a reboot, too."""

from __future__ import annotations

import pytest

from tests.lab.conftest import MakeHost
from tests.lab.host import LabHost
from tests.lab.network import wait_for
from tests.lab.test_matrix import ANOTHER, STACKS, cutover, plan

#: A daemon's unit, and how it is asked.
DAEMONS = {
    "systemd-timesyncd": ("timedatectl", "show-timesync"),
    "chrony": ("chronyc", "-N", "sources", "-a"),
}
SERVERS = ("203.0.113.8", "2001:db8:7e:1::8", "time.ternpoint.example")

EVERY = [(stack, daemon) for stack in STACKS for daemon in DAEMONS]
#: Each stack once, each daemon on some.
COVER = [(stack, list(DAEMONS)[number % 2]) for number, stack in enumerate(STACKS)]


pytestmark = pytest.mark.one_in(5)


def pytest_generate_tests(metafunc: pytest.Metafunc) -> None:
    whole = metafunc.config.getoption("--whole-matrix")
    metafunc.parametrize(("stack", "daemon"), EVERY if whole else COVER)


def follows(host: LabHost, daemon: str) -> set[str]:
    """Which of the planned servers the daemon itself names."""
    said = host(*DAEMONS[daemon], check=False).stdout.replace("=", " ").split()
    return {server for server in SERVERS if server in said}


def test_the_time_daemon_follows_the_plan(stack: str, daemon: str, make_host: MakeHost) -> None:
    files, units = STACKS[stack]
    host = make_host(files, (*units, f"{daemon}.service"))
    assert follows(host, daemon) == set()
    servers = ", ".join(f'"{s}"' for s in SERVERS)
    plan(host, f"hold: {ANOTHER}\n        time_servers: [{servers}]")
    cutover(host)
    assert follows(host, daemon) == set(SERVERS)
    done = host.tool("verify", "plan.yaml")
    assert done.returncode == 0, done.stdout
    assert "time-servers-in-force" in done.stdout
    host.reboot()
    wait_for("its servers after the reboot", lambda: follows(host, daemon) == set(SERVERS), 40)
    done = host.tool("restore", "--unattended")
    assert done.returncode == 0, done.stdout + done.stderr
    wait_for("its own servers again", lambda: follows(host, daemon) == set(), 20)
