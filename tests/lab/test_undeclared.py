"""An interface that no file declares: on every stack it is declared, verified, holds a reboot, and is bare again."""

from __future__ import annotations

import subprocess

import pytest

from tests.lab.conftest import IFUPDOWN2, NETPLAN, NETWORKD, MakeHost
from tests.lab.faults import Halt, ends, guard_pid, state
from tests.lab.host import MAC, MAC1, LabHost
from tests.lab.network import Labs, wait_for
from tests.lab.seats import SSH, Reached, Seat

pytestmark = pytest.mark.one_in(6)

IFUPDOWN = ("networking.service",)
MANAGED = ("NetworkManager.service",)
LO = "auto lo\niface lo inet loopback\n"
FIRST = LO + "\nauto eth0\niface eth0 inet dhcp\n"
PROFILE = (
    "[connection]\nid=Quay\nuuid=5b0f6f6c-1111-4222-8333-944455556660\ntype=ethernet\ninterface-name=eth0\n\n"
    "[ipv4]\nmethod=auto\n\n[ipv6]\nmethod=auto\n"
)
#: Without it the second card has an automatic profile.
NO_AUTO = {"/etc/NetworkManager/conf.d/no-auto.conf": "[main]\nno-auto-default=*\n"}
WITH_MANAGER = NETPLAN.replace("version: 2", "version: 2\n  renderer: NetworkManager")

#: Files and units of a host whose first card is on its lease, and whose second one nothing declares, by stack.
SECOND: dict[str, tuple[dict[str, str], tuple[str, ...]]] = {
    "netplan-networkd": ({"/etc/netplan/50-tide.yaml": NETPLAN}, NETWORKD),
    "netplan-NetworkManager": ({"/etc/netplan/50-tide.yaml": WITH_MANAGER} | NO_AUTO, MANAGED),
    "networkd": ({"/etc/systemd/network/20-quay.network": "[Match]\nName=eth0\n\n[Network]\nDHCP=ipv4\n"}, NETWORKD),
    "NetworkManager": ({"/etc/NetworkManager/system-connections/quay.nmconnection": PROFILE} | NO_AUTO, MANAGED),
    "automatic": ({"/etc/NetworkManager/system-connections/quay.nmconnection": PROFILE}, MANAGED),
    "ifupdown": ({"/etc/network/interfaces": FIRST}, IFUPDOWN),
    "ifupdown2": ({"/etc/network/interfaces": FIRST} | IFUPDOWN2, IFUPDOWN),
}
#: The same of a host where nothing is configured yet.
FRESH: dict[str, tuple[dict[str, str], tuple[str, ...]]] = {
    "netplan-networkd": ({"/etc/netplan/00-site.yaml": "network: {version: 2, renderer: networkd}\n"}, NETWORKD),
    "netplan-NetworkManager": (
        {"/etc/netplan/00-site.yaml": "network: {version: 2, renderer: NetworkManager}\n"} | NO_AUTO, MANAGED,
    ),
    "networkd": ({"/etc/hosts": "127.0.0.1 localhost\n"}, NETWORKD),
    "NetworkManager": (dict(NO_AUTO), MANAGED),
    "ifupdown": ({"/etc/network/interfaces": LO}, IFUPDOWN),
    "ifupdown2": ({"/etc/network/interfaces": LO} | IFUPDOWN2, IFUPDOWN),
}  # fmt: skip

PLAN = """\
plan: 1
segments:
  quay:
    subnet: 203.0.113.0/24
    gateway: 203.0.113.1
    resolvers: [203.0.113.2]
    search: [ternpoint.example]
    pools: [203.0.113.100 - 203.0.113.199]
  labs:
    subnet: [198.51.100.0/24, "2001:db8:7e:2::/64"]
    gateway: [198.51.100.1, "2001:db8:7e:2::1"]
    resolvers: [198.51.100.2]
    search: [labs.ternpoint.example]
    pools: [198.51.100.100 - 198.51.100.199]
hosts:
  tide-db:
    interfaces:
"""
QUAY, LABS, LABS6 = "203.0.113.20", "198.51.100.40", "2001:db8:7e:2::40"
CASES = {
    "fixed": f"segment: labs, hold: {LABS}, gateway: none",
    "dhcp": "segment: labs, ipv4: dhcp",
    "both families": f'segment: labs, hold: [{LABS}, "{LABS6}"], gateway: none, mtu: 1400',
    "down before": f"segment: labs, hold: {LABS}, gateway: none",
}
#: What the automatic profile does already needs no change.
EVERY = [(s, c) for s in SECOND for c in CASES if (s, c) != ("automatic", "dhcp")]
COVER = [("netplan-networkd", "dhcp"), ("automatic", "fixed"), ("ifupdown", "both families"), ("ifupdown2", "fixed"),
         ("networkd", "down before"), ("NetworkManager", "both families")]  # fmt: skip


def pytest_generate_tests(metafunc: pytest.Metafunc) -> None:
    """All of them with ``--whole-matrix``, or a covering selection."""
    whole = metafunc.config.getoption("--whole-matrix")
    if "case" in metafunc.fixturenames:
        metafunc.parametrize(("stack", "case"), EVERY if whole else COVER)
    elif "fresh" in metafunc.fixturenames:
        metafunc.parametrize("fresh", FRESH if whole else ("netplan-networkd", "ifupdown2"))
    elif "strike" in metafunc.fixturenames:
        strikes = ("prepared", "leaving", "writing", "activating", "waiting", "rolling-back")
        every = [(stack, strike) for stack in SECOND for strike in strikes]
        cover = [("ifupdown", "prepared"), ("networkd", "activating"), ("ifupdown2", "waiting")]
        metafunc.parametrize(("stack", "strike"), every if whole else cover)
    elif "ending" in metafunc.fixturenames:
        pairs = [(stack, ending) for stack in SECOND for ending in ("deadline", "power cut")]
        metafunc.parametrize(
            ("stack", "ending"), pairs if whole else [("ifupdown", "power cut"), ("automatic", "deadline")]
        )


def tree(host: LabHost) -> str:
    """All interface files, as the host has them."""
    folders = "/etc/netplan /etc/network /etc/systemd/network /etc/NetworkManager/system-connections"
    return host(
        "sh", "-c", f"find {folders} -type f -printf '%p %m %U ' -exec md5sum {{}} \\; 2>/dev/null | sort"
    ).stdout


def on_link(host: LabHost, link: str = "eth1") -> tuple[bool, str, str]:
    """Whether a link is switched on; its addresses without their lifetimes, and its MTU; its routes."""
    shown = host("ip", "-o", "link", "show", "dev", link).stdout
    is_on = "UP" in shown.split("<")[1].split(">")[0].split(",")
    lines = (host.addresses("-4", link) + host.addresses("-6", link)).splitlines()
    words = sorted(" ".join(line.split()[2:4]) for line in lines)
    routes = host("sh", "-c", f"ip -4 route show dev {link}; ip -6 route show dev {link} | grep -v ^fe80; true").stdout
    mtu = shown.split(" mtu ")[1].split()[0]
    return is_on, "\n".join([*words, f"mtu {mtu}"]), routes


def plan(host: LabHost, **interfaces: str) -> None:
    macs = {"eth0": host.mac, "eth1": MAC1}
    lines = [f'      {name}: {{mac: "{macs[name]}", {said}}}\n' for name, said in interfaces.items()]
    host.write("/root/plan.yaml", PLAN + "".join(lines))


def carried_out(host: LabHost, *words: str) -> str:
    done = host.tool(*words)
    logs = sorted(host.disk("/var/lib/fixed-anchor/changes").glob("0*/log"))
    assert done.returncode == 0, done.stdout + done.stderr + (logs[-1].read_text() if logs else "")
    return done.stdout


def verified(host: LabHost) -> None:
    shown = host.tool("verify", "plan.yaml")
    assert shown.returncode == 0, shown.stdout + shown.stderr


def leased(host: LabHost, link: str) -> bool:
    return " dynamic " in host.addresses(link=link)


def made(stack: str, make_host: MakeHost) -> LabHost:
    host = make_host(*SECOND[stack], links=2)
    if stack == "automatic":
        wait_for("the lease of the automatic profile", lambda: leased(host, "eth1"), 40)
    return host


def test_there_and_back(stack: str, case: str, make_host: MakeHost, labs: Labs) -> None:
    host = made(stack, make_host)
    if case != "down before" and stack != "automatic":
        host("ip", "link", "set", "eth1", "up")
        wait_for("the link", lambda: on_link(host)[0], 10)
    files, before, others = tree(host), on_link(host), host.resolvers()
    plan(host, eth1=CASES[case])
    shown = carried_out(host, "cutover", "plan.yaml", "--unattended")
    assert "eth1" in shown
    verified(host)
    if case == "dhcp":
        assert leased(host, "eth1")
    else:
        assert f" {LABS}/24 " in host.addresses(link="eth1")
        assert labs.namespace("ping", "-c", "1", "-W", "2", LABS, check=False).returncode == 0
    if case == "both families":
        assert f" {LABS6}/64 " in host.addresses("-6", "eth1")
        assert "mtu 1400" in host("ip", "link", "show", "dev", "eth1").stdout
    # The way out stays that of the first card.
    assert "dev eth0" in host.gateway()
    host.cut_power()
    host.boot()
    wait_for("the first lease", host.leased, 60)
    ready = (lambda: leased(host, "eth1")) if case == "dhcp" else (lambda: LABS in host.addresses(link="eth1"))
    wait_for("the second card", ready, 40)
    verified(host)
    carried_out(host, "restore")
    assert tree(host) == files
    is_as_before(host, stack, before)
    if case != "dhcp":
        wait_for("the resolvers", lambda: sorted(set(host.resolvers().split())) == sorted(set(others.split())), 20)


def is_as_before(host: LabHost, stack: str, before: tuple[bool, str, str]) -> None:
    if stack == "automatic":
        wait_for("the lease of the automatic profile", lambda: leased(host, "eth1"), 40)
        listed = host("ls", "/etc/NetworkManager/system-connections").stdout.split()
        assert listed == ["quay.nmconnection"]
    else:
        wait_for(f"eth1 as {before}", lambda: on_link(host) == before, 20)


def test_a_fresh_host(fresh: str, make_host: MakeHost) -> None:
    host = make_host(*FRESH[fresh], lease=False)
    files, before = tree(host), on_link(host, "eth0")
    plan(host, eth0=f"segment: quay, hold: {QUAY}")
    survey = host.tool("survey").stdout
    assert f"would take it  {fresh.partition('-')[0]}" in survey, survey
    carried_out(host, "cutover", "plan.yaml", "--unattended")
    verified(host)
    assert "via 203.0.113.1" in host.gateway()
    host.cut_power()
    host.boot()
    wait_for("the address", lambda: host.holds(QUAY), 40)
    verified(host)
    carried_out(host, "restore")
    assert tree(host) == files
    wait_for(f"eth0 as {before}", lambda: on_link(host, "eth0") == before, 20)


def test_rolled_back(stack: str, ending: str, make_host: MakeHost) -> None:
    host = made(stack, make_host)
    files, before = tree(host), on_link(host)
    plan(host, eth1=CASES["fixed"])
    if ending == "deadline":
        done = host.tool("cutover", "plan.yaml", "--confirm-within", "15")
        assert done.returncode == 3, done.stdout + done.stderr
    else:
        waiting = host.start(*host.tool_argv("cutover", "plan.yaml")[len(host.argv()) :])
        wait_for("the address", lambda: LABS in host.addresses(link="eth1"), 60)
        wait_for("the wait", lambda: state(host) == "waiting", 60)
        host.cut_power()
        waiting.wait()
        host.boot()
        wait_for("the first lease", host.leased, 60)
        assert "rolled back" in host.tool("status").stdout
        before = (before[0] and stack.endswith("NetworkManager"), before[1], before[2])
    assert tree(host) == files
    is_as_before(host, stack, before)


def test_a_guard_that_is_killed(stack: str, strike: str, make_host: MakeHost) -> None:
    host = made(stack, make_host)
    files, before = tree(host), on_link(host)
    plan(host, eth1=CASES["fixed"])
    halt = Halt(host, strike)
    cutover = subprocess.Popen(
        host.tool_argv("cutover", "plan.yaml", "--confirm-within", "12"),
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
    )
    halt.reached()
    host("kill", "-9", guard_pid(host))
    halt.release()
    assert ends(host, "rolled-back") == "rolled-back"
    assert cutover.wait(120) == 3
    assert tree(host) == files
    is_as_before(host, stack, before)


def test_from_a_seat(make_host: MakeHost) -> None:
    """The seat is on the first card's segment alone, and confirms over the connection that stays."""
    files, units = SECOND["ifupdown"]
    host = make_host(files, (*units, SSH), links=2)
    seat = Seat(make_host(*SECOND["networkd"]))
    seat.knows(Reached(host))
    files, before = tree(host), on_link(host)
    plan(host, eth1=CASES["both families"])
    text = host.read("/root/plan.yaml").replace("  tide-db:\n", "  tide-db:\n    reach: ssh:tide-db\n")
    seat.write("/root/plan.yaml", text)
    seat.does("cutover", "plan.yaml", "--host", "tide-db", "--unattended")
    assert f" {LABS}/24 " in host.addresses(link="eth1")
    seat.does("verify", "plan.yaml")
    seat.does("restore", "--plan", "plan.yaml", "--host", "tide-db")
    assert tree(host) == files
    is_as_before(host, "ifupdown", before)


def test_two_that_could(make_host: MakeHost) -> None:
    """Two daemons that a boot starts: nobody guesses, and the plan decides."""
    host = make_host({"/etc/hosts": "127.0.0.1 localhost\n"} | NO_AUTO, (*NETWORKD, *MANAGED), lease=False)
    plan(host, eth0=f"segment: quay, hold: {QUAY}")
    refused = host.tool("cutover", "plan.yaml", "--dry-run")
    assert refused.returncode == 6, refused.stdout
    checked = host.tool("check", "plan.yaml")
    assert checked.returncode == 6, checked.stdout
    assert "stack-unclear" in checked.stdout
    assert "NetworkManager and networkd" in checked.stdout or "networkd and NetworkManager" in checked.stdout
    text = host.read("/root/plan.yaml").replace("  tide-db:\n", "  tide-db:\n    stack: networkd\n")
    host.write("/root/plan.yaml", text)
    carried_out(host, "cutover", "plan.yaml", "--unattended")
    assert "-eth0.network" in tree(host)
    assert MAC in host("sh", "-c", "cat /etc/systemd/network/*-eth0.network").stdout
