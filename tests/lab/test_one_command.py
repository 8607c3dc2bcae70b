"""One real host in one command, without a plan file: each stack, from a script and at a terminal."""

from __future__ import annotations

import json

import pexpect
import pytest

from tests.lab.conftest import MakeHost
from tests.lab.host import LabHost
from tests.lab.network import wait_for
from tests.lab.test_matrix import EVERY

pytestmark = pytest.mark.one_in(7)

POOL = ("--pool", "203.0.113.100-203.0.113.199")


@pytest.fixture(params=EVERY)
def host(request: pytest.FixtureRequest, make_host: MakeHost) -> LabHost:
    files, units = EVERY[request.param]
    return make_host(files, units)


def is_fixed(host: LabHost, address: str) -> None:
    assert host.holds(address)
    assert not host.leased()
    assert "via 203.0.113.1" in host.gateway()
    # Not by its short name: networkd takes no search domain of a lease, so there is none to keep.
    wait_for("names", lambda: host.resolves("gull.ternpoint.example"), 15)


def goes_back(host: LabHost) -> None:
    """The host that converted itself has kept the plan, and goes back without it."""
    kept = json.loads(host.read("/var/lib/fixed-anchor/changes/0001/about.json"))
    assert kept["plan_text"].startswith("plan: 1\n")
    host.disk("/root/.local/state/fixed-anchor/plans").rename(host.disk("/root/moved"))
    back = host.tool("restore")
    assert back.returncode == 0, back.stdout + back.stderr
    wait_for("the lease", host.leased, 60)


def test_an_address_from_a_script(host: LabHost) -> None:
    before = host.etc_digest()
    refused = host.tool("cutover", "--at", "203.0.113.20", *POOL)
    assert refused.returncode == 2
    assert "say --yes" in refused.stderr
    assert host.etc_digest() == before
    done = host.tool("cutover", "--at", "203.0.113.20", *POOL, "--yes", "--unattended")
    assert done.returncode == 0, done.stdout + done.stderr
    is_fixed(host, "203.0.113.20")
    goes_back(host)


def test_the_leased_address_from_a_script(host: LabHost) -> None:
    leased, before = host.leased_address(), host.etc_digest()
    words = ("cutover", "--keep", *POOL, "--yes", "--unattended")
    refused = host.tool(*words)
    assert refused.returncode == 1
    assert "lease-not-reserved" in refused.stdout
    assert host.etc_digest() == before
    done = host.tool(*words, "--accept", "lease-not-reserved", "--because", "reserved on the server by hand")
    assert done.returncode == 0, done.stdout + done.stderr
    is_fixed(host, leased)
    goes_back(host)


def test_a_picked_address_at_a_terminal(host: LabHost) -> None:
    before = host.etc_digest()
    argv = host.tool_argv("cutover", "--pick", "--unattended")
    for answer in ("n", "y"):
        seat = pexpect.spawn(argv[0], argv[1:], encoding="utf-8", timeout=180, codec_errors="replace")
        seat.setwinsize(60, 160)
        seat.expect("DHCP pools")
        seat.sendline("203.0.113.100-203.0.113.199")
        seat.expect("Begin the change of eth0")
        seat.sendline(answer)
        seat.expect(pexpect.EOF)
        seat.close()
        if answer == "n":
            assert "nothing was changed" in seat.before
            assert host.etc_digest() == before
            assert not host.disk("/var/lib/fixed-anchor/changes/0001").exists()
    assert seat.exitstatus == 0, seat.before
    assert "confirmed" in seat.before
    plan = json.loads(host.read("/var/lib/fixed-anchor/changes/0001/about.json"))["plan_text"]
    address = plan.rpartition("hold: [")[2].partition("]")[0]
    is_fixed(host, address)
    goes_back(host)
