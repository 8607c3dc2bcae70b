"""The file tree that lab hosts are made from: a real Debian, unpacked once and kept."""

from __future__ import annotations

import fcntl
import hashlib
import os
import shutil
import subprocess
from pathlib import Path

PACKAGES = (
    "systemd",
    "systemd-sysv",
    "udev",
    "dbus",
    "iproute2",
    "netplan.io",
    "network-manager",
    "ifupdown",
    "isc-dhcp-client",
    "openssh-server",
    "iputils-ping",
    "systemd-resolved",
    "python3-minimal",
    "procps",
    "busybox",
    # What a Python that was built elsewhere may link to.
    "libssl3",
    "libffi8",
    "libsqlite3-0",
    "libyaml-0-2",
)
SUITE = "bookworm"

#: Every stack is there; a host unmasks the one it is to have.
MASKED = (
    "console-getty.service",
    "NetworkManager-wait-online.service",
    "systemd-networkd-wait-online.service",
    "NetworkManager.service",
    "networking.service",
    "systemd-networkd.service",
    "systemd-networkd.socket",
    "ssh.service",
)

CACHE = Path(os.environ.get("FIXED_ANCHOR_LAB_CACHE", "/var/cache/fixed-anchor-lab"))


def base_image() -> Path:
    """The folder of the unpacked image, made on first use (some 45 s and 350 MB)."""
    key = hashlib.sha256("\n".join((SUITE, *PACKAGES, *MASKED, "2")).encode()).hexdigest()[:12]
    root = CACHE / key
    CACHE.mkdir(parents=True, exist_ok=True)
    with open(CACHE / f"{key}.lock", "w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not root.is_dir():
            _make(root)
    return root


def _make(root: Path) -> None:
    beside = root.with_name(root.name + ".new")
    shutil.rmtree(beside, ignore_errors=True)
    archive = root.with_suffix(".tar")
    subprocess.run(
        ["mmdebstrap", "--quiet", "--variant=minbase", f"--include={','.join(PACKAGES)}", SUITE, str(archive)],
        check=True,
    )
    beside.mkdir()
    subprocess.run(["tar", "--numeric-owner", "-xpf", str(archive), "-C", str(beside), "--exclude=./dev/*"], check=True)
    archive.unlink()
    (beside / "etc/machine-id").write_text("")
    for unit in MASKED:
        mask = beside / "etc/systemd/system" / unit
        mask.unlink(missing_ok=True)
        mask.symlink_to("/dev/null")
    # A Python that lies in root's home must be reachable for others, too.
    (beside / "root").chmod(0o755)
    (beside / "etc/hosts").write_text("127.0.0.1 localhost\n")
    beside.rename(root)


def mount_copy(folder: Path) -> Path:
    """A copy of the image that may be written to (an overlay below ``folder``); :func:`unmount` takes it away."""
    for part in ("upper", "work", "root"):
        (folder / part).mkdir(parents=True, exist_ok=True)
    layers = f"lowerdir={base_image()},upperdir={folder}/upper,workdir={folder}/work"
    subprocess.run(["mount", "-t", "overlay", "overlay", "-o", layers, str(folder / "root")], check=True)
    return folder / "root"


def unmount(root: Path) -> None:
    subprocess.run(["umount", "-l", str(root)], check=False)


def in_image(root: Path, *argv: str) -> subprocess.CompletedProcess[str]:
    """Runs one of the image's own programs in its tree, in a namespace without any network."""
    return subprocess.run(["unshare", "--net", "chroot", str(root), *argv], capture_output=True, text=True, check=False)
