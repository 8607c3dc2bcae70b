"""What still uses or names an address that goes is found where it stands, and nothing else is."""

from __future__ import annotations

from ipaddress import ip_address
from pathlib import Path

import pytest

from fixed_anchor.core.addresses import parse_address
from fixed_anchor.core.elsewhere import Spelling
from fixed_anchor.core.findings import Finding
from fixed_anchor.machines.collected import Collected
from fixed_anchor.machines.search import Limits, search_folders
from fixed_anchor.observe.listeners import listen_addresses, listeners
from fixed_anchor.planfile.reader import read_plan
from fixed_anchor.workflow.reached.site import Site
from tests.judging import check
from tests.machines import Told, ToldOnDisk, one_link

OLD, NEW = "203.0.113.107", "203.0.113.20"
PLAN = """\
plan: 1
segments:
  quay: {subnet: 203.0.113.0/24, gateway: 203.0.113.1, resolvers: RESOLVERS, pools: []}
sources: SOURCES
hosts:
  tide-db:
    interfaces:
      eth0: {mac: "00:00:5e:00:53:11", segment: quay, hold: 203.0.113.20}
  kelp-files:
    reach: tree:kelp-files
    interfaces:
      eth0: {mac: "00:00:5e:00:53:12", segment: quay, hold: 203.0.113.30}
"""
EVERY = 'tcp LISTEN 0 128 0.0.0.0:22 0.0.0.0:* users:(("sshd",pid=1,fd=3))\ntcp LISTEN 0 128 [::]:22 [::]:*\n'
NETPLAN = {"etc/netplan/50.yaml": "network: {ethernets: {eth0: {dhcp4: true}}}\n"}


def lay(root: Path, files: dict[str, str]) -> None:
    for path, text in files.items():
        target = root / path
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(text)


def found(
    folder: Path,
    files: dict[str, str] | None = None,
    sockets: str = EVERY,
    other: dict[str, str] | None = None,
    sources: str = "[]",
    resolvers: str = "203.0.113.2",
) -> list[Finding]:
    """What a check of two hosts says of the leased address of the first, which goes; ``other`` is of the second."""
    lay(folder / "tide-db", NETPLAN | (files or {}))
    lay(folder / "kelp-files", NETPLAN | (other or {}))
    (folder / "plan.yaml").write_text(PLAN.replace("SOURCES", sources).replace("RESOLVERS", resolvers))
    commands = one_link(f"{OLD}/24") | {"ss -H -l -n -t -u -p": sockets}
    here = ToldOnDisk(folder / "tide-db", commands)
    result = check(Site(read_plan(folder / "plan.yaml"), here), wire=False)
    return [f for f in result.findings if f.code in ("old-address-in-use", "search-incomplete")]


@pytest.mark.parametrize(
    ("address", "text", "there"),
    [
        (OLD, "bind 203.0.113.107:80", True),
        (OLD, "/srv 203.0.113.107(rw) 203.0.113.9(ro)", True),
        (OLD, "ip saddr 203.0.113.107/32 accept", True),
        (OLD, "http://203.0.113.107/gauges", True),
        (OLD, "listen=::ffff:203.0.113.107", True),
        (OLD, "It was 203.0.113.107.", True),
        (OLD, "203.0.113.1070 1203.0.113.107 203.0.113.107.4 203.0.113.10", False),
        (OLD, "203.0.113.106-203.0.113.108", False),
        ("2001:db8:7e::14", "listen [2001:db8:7e::14]:80;", True),
        ("2001:db8:7e::14", "ip6 saddr 2001:DB8:007E:0:0:0:0:14/128", True),
        ("2001:db8:7e::14", "acl peer 2001:0db8:7e:0::14;", True),
        ("2001:db8:7e::14", "2001:db8:7e::141 2001:db8:7e::1 1:2001:db8:7e::14 2001:db8:7e:0:1::14", False),
        ("2001:db8:7e::", "net 2001:db8:7e::", True),
    ],
)
def test_an_address_is_found_however_it_is_written(address: str, text: str, there: bool) -> None:
    spelling = Spelling((parse_address(address),))
    assert spelling.in_line(text) == ((ip_address(address),) if there else ())
    assert spelling.may_be_in(text.encode()) or not there


def test_files_that_name_it_are_told_with_their_lines(tmp_path: Path) -> None:
    files = {
        "etc/hosts": f"127.0.0.1 localhost\n{OLD} tide-db\n",
        "etc/exports": f"/srv *(ro)\n/srv/a {OLD}(rw)\n/srv/b {OLD}(rw)\n",
        "etc/app/site.conf": f"listen {OLD}:80\npassword = {OLD}-x\n",
        # Nobody reads these.
        "etc/app/site.conf.bak": f"listen {OLD}:80\n",
        "etc/app/site.conf~": f"listen {OLD}:80\n",
        "etc/app/other.conf": f"# listen {OLD}:80\n; {OLD}\n  // {OLD}\nlisten {OLD}0\nlisten 80 # {OLD}\n",
        "var/log/app.log": f"connect to {OLD}\n",
    }
    hosts, *rest = sorted(found(tmp_path, files), key=lambda f: f.seen_in, reverse=True)
    exports, site = rest
    assert [f.seen_in for f in (hosts, exports, site)] == ["/etc/hosts:2", "/etc/exports:2", "/etc/app/site.conf:1"]
    assert {(f.code, f.severity, f.host, f.address) for f in (hosts, *rest)} == {
        ("old-address-in-use", "warning", "tide-db", OLD)
    }
    assert "also in line 3" in exports.message
    assert f"write {NEW} there" in exports.remedy


def test_nothing_is_told_where_nothing_names_it(tmp_path: Path) -> None:
    client = f"udp UNCONN 0 0 {OLD}%eth0:68 0.0.0.0:*\ntcp LISTEN 0 9 127.0.0.1:53 0.0.0.0:*\n"
    files = {"etc/hosts": "127.0.0.1 localhost\n203.0.113.1 gateway\n"}
    assert found(tmp_path, files, EVERY + client) == []
    # Nor of a line that the draft itself rewrites: the address of today in the stack's own file.
    fixed = f"network: {{ethernets: {{eth0: {{addresses: [{OLD}/24]}}}}}}\n"
    assert found(tmp_path, {"etc/netplan/50.yaml": fixed}) == []


@pytest.mark.parametrize(
    ("sockets", "config", "blocks"),
    [
        (f'tcp LISTEN 0 1 {OLD}:22 0.0.0.0:* users:(("sshd",pid=1,fd=3))\n', "", True),
        (f'tcp LISTEN 0 1 {OLD}:22 0.0.0.0:* users:(("systemd",pid=1,fd=3))\n', "", True),
        (
            f'tcp LISTEN 0 1 {OLD}:22 0.0.0.0:* users:(("sshd",pid=1,fd=3))\n'
            'tcp LISTEN 0 1 127.0.0.1:22 0.0.0.0:* users:(("sshd",pid=1,fd=4))\n',
            "",
            True,
        ),
        (
            f'tcp LISTEN 0 1 {OLD}:22 0.0.0.0:* users:(("sshd",pid=1,fd=3))\n'
            'tcp LISTEN 0 1 [2001:db8:7e::14]:22 [::]:* users:(("sshd",pid=1,fd=4))\n',
            "",
            False,
        ),
        (f'tcp LISTEN 0 1 {OLD}:80 0.0.0.0:* users:(("webd",pid=1,fd=3))\n' + EVERY, "", False),
        (f"udp UNCONN 0 0 {OLD}:123 0.0.0.0:*\n" + EVERY, "", False),
        (f'tcp LISTEN 0 1 {OLD}:2022 0.0.0.0:* users:(("systemd",pid=1,fd=3))\n', "Port 2022\n", True),
        (f'tcp LISTEN 0 1 {OLD}:8080 0.0.0.0:* users:(("systemd",pid=1,fd=3))\n' + EVERY, "", False),
        (EVERY, f"ListenAddress {OLD}\n", True),
        (EVERY, f"listenaddress={OLD}:2022\nListenAddress [::1]:22\n", True),
        (EVERY, "ListenAddress tide-db\n", True),
        (EVERY, "Include more/*.conf\n", True),
        (EVERY, f"ListenAddress {OLD}\nListenAddress 203.0.113.20\n", False),
        (EVERY, f"ListenAddress {OLD}\nListenAddress some-name\n", False),
        (f'tcp LISTEN 0 1 {OLD}:2122 0.0.0.0:* users:(("systemd",pid=1,fd=3))\n', "socket", True),
    ],
)
def test_sshd_that_listens_on_it_alone_blocks(sockets: str, config: str, blocks: bool, tmp_path: Path) -> None:
    files = {
        "etc/ssh/sshd_config": config,
        "etc/ssh/more/a.conf": f"ListenAddress {OLD}\nMatch User x\nListenAddress x\n",
    }
    if config == "socket":
        files = {"etc/systemd/system/ssh.socket.d/a.conf": "[Socket]\nListenStream=\nListenStream=203.0.113.0:2122\n"}
    if "tide-db" in config:
        files |= {"etc/hosts": f"{OLD} Tide-DB\n"}
    if "Include" not in config:
        files.pop("etc/ssh/more/a.conf", None)
    told = found(tmp_path, files, sockets)
    assert told
    assert ("blocker" in {f.severity for f in told}) is blocks
    assert all("nobody could log in" in f.message for f in told if f.severity == "blocker")
    # Each line is told once.
    assert len({(f.seen_in, f.address) for f in told}) == len(told)


def test_what_nobody_could_ask_is_not_known(tmp_path: Path) -> None:
    lay(tmp_path, {"etc/ssh/sshd_config": 'ListenAddress "unclosed\nListenAddress 203.0.113.9 # one\n'})
    machine = ToldOnDisk(tmp_path, {})
    assert listeners(machine) is None
    assert [a.place.line for a in listen_addresses(machine)] == [2]


def test_other_hosts_sources_and_the_plan_itself(tmp_path: Path) -> None:
    (tmp_path / "list.csv").write_text(f"address,name\n{OLD},tide-db\n203.0.113.9,gull\n")
    (tmp_path / "a.zone").write_text(f"$ORIGIN ternpoint.example.\n@ IN SOA a b 1 2 3 4 5\ndb IN A {OLD}\n")
    (tmp_path / "table").write_text(f"{OLD} tide-db\n")
    told = found(
        tmp_path,
        other={
            # It gives up an address, too.
            "etc/netplan/50.yaml": "network: {ethernets: {eth0: {addresses: [203.0.113.31/24]}}}\n",
            "etc/fstab": f"{OLD}:/srv /srv nfs defaults 0 0\n",
        },
        sources="[{zone: a.zone}, {hosts: table}, {address-list: list.csv}]",
        resolvers=f"[203.0.113.2, {OLD}]",
    )
    assert {(f.host, f.seen_in.rpartition("/")[2]) for f in told} == {
        ("kelp-files", "fstab:1"),
        ("tide-db", "a.zone:3"),
        ("tide-db", "table:1"),
        ("tide-db", "list.csv:2"),
        ("tide-db", "plan.yaml:3"),
    }
    assert {f.severity for f in told} == {"warning"}


def test_a_search_has_bounds_and_says_what_it_left_out(tmp_path: Path) -> None:
    lay(tmp_path, {f"etc/d/{n:03}": f"{OLD}\n" for n in range(40)} | {"etc/c\0d".replace("\0", ""): "x"})
    with open(tmp_path / "etc/big.log", "wb") as big:
        big.truncate(2**31)
    (tmp_path / "etc/binary").write_bytes(b"\0" + OLD.encode())
    (tmp_path / "etc/link").symlink_to("/dev/zero")
    spelling = Spelling((parse_address(OLD),))

    def search(**limits: float) -> tuple[int, tuple[str, ...]]:
        seen = search_folders(lambda p: tmp_path / p[1:], spelling, Limits(**limits))  # type: ignore[arg-type]
        return len(seen.mentions), seen.left_out

    assert search() == (40, ("/etc/big.log: larger than 1 MiB",))
    assert search(files=10) == (
        7,
        ("/etc/big.log: larger than 1 MiB", "/etc/d/007 and all that comes after it: 10 files were looked at"),
    )
    assert search(lines=5)[1][1].endswith("/005 and all that comes after it: 5 lines were found")
    assert search(seconds=-1)[1][0].endswith("-1 seconds were over")


def test_a_collection_has_what_the_collector_found(tmp_path: Path) -> None:
    argv = [
        "timeout",
        "10",
        "find",
        "/etc",
        "/usr/local/etc",
        "/var/named",
        "/var/spool/cron",
        "-xdev",
        "-type",
        "f",
        "-size",
    ]
    grep = [*argv, "-2048", "-exec", "grep", "-IHniF", "-m", "50", "-e", OLD, "{}", "+"]
    words = "".join(f" {word}\n" for word in grep)
    large = "".join(f" {word}\n" for word in [*argv, "+2047"])
    document = (
        f"fixed-anchor collection 1\nhost tide-db\nrun {len(grep)}\n{words}"
        f"|/etc/exports:4:/srv {OLD}(rw)\n|/etc/exports.bak:4:/srv {OLD}(rw)\n|/etc/x:1:# {OLD}\nstatus 124\n"
        f"run {len(argv) + 1}\n{large}|/etc/big\nstatus 0\nfile 644 0 0 /etc/hosts\n|{OLD} tide-db\nend\n"
    )
    (tmp_path / "host.collection").write_text(document)
    collected = Collected(tmp_path / "host.collection")
    seen = collected.search(Spelling((parse_address(OLD), parse_address("203.0.113.9"))))
    assert {str(m.place) for m in seen.mentions} == {"/etc/exports:4", "/etc/hosts:1"}
    assert seen.left_out == (
        "some files of tide-db: 10 seconds were over",
        "/etc/big: larger than 1 MiB",
        "files of tide-db that name 203.0.113.9: the collector did not look for it",
    )


def test_an_address_that_stays_or_moves_is_not_looked_for(tmp_path: Path) -> None:
    here = Told(one_link(f"{NEW}/24") | {"ss -H -l -n -t -u -p": EVERY}, {"/etc/hosts": f"{NEW} tide-db\n"})
    lay(tmp_path / "kelp-files", NETPLAN)
    (tmp_path / "plan.yaml").write_text(PLAN.replace("SOURCES", "[]").replace("RESOLVERS", "203.0.113.2"))
    result = check(Site(read_plan(tmp_path / "plan.yaml"), here), wire=False)  # type: ignore[arg-type]
    assert not [f for f in result.findings if f.code == "old-address-in-use"]
