"""A cutover from within an SSH session that comes in by the very address that goes."""

from __future__ import annotations

import subprocess
import time
from pathlib import Path

import pytest

from tests.lab.conftest import MakeHost
from tests.lab.faults import CHANGE, ends, log, state, wholly_new, wholly_old
from tests.lab.host import MAC, LabHost
from tests.lab.network import Segment, wait_for
from tests.lab.ssh import Admin, Echo, tool_line
from tests.lab.test_matrix import ANOTHER, STACKS, plan

RELEASE = "DHCPRELEASE(br0) "


#: The stacks on which a test runs without ``--whole-matrix``; all of them where it is not named.
SOME = {
    "test_a_kept_address_keeps_the_session": ("networkd", "NetworkManager", "ifupdown"),
    "test_without_grace_the_outcome_is_right_all_the_same": ("netplan-networkd", "ifupdown"),
}


pytestmark = pytest.mark.one_in(6)


def pytest_generate_tests(metafunc: pytest.Metafunc) -> None:
    whole = metafunc.config.getoption("--whole-matrix")
    some = SOME.get(metafunc.function.__name__, tuple(STACKS))
    metafunc.parametrize("stack", list(STACKS) if whole else some)


@pytest.fixture
def host(stack: str, make_host: MakeHost) -> LabHost:
    files, units = STACKS[stack]
    return make_host(files, (*units, "ssh.service"))


def cutover(admin: Admin, *words: str) -> subprocess.Popen[str]:
    line = tool_line("cutover", "/root/plan.yaml", *words)
    argv = admin.argv(admin.host.leased_address(), line)
    return subprocess.Popen(argv, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)


def in_force(host: LabHost) -> None:
    wait_for(f"the change to be in force: {log(host)}", lambda: state(host) == "waiting", 60, 0.05)


def test_with_grace_the_session_lives_until_the_decision(host: LabHost, segment: Segment, tmp_path: Path) -> None:
    admin = Admin(host, segment, tmp_path)
    old = host.leased_address()
    plan(host, f"hold: {ANOTHER}")
    echo = Echo(admin, old)
    tool = cutover(admin, "--confirm-within", "90")
    wait_for(f"the verification: {log(host)}", host.disk(f"{CHANGE}/verdict").exists, 60)
    # From the session on the address that goes, confirming proves nothing.
    refused = admin.tool(old, "confirm")
    assert refused.returncode == 1, refused.stdout + refused.stderr
    assert "the address that goes" in refused.stderr
    assert "--over-old-address" in refused.stderr
    assert f"stays until then: address {old}/32 fixed on eth0" in admin.tool(ANOTHER, "status").stdout
    time.sleep(2)
    print(f"longest wait for an echo until the decision: {echo.longest * 1000:.0f} ms")
    # It lives; how long it is not heard is measured in bench/.
    assert echo.longest < 5
    assert echo.silent_for() < 2
    assert RELEASE not in segment.dhcp_log()
    kept = admin.tool(ANOTHER, "confirm")
    assert kept.returncode == 0, kept.stdout + kept.stderr
    ends(host, "confirmed")
    wait_for("the lease to be given back", lambda: f"{RELEASE}{old} {MAC}" in segment.dhcp_log(), 10)
    wholly_new(host)
    echo.close()
    tool.kill()


def test_a_kept_address_keeps_the_session(host: LabHost, segment: Segment, tmp_path: Path) -> None:
    admin = Admin(host, segment, tmp_path)
    old = host.leased_address()
    plan(host, f"hold: {old}", f"reservations: {{{MAC}: {old}}}")
    echo = Echo(admin, old)
    tool = cutover(admin, "--unattended")
    out, _ = tool.communicate(timeout=120)
    assert tool.returncode == 0, out
    time.sleep(1)
    print(f"longest wait for an echo: {echo.longest * 1000:.0f} ms")
    # It lives; how long it is not heard is measured in bench/.
    assert echo.longest < 5
    assert echo.silent_for() < 2
    echo.close()
    assert RELEASE not in segment.dhcp_log()


def test_without_grace_the_outcome_is_right_all_the_same(host: LabHost, segment: Segment, tmp_path: Path) -> None:
    admin = Admin(host, segment, tmp_path)
    old = host.leased_address()
    plan(host, f"hold: {ANOTHER}")
    before = host.etc_digest()
    echo = Echo(admin, old)
    tool = cutover(admin, "--no-grace", "--confirm-within", "8")
    in_force(host)
    wait_for("the session to be silent", lambda: echo.silent_for() > 2, 10)
    # Nobody can confirm from the lost session: the old address comes back, and with it the session.
    ends(host, "rolled-back")
    wait_for("the session to go on", lambda: echo.silent_for() < 0.5, 60)
    wholly_old(host, before)
    tool.kill()
    tool.wait()

    second = cutover(admin, "--no-grace", "--confirm-within", "60")
    folder = host.disk(CHANGE).with_name("0002")
    wait_for("the verification", (folder / "verdict").exists, 60)
    kept = admin.tool(ANOTHER, "confirm")
    assert kept.returncode == 0, kept.stdout + kept.stderr
    assert (folder / "state").read_text() == "confirmed\n"
    assert host.holds(ANOTHER)
    assert not host.leased()
    assert host.tool("verify", "plan.yaml").returncode == 0
    echo.close()
    second.kill()
