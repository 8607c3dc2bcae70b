"""A lab host: a real Debian with systemd and its real network stack, in namespaces of its own."""

from __future__ import annotations

import contextlib
import os
import shutil
import signal
import subprocess
import sys
from pathlib import Path

from tests.lab.image import image_without_systemd, mount_copy, unmount
from tests.lab.network import Namespace, Segment, run, wait_for

INIT = Path(__file__).with_name("host-init.sh")
MAC = "00:00:5e:00:53:11"
MAC1 = "00:00:5e:00:53:12"


class LabHost:
    """One host. Its disk (an overlay) survives reboots and power cuts; :meth:`close` removes it."""

    def __init__(
        self,
        name: str,
        folder: Path,
        segment: Segment,
        files: dict[str, str],
        units: tuple[str, ...],
        boots: str = "systemd",
        second: Segment | None = None,
        mac: str = MAC,
        image: Path | None = None,
    ) -> None:
        """``boots`` is what boots it: ``systemd``, ``sysv`` or ``openrc``, each an image of its own.

        ``image`` is another one than the usual for it.

        With ``second`` it has a second link, ``eth1``, on that segment.
        """
        self.name = name
        self.boots = boots
        self.mac = mac
        self.segment = segment
        self.folder = folder / name
        self.namespace = Namespace(name)
        segment.attach(self.namespace, "eth0", mac)
        if second is not None:
            second.attach(self.namespace, "eth1", MAC1)
        self.links = ("eth0", "eth1") if second is not None else ("eth0",)
        self.init: subprocess.Popen[bytes] | None = None
        self.pid = 0
        self._cgroups: list[Path] = []
        mount_copy(self.folder, image or (None if boots == "systemd" else image_without_systemd(boots)))
        for path, text in files.items():
            # networkd runs as its own user; netplan and NetworkManager want their files for root alone.
            self.write(path, text, 0o600 if "netplan" in path or "NetworkManager" in path else 0o644)
        self.write("/etc/hostname", f"{name}\n", 0o644)
        # Few devices need no crowd of workers.
        self.write("/etc/udev/udev.conf", "children_max=2\n", 0o644)
        for unit in units:
            mask = self.disk(f"/etc/systemd/system/{unit}")
            mask.unlink(missing_ok=True)
            wants = self.disk(f"/etc/systemd/system/multi-user.target.wants/{unit}")
            wants.parent.mkdir(parents=True, exist_ok=True)
            wants.unlink(missing_ok=True)
            if not unit.endswith(".socket"):
                wants.symlink_to(f"/lib/systemd/system/{unit}")

    # --- disk ---------------------------------------------------------------------------

    def disk(self, path: str) -> Path:
        """Where ``path`` of the host lies on this machine."""
        return self.folder / "root" / path.lstrip("/")

    def write(self, path: str, text: str, mode: int = 0o600) -> None:
        target = self.disk(path)
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(text)
        target.chmod(mode)

    def read(self, path: str) -> str:
        return self.disk(path).read_text()

    # --- power --------------------------------------------------------------------------

    def boot(self) -> None:
        """Starts the host and waits until its systemd has nothing left to do."""
        # The namespace outlives the host, and a real kernel begins with nothing.
        for line in self.namespace("ip", "-o", "link").stdout.splitlines():
            name = line.split(": ")[1].partition("@")[0]
            if name not in ("lo", *self.links):
                self.namespace("ip", "link", "del", name, check=False)
        for link in self.links:
            self.namespace("ip", "address", "flush", "dev", link)
            self.namespace("ip", "link", "set", link, "down")
        join = []
        for kind in ("/sys/fs/cgroup/systemd", "/sys/fs/cgroup/unified", "/sys/fs/cgroup"):
            if (Path(kind) / "cgroup.procs").exists():
                group = Path(kind) / f"{self.namespace.name}"
                group.mkdir(exist_ok=True)
                self._cgroups.append(group)
                join.append(f"echo $$ > {group}/cgroup.procs")
        unshare = "unshare --mount --uts --ipc --pid --cgroup --fork --kill-child"
        readonly = " ".join(str(f) for f in _python_folders())
        script = "; ".join(
            [
                *join,
                f"exec ip netns exec {self.namespace.name} {unshare} {INIT} {self.folder}/root"
                f" {self.name} {self.boots} {readonly}",
            ]
        )
        with open(self.folder / "console", "ab") as console:
            self.init = subprocess.Popen(
                ["/bin/sh", "-c", script], stdin=subprocess.DEVNULL, stdout=console, stderr=console
            )
        wait_for("the host's init", self._find_init, 60)
        wait_for("the host's boot", self._booted, 240)

    def _find_init(self) -> bool:
        assert self.init is not None
        assert self.init.poll() is None, f"the host did not start: {(self.folder / 'console').read_text()}"
        children = run("pgrep", "-P", str(self.init.pid), check=False).stdout.split()
        if not children:
            return False
        self.pid = int(children[0])
        try:
            return Path(f"/proc/{self.pid}/comm").read_text().strip() in ("systemd", "init")
        except OSError:
            return False

    def _booted(self) -> bool:
        if self.boots != "systemd":
            script = "[ \"$(runlevel)\" = 'N 2' ] && ! pgrep -x 'rc|rcS|startpar'"
            return self("sh", "-c", script, check=False).returncode == 0
        state = self("systemctl", "is-system-running", check=False).stdout.strip()
        return state in ("running", "degraded")

    def _gone(self) -> bool:
        return self.init is None or self.init.poll() is not None

    def reboot(self) -> None:
        """An orderly reboot."""
        self("systemctl", "poweroff", check=False)
        wait_for("the host's end", self._gone, 60)
        self.boot()

    def cut_power(self) -> None:
        """Kills the host's init: every process of it dies at once."""
        os.kill(self.pid, signal.SIGKILL)
        wait_for("the host's end", self._gone, 20)

    def close(self) -> None:
        if not self._gone():
            self.cut_power()
        self.namespace.close()
        unmount(self.folder / "root")
        for group in self._cgroups:
            # The host's own groups lie below; the deepest go first.
            for below in sorted((p for p in group.rglob("*") if p.is_dir()), reverse=True):
                _remove_group(below)
            _remove_group(group)
        shutil.rmtree(self.folder, ignore_errors=True)

    # --- commands -----------------------------------------------------------------------

    def argv(self, *argv: str) -> list[str]:
        return ["nsenter", "-t", str(self.pid), "-a", "env", "-i", "PATH=/usr/sbin:/usr/bin:/sbin:/bin", *argv]

    def __call__(self, *argv: str, check: bool = True) -> subprocess.CompletedProcess[str]:
        return run(*self.argv(*argv), check=check)

    def start(self, *argv: str) -> subprocess.Popen[bytes]:
        """Starts a command that goes on; whoever starts it ends it."""
        return subprocess.Popen(self.argv(*argv), stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL)

    def tool(self, *words: str) -> subprocess.CompletedProcess[str]:
        """Runs ``fixed-anchor`` on the host, as root, in its folder /root."""
        return run(*self.tool_argv(*words), check=False)

    def tool_argv(self, *words: str) -> list[str]:
        command = [sys.executable, "-m", "fixed_anchor", "--color", "never", *words]
        inside = ["env", "-C", "/root", "HOME=/root", "PYTHONDONTWRITEBYTECODE=1", *command]
        return self.argv(*inside)

    # --- what is in force ---------------------------------------------------------------

    def addresses(self, family: str = "-4", link: str = "eth0") -> str:
        return self("ip", "-o", family, "address", "show", "dev", link, "scope", "global").stdout

    def holds(self, address: str) -> bool:
        return f" {address}/" in self.addresses()

    def leased(self) -> bool:
        return " dynamic " in self.addresses()

    def leased_address(self) -> str:
        """The address that the host has by its lease."""
        line = next(line for line in self.addresses().splitlines() if " dynamic " in line)
        return line.split(" inet ")[1].split("/")[0]

    def gateway(self) -> str:
        return self("ip", "-4", "route", "show", "default").stdout

    def answers(self, address: str) -> bool:
        """Whether the router reaches the host at ``address``."""
        return self.segment.namespace("ping", "-c", "1", "-W", "1", address, check=False).returncode == 0

    def resolves(self, name: str) -> bool:
        return self("getent", "ahostsv4", name, check=False).returncode == 0

    def resolvers(self) -> str:
        """Servers and search list that are in force, as the host's own tools say them."""
        return self("sh", "-c", "resolvectl dns; resolvectl domain; cat /etc/resolv.conf").stdout

    def etc_digest(self) -> str:
        """Names, modes, owners and a digest of the contents of everything in /etc, one a line."""
        script = "cd /etc && find . -type f -printf '%p %m %U %G ' -exec md5sum {} \\; | sort"
        links = "cd /etc && find . -type l -printf '%p %l\\n' | sort"
        return self("sh", "-c", f"({script}); ({links})").stdout


def _remove_group(group: Path) -> None:
    with contextlib.suppress(OSError):
        group.rmdir()


def _python_folders() -> list[Path]:
    """The folders that the running Python, the tool and a PowerShell need, to be seen read-only in the host."""
    repository = Path(__file__).resolve().parents[2]
    folders = [Path(sys.prefix), Path(sys.base_prefix), repository / "src"]
    if (powershell := shutil.which("pwsh")) is not None:
        folders.append(Path(powershell).resolve().parent)
    real = [f for f in dict.fromkeys(folders) if f != Path("/usr")]
    if Path(sys.base_prefix) == Path("/usr"):
        version = f"python{sys.version_info.major}.{sys.version_info.minor}"
        real += [Path("/usr/lib") / version]
    return real
