"""The file tree that lab hosts are made from: a real Debian, unpacked once and kept."""

from __future__ import annotations

import fcntl
import hashlib
import os
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

PACKAGES = (
    "systemd",
    "systemd-sysv",
    "udev",
    "dbus",
    "libpam-systemd",
    "iproute2",
    "netplan.io",
    "network-manager",
    "ifupdown",
    "bridge-utils",
    "isc-dhcp-client",
    "openssh-server",
    "iputils-ping",
    "systemd-resolved",
    "python3-minimal",
    "procps",
    "busybox",
    "chrony",
    "sudo",
    # What a Python that was built elsewhere may link to.
    "libssl3",
    "libffi8",
    "libsqlite3-0",
    "libyaml-0-2",
)
#: One time daemon excludes another to the package manager: of this one only the files are there.
UNPACKED = ("systemd-timesyncd",)
SUITE = "bookworm"
#: Debian's other program for interfaces(5): the two exclude each other.
IFUPDOWN2 = tuple("ifupdown2" if package == "ifupdown" else package for package in PACKAGES)

#: Hosts of other ages; nothing of ours runs on them, so they need no Python of their own but netplan's.
_OF_ANY_AGE = ("systemd", "systemd-sysv", "udev", "dbus", "libpam-systemd", "iproute2", "netplan.io", "network-manager",
               "ifupdown", "openssh-server", "iputils-ping", "procps", "busybox", "sudo")  # fmt: skip
RELEASES = {
    "bullseye": (*_OF_ANY_AGE, "isc-dhcp-client"),
    "trixie": (*_OF_ANY_AGE, "dhcpcd-base", "systemd-resolved"),
}
#: Files of an age: Debian 11 leaves links such as the lab's to others than NetworkManager.
OF_AGE = {"bullseye": {"etc/udev/rules.d/85-nm-unmanaged.rules": ""}, "trixie": {}}

#: A host that System V init boots: no systemd, no udev, no netplan.
SYSV = (
    "sysvinit-core",
    "initscripts",
    "insserv",
    "iproute2",
    "ifupdown",
    "isc-dhcp-client",
    "iputils-ping",
    "procps",
    *(p for p in PACKAGES if p.startswith("lib") and "systemd" not in p),
)

#: The same, booted by OpenRC.
OPENRC = ("openrc", *(p for p in SYSV if p != "insserv"))

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
    "chrony.service",
    "systemd-timesyncd.service",
)
#: The clock is that of the machine: no time daemon may set it, and one will not even run in a container.
TIME = {
    "etc/default/chrony": 'DAEMON_OPTS="-F 0 -x"\n',
    "etc/systemd/system/systemd-timesyncd.service.d/lab.conf": "[Unit]\nConditionVirtualization=\n",
}

#: The servers run in a tree of their own, never on the machine itself.
SERVERS = ("iproute2", "busybox", "kea-dhcp4-server", "isc-dhcp-server", "isc-dhcp-client", "dnsmasq-base", "unbound",
           "radvd", "bind9-utils")  # fmt: skip

#: The daemon of a hypervisor's networks, without a hypervisor.
LIBVIRT = ("libvirt-daemon-system", "libvirt-clients", "dnsmasq-base", "iproute2")

#: Packages of which only the examples are wanted: unpacked, and nothing of them installed.
EXAMPLES = ("kea-doc", "kea-dhcp4-server", "kea-dhcp6-server", "isc-dhcp-server", "dnsmasq-base", "bind9",
            "libvirt-daemon-config-network", "dnsmasq")  # fmt: skip

CACHE = Path(os.environ.get("FIXED_ANCHOR_LAB_CACHE", "/var/cache/fixed-anchor-lab"))


def base_image() -> Path:
    """The folder of the unpacked image of a host, made on first use (some 45 s and 350 MB)."""
    return _kept(("host", *PACKAGES, *UNPACKED, *MASKED, *TIME.values(), "3"), lambda root: _make_host(root, PACKAGES))


def image_with_ifupdown2() -> Path:
    """The same with ifupdown2, which replaces ifupdown."""
    parts = ("host", *IFUPDOWN2, *UNPACKED, *MASKED, *TIME.values(), "3")
    return _kept(parts, lambda root: _make_host(root, IFUPDOWN2))


def image_of(release: str, with_ifupdown2: bool = False) -> Path:
    """The image of a host of another release of Debian, by its code name; made on first use."""
    if release == SUITE:
        return image_with_ifupdown2() if with_ifupdown2 else base_image()
    packages, files = RELEASES[release], OF_AGE[release]
    if with_ifupdown2:
        # It knows no other lease client than dhclient.
        others = (p for p in packages if p not in ("ifupdown", "isc-dhcp-client", "dhcpcd-base"))
        packages = (*others, "ifupdown2", "isc-dhcp-client")
    parts = (release, *packages, *MASKED, *files, *files.values(), "1")
    return _kept(parts, lambda root: _make_aged_host(root, release, packages))


def image_without_systemd(boots: str) -> Path:
    """The folder of the image of a host that ``sysv`` or ``openrc`` boots, made on first use."""
    packages = {"sysv": SYSV, "openrc": OPENRC}[boots]
    return _kept((boots, *packages, "1"), lambda root: _make_sysv_host(root, packages))


def servers_image() -> Path:
    """The folder of a tree with DHCP and DNS servers, made on first use."""
    return _kept(("servers", *SERVERS, "1"), lambda root: _bootstrap(root, SERVERS))


def libvirt_image() -> Path:
    """The folder of a tree with the daemon of a hypervisor's networks, made on first use (some 40 s and 290 MB)."""
    return _kept(("libvirt", *LIBVIRT, "1"), lambda root: _bootstrap(root, LIBVIRT))


def shipped_examples() -> Path:
    """The folder in which the packages of the servers lie unpacked, for their example files."""
    return _kept(("examples", *EXAMPLES, "1"), _unpack)


def _kept(parts: tuple[str, ...], make: Callable[[Path], None]) -> Path:
    key = hashlib.sha256("\n".join((SUITE, *parts)).encode()).hexdigest()[:12]
    root = CACHE / key
    CACHE.mkdir(parents=True, exist_ok=True)
    with open(CACHE / f"{key}.lock", "w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not root.is_dir():
            beside = root.with_name(root.name + ".new")
            shutil.rmtree(beside, ignore_errors=True)
            beside.mkdir()
            make(beside)
            beside.rename(root)
    return root


def _bootstrap(root: Path, packages: tuple[str, ...], unpacked: tuple[str, ...] = (), suite: str = SUITE) -> None:
    archive = root.with_suffix(".tar")
    hooks = [
        f'--customize-hook=cd "$1/root" && APT_CONFIG="$MMDEBSTRAP_APT_CONFIG" apt-get download {package}'
        " && dpkg-deb --fsys-tarfile *.deb | tar -x --keep-directory-symlink -C .. && rm *.deb"
        for package in unpacked
    ]
    include = f"--include={','.join(packages)}"
    subprocess.run(
        ["mmdebstrap", "--quiet", "--variant=minbase", include, *hooks, suite, str(archive)],
        check=True,
    )
    subprocess.run(["tar", "--numeric-owner", "-xpf", str(archive), "-C", str(root), "--exclude=./dev/*"], check=True)
    archive.unlink()


def _make_host(root: Path, packages: tuple[str, ...]) -> None:
    _bootstrap(root, packages, UNPACKED)
    subprocess.run(["chroot", str(root), "systemd-sysusers"], check=True)
    _settle(root, TIME)


def _make_aged_host(root: Path, release: str, packages: tuple[str, ...]) -> None:
    _bootstrap(root, packages, suite=release)
    _settle(root, OF_AGE[release])


def _settle(root: Path, files: dict[str, str]) -> None:
    """Makes the tree one of a host that has no identity yet, and whose stacks wait to be chosen."""
    (root / "etc/machine-id").write_text("")
    for path, text in files.items():
        (root / path).parent.mkdir(parents=True, exist_ok=True)
        (root / path).write_text(text)
    for unit in MASKED:
        mask = root / "etc/systemd/system" / unit
        mask.unlink(missing_ok=True)
        mask.symlink_to("/dev/null")
    _open_up(root)


def _open_up(root: Path) -> None:
    # A Python that lies in root's home must be reachable for others, too.
    (root / "root").chmod(0o755)
    (root / "etc/hosts").write_text("127.0.0.1 localhost\n")


def _make_sysv_host(root: Path, packages: tuple[str, ...]) -> None:
    _bootstrap(root, packages)
    inittab = root / "etc/inittab"
    # There are no consoles here.
    inittab.write_text("".join(x for x in inittab.read_text().splitlines(keepends=True) if "getty" not in x))
    _open_up(root)


def _unpack(root: Path) -> None:
    for package in EXAMPLES:
        subprocess.run(["apt-get", "download", "-q", package], cwd=root, check=True, capture_output=True)
    for archive in root.glob("*.deb"):
        subprocess.run(["dpkg-deb", "-x", archive.name, "."], cwd=root, check=True)
        archive.unlink()


def mount_copy(folder: Path, image: Path | None = None) -> Path:
    """A copy of an image (that of hosts unless named) to be written to, an overlay below ``folder``.

    :func:`unmount` takes it away.
    """
    for part in ("upper", "work", "root"):
        (folder / part).mkdir(parents=True, exist_ok=True)
    layers = f"lowerdir={image or base_image()},upperdir={folder}/upper,workdir={folder}/work"
    subprocess.run(["mount", "-t", "overlay", "overlay", "-o", layers, str(folder / "root")], check=True)
    return folder / "root"


def unmount(root: Path) -> None:
    subprocess.run(["umount", "-l", str(root)], check=False)


def in_image(root: Path, *argv: str) -> subprocess.CompletedProcess[str]:
    """Runs one of the image's own programs in its tree, in a namespace without any network."""
    return subprocess.run(["unshare", "--net", "chroot", str(root), *argv], capture_output=True, text=True, check=False)
