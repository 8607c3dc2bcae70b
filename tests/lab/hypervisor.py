"""The real daemon of a hypervisor's networks, in the namespace of a segment: it makes the bridge and serves DHCP."""

from __future__ import annotations

import subprocess
from pathlib import Path

from tests.lab.network import Segment, run, wait_for
from tests.lab.servers import furnish

#: The daemon's own /proc and /sys; the rest is the tree's.
INIT = """\
set -e
mount --make-rprivate /
mount -t proc proc "$1/proc"
mount -t sysfs sysfs "$1/sys"
exec chroot "$1" libvirtd
"""


class Hypervisor:
    """A running daemon: its files are below ``root``, a tree with its package in it.

    A network of its own takes the place of the segment's bridge.
    """

    def __init__(self, root: Path, segment: Segment) -> None:
        self.root = root
        self.segment = segment
        furnish(root)
        # The network that comes with the package.
        (root / "etc/libvirt/qemu/networks/autostart/default.xml").unlink(missing_ok=True)
        (root / "etc/libvirt/qemu/networks/default.xml").unlink(missing_ok=True)
        segment.namespace("ip", "link", "del", "br0")
        init = segment.folder / "hypervisor-init.sh"
        init.write_text(INIT)
        self.process = segment.namespace.start(
            "unshare", "--mount", "--pid", "--fork", "--kill-child", "sh", str(init), str(root),
            log=segment.folder / "libvirt.log",
        )  # fmt: skip
        wait_for("the daemon", lambda: self.virsh("net-list").returncode == 0, 60, 0.1)

    def virsh(self, *argv: str) -> subprocess.CompletedProcess[str]:
        """Asks the daemon over its socket."""
        return run("chroot", str(self.root), "virsh", "-q", "-c", "qemu:///system", *argv, check=False)

    def define(self, text: str) -> str:
        """Defines the network of that XML; returns what the daemon says against it, empty where nothing does."""
        (self.root / "tmp/network.xml").write_text(text)
        return self.virsh("net-define", "/tmp/network.xml").stderr.strip()

    def serve(self, name: str) -> None:
        """Starts a network."""
        done = self.virsh("net-start", name)
        assert done.returncode == 0, done.stderr

    def settings(self, name: str) -> Path:
        """The configuration that the daemon wrote for its DHCP server."""
        return self.root / f"var/lib/libvirt/dnsmasq/{name}.conf"
