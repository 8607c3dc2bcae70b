"""A guard must outlive the session that began the change, also where sessions take their processes with them."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.lab.conftest import MakeHost
from tests.lab.faults import ANOTHER, CHANGE, ends, guard_pid, log, state
from tests.lab.host import LabHost
from tests.lab.network import Segment, wait_for
from tests.lab.ssh import Admin, tool_line
from tests.lab.test_matrix import STACKS, plan

#: root's own sessions are spared unless logind.conf(5) says so.
LOGIND = "[Login]\nKillUserProcesses={}\nKillExcludeUsers=nobody\n"


def make(make_host: MakeHost, kill: str, transient: bool) -> LabHost:
    files, units = STACKS["networkd"]
    more = {"/etc/systemd/logind.conf.d/tern.conf": LOGIND.format(kill)}
    host = make_host(files | more, (*units, "ssh.service"))
    if not transient:
        host.write("/usr/local/bin/systemd-run", "#!/bin/sh\nexit 1\n", 0o755)
    plan(host, f"hold: {ANOTHER}")
    return host


def session(host: LabHost, segment: Segment, folder: Path) -> tuple[Admin, str]:
    """Somebody who can log in, and the address by which; the login is a session of logind."""
    admin = Admin(host, segment, folder)
    old = host.leased_address()
    assert "/session-" in admin.run(old, "cat /proc/self/cgroup").stdout
    return admin, old


pytestmark = pytest.mark.one_in(3)


@pytest.mark.parametrize(("kill", "transient"), [("yes", True), ("no", False)])
def test_it_lives_on(make_host: MakeHost, segment: Segment, tmp_path: Path, kill: str, transient: bool) -> None:
    host = make(make_host, kill, transient)
    before = host.etc_digest()
    admin, old = session(host, segment, tmp_path)
    line = tool_line("cutover", "/root/plan.yaml", "--confirm-within", "15", "--grace")
    admin.run(old, f"{line} >/root/said 2>&1 & while ! test -e {CHANGE}/verdict; do sleep 0.2; done")
    wait_for("the session to be gone", lambda: host("pgrep", "sshd").stdout.count("\n") == 1, 10)
    assert host("kill", "-0", guard_pid(host), check=False).returncode == 0, log(host)
    assert ("a transient unit" in log(host)) == transient
    assert ends(host, "rolled-back") == "rolled-back"
    assert host.etc_digest() == before


def test_it_is_refused_where_it_would_not(make_host: MakeHost, segment: Segment, tmp_path: Path) -> None:
    host = make(make_host, "yes", False)
    before = host.etc_digest()
    admin, old = session(host, segment, tmp_path)
    done = admin.tool(old, "cutover", "/root/plan.yaml")
    assert "the guard would end with this session" in done.stderr, done.stderr + log(host)
    assert "nothing was changed" in done.stderr
    assert state(host) == ""
    assert host.etc_digest() == before
    assert not host.disk(f"{CHANGE}/../open").is_symlink()
    # At a console, where no session's end takes anything along, it goes on.
    assert host.tool("cutover", "plan.yaml", "--unattended").returncode == 0


def test_a_service_that_ends_takes_it_along(make_host: MakeHost) -> None:
    host = make(make_host, "no", True)
    host.disk("/usr/bin/systemd-run").rename(host.disk("/usr/bin/real-run"))
    host.write("/usr/bin/systemd-run", "#!/bin/sh\nexit 1\n", 0o755)
    before = host.etc_digest()
    argv = host.tool_argv("cutover", "plan.yaml", "--unattended")
    inside = argv[argv.index("env", argv.index("-i")) :]
    done = host("/usr/bin/real-run", "--quiet", "--pipe", "--wait", "--unit=nightly", *inside, check=False)
    assert done.returncode == 1
    assert "the guard would end with nightly.service" in done.stderr
    assert host.etc_digest() == before
