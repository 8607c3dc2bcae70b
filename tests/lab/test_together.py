"""Several hosts of one segment that check and change at the same time end as each would alone."""

from __future__ import annotations

import subprocess

from tests.documents import findings
from tests.lab.conftest import NETWORKD, MakeHost
from tests.lab.network import wait_for
from tests.lab.test_matrix import NETWORK

FOUR = ("203.0.113.20", "203.0.113.21", "203.0.113.22", "203.0.113.23")
HEAD = """\
plan: 1
segments:
  quay: {subnet: 203.0.113.0/24, gateway: 203.0.113.1, resolvers: 203.0.113.2, search: ternpoint.example,
         pools: [203.0.113.100 - 203.0.113.199]}
hosts:
"""


def test_four_hosts_at_once(make_host: MakeHost) -> None:
    files = {"/etc/systemd/network/20-quay.network": NETWORK}
    hosts = [make_host(files, NETWORKD) for _ in FOUR]
    lines = [
        f'  {host.name}: {{interfaces: {{eth0: {{mac: "{host.mac}", segment: quay, hold: {address}}}}}}}\n'
        for host, address in zip(hosts, FOUR, strict=True)
    ]
    for host in hosts:
        host.write("/root/plan.yaml", HEAD + "".join(lines))

    def together(*words: str) -> list[tuple[int, str]]:
        argvs = [host.tool_argv(*(host.name if w == "NAME" else w for w in words)) for host in hosts]
        pipe = subprocess.PIPE
        started = [subprocess.Popen(a, stdin=subprocess.DEVNULL, stdout=pipe, stderr=pipe, text=True) for a in argvs]
        ended = [process.communicate(timeout=180) for process in started]
        return [(p.returncode, out + err) for p, (out, err) in zip(started, ended, strict=True)]

    # Each looks for the addresses of all four, and for the one gateway.
    for status, said in together("check", "plan.yaml", "--json"):
        codes = {f["code"] for f in findings(said) if f["severity"] == "blocker"}
        assert codes == set(), said
        assert status == 0, said
    for status, said in together("cutover", "plan.yaml", "--unattended", "--no-grace"):
        assert status == 0, said
    for host, address in zip(hosts, FOUR, strict=True):
        wait_for(address, lambda h=host, a=address: h.holds(a) and not h.leased(), 20)  # type: ignore[misc]
