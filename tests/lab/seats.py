"""A seat of the lab: a real host from which others are reached over OpenSSH, and those that are to be reached."""

from __future__ import annotations

import subprocess
from collections.abc import Iterable
from pathlib import Path

from tests.lab import test_matrix as matrix
from tests.lab.host import MAC, LabHost
from tests.lab.network import run

#: What a host needs to be reached: sshd, which none runs by itself.
SSH = "ssh.service"

#: The plan of the matrix, for a host that is reached from a seat.
PLAN = (
    matrix.PLAN.replace("    {reservations}\n", "")
    .replace("  tide-db:\n", "  tide-db:\n    reach: ssh:tide-db\n")
    .replace("{mac}", MAC)
)


class Reached:
    """A host that seats can reach: with an SSH host key, and perhaps a certificate, of its own."""

    def __init__(
        self, host: LabHost, port: int = 22, authority: Path | None = None, more: str = "", address: str | None = None
    ) -> None:
        """``authority`` is the key that signs its host key; ``more`` are further lines of sshd_config(5).

        Without an ``address`` it is that of its lease.
        """
        self.host, self.port, self.authority = host, port, authority
        self.address = address or host.leased_address()
        self.key = host.disk("/etc/ssh/own_key")
        self.key.unlink(missing_ok=True)
        run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(self.key))
        lines = f"Port {port}\nHostKey /etc/ssh/own_key\n"
        if authority is not None:
            run("ssh-keygen", "-q", "-s", str(authority), "-I", host.name, "-h", "-n", self.names, f"{self.key}.pub")
            lines += "HostCertificate /etc/ssh/own_key-cert.pub\n"
        host.write("/etc/ssh/sshd_config.d/lab.conf", lines + more, 0o644)
        self.restart_sshd()

    @property
    def names(self) -> str:
        return f"{self.host.name},{self.address}"

    def restart_sshd(self) -> None:
        self.host("systemctl", "reset-failed", "ssh", check=False)
        self.host("systemctl", "restart", "ssh")

    def known_hosts(self) -> str:
        """The line by which its key is known."""
        if self.authority is not None:
            return f"@cert-authority {self.address} {self.authority.with_suffix('.pub').read_text()}"
        name = self.address if self.port == 22 else f"[{self.address}]:{self.port}"
        return f"{name} {self.key.with_suffix('.pub').read_text()}"

    def add_user(self, name: str, password: str, sudoers: str | None) -> None:
        """An ordinary user; ``sudoers`` is the line that lets it become root, in whatever way."""
        self.host("useradd", "-m", "-s", "/bin/bash", name)
        run(*self.host.argv("chpasswd"), input=f"{name}:{password}\n")
        if sudoers is not None:
            self.host.write(f"/etc/sudoers.d/{name}", f"{name} {sudoers}\n", 0o440)


class Seat:
    """A host at which an administrator sits, with a configuration of OpenSSH and a key that others accept."""

    def __init__(self, host: LabHost) -> None:
        self.host = host
        folder = host.disk("/root/.ssh")
        folder.mkdir(mode=0o700, exist_ok=True)
        run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(folder / "id_ed25519"))
        self.config = folder / "config"
        self.known = folder / "known_hosts"

    def knows(self, reached: Reached, user: str = "root", alias: str | None = None, jump: str | None = None) -> None:
        """From now on the host is reached as ``user``, by its name, or by ``alias``."""
        lines = (
            f"Host {alias or reached.host.name}\n  HostName {reached.address}\n  User {user}\n  Port {reached.port}\n"
        )
        lines += f"  ProxyJump {jump}\n" if jump else ""
        self.append(self.config, lines)
        self.append(self.known, reached.known_hosts())
        self.may_log_in(reached.host, user)

    def may_log_in(self, host: LabHost, user: str = "root") -> None:
        """Its key is accepted for ``user`` there."""
        home = "/root" if user == "root" else f"/home/{user}"
        key = self.host.read("/root/.ssh/id_ed25519.pub")
        host("install", "-d", "-m", "700", "-o", user, f"{home}/.ssh")
        there = host.disk(f"{home}/.ssh/authorized_keys")
        there.write_text((there.read_text() if there.exists() else "") + key)
        host("chown", user, f"{home}/.ssh/authorized_keys")
        host("chmod", "600", f"{home}/.ssh/authorized_keys")

    @staticmethod
    def append(file: Path, text: str) -> None:
        """Adds to one of the files of its OpenSSH."""
        file.write_text((file.read_text() if file.exists() else "") + text)
        file.chmod(0o600)

    def write(self, path: str, text: str) -> None:
        self.host.write(path, text, 0o644)

    def tool(self, *words: str) -> subprocess.CompletedProcess[str]:
        """``fixed-anchor`` at the seat, as root, in its folder /root."""
        return self.host.tool(*words)

    def does(self, *words: str, says: Iterable[str] = ()) -> str:
        """The same, which must end well and say all of that."""
        done = self.tool(*words)
        assert done.returncode == 0, f"{words}: {done.returncode}\n{done.stdout}{done.stderr}"
        for said in says:
            assert said in done.stdout, f"{words} does not say {said!r}:\n{done.stdout}{done.stderr}"
        return done.stdout

    def begins(self, *words: str) -> subprocess.Popen[bytes]:
        """The same, going on beside the test; what it prints is kept."""
        argv = self.host.tool_argv(*words)
        return subprocess.Popen(argv, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT)
