"""An address for when no DHCP server answers, on Linux: on the stacks that have such a thing; refused on others."""

from __future__ import annotations

from pathlib import Path

import pytest

from fixed_anchor.change.content import files_in
from fixed_anchor.change.files import FileText
from fixed_anchor.core.addresses import parse_address, parse_interface_address
from fixed_anchor.core.config import Fallback
from fixed_anchor.core.errors import InputError, NotSupported
from fixed_anchor.formats.dhclient_conf import edit_fallback, read_fallback
from fixed_anchor.machines.tree import Tree
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.planfile.reader import plan_from_text
from fixed_anchor.workflow.linux.draft_files import draft_host

PATH = "/etc/dhcp/dhclient.conf"
FALLBACK = Fallback(
    parse_interface_address("198.51.100.190/24"), parse_address("198.51.100.1"), (parse_address("198.51.100.2"),)
)
OTHERS = """\
# what this site wants
timeout 30; # seconds
option rfc3442-classless-static-routes code 121 = array of unsigned integer 8;
send host-name = gethostname();
lease { interface "eth1"; fixed-address 203.0.113.9; option subnet-mask 255.255.255.0; }
"""
OLD = 'lease {\n  interface "eth0";\n  fixed-address 198.51.100.7;\n}\n'
OURS = """\
lease {
  interface "eth0";
  fixed-address 198.51.100.190;
  option subnet-mask 255.255.255.0;
  option routers 198.51.100.1;
  option domain-name-servers 198.51.100.2;
  renew never;
  rebind never;
  expire never;
}
"""
"""The plan of every case; ``{}`` is what it says of eth0."""
PLAN = """\
plan: 1
segments:
  labs: {{subnet: 198.51.100.0/24, gateway: 198.51.100.1, resolvers: [198.51.100.2], pools: []}}
hosts:
  gannet-ws:
    reach: tree:.
    interfaces:
      eth0: {{mac: "00:00:5e:00:53:31", segment: labs, {}}}
"""


@pytest.mark.parametrize(
    ("before", "wanted", "after"),
    [
        (None, FALLBACK, OURS),
        (OTHERS, FALLBACK, OTHERS + OURS),
        (OTHERS.rstrip("\n"), FALLBACK, OTHERS + OURS),
        (OLD + OTHERS, FALLBACK, OTHERS + OURS),
        (OTHERS + OURS, Fallback(), OTHERS),
        (OTHERS + OURS, FALLBACK, None),
        (OTHERS, Fallback(), None),
        (None, Fallback(), None),
    ],
)
def test_a_lease_in_the_configuration_of_the_client(before: str | None, wanted: Fallback, after: str | None) -> None:
    file = FileText(PATH, before) if before is not None else None
    edit = edit_fallback(PATH, file, "eth0", wanted)
    assert (edit.after.text if edit is not None and edit.after is not None else None) == after
    if edit is not None and edit.after is not None:
        assert read_fallback(edit.after, "eth0") == wanted
        assert read_fallback(edit.after, "eth1") == read_fallback(FileText(PATH, before or ""), "eth1")


def test_a_file_that_its_reader_would_not_take() -> None:
    with pytest.raises(NotSupported, match=r"dhclient\.conf cannot be read: the file ends in the middle"):
        edit_fallback(PATH, FileText(PATH, "lease {\n"), "eth0", FALLBACK)


INTERFACES = "auto eth0\niface eth0 inet dhcp\n"
PROFILE = (
    "[connection]\nid=eth0\nuuid=6b0f6f6c-1111-4222-8333-944455556666\ntype=ethernet\ninterface-name=eth0\n"
    "[ipv4]\nmethod=auto\n[ipv6]\nmethod=auto\n"
)
PROFILES = "/etc/NetworkManager/system-connections"
STACKS = {
    "ifupdown": {"/etc/network/interfaces": INTERFACES, PATH: OTHERS},
    "ifcfg": {"/etc/sysconfig/network-scripts/ifcfg-eth0": "DEVICE=eth0\nBOOTPROTO=dhcp\nNM_CONTROLLED=no\n"},
    "NetworkManager": {f"{PROFILES}/eth0.nmconnection": PROFILE},
    "networkd": {"/etc/systemd/network/10-eth0.network": "[Match]\nName=eth0\n[Network]\nDHCP=ipv4\n"},
    "netplan": {"/etc/netplan/10.yaml": "network: {version: 2, ethernets: {eth0: {dhcp4: true}}}\n"},
}


def made(files: dict[str, str], said: str, folder: Path) -> dict[str, str | None]:
    """The texts of the files that a draft changes on a host of ``files``."""
    for path, text in files.items():
        target = folder / path.lstrip("/")
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(text)
        target.chmod(0o600)
    plan = plan_from_text(PLAN.format(said), str(folder / "plan.yaml"))
    machine = Tree(folder)
    survey = take_stock(machine)
    drafted = draft_host(plan, plan.hosts["gannet-ws"], machine, survey)
    return {e.path: e.after.text if e.after is not None else None for e in files_in(drafted.content).edits}


@pytest.mark.parametrize("stack", STACKS)
def test_on_each_stack(stack: str, tmp_path: Path) -> None:
    said = "ipv4: dhcp, ipv6: untouched, fallback: 198.51.100.190"
    if stack in ("networkd", "netplan"):
        with pytest.raises(NotSupported, match=f"`fallback` on eth0: {stack} has nothing for when no DHCP server"):
            made(STACKS[stack], said, tmp_path)
        # Nothing is there to be removed either.
        assert made(STACKS[stack], said.replace("198.51.100.190", "none"), tmp_path) == {}
        return
    edits = made(STACKS[stack], said, tmp_path)
    if stack == "ifupdown":
        assert edits == {PATH: OTHERS + OURS}
    elif stack == "ifcfg":
        assert edits == {"/etc/dhcp/dhclient-eth0.conf": OURS}
    else:
        second = edits.pop(f"{PROFILES}/eth0-fallback.nmconnection") or ""
        assert "interface-name=eth0\nautoconnect-priority=-10\n" in second
        assert "method=manual\naddress1=198.51.100.190/24,198.51.100.1\ndns=198.51.100.2;\n" in second
        (first,) = edits.values()
        assert first is not None
        assert "may-fail=false" in first
        assert "autoconnect-retries=1" in first
    # Written so, nothing is left to be done; and it goes again.
    now = {**STACKS[stack], **{p: t for p, t in made(STACKS[stack], said, tmp_path).items() if t is not None}}
    assert made(now, said, tmp_path) == {}
    gone = made(now, said.replace("198.51.100.190", "none"), tmp_path)
    assert (
        gone
        == {
            "ifupdown": {PATH: OTHERS},
            "ifcfg": {"/etc/dhcp/dhclient-eth0.conf": None},
            "NetworkManager": {f"{PROFILES}/eth0-fallback.nmconnection": None},
        }[stack]
    )


@pytest.mark.parametrize(
    ("said", "wrong"),
    [
        ("hold: 198.51.100.20, fallback: 198.51.100.190", "a fallback is for an interface that asks a DHCP server"),
        ('ipv4: dhcp, fallback: "2001:db8::1"', "expected an IPv4 address, or none"),
        ("ipv4: dhcp, fallback: [198.51.100.190, 198.51.100.191]", "a list stands here"),
        ("ipv4: dhcp, fallback: tide", "tide"),
        ("ipv4: dhcp, netbios_servers: [198.51.100.1, 198.51.100.2, 198.51.100.3]", "expected at most two IPv4"),
        ('ipv4: dhcp, netbios_servers: "2001:db8::1"', "expected at most two IPv4 addresses"),
    ],
)
def test_what_a_plan_may_not_say(said: str, wrong: str) -> None:
    with pytest.raises(InputError, match=wrong):
        plan_from_text(PLAN.format(said), "plan.yaml")


@pytest.mark.parametrize("stack", STACKS)
def test_name_servers_of_netbios_are_for_windows_alone(stack: str, tmp_path: Path) -> None:
    with pytest.raises(NotSupported, match="`netbios_servers` on eth0: only a Windows machine has them") as refused:
        made(STACKS[stack], "hold: 198.51.100.20, netbios_servers: 198.51.100.5", tmp_path)
    assert "plan.yaml:" in str(refused.value)
