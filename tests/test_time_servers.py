"""Where the time servers of a plan go: the drop-in of the host's time daemon, or systemd-networkd's own file."""

from __future__ import annotations

from pathlib import Path

import pytest

from fixed_anchor.change.change import Draft
from fixed_anchor.core.errors import InputError, NotSupported
from fixed_anchor.core.survey import TimeService
from fixed_anchor.daemons import TIME_DAEMONS, host_wide_steps, time_is_active
from fixed_anchor.formats import chrony_conf, timesyncd_conf
from fixed_anchor.machines.tree import Tree
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.planfile.reader import plan_from_text
from fixed_anchor.workflow.linux.draft_files import draft_host
from fixed_anchor.workflow.reached.site import Site
from fixed_anchor.workflow.verify import verify
from tests.machines import ToldOnDisk, one_link

PLAN = """\
plan: 1
segments:
  quay: {subnet: 203.0.113.0/24, gateway: 203.0.113.1, resolvers: 203.0.113.2, pools: []}
  labs: {subnet: 198.51.100.0/24, resolvers: 198.51.100.2, pools: []}
hosts:
  tide-db:
    reach: tree:.
    interfaces:
      eth1: {segment: labs, gateway: none, hold: 198.51.100.20, time_servers: [198.51.100.8, time.ternpoint.example]}
      eth0: {segment: quay, hold: 203.0.113.20, time_servers: SERVERS}
"""
NETPLAN = {"etc/netplan/5.yaml": "network: {ethernets: {eth0: {dhcp4: true}, eth1: {dhcp4: true}}}\n"}
NETWORKD = {f"etc/systemd/network/{n}.network": f"[Match]\nName={n}\n[Network]\nDHCP=ipv4\n" for n in ("eth0", "eth1")}
DEBIAN = "confdir /etc/chrony/conf.d\npool pool.example\nsourcedir /run/chrony-dhcp\nsourcedir /etc/chrony/sources.d\n"
WANTS = "etc/systemd/system/sysinit.target.wants/systemd-timesyncd.service"
DROP_IN = timesyncd_conf.DROP_IN
SOURCES = "/etc/chrony/sources.d/fixed-anchor.sources"


def drafted(root: Path, files: dict[str, str], servers: str = "[203.0.113.8]") -> Draft:
    for path, text in files.items():
        target = root / path
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(text)
    plan = plan_from_text(PLAN.replace("SERVERS", servers), str(root / "plan.yaml"))
    machine = Tree(root)
    return draft_host(plan, plan.hosts["tide-db"], machine, take_stock(machine))


def written(draft: Draft) -> dict[str, str]:
    return {e.path: e.after.text for e in draft.content.edits if e.after is not None}


@pytest.mark.parametrize(
    ("text", "path", "untold"),
    [
        (DEBIAN, SOURCES, False),
        ("! sourcedir /etc/chrony/a\n# confdir /b\nConfDir /etc/chrony/c /d\n", "/etc/chrony/c/fixed-anchor.conf", 0),
        ("include /etc/chrony.d/*.conf\n", "/etc/chrony.d/fixed-anchor.conf", False),
        ("include /etc/chrony.d/only-this.conf\nsourcedir /run/chrony-dhcp\n", "/etc/chrony.d/fixed-anchor.conf", True),
        ("sourcedir /srv/elsewhere /etc/chrony/x/\n", "/etc/chrony/x/fixed-anchor.sources", False),
        ("", "/etc/chrony.d/fixed-anchor.conf", True),
    ],
)  # fmt: skip
def test_the_folder_that_chrony_reads(text: str, path: str, untold: bool) -> None:
    assert chrony_conf.drop_in_of(text) == (path, untold)


def test_what_drop_ins_say() -> None:
    assert timesyncd_conf.says_drop_in("[Time]\nNTP=a b\nNTP=\nNTP = c d\n#NTP=e\nNTP=f\n") == ("c", "d", "f")
    text = "server a iburst\n; server b\npool c\nPeer d\nserver\nmakestep 1 3\n"
    assert chrony_conf.says_drop_in(text) == ("a", "c", "d")


@pytest.mark.parametrize(
    ("files", "path", "step"),
    [
        ({WANTS: ""}, DROP_IN, ("systemctl", "restart", "systemd-timesyncd.service")),
        ({"etc/chrony/chrony.conf": DEBIAN}, SOURCES, ("chronyc", "reload", "sources")),
        (
            {"etc/chrony.conf": "include /etc/chrony.d/*.conf\n"},
            "/etc/chrony.d/fixed-anchor.conf",
            ("systemctl", "restart", "chronyd.service"),
        ),
        (
            {"etc/chrony/chrony.conf": "confdir /etc/chrony/conf.d\n"},
            "/etc/chrony/conf.d/fixed-anchor.conf",
            ("systemctl", "restart", "chrony.service"),
        ),
    ],
)
def test_every_interface_s_servers_go_to_one_drop_in(
    files: dict[str, str], path: str, step: tuple[str, ...], tmp_path: Path
) -> None:
    made = drafted(tmp_path, NETPLAN | files)
    # Those of the interface with the default route come first.
    order = ["203.0.113.8", "198.51.100.8", "time.ternpoint.example"]
    text = written(made)[path]
    assert sorted(order, key=text.index) == order
    assert made.content.steps.activate[0] == made.content.steps.reload[0] == step
    assert {c.time_servers for c in made.wanted} == {tuple(order)}
    # Once it is written, the same plan has nothing left to say to it.
    for edited, after in written(made).items():
        (tmp_path / edited.lstrip("/")).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / edited.lstrip("/")).write_text(after)
    assert path not in written(drafted(tmp_path, {}))


def test_a_main_file_without_a_folder_is_told_of_one(tmp_path: Path) -> None:
    main = "# ours\npool pool.example iburst\nsourcedir /run/chrony-dhcp\n"
    made = drafted(tmp_path, NETPLAN | {"etc/chrony.conf": main})
    texts = written(made)
    assert texts["/etc/chrony.conf"] == main + "confdir /etc/chrony.d\n"
    assert "server 203.0.113.8 iburst\n" in texts["/etc/chrony.d/fixed-anchor.conf"]
    assert made.content.steps.activate.count(("systemctl", "restart", "chronyd.service")) == 1


def test_systemd_networkd_tells_systemd_timesyncd_itself_and_nobody_else(tmp_path: Path) -> None:
    own = written(drafted(tmp_path / "own", NETWORKD | {WANTS: ""}))
    assert "NTP=203.0.113.8\n" in own["/etc/systemd/network/eth0.network"]
    assert DROP_IN not in own
    other = written(drafted(tmp_path / "other", NETWORKD | {"etc/chrony/chrony.conf": DEBIAN}))
    assert "NTP=" not in other["/etc/systemd/network/eth0.network"]
    assert SOURCES in other


def test_without_a_known_time_daemon_nothing_is_promised(tmp_path: Path) -> None:
    with pytest.raises(NotSupported, match="time_servers"):
        drafted(tmp_path, NETPLAN)


def test_none_on_purpose_takes_the_drop_in_away(tmp_path: Path) -> None:
    files = NETPLAN | {WANTS: "", DROP_IN.lstrip("/"): "[Time]\nNTP=203.0.113.7\n"}
    text = PLAN.replace(", time_servers: [198.51.100.8, time.ternpoint.example]", "").replace("SERVERS", "[]")
    drafted(tmp_path, files, "[203.0.113.7]")
    plan = plan_from_text(text, str(tmp_path / "plan.yaml"))
    machine = Tree(tmp_path)
    made = draft_host(plan, plan.hosts["tide-db"], machine, take_stock(machine))
    assert [e.path for e in made.content.edits if e.after is None] == [DROP_IN]


@pytest.mark.parametrize("text", ['"203.0.113.8 iburst"', '"a\\nserver b"', "203.0.113.300", '"a;b"', '"fe80::1%eth0"'])
def test_a_time_server_is_an_address_or_a_name(text: str) -> None:
    with pytest.raises(InputError):
        plan_from_text(PLAN.replace("SERVERS", f"[{text}]"), "plan.yaml")


# --- what runs --------------------------------------------------------------------------

ASK = " ".join(time_is_active())
STACKS = "systemctl is-active systemd-networkd.service NetworkManager.service networking.service network.service"
RUNNING = {f"{STACKS} systemd-resolved.service": "active\n" + "inactive\n" * 4}


@pytest.mark.parametrize(
    ("active", "question", "said", "expected"),
    [
        (
            "active\ninactive\ninactive\n",
            "timedatectl show-timesync",
            "LinkNTPServers=203.0.113.8\nSystemNTPServers=203.0.113.9 a.example\nFallbackNTPServers=b.example\n",
            TimeService("systemd-timesyncd", DROP_IN, "", ("203.0.113.8", "203.0.113.9", "a.example")),
        ),
        (
            "inactive\nactive\nactive\n",
            "chronyc -c -N sources -a",
            "^,?,pool.example,0,6\n^,?,pool.example,0,6\n^,*,203.0.113.8,2,6\n\n",
            TimeService("chrony", SOURCES, "", ("pool.example", "203.0.113.8")),
        ),
        ("inactive\ninactive\nactive\n", "none", "", TimeService("chronyd", SOURCES)),
        ("inactive\ninactive\ninactive\n", "none", "", None),
    ],
)
def test_the_daemon_that_runs_says_whom_it_follows(
    active: str, question: str, said: str, expected: TimeService | None, tmp_path: Path
) -> None:
    (tmp_path / "etc/chrony").mkdir(parents=True)
    (tmp_path / "etc/chrony/chrony.conf").write_text(DEBIAN)
    commands = one_link("203.0.113.107/24") | RUNNING | {ASK: active, question: said}
    survey = take_stock(ToldOnDisk(tmp_path, commands))
    assert survey.time_service == expected
    assert survey.interfaces[0].time_servers == (expected.servers if expected is not None else None)


def test_each_file_is_loaded_by_its_own_daemon_alone() -> None:
    for path in (DROP_IN, SOURCES, "/etc/chrony.conf", "/etc/chrony/chrony.conf", "/etc/chrony.d/fixed-anchor.conf"):
        assert sum(bool(daemon.load(path)) for daemon in TIME_DAEMONS) == 1, path
    assert not host_wide_steps(["/etc/chrony.keys", "/etc/systemd/timesyncd.conf"]).activate


def test_a_daemon_that_follows_others_is_not_as_planned(tmp_path: Path) -> None:
    for path, text in NETPLAN.items():
        (tmp_path / path).parent.mkdir(parents=True)
        (tmp_path / path).write_text(text)
    plan = plan_from_text(
        PLAN.replace("SERVERS", "[203.0.113.8]")
        .replace("    reach: tree:.\n", "")
        .replace("eth0: {", 'eth0: {mac: "00:00:5e:00:53:11", '),
        str(tmp_path / "plan.yaml"),
    )
    asked = {ASK: "active\ninactive\ninactive\n", "timedatectl show-timesync": "SystemNTPServers=203.0.113.9\n"}
    for more, outcome in ((asked, "fail"), ({}, "skipped")):
        here = ToldOnDisk(tmp_path, one_link("203.0.113.20/24", leased=False) | RUNNING | more)
        checks = [c for c in verify(Site(plan, here)).checks if c.code == "time-servers-in-force"]
        assert [c.outcome for c in checks] == [outcome]
        assert checks[0].required == (outcome == "fail")
