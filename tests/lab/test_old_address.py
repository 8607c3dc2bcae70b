"""A real host whose services know its old address: each is found, and none is invented; a large search has an end."""

from __future__ import annotations

import json
import subprocess
import sys

import pytest

from fixed_anchor.machines.search import Limits
from tests.documents import findings
from tests.lab.conftest import MakeHost
from tests.lab.host import LabHost
from tests.lab.network import wait_for
from tests.lab.test_carried import tool
from tests.lab.test_matrix import ANOTHER, STACKS, plan

SSHD = ("ssh.service",)
CODES = ("old-address-in-use", "search-incomplete")


def told(host: LabHost) -> list[dict[str, str]]:
    document = json.loads(host.tool("check", "plan.yaml", "--json").stdout)
    return [f for f in findings(document) if f["code"] in CODES]


def listens(host: LabHost, text: str) -> None:
    wait_for(f"a socket at {text}", lambda: text in host("ss", "-Hltn").stdout)


@pytest.fixture(params=["networkd", "ifupdown"])
def served(request: pytest.FixtureRequest, make_host: MakeHost) -> LabHost:
    files, units = STACKS[request.param]
    host = make_host(files, (*units, *SSHD))
    plan(host, f"hold: {ANOTHER}")
    listens(host, "0.0.0.0:22")
    return host


def test_what_uses_the_old_address_is_found_where_it_stands(served: LabHost) -> None:
    host, old = served, served.leased_address()
    # Nothing names it yet but the lease, and its client's own socket.
    assert told(host) == []
    host.write("/etc/hosts", f"127.0.0.1 localhost\n{old} tide-db.ternpoint.example tide-db\n", 0o644)
    host.write("/etc/exports", f"# was {old}\n/srv/gauges {old}(rw) 203.0.113.9(ro)\n", 0o644)
    host.write("/etc/webd/site.conf", f"root /srv\nlisten {old}:80\n", 0o644)
    host.write("/etc/webd/site.conf.dpkg-old", f"listen {old}:80\n", 0o644)
    host.write("/etc/ssh/sshd_config.d/quay.conf", f"ListenAddress {old}\nListenAddress 127.0.0.1\n", 0o644)
    host("systemctl", "restart", "ssh.service")
    host.start("busybox", "httpd", "-f", "-p", f"{old}:80", "-h", "/etc/webd")
    listens(host, f"{old}:80")
    listens(host, f"{old}:22")
    found = told(host)
    assert {(f["seen_in"], f["severity"]) for f in found} == {
        ("/etc/hosts:2", "warning"),
        ("/etc/exports:2", "warning"),
        ("/etc/webd/site.conf:2", "warning"),
        ("/etc/ssh/sshd_config.d/quay.conf:1", "blocker"),
        ("sockets of tide-db", "blocker"),
        ("sockets of tide-db", "warning"),
    }
    assert {f["message"].split(" ")[0] for f in found if f["seen_in"].startswith("sockets")} == {"sshd", "busybox"}
    done = host.tool("cutover", "plan.yaml", "--unattended")
    assert done.returncode == 1
    assert "nobody could log in there" in done.stdout + done.stderr
    # What the collector carries says the same, with the tool on another machine.
    host.write("/root/collector.sh", tool("survey", "--collector"))
    collection = host.folder / "tide-db.collection"
    collection.write_text(host("sh", "/root/collector.sh").stdout)
    there = host.folder / "plan.yaml"
    there.write_text(
        host.read("/root/plan.yaml").replace("tide-db:", "tide-db:\n    reach: collected:tide-db.collection")
    )
    carried = json.loads(tool_that_ends("check", str(there), "--json"))
    assert {f["seen_in"] for f in findings(carried) if f["code"] in CODES} == {f["seen_in"] for f in found}


def tool_that_ends(*words: str) -> str:
    """The tool on the administrator's machine, whatever its verdict."""
    argv = ["unshare", "--net", sys.executable, "-m", "fixed_anchor", "--color", "never", *words]
    return subprocess.run(argv, capture_output=True, text=True, check=False).stdout


def test_a_search_among_very_many_files_ends_and_says_what_it_left_out(make_host: MakeHost) -> None:
    host = make_host(*STACKS["networkd"])
    plan(host, f"hold: {ANOTHER}")
    old = host.leased_address()
    for number in range(50_000):
        folder = host.disk(f"/etc/many/{number // 1000}")
        if not number % 1000:
            folder.mkdir(parents=True)
        (folder / str(number)).write_text(f"line {number}\n")
    host.write("/etc/zz/last.conf", f"listen {old}\n")
    for path in ("/etc/app/app.log", "/var/named/data/query.log"):
        host.write(path, f"{old}\n")
        with open(host.disk(path), "r+b") as log:
            log.truncate(2 * 1024**3)
    script = (
        "import json, time; from ipaddress import ip_address\n"
        "from fixed_anchor.core.elsewhere import Spelling; from fixed_anchor.machines.here import Here\n"
        f"begun = time.monotonic(); seen = Here().search(Spelling([ip_address('{old}')]))\n"
        "print(json.dumps([time.monotonic() - begun, [str(m.place) for m in seen.mentions], seen.left_out]))"
    )
    done = host("env", "PYTHONDONTWRITEBYTECODE=1", sys.executable, "-c", script)
    seconds, mentions, left_out = json.loads(done.stdout)
    print(f"searched in {seconds:.2f} s")
    # All of it would take many minutes.
    assert seconds < Limits().seconds + 30
    if mentions:
        assert mentions == ["/etc/zz/last.conf:1"]
        assert left_out == ["/etc/app/app.log and 1 more: larger than 1 MiB"]
    else:
        assert "seconds were over" in left_out[-1]
    (note,) = [f for f in told(host) if f["code"] == "search-incomplete"]
    assert "/etc/app/app.log" in note["message"]
