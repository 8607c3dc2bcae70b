"""One whole conversion on a real host, and what may go wrong with it."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time

import pytest

from tests.documents import addresses, findings, only
from tests.lab.host import MAC, LabHost
from tests.lab.network import Segment, run, wait_for

POOL = ("--pool", "203.0.113.100-203.0.113.199")
WANTED = "203.0.113.20"
PLAN_FILE = "/etc/netplan/50-tide.yaml"


pytestmark = pytest.mark.one_in(6)


def propose(host: LabHost, *words: str) -> None:
    done = host.tool("propose", *words, "-o", "plan.yaml", "--replace")
    assert done.returncode == 0, done.stderr
    # systemd-networkd does not use the lease's domain by default, so the survey has none to propose.
    plan = host.read("/root/plan.yaml")
    assert "search" not in plan
    host.write("/root/plan.yaml", plan.replace("    gateway:", "    search: [ternpoint.example]\n    gateway:"))


def test_from_lease_to_reboot_and_back(host: LabHost, segment: Segment) -> None:
    survey = only(host.tool("survey", "--json").stdout)
    eth0 = next(i for i in survey["interfaces"] if i["interface"] == "eth0")
    assert survey["stack"] == "netplan"
    assert [a["origin"] for a in eth0["addresses"] if ":" not in a["address"]] == ["dhcp"]
    assert eth0["gateways"] == [segment.router]
    assert eth0["resolvers"] == ["203.0.113.2"]
    # systemd-networkd does not use the lease's domain by default: what is said is what is in force.
    assert eth0["search"] == []
    assert eth0["lease"]["server"] == segment.router
    assert {5, 6} <= {place["line"] for place in eth0["declared_in"] if place["file"] == PLAN_FILE}

    propose(host, "--at", WANTED)
    assert f"mac: {MAC}" in host.read("/root/plan.yaml")
    undetermined = host.tool("check", "plan.yaml")
    assert undetermined.returncode == 6, undetermined.stdout
    assert "pool-unknown" in undetermined.stdout
    assert "--pool FIRST-LAST" in undetermined.stdout
    clear = host.tool("check", "plan.yaml", *POOL, "--json")
    assert clear.returncode == 0, clear.stdout
    document = json.loads(clear.stdout)
    assert document["verdict"] == "clear"
    evidence = {e["source"]: e["said"] for e in addresses(document)[0]["asked"]}
    assert "outside the pool" in evidence["DHCP pools"]
    assert "no answer" in evidence["raw socket on eth0"]

    before = host.read(PLAN_FILE)
    drafted = json.loads(host.tool("draft", "plan.yaml", "--json").stdout)["hosts"][0]["files"]
    assert [f["file"] for f in drafted] == [PLAN_FILE]
    kept = [line for line in before.splitlines() if "dhcp4" not in line]
    assert [line for line in drafted[0]["after"].splitlines() if line in kept] == kept
    assert host.read(PLAN_FILE) == before

    done = host.tool("cutover", "plan.yaml", *POOL, "--unattended")
    assert done.returncode == 0, done.stdout + done.stderr
    renewals = segment.dhcp_log().count("DHCPREQUEST")

    def in_force() -> None:
        assert host.holds(WANTED)
        assert not host.leased(), host.addresses()
        assert f"via {segment.router}" in host.gateway()
        assert host.gateway().count("default") == 1
        assert host.resolves("gull.ternpoint.example")
        assert host.resolves("gull")
        assert host.answers(WANTED)
        assert host.tool("verify", "plan.yaml").returncode == 0
        assert oct(host.disk(PLAN_FILE).stat().st_mode & 0o777) == "0o600"

    in_force()
    assert not host.disk("/etc/systemd/system/fixed-anchor-roll-back-0001.service").exists()
    host.reboot()
    wait_for("the address after the reboot", lambda: host.holds(WANTED))
    wait_for("the resolver after the reboot", lambda: host.resolves("gull"))
    in_force()
    # The lease runs for two minutes: a client would have asked for it again by half of that.
    time.sleep(1)
    assert segment.dhcp_log().count("DHCPREQUEST") == renewals

    # The lab's own folders are private to root, and so is what a change keeps.
    assert oct(host.disk("/var/lib/fixed-anchor/changes/0001").stat().st_mode & 0o777) == "0o700"

    back = host.tool("restore", "--unattended")
    assert back.returncode == 0, back.stdout + back.stderr
    assert host.leased()
    assert not host.holds(WANTED)
    assert host.read(PLAN_FILE) == before
    assert host.resolves("gull.ternpoint.example")


def test_an_address_somebody_holds_is_refused(host: LabHost, segment: Segment) -> None:
    """The holder drops pings; only ARP finds it. Nothing on the host is touched."""
    silent = "00:00:5e:00:53:5a"
    segment.neighbour(WANTED, silent, echo=False)
    assert not host.answers(WANTED)
    propose(host, "--at", WANTED)
    digest = host.etc_digest()
    for words in (("check", "plan.yaml", *POOL), ("cutover", "plan.yaml", *POOL, "--unattended")):
        done = host.tool(*words)
        assert done.returncode == 1, done.stdout
        assert "answers-on-wire" in done.stdout
        assert silent in done.stdout
    assert host.etc_digest() == digest
    assert host.leased()

    # Today's own address is not free either, as long as the DHCP server is not told.
    propose(host, "--keep")
    done = host.tool("check", "plan.yaml", *POOL, "--json")
    assert done.returncode == 1
    assert [f["code"] for f in findings(done.stdout)] == ["lease-not-reserved"]
    assert host.etc_digest() == digest


def test_a_gateway_that_is_not_there_puts_the_lease_back(host: LabHost, segment: Segment) -> None:
    propose(host, "--at", WANTED)
    plan = host.read("/root/plan.yaml").replace(f"gateway: {segment.router}", "gateway: 203.0.113.254")
    host.write("/root/plan.yaml", plan)
    before = host.read(PLAN_FILE)
    refused = host.tool("cutover", "plan.yaml", *POOL, "--unattended")
    assert refused.returncode == 1
    assert "gateway-silent" in refused.stdout
    assert "gateway-differs" in refused.stdout
    accept = ("--accept", "gateway-silent", "--accept", "gateway-differs", "--because", "test", "--patience", "3")
    done = host.tool("cutover", "plan.yaml", *POOL, "--unattended", *accept)
    assert done.returncode == 3, done.stdout + done.stderr
    assert "not as planned" in done.stdout
    assert host.leased()
    assert host.read(PLAN_FILE) == before
    assert f"via {segment.router}" in host.gateway()
    leased = host.leased_address()
    assert host.answers(leased)
    notes = json.loads(host.read("/var/lib/fixed-anchor/changes/0001/about.json"))
    assert {a["code"] for a in notes["accepted"]} == {"gateway-silent", "gateway-differs"}


def _cutover_until_waiting(host: LabHost, seconds: int) -> subprocess.Popen[bytes]:
    """A cutover that waits for a confirmation, in force."""
    propose(host, "--at", WANTED)
    words = ("cutover", "plan.yaml", *POOL, "--confirm-within", str(seconds))
    tool = subprocess.Popen(host.tool_argv(*words), stdout=sys.stderr)
    state = host.disk("/var/lib/fixed-anchor/changes/0001/state")
    wait_for("the change to be in force", lambda: state.exists() and state.read_text() == "waiting\n", 60, 0.05)
    return tool


def _state(host: LabHost, number: str = "0001") -> str:
    return host.read(f"/var/lib/fixed-anchor/changes/{number}/state").strip()


def test_a_killed_tool_leaves_the_guard_in_charge(host: LabHost) -> None:
    before = host.read(PLAN_FILE)
    tool = _cutover_until_waiting(host, 15)
    for pid in run("pgrep", "-P", str(tool.pid)).stdout.split():
        os.kill(int(pid), signal.SIGKILL)
    tool.wait()
    wait_for("the new address", lambda: host.holds(WANTED), 10)
    status = host.tool("status")
    assert "automatic rollback at" in status.stdout
    assert "confirm 0001" in status.stdout
    second = host.tool("cutover", "plan.yaml", *POOL)
    assert second.returncode == 7, second.stderr
    wait_for("the lease, by itself", lambda: _state(host) == "rolled-back", 60)
    assert host.leased()
    assert not host.holds(WANTED)
    assert host.read(PLAN_FILE) == before
    unit = host.disk("/etc/systemd/system/fixed-anchor-roll-back-0001.service")
    wait_for("the boot unit to go", lambda: not unit.exists(), 10)
    late = host.tool("confirm", "1")
    assert late.returncode == 7


def test_a_power_cut_while_waiting_puts_the_lease_back_at_boot(host: LabHost) -> None:
    before = host.read(PLAN_FILE)
    tool = _cutover_until_waiting(host, 600)
    wait_for("the new address", lambda: host.holds(WANTED), 10)
    assert host.disk("/etc/systemd/system/fixed-anchor-roll-back-0001.service").exists()
    host.cut_power()
    tool.wait()
    host.boot()
    wait_for("the lease after the boot", host.leased, 40)
    assert not host.holds(WANTED)
    assert _state(host) == "rolled-back"
    assert host.read(PLAN_FILE) == before
    assert not host.disk("/etc/systemd/system/fixed-anchor-roll-back-0001.service").exists()
    assert not host.disk("/etc/systemd/system/sysinit.target.wants/fixed-anchor-roll-back-0001.service").is_symlink()
    assert host("systemctl", "--failed", "--no-legend", "--plain", check=False).stdout.strip() == ""
    assert "no change is open" in host.tool("status").stdout


def test_a_confirmed_change_stays(host: LabHost) -> None:
    tool = _cutover_until_waiting(host, 600)
    verdict = host.disk("/var/lib/fixed-anchor/changes/0001/verdict")
    wait_for("the verification", verdict.exists, 40)
    assert host.tool("confirm").returncode == 0, host.read("/var/lib/fixed-anchor/changes/0001/log")
    assert tool.wait(20) == 0
    assert host.holds(WANTED)
    assert host.tool("status").stdout.startswith("no change is open")


def test_refused_with_one_clear_message(host: LabHost) -> None:
    propose(host, "--at", WANTED)
    plan = host.read("/root/plan.yaml")
    host.write("/root/other.yaml", plan.replace(MAC, "00:00:5e:00:53:77"))
    other = host.tool("cutover", "other.yaml", *POOL)
    assert other.returncode == 2
    assert "plan of another machine" in other.stderr
    broken = host.read(PLAN_FILE).replace("      dhcp4: true", "    dhcp4: true")
    host.write(PLAN_FILE, broken)
    done = host.tool("cutover", "plan.yaml", *POOL)
    assert done.returncode == 2
    assert f"{PLAN_FILE}:7:7: this line is indented differently" in done.stderr
    for message in (other.stderr, done.stderr):
        assert message.count("\n") == 1
        assert "Traceback" not in message
