"""Hosts with something wrong on them: found, named with file and line, and put right where that is the tool's to do."""

from __future__ import annotations

import pytest

from tests import documents
from tests.lab.conftest import NETPLAN, NETWORKD, MakeHost
from tests.lab.host import LabHost
from tests.lab.network import Segment, wait_for
from tests.lab.test_matrix import (
    ANOTHER,
    INTERFACES,
    NETWORK,
    NM_UNITS,
    STACKS,
    cutover,
    is_static,
    lease_clients,
    plan,
    reboot,
)

pytestmark = pytest.mark.one_in(5)


def findings(host: LabHost) -> list[tuple[str, str]]:
    return [(f["code"], f["seen_in"]) for f in documents.findings(host.tool("survey", "--json").stdout)]


def test_two_stacks_claim_the_interface(make_host: MakeHost) -> None:
    files = {"/etc/netplan/50-tide.yaml": NETPLAN, "/etc/network/interfaces": INTERFACES}
    host = make_host(files, (*NETWORKD, "networking.service"))
    assert ("two-stacks", "/etc/network/interfaces:7") in findings(host)
    plan(host, f"hold: {ANOTHER}")
    digest = host.etc_digest()
    refused = host.tool("cutover", "plan.yaml", "--unattended")
    assert refused.returncode == 1, refused.stdout + refused.stderr
    assert "two-stacks" in refused.stdout
    assert "/etc/netplan/50-tide.yaml:5" in refused.stdout
    assert host.etc_digest() == digest


def test_a_file_that_provisioning_writes_again_and_a_broken_one(make_host: MakeHost) -> None:
    path = "/etc/netplan/50-cloud-init.yaml"
    generated = "# This file is generated from information provided by the datasource (cloud-init).\n" + NETPLAN
    host = make_host({path: generated, "/etc/cloud/cloud.cfg": "preserve_hostname: false\n"})
    assert ("rewritten-at-boot", f"{path}:6") in findings(host)
    plan(host, f"hold: {ANOTHER}")
    cutover(host)
    is_static(host, ANOTHER)
    assert "config: disabled" in host.read("/etc/cloud/cloud.cfg.d/99-fixed-anchor.cfg")
    assert "rewritten-at-boot" not in {code for code, _ in findings(host)}
    host.write("/etc/netplan/90-more.yaml", "network:\n  ethernets:\n    eth0:\n      dhcp4: maybe\n")
    for status, *words in (
        (0, "survey"),
        (1, "check", "plan.yaml"),
        (1, "verify", "plan.yaml"),
        (1, "cutover", "plan.yaml"),
    ):
        done = host.tool(*words)
        assert done.returncode == status, done.stdout + done.stderr
        assert "/etc/netplan/90-more.yaml:4:14" in done.stdout
        assert "Traceback" not in done.stderr


def test_a_drop_in_that_turns_dhcp_on_again(make_host: MakeHost) -> None:
    main = "/etc/systemd/network/20-quay.network"
    drop_in = f"{main}.d/90-old.conf"
    fixed = NETWORK.replace("DHCP=ipv4", "Address=203.0.113.9/24\nGateway=203.0.113.1")
    host = make_host({main: fixed, drop_in: "# before the move\n[Network]\nDHCP=yes\n"}, NETWORKD)
    assert ("still-asks-dhcp", f"{drop_in}:3") in findings(host)
    plan(host, f"hold: {ANOTHER}")
    cutover(host)
    is_static(host, ANOTHER)
    assert "# was: DHCP=yes" in host.read(drop_in)
    reboot(host, ANOTHER)
    is_static(host, ANOTHER)
    # A line that networkd would pass over without a word is an error of ours, with its place.
    host.write(main, host.read(main).replace(f"Address={ANOTHER}/24", f"Address={ANOTHER}/99"), 0o644)
    host("networkctl", "reload")
    verified = host.tool("verify", "plan.yaml")
    assert verified.returncode == 1
    line = host.read(main).splitlines().index(f"Address={ANOTHER}/99") + 1
    assert f"{main}:{line}:9" in verified.stdout


def test_a_rival_profile_does_not_win_at_the_next_boot(make_host: MakeHost) -> None:
    """Of two profiles on disk, NetworkManager would take the one that asks for a lease again."""
    profile = "[connection]\nid={0}\nuuid={1}\ntype=ethernet\ninterface-name=eth0\n[ipv4]\nmethod=auto\n"
    folder = "/etc/NetworkManager/system-connections"
    host = make_host(
        {
            f"{folder}/quay.nmconnection": profile.format("quay", "5b0f6f6c-1111-4222-8333-944455556666"),
            f"{folder}/rival.nmconnection": profile.format("rival", "6b0f6f6c-1111-4222-8333-944455556666"),
        },
        NM_UNITS,
    )
    plan(host, f"hold: {ANOTHER}")
    cutover(host)
    reboot(host, ANOTHER)
    is_static(host, ANOTHER)


def test_the_lease_client_outlives_the_guard_that_started_it(make_host: MakeHost) -> None:
    host = make_host({"/etc/network/interfaces": INTERFACES}, ("networking.service",))
    plan(host, f"hold: {ANOTHER}")
    cutover(host)
    assert lease_clients(host) == ""
    back = host.tool("restore", "--unattended")
    assert back.returncode == 0, back.stdout + back.stderr
    wait_for("the guard's unit to end", lambda: "guard" not in host("systemctl", "list-units", "--plain").stdout, 20)
    assert "eth0" in lease_clients(host)
    assert host.leased()


@pytest.mark.parametrize("stack", ["networkd", "ifupdown", "NetworkManager"])
def test_what_is_in_the_kernel_alone_survives_a_change_that_is_roll_back(stack: str, make_host: MakeHost) -> None:
    host = make_host(*STACKS[stack])
    added = (
        ("address", "add", "203.0.113.77/32", "dev", "eth0"),
        ("route", "add", "198.51.100.0/24", "via", "203.0.113.1", "dev", "eth0"),
        ("rule", "add", "priority", "900", "from", "203.0.113.77", "lookup", "100"),
    )
    for words in added:
        host("ip", *words)

    def there() -> list[bool]:
        return [
            host.holds("203.0.113.77"),
            "via 203.0.113.1" in host("ip", "route", "show", "198.51.100.0/24").stdout,
            "from 203.0.113.77 lookup 100" in host("ip", "rule", "show").stdout,
        ]

    assert there() == [True] * 3
    assert [code for code, _ in findings(host)].count("kernel-only-state") == 3
    plan(host, f"hold: {ANOTHER}")
    done = host.tool("cutover", "plan.yaml", "--confirm-within", "5")
    assert done.returncode == 3, done.stdout + done.stderr
    assert host.leased()
    assert not host.holds(ANOTHER)
    assert there() == [True] * 3, host.read("/var/lib/fixed-anchor/changes/0001/log")


def test_an_entry_that_matches_by_driver(make_host: MakeHost) -> None:
    """The entry has a name of its own; which interface it is for, only the driver tells."""
    entry = "network:\n  ethernets:\n    quay:\n      match: {driver: veth}\n      dhcp4: true\n"
    host = make_host({"/etc/netplan/50-tide.yaml": entry})
    plan(host, f"hold: {ANOTHER}")
    cutover(host)
    is_static(host, ANOTHER)
    assert "match: {driver: veth}" in host.read("/etc/netplan/50-tide.yaml")
    reboot(host, ANOTHER)
    is_static(host, ANOTHER)


QUAY_UUID = "5b0f6f6c-1111-4222-8333-944455556666"
QUAY = (
    f"[connection]\nid=Quay\nuuid={QUAY_UUID}\ntype=ethernet\ninterface-name=eth0\n\n[ipv4]\nmethod=auto\n\n"
    "[ipv6]\nmethod=auto\n"
)


def on_another_profile(make_host: MakeHost) -> LabHost:
    """A host on whose device an initrd, say, has left a profile that is not the file's."""
    host = make_host({"/etc/NetworkManager/system-connections/quay.nmconnection": QUAY}, NM_UNITS)
    host("nmcli", "connection", "add", "save", "no", "type", "ethernet", "ifname", "eth0", "con-name", "Wired")
    host("nmcli", "--wait", "30", "connection", "up", "Wired")
    wait_for("the lease of the other profile", host.leased, 30)
    plan(host, f"hold: {ANOTHER}")
    return host


def test_a_profile_in_force_that_is_not_the_files(make_host: MakeHost) -> None:
    """A `reapply` would load what is edited into the wrong one; unconfirmed, the right one comes back."""
    host = on_another_profile(make_host)
    unconfirmed = host.tool("cutover", "plan.yaml", "--confirm-within", "10")
    assert unconfirmed.returncode == 3, unconfirmed.stdout + unconfirmed.stderr
    wait_for("the lease", host.leased, 30)
    assert "Wired" in host("nmcli", "-g", "NAME", "connection", "show", "--active").stdout
    cutover(host)
    assert QUAY_UUID in host("nmcli", "-g", "UUID", "connection", "show", "--active").stdout
    is_static(host, ANOTHER)
    reboot(host, ANOTHER)
    is_static(host, ANOTHER)


def test_a_broken_file_of_another_link(make_host: MakeHost) -> None:
    """networkd passes it over, and so does the tool."""
    stale = "/etc/systemd/network/90-old.network"
    host = make_host({"/etc/systemd/network/20-quay.network": NETWORK, stale: "[Match\nName=eth9\n"})
    assert ("file-unreadable", f"{stale}:1:1") in findings(host)
    plan(host, f"hold: {ANOTHER}")
    cutover(host)
    is_static(host, ANOTHER)


def test_a_broken_file_that_stops_the_generator(host: LabHost) -> None:
    host.write("/etc/netplan/60-old.yaml", "network:\n  ethernets:\n    eth9:\n\tdhcp4: true\n")
    assert host("netplan", "generate", check=False).returncode != 0
    plan(host, f"hold: {ANOTHER}")
    digest = host.etc_digest()
    refused = host.tool("cutover", "plan.yaml", "--unattended")
    assert refused.returncode == 1, refused.stdout + refused.stderr
    assert "stops-at-unreadable" in refused.stdout
    assert host.etc_digest() == digest


def test_an_alias_goes_and_comes_back(make_host: MakeHost) -> None:
    alias = "\nauto eth0:0\niface eth0:0 inet static\n    address 203.0.113.44/24\n"
    host = make_host({"/etc/network/interfaces": INTERFACES + alias}, ("networking.service",))
    wait_for("the alias", lambda: host.holds("203.0.113.44"), 20)
    plan(host, f"hold: {ANOTHER}")
    unconfirmed = host.tool("cutover", "plan.yaml", "--confirm-within", "10")
    assert unconfirmed.returncode == 3, unconfirmed.stdout + unconfirmed.stderr
    wait_for("lease and alias", lambda: host.leased() and host.holds("203.0.113.44"), 30)
    cutover(host)
    is_static(host, ANOTHER)
    assert not host.holds("203.0.113.44")
    reboot(host, ANOTHER)
    is_static(host, ANOTHER)
    assert not host.holds("203.0.113.44")


def test_an_address_that_the_segment_does_not_answer(host: LabHost, segment: Segment) -> None:
    """As behind a switch that drops what comes from an address which no lease tells of: nothing comes back."""
    segment.namespace(
        "ip", "neigh", "replace", ANOTHER, "lladdr", "00:00:5e:00:53:99", "nud", "permanent", "dev", "br0"
    )
    plan(host, f"hold: {ANOTHER}")
    done = host.tool("cutover", "plan.yaml", "--unattended", "--no-grace", "--patience", "4")
    assert done.returncode == 3, done.stdout + done.stderr
    assert "rolled-back   because its verification was not-as-planned: resolver-answers on eth0: " in done.stdout
    assert "Look at the switch (DHCP snooping, ARP inspection, source guard)" in done.stdout
    said = host.tool("status").stdout
    assert "rolled back, because its verification was not-as-planned: resolver-answers on eth0: " in said
    assert "it was rolled back, because its verification" in host.tool("history", "1").stdout
    wait_for("the lease", host.leased, 40)
