"""What lies beside the interface files: names, resolvers, leases, and who is in charge."""

from __future__ import annotations

from pathlib import Path

import pytest

from fixed_anchor.change.files import FileText
from fixed_anchor.core.addresses import parse_address, parse_interface_address
from fixed_anchor.core.config import LinkFacts
from fixed_anchor.core.rules.survey import survey_findings
from fixed_anchor.core.survey import FoundAddress, HostSurvey
from fixed_anchor.formats.host_names import edit_hostname, edit_hosts
from fixed_anchor.formats.resolv_conf import edit_resolv_conf
from fixed_anchor.formats.resolved_conf import edit_drop_in
from fixed_anchor.machines.readable import Ran
from fixed_anchor.machines.tree import Tree
from fixed_anchor.observe.lease import lease_of
from fixed_anchor.observe.stocktaking import take_stock

OLD, NEW = parse_address("203.0.113.131"), parse_address("203.0.113.20")
NAME = "tide-db.ternpoint.example"


def tree(root: Path, files: dict[str, str], mode: int = 0o600) -> Tree:
    for path, text in files.items():
        target = root / path.lstrip("/")
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(text)
        target.chmod(mode)
    return Tree(root)


@pytest.mark.parametrize(
    ("before", "after"),
    [
        (
            "127.0.0.1 localhost\n127.0.1.1\told.example old # me\n",
            f"127.0.0.1 localhost\n127.0.1.1\t{NAME} tide-db # me\n",
        ),
        ("203.0.113.131 old db\n203.0.113.9 gull\n", f"203.0.113.20 {NAME} tide-db db\n203.0.113.9 gull\n"),
        ("127.0.0.1 localhost", f"127.0.0.1 localhost\n127.0.1.1\t{NAME} tide-db\n"),
    ],
)
def test_the_own_line_of_hosts(before: str, after: str) -> None:
    edit = edit_hosts(FileText("/etc/hosts", before), "old", NAME, (OLD,), NEW)
    assert edit is not None
    assert edit.after is not None
    assert edit.after.text == after
    assert edit_hosts(edit.after, "tide-db", NAME, (OLD,), NEW) is None


def test_hostname_keeps_its_form() -> None:
    short = edit_hostname(FileText("/etc/hostname", "old\n"), NAME)
    whole = edit_hostname(FileText("/etc/hostname", "old.example\n"), NAME)
    assert [e.after.text for e in (short, whole) if e and e.after] == ["tide-db\n", f"{NAME}\n"]
    assert edit_hostname(FileText("/etc/hostname", "tide-db\n"), NAME) is None


def test_resolv_conf_and_drop_in() -> None:
    before = FileText("/etc/resolv.conf", "# by hand\nsearch old.example\nnameserver 203.0.113.9\noptions rotate")
    edit = edit_resolv_conf(before, (NEW,), ("ternpoint.example",))
    assert edit is not None
    assert edit.after is not None
    assert edit.after.text == "# by hand\noptions rotate\nsearch ternpoint.example\nnameserver 203.0.113.20\n"
    assert edit_resolv_conf(edit.after, (NEW,), ("ternpoint.example",)) is None
    with pytest.raises(ValueError, match="uses the first 3 only"):
        edit_resolv_conf(None, (NEW,) * 4, ())
    made = edit_drop_in(None, (NEW,), ("ternpoint.example",))
    assert made is not None
    assert made.after is not None
    assert "DNS=203.0.113.20\nDomains=ternpoint.example\n" in made.after.text
    gone = edit_drop_in(made.after, (), ())
    assert gone is not None
    assert gone.after is None


class _WithNmcli(Tree):
    """A tree whose NetworkManager answers."""

    def run(self, argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        lines = ["DHCP4.OPTION[1]:interface_mtu = 1400", "DHCP4.OPTION[2]:ntp_servers = 203.0.113.8 203.0.113.9"]
        return Ran(0, "\n".join(lines), "") if argv[0] == "nmcli" and self.name == "nm" else Ran(127, "", "")


DHCLIENT = """lease {
  interface "eth0";
  option interface-mtu 1300;
}
lease {
  interface "eth0";
  option dhcp-server-identifier 203.0.113.1;
  option interface-mtu 1400;
  option rfc3442-classless-static-routes 0,203,0,113,1,22,198,18,4,203,0,113,5,64,1;
  option host-name "tide";
}
"""


@pytest.mark.parametrize(
    ("path", "text"),
    [
        ("nm/empty", ""),
        ("d/run/systemd/netif/leases/2", "SERVER_ADDRESS=203.0.113.1\nMTU=1400\nNTP=203.0.113.8 203.0.113.9\nROUTES=198.18.4.0/22,203.0.113.5\n"),
        ("d/var/lib/dhcp/dhclient.eth0.leases", DHCLIENT),
    ],
)  # fmt: skip
def test_what_a_lease_supplies(tmp_path: Path, path: str, text: str) -> None:
    tree(tmp_path, {path: text})
    machine = _WithNmcli(tmp_path / path.split("/")[0])
    leased = FoundAddress(parse_interface_address("203.0.113.131/24"), "dhcp", 60)
    lease = lease_of(machine, LinkFacts("eth0"), 2, leased)
    assert (lease.address, lease.mtu) == (OLD, 1400)
    if "dhclient" in path:
        assert lease.hostname == "tide"
    else:
        assert lease.time_servers == ("203.0.113.8", "203.0.113.9")
    if path.startswith("d/"):
        assert lease.server == parse_address("203.0.113.1")
        assert [str(r) for r in lease.routes] == ["198.18.4.0/22 via 203.0.113.5"]


DHCPCD = """\
reason=CARRIER
interface=eth0
protocol=link
ifmtu=1500

reason=BOUND
interface=eth0
protocol=dhcp
ip_address=203.0.113.131
routers=203.0.113.1
domain_name_servers='203.0.113.2 203.0.113.3'
host_name=tide
domain_name=ternpoint.example
domain_search='labs.ternpoint.example lofts.ternpoint.example'
classless_static_routes='0.0.0.0/0 203.0.113.1 198.18.4.0/22 203.0.113.5'
interface_mtu=1400
ntp_servers='203.0.113.8 203.0.113.9'
dhcp_lease_time=120
dhcp_server_identifier=203.0.113.1

reason=ROUTERADVERT
interface=eth0
protocol=ra
nd1_from=fe80::1
"""
DUID = "00:01:00:01:32:a1:e5:e4:00:00:5e:00:53:11\n"


class _WithDhcpcd(Tree):
    """A host on which dhcpcd runs."""

    said = DHCPCD

    def run(self, argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        return Ran(0, self.said, "") if argv == ("dhcpcd", "-U", "eth0") else Ran(127, "", "")


CONF = "# a comment\nduid\npersistent\n"


@pytest.mark.parametrize(
    ("conf", "client_id"),
    [
        (CONF, "ff5e00531100010001" + "32a1e5e400005e005311"),
        ("persistent\n", None),
        (CONF + "clientid tide\n", None),
        (CONF + "interface eth0\n  iaid 7\n", None),
    ],
)
def test_a_lease_of_dhcpcd(tmp_path: Path, conf: str, client_id: str | None) -> None:
    """As that of the others; what it calls itself is told where its configuration leaves no doubt."""
    tree(tmp_path, {"/etc/dhcpcd.conf": conf, "/var/lib/dhcpcd/duid": DUID})
    leased = FoundAddress(parse_interface_address("203.0.113.131/24"), "dhcp", 60)
    lease = lease_of(_WithDhcpcd(tmp_path), LinkFacts("eth0", "00:00:5e:00:53:11"), 2, leased)
    assert (lease.server, lease.mtu, lease.hostname) == (parse_address("203.0.113.1"), 1400, "tide")
    assert [str(r) for r in lease.resolvers] == ["203.0.113.2", "203.0.113.3"]
    assert lease.search == ("labs.ternpoint.example", "lofts.ternpoint.example", "ternpoint.example")
    assert lease.time_servers == ("203.0.113.8", "203.0.113.9")
    assert [str(r) for r in lease.routes] == ["198.18.4.0/22 via 203.0.113.5"]
    assert lease.client_id == client_id


def test_another_lease_of_dhcpcd_is_not_taken_for_this_one(tmp_path: Path) -> None:
    """What it held before it was stopped, or under another address, says nothing of the one in force."""
    leased = FoundAddress(parse_interface_address("203.0.113.140/24"), "dhcp", 60)
    lease = lease_of(_WithDhcpcd(tmp_path), LinkFacts("eth0"), 2, leased)
    assert (lease.server, lease.resolvers) == (None, ())


NETPLAN = "# generated from the datasource by cloud-init\nnetwork:\n  ethernets:\n    eth0:\n      dhcp4: true\n"
INTERFACES = "auto eth0\niface eth0 inet dhcp\n"
NETWORK = "[Match]\nName=eth0\n[Network]\nAddress=203.0.113.9/24\n"


def found(survey: HostSurvey) -> set[tuple[str, str]]:
    return {(f.code, f.seen_in) for f in survey_findings(survey)}


def test_host_findings_name_file_and_line(tmp_path: Path) -> None:
    two = take_stock(tree(tmp_path / "two", {"/etc/netplan/5.yaml": NETPLAN, "/etc/network/interfaces": INTERFACES}))
    assert found(two) == {("two-stacks", "/etc/network/interfaces:2")}
    provisioned = {"/etc/netplan/50-cloud-init.yaml": NETPLAN, "/etc/cloud/cloud.cfg": "preserve_hostname: false\n"}
    again = take_stock(tree(tmp_path / "again", provisioned))
    assert found(again) == {("rewritten-at-boot", "/etc/netplan/50-cloud-init.yaml:4")}
    off = {"/etc/cloud/cloud.cfg.d/9.cfg": "network: {config: disabled}\n"}
    assert found(take_stock(tree(tmp_path / "off", provisioned | off))) == set()
    drop_in = {
        "/etc/systemd/network/9.network": NETWORK,
        "/etc/systemd/network/9.network.d/x.conf": "[Network]\nDHCP=yes\n",
    }
    on = take_stock(tree(tmp_path / "on", drop_in))
    assert found(on) == {("still-asks-dhcp", "/etc/systemd/network/9.network.d/x.conf:2")}
    open_file = take_stock(tree(tmp_path / "open", {"/etc/netplan/5.yaml": NETPLAN}, 0o644))
    assert found(open_file) == {("file-too-open", "/etc/netplan/5.yaml:1")}
