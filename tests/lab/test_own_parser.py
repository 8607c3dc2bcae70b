"""The parsers of real hosts, asked over a copy of their files as drafted before anything is begun."""

from __future__ import annotations

import pytest

from tests.lab.conftest import IFUPDOWN2, NETPLAN, NETWORKD, MakeHost
from tests.lab.test_matrix import ANOTHER, INTERFACES, plan

pytestmark = pytest.mark.one_in(6)

NETWORKING = ("networking.service",)
#: Files and units of a host, the file that somebody then breaks, its new text, and the words of the parser.
BROKEN = {
    "netplan": (
        {"/etc/netplan/50-tide.yaml": NETPLAN},
        NETWORKD,
        "/etc/netplan/50-tide.yaml",
        NETPLAN.replace("optional: true", "optional: true\n      adresses: []"),
        ["unknown key 'adresses'", "/etc/netplan/50-tide.yaml:"],
    ),
    "netplan-beside": (
        {"/etc/netplan/50-tide.yaml": NETPLAN},
        NETWORKD,
        "/etc/netplan/60-wharf.yaml",
        "network:\n  version: 2\n  bridges:\n    br9:\n      interfaces: [eth9]\n",
        ["eth9", "/etc/netplan/60-wharf.yaml:5"],
    ),
    "ifupdown": (
        {"/etc/network/interfaces": INTERFACES},
        NETWORKING,
        "/etc/network/interfaces.d/wharf",
        "auto eth9\niface eth9 inet nonsense\n    address 198.51.100.9/24\n",
        ["/etc/network/interfaces.d/wharf:2 as drafted, `iface eth9 inet nonsense`"],
    ),
    "ifupdown2": (
        {"/etc/network/interfaces": INTERFACES} | IFUPDOWN2,
        NETWORKING,
        "/etc/network/interfaces.d/wharf",
        "auto eth9\niface eth9 inet nonsense\n    address 198.51.100.9/24\n",
        ["/etc/network/interfaces.d/wharf:2 as drafted", "unsupported address method"],
    ),
}


@pytest.mark.parametrize("stack", BROKEN)
def test_a_file_that_somebody_else_broke(make_host: MakeHost, stack: str) -> None:
    """It is told with the parser's own words, and no change begins."""
    files, units, path, text, words = BROKEN[stack]
    host = make_host(files, units)
    plan(host, f"hold: {ANOTHER}")
    sound = host.tool("check", "plan.yaml")
    assert "draft-refused" not in sound.stdout, sound.stdout
    host.write(path, text, 0o600 if "netplan" in path else 0o644)
    before = host.etc_digest()
    told = host.tool("check", "plan.yaml").stdout
    assert "draft-refused" in told, told
    joined = " ".join(told.split())
    for word in words:
        assert word in joined, told
    done = host.tool("cutover", "plan.yaml", "--unattended")
    assert done.returncode == 1, done.stdout + done.stderr
    assert "draft-refused" in done.stderr
    assert host.etc_digest() == before
    assert host("sh", "-c", "ls -d /tmp/*fixed-anchor* /tmp/tmp.* 2>/dev/null", check=False).stdout == ""
    assert host.leased()
