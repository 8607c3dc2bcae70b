"""An address for when no DHCP server answers: on a real host whose server is gone when it boots."""

from __future__ import annotations

import pytest

from tests.lab.conftest import MakeHost
from tests.lab.network import Segment, wait_for
from tests.lab.test_matrix import STACKS, cutover, plan

FALLBACK = "203.0.113.190"


def pytest_generate_tests(metafunc: pytest.Metafunc) -> None:
    stacks = ["ifupdown", "NetworkManager"]
    metafunc.parametrize("stack", stacks if metafunc.config.getoption("--whole-matrix") else stacks[1:])


def test_no_server_answers_at_boot(stack: str, make_host: MakeHost, segment: Segment) -> None:
    files, units = STACKS[stack]
    # The client waits for five minutes by itself.
    host = make_host({**files, "/etc/dhcp/dhclient.conf": "timeout 8;\n"}, units)
    plan(host, f"ipv4: dhcp\n        fallback: {FALLBACK}")
    # The pool is where the address is not.
    checked = host.tool("check", "plan.yaml")
    assert "in-dhcp-pool" in checked.stdout, checked.stdout + checked.stderr
    host.write("/root/plan.yaml", host.read("/root/plan.yaml").replace("203.0.113.199]", "203.0.113.180]"))
    cutover(host)
    assert host.leased()
    assert not host.holds(FALLBACK)
    assert segment.server is not None
    segment.server.terminate()
    segment.server.wait(10)
    host.reboot()
    wait_for("the address for when no server answers", lambda: host.holds(FALLBACK), 150)
    assert not host.leased()
    assert "via 203.0.113.1 " in host.gateway()
