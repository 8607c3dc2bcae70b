"""Fixtures of the lab, and when it is skipped."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from tests.lab.host import MAC, LabHost
from tests.lab.hypervisor import Hypervisor
from tests.lab.image import image_with_ifupdown2, libvirt_image, mount_copy, servers_image, unmount
from tests.lab.network import Labs, Namespace, Segment, missing_tools

NETPLAN = """\
# tide-db, quay
network:
  version: 2
  ethernets:
    eth0:
      dhcp4: true   # until the address plan is done
      optional: true
"""

#: Among the files of a host it has the image in which that program is instead of ifupdown.
IFUPDOWN2 = {"/etc/network/ifupdown2/policy.d/README": "none\n"}
NETWORKD = ("systemd-networkd.service", "systemd-networkd.socket")


def why_not() -> str | None:
    if not sys.platform.startswith("linux"):
        return "the lab needs Linux"
    if os.geteuid() != 0:
        return "the lab needs root: it makes network namespaces and boots real hosts in them"
    missing = missing_tools()
    if missing:
        return "the lab needs these commands: " + ", ".join(missing)
    return None


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    reason = why_not()
    if reason is None:
        _make_room()
    for item in items:
        if "tests/lab/" not in str(item.path).replace(os.sep, "/"):
            continue
        item.add_marker(pytest.mark.lab)
        if reason is not None:
            if os.environ.get("FIXED_ANCHOR_LAB") == "required":
                raise pytest.UsageError(f"FIXED_ANCHOR_LAB=required, but {reason}")
            item.add_marker(pytest.mark.skip(reason=reason))


#: Each host needs some 15 inotify instances, all of them of one user; a kernel gives 128 unless told otherwise.
_INSTANCES, _ENOUGH = Path("/proc/sys/fs/inotify/max_user_instances"), 2048


def _make_room() -> None:
    """Where they run out, daemons of a host fail as it boots, and it never has a lease."""
    try:
        if int(_INSTANCES.read_text()) < _ENOUGH:
            _INSTANCES.write_text(f"{_ENOUGH}\n")
    except OSError:
        # Then fewer hosts at a time must do.
        pass


@pytest.fixture
def segment(tmp_path: Path) -> Iterator[Segment]:
    made = Segment(tmp_path)
    yield made
    made.close()


@pytest.fixture
def labs(tmp_path: Path) -> Iterator[Labs]:
    """The second segment; it outlives the hosts, which are made after it."""
    made = Labs(tmp_path)
    yield made
    made.close()


@pytest.fixture
def image_copy(tmp_path: Path) -> Iterator[Path]:
    """The root of a file tree of the image, to be written to."""
    root = mount_copy(tmp_path / "image")
    yield root
    unmount(root)


@pytest.fixture
def servers_root(tmp_path: Path) -> Iterator[Path]:
    """The root of a file tree with the packages of DHCP and DNS servers, to be written to."""
    root = mount_copy(tmp_path / "servers", servers_image())
    yield root
    unmount(root)


@pytest.fixture
def hypervisor(tmp_path: Path, bare_segment: Segment) -> Iterator[Hypervisor]:
    """The daemon of a hypervisor's networks; it has none yet."""
    root = mount_copy(tmp_path / "hypervisor", libvirt_image())
    yield Hypervisor(root, bare_segment)
    unmount(root)


@pytest.fixture
def bare_segment(tmp_path: Path) -> Iterator[Segment]:
    """A segment on which nothing serves yet, with one idle port.

    A bridge without a port has no carrier, and a server that is faster than its first client never listens there.
    """
    made = Segment(tmp_path, serve=False)
    idle = Namespace("idle")
    made.neighbours.append(idle)
    made.attach(idle, "eth0", "00:00:5e:00:53:7f")
    idle("ip", "link", "set", "eth0", "up")
    yield made
    made.close()


MakeHost = Callable[..., LabHost]


@pytest.fixture
def make_host(tmp_path: Path, segment: Segment, request: pytest.FixtureRequest) -> Iterator[MakeHost]:
    """Makes a host on the segment and boots it; it waits for the lease unless told otherwise."""
    made: list[LabHost] = []

    def make(
        files: dict[str, str] | None = None,
        units: tuple[str, ...] = NETWORKD,
        lease: bool = True,
        boots: str = "systemd",
        links: int = 1,
    ) -> LabHost:
        files = files or {"/etc/netplan/50-tide.yaml": NETPLAN}
        image = image_with_ifupdown2() if IFUPDOWN2.items() <= files.items() else None
        second = request.getfixturevalue("labs") if links > 1 else None
        mac = f"00:00:5e:00:53:3{len(made)}" if made else MAC
        host = LabHost(f"tide-db{len(made) or ''}", tmp_path, segment, files, units, boots, second, mac, image)
        made.append(host)
        host.boot()
        if lease:
            from tests.lab.network import wait_for

            wait_for("a lease", host.leased, 120)
        return host

    yield make
    for host in made:
        host.close()


@pytest.fixture
def host(make_host: MakeHost) -> LabHost:
    """A Debian host with netplan, systemd-networkd and systemd-resolved, on a lease."""
    return make_host()
