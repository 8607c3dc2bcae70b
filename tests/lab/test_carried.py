"""A runbook on a host that has no Python: collected, drafted elsewhere, carried there, decided at its console."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

import msgspec
import pytest

from fixed_anchor.machines.collected import Collected
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.reporting.documents.stock import host_stock
from tests.documents import only
from tests.lab.conftest import MakeHost
from tests.lab.host import LabHost
from tests.lab.network import run, wait_for
from tests.lab.test_matrix import ANOTHER, STACKS

pytestmark = pytest.mark.one_in(6)

POOL = ("--pool", "203.0.113.100-203.0.113.199")


def tool(*words: str) -> str:
    """The tool on the administrator's machine, which sees nothing of the host."""
    return run("unshare", "--net", sys.executable, "-m", "fixed_anchor", "--color", "never", *words).stdout


def without_python(host: LabHost) -> None:
    for path in host.disk("/usr/bin").glob("python3*"):
        path.unlink()
    assert host("python3", "--version", check=False).returncode == 127


def carry(host: LabHost, folder: Path, seconds: int) -> None:
    host.write("/root/collector.sh", tool("survey", "--collector"))
    digest = host.etc_digest()
    collection = folder / "tide-db.collection"
    collection.write_text(host("sh", "/root/collector.sh").stdout)
    assert host.etc_digest() == digest
    plan = str(folder / "plan.yaml")
    tool("propose", "--survey", str(collection), "--at", ANOTHER, *POOL, "-o", plan, "--replace")
    assert "reach: collected:tide-db.collection" in Path(plan).read_text()
    tool("draft", plan, "--runbook", "-o", str(folder), "--confirm-within", str(seconds))
    host.write("/root/runbook.sh", (folder / "tide-db-runbook.sh").read_text(), 0o700)


def console(host: LabHost) -> subprocess.Popen[str]:
    argv = host.argv("sh", "/root/runbook.sh")
    return subprocess.Popen(argv, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)


@pytest.mark.parametrize("stack", ["networkd", "ifupdown"])
def test_a_carried_runbook(stack: str, make_host: MakeHost, tmp_path: Path) -> None:
    host = make_host(*STACKS[stack])
    without_python(host)
    carry(host, tmp_path, 8)
    before = host.etc_digest()
    shown = host("sh", "/root/runbook.sh", "show").stdout
    assert ANOTHER in shown
    assert "not looked at when this was drafted: not-probed" in shown
    assert host.etc_digest() == before

    # Nobody answers: it puts itself back.
    silent = console(host)
    wait_for("the new address", lambda: host.holds(ANOTHER), 60, 0.05)
    wait_for("the lease, by itself", lambda: host.leased() and not host.holds(ANOTHER), 60)
    assert silent.stdin is not None
    silent.stdin.write("keep\n")
    silent.stdin.close()
    assert silent.wait(60) == 3, silent.stdout and silent.stdout.read()
    assert host.etc_digest() == before

    # Confirmed at the console, with time enough on a machine that is busy.
    carry(host, tmp_path, 180)
    kept = console(host)
    wait_for("the new address", lambda: host.holds(ANOTHER), 60)
    out, _ = kept.communicate("keep\n", timeout=240)
    assert kept.returncode == 0, out
    assert "pass: address 203.0.113.20/24 fixed on eth0" in out
    assert "pass: the gateway answers" in out
    # Without Python by busybox's arping, after it has asked whether anybody else has the address.
    assert "pass: nobody else has 203.0.113.20 on eth0, and it was announced" in out
    assert "its digest is as it was made" in host.read("/var/lib/fixed-anchor/changes/0002/log")
    assert not host.leased()
    host.reboot()
    wait_for("the address after the reboot", lambda: host.holds(ANOTHER), 30)


@pytest.mark.parametrize("stack", STACKS)
def test_a_collection_surveys_like_the_host_itself(stack: str, make_host: MakeHost, tmp_path: Path) -> None:
    host = make_host(*STACKS[stack])
    host("ip", "rule", "add", "priority", "900", "from", "203.0.113.77", "lookup", "100")
    host.write("/root/collector.sh", tool("survey", "--collector"))
    collection = tmp_path / "tide-db.collection"
    collection.write_text(host("sh", "/root/collector.sh").stdout)

    def facts(document: dict[str, Any]) -> dict[str, Any]:
        for interface in document["interfaces"]:
            for told in (*interface["addresses"], interface["lease"] or {}):
                told.pop("seconds_left", None)
        return document

    live = facts(only(host.tool("survey", "--json").stdout))
    carried = facts(msgspec.to_builtins(host_stock(take_stock(Collected(collection)))))
    # Here it is "this machine", there it has a name.
    assert json.loads(json.dumps(carried).replace("tide-db", live["host"])) == live
    assert "kernel-only-state" in {f["code"] for f in live["findings"]}


def test_a_runbook_is_refused_where_it_does_not_belong(make_host: MakeHost, tmp_path: Path) -> None:
    host = make_host(*STACKS["networkd"])
    carry(host, tmp_path, 600)
    before = host.etc_digest()
    text = host.read("/root/runbook.sh")
    network = "/etc/systemd/network/20-quay.network"
    for wrong, status, said in (
        (text.replace("|eth0 00:00:5e:00:53:11", "|eth0 00:00:5e:00:53:99"), 2, "altered on the way"),
        (text[: len(text) // 2], 2, "cut short"),
    ):
        host.write("/root/runbook.sh", wrong)
        done = host("sh", "/root/runbook.sh", check=False)
        assert (done.returncode, said in done.stderr) == (status, True), done.stderr
    host.write("/root/runbook.sh", text)
    host.write(network, host.read(network) + "# by hand\n", 0o644)
    edited = host("sh", "/root/runbook.sh", check=False)
    assert edited.returncode == 1
    assert "+# by hand" in edited.stderr
    assert host.etc_digest() != before
    host.write(network, host.read(network).replace("# by hand\n", ""), 0o644)
    assert host.etc_digest() == before
    assert list(host.disk("/var/lib/fixed-anchor/changes").iterdir()) == []
