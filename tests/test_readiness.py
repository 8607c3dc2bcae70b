"""Whether a machine can be changed now: what is at work, what carries the root, and what boots it."""

from __future__ import annotations

import re

import pytest

from fixed_anchor.core.findings import Finding
from fixed_anchor.core.rules.readiness import readiness_findings
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.engine.boot import INITS, boot_files, init_of
from fixed_anchor.observe.kernel import rules_by_hand
from fixed_anchor.observe.readiness import readiness
from fixed_anchor.planfile.reader import plan_from_text
from tests.judging import host_case
from tests.machines import Told

RULES = """\
0:\tfrom all lookup local
49:\tfrom all to 203.0.113.9 ipproto tcp dport 22 lookup 7 proto static
50:\tnot from all fwmark 0x1/0xff iif eth1 [detached] lookup main suppress_prefixlength 0
1000:\tfrom all lookup [l3mdev-table]
32766:\tfrom all lookup main
32767:\tfrom all lookup default
"""
SYSTEMD = {"test -d /run/systemd/system": ""}
MOUNTS = "/dev/vda1 / ext4 rw 0 0\n"


PLAN = """\
plan: 1
segments: {quay: {subnet: 203.0.113.0/24}}
hosts: {tide-db: {interfaces: {eth0: {segment: quay, hold: 203.0.113.20}, eth1: {segment: quay, ipv4: off}}}}
"""


def of_change(machine: Told) -> list[Finding]:
    plan = plan_from_text(PLAN, "plan.yaml")
    ready = {"tide-db": readiness(machine, init_of(machine))}
    return list(readiness_findings(host_case(plan, HostSurvey("tide-db", None, (), ()), readiness=ready)))


def found(commands: dict[str, str], files: dict[str, str] | None = None) -> list[tuple[str, str]]:
    machine = Told(commands, {"/proc/mounts": MOUNTS} | (files or {}))
    return [(f.code, f.message) for f in of_change(machine)]


def test_ready() -> None:
    assert (
        found(SYSTEMD | {"ps -eo args": "/usr/sbin/sshd -D\n/usr/sbin/dhclient eth0\nvi /etc/netplan/x.yaml\n"}) == []
    )


@pytest.mark.parametrize(
    "process",
    [
        "/bin/sh /sbin/ifup eth0",
        "ifdown eth0",
        "/usr/bin/python3 /usr/sbin/netplan apply",
        "nmcli connection up quay",
        "nmcli --wait 30 device reapply eth0",
        "networkctl reload",
    ],
)
def test_the_stack_is_at_work(process: str) -> None:
    assert found(SYSTEMD | {"ps -eo args": f"/usr/sbin/sshd -D\n{process}\n"}) == [
        ("stack-busy", f"the network stack is in the middle of a change: {process}")
    ]


def test_a_job_of_systemd() -> None:
    jobs = "112 networking.service start running\n113 ssh.service start waiting\n"
    said = found(SYSTEMD | {"systemctl list-jobs --no-legend --plain": jobs})
    assert [code for code, _ in said] == ["stack-busy"]
    assert "start networking.service (running)" in said[0][1]


@pytest.mark.parametrize(
    ("mount", "files", "way", "carries"),
    [
        ("203.0.113.5:/root / nfs4 rw 0 0\n", {}, ("203.0.113.5", "eth0"), True),
        ("[2001:db8:7e:1::5]:/root / nfs rw 0 0\n", {}, ("2001:db8:7e:1::5", "eth1"), True),
        ("203.0.113.5:/root / nfs4 rw 0 0\n", {}, ("203.0.113.5", "eth7"), False),
        (MOUNTS, {"/sys/class/iscsi_connection/connection1:0/persistent_address": "203.0.113.6\n"},
         ("203.0.113.6", "eth0"), True),
        (MOUNTS, {}, ("203.0.113.6", "eth0"), False),
    ],
)  # fmt: skip
def test_the_root_comes_over_the_interface(
    mount: str, files: dict[str, str], way: tuple[str, str], carries: bool
) -> None:
    commands = SYSTEMD | {f"ip -j route get {way[0]}": f'[{{"dst": "{way[0]}", "dev": "{way[1]}"}}]'}
    said = found(commands, {"/proc/mounts": mount} | files)
    assert [code for code, _ in said] == (["carries-root"] if carries else [])
    if carries:
        assert said[0][1].startswith(f"{way[1]} carries the root file system")


@pytest.mark.parametrize(
    ("mount", "files", "said"),
    [
        ("203.0.113.5:/root / nfs4 rw 0 0\n", {}, "nobody asked for its route: 203.0.113.5"),
        ("gull:/root / nfs rw 0 0\n", {}, "'gull' is no address"),
        (MOUNTS, {"/sys/class/iscsi_connection/c:0/persistent_address": "203.0.113.6\n"}, "nobody asked for its route"),
    ],
)
def test_what_nobody_asked_is_no_answer(mount: str, files: dict[str, str], said: str) -> None:
    """A collection that never asked by which way the root comes in does not say that it comes by another."""
    machine = Told(SYSTEMD, {"/proc/mounts": mount} | files, asks_nothing_more=True)
    (found,) = of_change(machine)
    assert (found.code, found.undetermined) == ("root-unclear", True)
    assert said in found.message


def test_rules_that_no_stack_made() -> None:
    """Each as the command that sets it again; what the kernel or a stack made is theirs."""
    machine = Told({"ip rule show": RULES, "ip -6 rule show": "77:\tfrom 2001:db8:7e::/48 blackhole\n"}, {})
    first = "ip rule add priority 50 not from all fwmark 0x1/0xff iif eth1 lookup main suppress_prefixlength 0"
    second = "ip -6 rule add priority 77 from 2001:db8:7e::/48 blackhole"
    assert [" ".join(rule) for rule in rules_by_hand(machine)] == [first, second]
    assert rules_by_hand(Told({}, {})) == ()


@pytest.mark.parametrize(
    ("there", "init"),
    [
        (["-d /run/systemd/system", "-d /run/openrc"], "systemd"),
        (["-d /run/openrc", "-d /etc/rcS.d", "-f /etc/inittab"], "openrc"),
        (["-d /run/openrc", "-L /etc/runlevels/sysinit/networking"], "openrc-sysinit"),
        (["-d /etc/rcS.d", "-f /etc/inittab"], "sysv"),
        (["-d /etc/rcS.d", "-f /etc/inittab", "-x /sbin/insserv"], "sysv-insserv"),
        (["-d /etc/rcS.d"], ""),
    ],
)
def test_what_boots_the_machine(there: list[str], init: str) -> None:
    commands = {f"test {words}": "" for words in there}
    assert init_of(Told(commands, {})) == init
    assert [code for code, _ in found(commands)] == ([] if init else ["no-boot-guard"])
    files = boot_files(init, "/var/lib/fixed-anchor/changes/0001")
    assert bool(files) == (init in INITS)
    if files:
        unit = files["boot-unit"].decode()
        assert "engine.sh boot /var/lib/fixed-anchor/changes/0001" in unit
        if init in ("systemd", "openrc"):
            # Before whatever reads the files of a change: of interfaces, resolvers, time servers.
            before = " ".join(re.findall("^ *[Bb]efore[= ](.*)$", unit, re.MULTILINE)).split()
            for service in ("systemd-networkd", "NetworkManager", "systemd-resolved", "systemd-timesyncd", "chrony"):
                assert service in [word.removesuffix(".service") for word in before]
