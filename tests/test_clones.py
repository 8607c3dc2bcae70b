"""Hosts of one plan that are copies of one another are told apart, and what they share is named."""

from __future__ import annotations

from pathlib import Path

import pytest

from fixed_anchor.core.findings import Finding
from fixed_anchor.planfile.reader import read_plan
from fixed_anchor.workflow.reached.site import Site
from tests.judging import check
from tests.machines import Told

ID = "0123456789abcdef0123456789abcdef"
KEY = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIFixed root@image\n"
DUID = 'default-duid "\\000\\001\\000\\001-j";\nlease {\n}\n'
PLAN = """\
plan: 1
segments:
  quay: {{subnet: 203.0.113.0/24, gateway: 203.0.113.1, resolvers: 203.0.113.2, pools: []}}
hosts:
  tide-db:
    reach: tree:tide-db
    interfaces:
      eth0: {{mac: "{0}", segment: quay, hold: 203.0.113.20}}
  kelp-files:
    reach: tree:kelp-files
    interfaces:
      eth0: {{mac: "{1}", segment: quay, hold: 203.0.113.30}}
"""
MACS = ("00:00:5e:00:53:11", "00:00:5e:00:53:12")


def told(folder: Path, own: dict[str, str], copied: dict[str, str], macs: tuple[str, str] = MACS) -> list[Finding]:
    """What a check of two hosts says of copies; ``copied`` files are the same on both, ``own`` only on the first."""
    netplan = {"etc/netplan/50.yaml": "network: {ethernets: {eth0: {dhcp4: true}}}\n"}
    for name, files in (("tide-db", netplan | copied | own), ("kelp-files", netplan | copied)):
        for path, text in files.items():
            target = folder / name / path
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_text(text)
    (folder / "plan.yaml").write_text(PLAN.format(*macs))
    here = Told({"ip -j -d address show": "[]"}, {})
    result = check(Site(read_plan(folder / "plan.yaml"), here), wire=False)  # type: ignore[arg-type]
    return [f for f in result.findings if f.code == "cloned-host"]


@pytest.mark.parametrize(
    ("path", "text", "kind"),
    [
        ("etc/machine-id", f"{ID}\n", "machine-id"),
        ("etc/ssh/ssh_host_ed25519_key.pub", KEY, "SSH host key"),
        ("var/lib/dhcp/dhclient6.eth0.leases", DUID, "DUID"),
        ("var/lib/dhcpcd/duid", "00:01:00:01:2d:aa:00:00:00:00:5e:00:53:11\n", "DUID"),
    ],
)
def test_a_copy_is_told_with_both_hosts(path: str, text: str, kind: str, tmp_path: Path) -> None:
    (found,) = told(tmp_path, {}, {path: text})
    assert f"kelp-files and tide-db have the same {kind}" in found.message
    assert (found.severity, found.host) == ("blocker", "kelp-files")
    assert found.seen_in == f"/{path}:1 of kelp-files, /{path}:1 of tide-db"


def test_what_is_nobodys_is_no_copy(tmp_path: Path) -> None:
    assert told(tmp_path, {"etc/machine-id": f"{ID}\n"}, {"etc/hostname": "image\n"}) == []
    # An image that is still to be booted has none yet.
    assert told(tmp_path, {}, {"etc/machine-id": "uninitialized\n"}) == []


def test_one_mac_on_two_hosts(tmp_path: Path) -> None:
    (found,) = told(tmp_path, {}, {}, (MACS[0], MACS[0]))
    assert "00:00:5e:00:53:11 stands at tide-db (eth0) as well" in found.message
