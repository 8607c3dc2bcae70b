"""A collection: the document that the collector prints, and the survey that is made of it."""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from fixed_anchor.core.errors import InputError
from fixed_anchor.formats import FORMATS
from fixed_anchor.machines.collected import Collected, collector_source, is_collection
from fixed_anchor.observe.stocktaking import take_stock

DOCUMENT = """\
fixed-anchor collection 1
host tide-db
run 5
 ip
 -j
 -d
 address
 show
|[{"ifname": "eth0", "ifindex": 2, "address": "00:00:5e:00:53:11", "link_type": "ether", "operstate": "UP",
|  "addr_info": [{"family": "inet", "local": "203.0.113.107", "prefixlen": 24, "scope": "global",
|  "dynamic": true, "valid_life_time": 3000}]}]
status 0
run 4
 ip
 -j
 route
 show
|[{"dst": "default", "gateway": "203.0.113.1", "dev": "eth0", "protocol": "dhcp"}]
status 0
run 5
 ip
 -j
 -6
 route
 show
status 0
run 3
 resolvectl
 dns
 eth0
status 127
link /etc/resolv.conf
|../run/systemd/resolve/stub-resolv.conf
file 600 0 0 /etc/netplan/50-tide.yaml
|network:
|  ethernets:
|    eth0:
+      dhcp4: true
file 644 0 0 /etc/hostname
|tide-db
end
"""


def collected(folder: Path, text: str) -> Collected:
    file = folder / "tide-db.collection"
    file.write_bytes(text.encode("utf-8", "surrogateescape"))
    return Collected(file)


def test_what_was_collected_is_a_machine(tmp_path: Path) -> None:
    machine = collected(tmp_path, DOCUMENT)
    assert machine.name == "tide-db"
    file = machine.read("/etc/netplan/50-tide.yaml")
    assert file is not None
    assert (file.mode, file.text.splitlines()[-1], file.text.endswith("true")) == (0o600, "      dhcp4: true", True)
    assert machine.glob("/etc/netplan/*.yaml") == ["/etc/netplan/50-tide.yaml"]
    assert machine.link_target("/etc/resolv.conf") == "../run/systemd/resolve/stub-resolv.conf"
    assert machine.run(("resolvectl", "dns", "eth0")).status == 127
    assert not machine.run(("rm", "-rf", "/")).known
    with pytest.raises(InputError, match="tide-db is here only as a collection"):
        machine.put("/etc/x", b"")
    eth0 = take_stock(machine).interface("eth0")
    assert eth0 is not None
    assert [(str(a.address), a.origin) for a in eth0.addresses] == [("203.0.113.107/24", "dhcp")]
    assert eth0.declared_in[0].file == "/etc/netplan/50-tide.yaml"


@given(cut=st.integers(0, len(DOCUMENT) - 5), junk=st.text(max_size=20))
@settings(suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_a_document_that_is_cut_or_broken_is_named(tmp_path: Path, cut: int, junk: str) -> None:
    """Cut anywhere it is never taken for the whole; with anything in between there is no other error than ours."""
    with pytest.raises(InputError) as cut_short:
        collected(tmp_path, DOCUMENT[:cut])
    assert cut_short.value.file is not None
    try:
        collected(tmp_path, DOCUMENT[:cut] + junk + DOCUMENT[cut:])
    except InputError as error:
        assert error.line is not None


def test_line_ends_that_were_changed_on_the_way(tmp_path: Path) -> None:
    with pytest.raises(InputError, match="line ends were changed"):
        collected(tmp_path, DOCUMENT.replace("\n", "\r\n"))
    assert not is_collection(b"host: tide-db\n")


def test_the_collector_reads_all_that_the_formats_do() -> None:
    words = collector_source().replace(";", " ").split()
    for name, form in FORMATS.items():
        for pattern in form.patterns:
            assert pattern in words, f"{name}: {pattern}"


@pytest.mark.parametrize("shell", [s for s in ("dash", "busybox sh") if shutil.which(s.split()[0])])
def test_the_collector_runs(tmp_path: Path, shell: str) -> None:
    """On this machine, in a network of its own; what it prints is read."""
    script = tmp_path / "collector.sh"
    script.write_text(collector_source())
    alone = ["unshare", "--net"] if os.geteuid() == 0 else []
    done = subprocess.run([*alone, *shell.split(), str(script)], capture_output=True, check=False)
    assert done.returncode == 0, done.stderr
    assert ("this was not run as root" in done.stderr.decode()) == (os.geteuid() != 0)
    machine = collected(tmp_path, done.stdout.decode("utf-8", "surrogateescape"))
    assert machine.read("/proc/uptime") is not None
    # Not its first digit alone.
    lo = machine.read("/proc/sys/net/ipv6/conf/lo/mtu")
    assert lo is None or lo.text == "65536\n"
    assert machine.run(("test", "-d", "/run/systemd/system")).status in (0, 1)
