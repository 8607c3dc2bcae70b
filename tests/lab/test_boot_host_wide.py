"""A boot rollback brings back what is the whole host's, too: its name, and its resolvers."""

from __future__ import annotations

import time

from tests.lab.conftest import MakeHost
from tests.lab.faults import CHANGE, Running, ends, log, wholly_old
from tests.lab.network import wait_for
from tests.lab.test_matrix import STACKS

NAME = "quay-db.ternpoint.example"
DROP_IN = "/etc/systemd/resolved.conf.d"


def test_name_and_resolvers_at_a_boot_rollback(make_host: MakeHost) -> None:
    """With ifupdown beside systemd-resolved the resolvers are the host's, in a drop-in."""
    host = make_host(*STACKS["ifupdown"])
    name, resolvers = host("hostname").stdout, host.resolvers()
    running = Running(host, "--no-grace", seconds=3600, hostname=NAME)
    wait_for(f"the verification: {log(host)}", host.disk(f"{CHANGE}/verdict").exists, 60)
    assert host("hostname").stdout.strip() in (NAME, NAME.partition(".")[0])
    assert list(host.disk(DROP_IN).glob("*.conf")), log(host)
    host.cut_power()
    running.process.wait(20)
    time.sleep(1)
    booted = int(time.time())
    host.boot()
    ends(host, "rolled-back")
    wholly_old(host, running.before)
    assert host("hostname").stdout == name
    # Before any service has read them: resolved never saw the drop-in in this boot.
    assert not list(host.disk(DROP_IN).glob("*.conf"))
    wait_for("the former resolvers", lambda: host.resolvers() == resolvers, 30)
    # A container's journal calls both boots one, and may not have the first lines of a boot.
    said = host("journalctl", "-o", "cat", f"--since=@{booted}", "-u", "fixed-anchor-roll-back-0001.service",
                "-u", "systemd-resolved.service").stdout  # fmt: skip
    assert said.index("Finished fixed-anchor-roll-back") < said.index("Starting systemd-resolved"), said
    assert said.count("Starting systemd-resolved") == 1, said
