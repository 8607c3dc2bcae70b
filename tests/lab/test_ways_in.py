"""Users, shells and hosts as they are: each through survey, check and cutover from a seat; and no password anywhere."""

from __future__ import annotations

import threading
import time
from pathlib import Path

import pexpect
import pytest

from tests.lab.conftest import MakeHost
from tests.lab.faults import CHANGE, log
from tests.lab.host import LabHost
from tests.lab.network import run, wait_for
from tests.lab.seats import PLAN, SSH, Reached, Seat
from tests.lab.test_matrix import ANOTHER, STACKS

PASSWORD = "gulls-cry'\\\"at dawn"
CUTOVER = ("cutover", "plan.yaml", "--host", "tide-db", "--unattended")

Pair = tuple[Seat, LabHost, Reached]


pytestmark = pytest.mark.one_in(6)


@pytest.fixture
def pair(make_host: MakeHost) -> Pair:
    """A seat, and a host that it can be made to know."""
    files, units = STACKS["networkd"]
    host = make_host(files, (*units, SSH))
    seat = Seat(make_host(files, units))
    seat.write("/root/plan.yaml", PLAN.format(what=f"hold: {ANOTHER}"))
    return seat, host, Reached(host)


def converts(seat: Seat, host: LabHost) -> None:
    """Survey, check and cutover from the seat, unattended."""
    seat.does("survey", "--plan", "plan.yaml", says=["networkd", "leased"])
    seat.does("check", "plan.yaml", says=["plan.yaml: clear"])
    done = seat.tool(*CUTOVER)
    assert done.returncode == 0, done.stdout + done.stderr + log(host)
    assert host.holds(ANOTHER)
    assert not host.leased()


class Looker:
    """Looks all the time for a secret in the arguments and the environment of every process of some hosts."""

    def __init__(self, secret: str, *hosts: LabHost) -> None:
        self.secret = secret.encode()
        self.found: list[str] = []
        self.looked = 0
        self._inits = [host.pid for host in hosts]
        self._ends = threading.Event()
        self._thread = threading.Thread(target=self._look, daemon=True)
        self._thread.start()

    def _look(self) -> None:
        # The processes of the hosts are seen from outside, too.
        while not self._ends.is_set():
            for folder in Path("/proc").iterdir():
                if folder.name.isdecimal():
                    for file in ("cmdline", "environ"):
                        try:
                            data = (folder / file).read_bytes()
                        except OSError:
                            continue
                        self.looked += 1
                        if self.secret in data:
                            self.found.append(f"{folder.name}/{file}: {data[:200]!r}")
            time.sleep(0.01)

    def end(self) -> None:
        self._ends.set()
        self._thread.join()


def with_password(seat: Seat, *words: str, answers: tuple[str, ...]) -> tuple[int, str]:
    """The tool at a terminal, at which each answer is typed when a password is asked for."""
    argv = seat.host.tool_argv("--log-level", "debug", *words)
    terminal = pexpect.spawn(argv[0], argv[1:], encoding="utf-8", timeout=120, codec_errors="replace")
    said = ""
    for answer in answers:
        terminal.expect(r"go on without\): ")
        said += terminal.before + terminal.after
        terminal.sendline(answer)
    terminal.expect(pexpect.EOF)
    terminal.close()
    return terminal.exitstatus or 0, said + terminal.before


def test_sudo_with_a_password(pair: Pair) -> None:
    """Typed once for all; a wrong one is asked for again, and none is seen in any process, log or file."""
    seat, host, reached = pair
    reached.add_user("wren", PASSWORD, "ALL=(ALL:ALL) ALL")
    seat.knows(reached, user="wren")
    looker = Looker(PASSWORD, host, seat.host)
    status, said = with_password(seat, "survey", "--plan", "plan.yaml", answers=("wrong", PASSWORD))
    assert status == 0, said
    assert "password for sudo on tide-db" in said
    assert "refused that password" in said
    assert "leased" in said
    status, said = with_password(seat, "check", "plan.yaml", answers=(PASSWORD,))
    assert status == 0, said
    status, said = with_password(seat, *CUTOVER, answers=(PASSWORD,))
    assert status == 0, said + log(host)
    looker.end()
    assert host.holds(ANOTHER)
    assert looker.looked > 1000
    assert looker.found == []
    for one in (host, seat.host):
        for folder in ("/var", "/etc", "/root", "/home", "/tmp", "/run"):
            hits = one("grep", "-rlF", "--", PASSWORD, folder, check=False).stdout
            assert hits == "", hits
    assert PASSWORD not in said
    # Without a terminal nobody is asked, and that is said.
    refused = seat.tool(*CUTOVER)
    assert refused.returncode == 4, refused.stdout
    assert "its sudo wants a password" in refused.stderr, refused.stderr


@pytest.mark.beyond_cover
def test_a_password_where_nothing_is_kept_of_it(pair: Pair) -> None:
    """sudo may want it for every single command; an empty one goes on without root."""
    seat, host, reached = pair
    reached.add_user("wren", PASSWORD, "ALL=(ALL:ALL) ALL")
    host.write("/etc/sudoers.d/never", "Defaults timestamp_timeout=0\nDefaults use_pty\n", 0o440)
    seat.knows(reached, user="wren")
    status, said = with_password(seat, "survey", "--plan", "plan.yaml", answers=(PASSWORD,))
    assert status == 0, said
    status, said = with_password(seat, *CUTOVER, answers=("",))
    assert status == 4, said
    assert "cannot be had" in said


@pytest.mark.beyond_cover
def test_sudo_without_a_password(pair: Pair) -> None:
    seat, host, reached = pair
    reached.add_user("wren", PASSWORD, "ALL=(ALL:ALL) NOPASSWD: ALL")
    seat.knows(reached, user="wren")
    converts(seat, host)


@pytest.mark.parametrize(
    ("sudoers", "why"),
    [
        pytest.param(None, "its sudo", id="not-in-sudoers", marks=pytest.mark.beyond_cover),
        pytest.param("none", "there is no sudo", id="no-sudo"),
        pytest.param("ALL=(ALL) NOPASSWD: /bin/true", "its sudo", id="another-command", marks=pytest.mark.beyond_cover),
    ],
)
def test_without_sudo(pair: Pair, sudoers: str | None, why: str) -> None:
    """What anybody may see is seen; the rest is refused by name, and nothing is changed."""
    seat, host, reached = pair
    reached.add_user("wren", PASSWORD, None if sudoers == "none" else sudoers)
    if sudoers == "none":
        host.disk("/usr/bin/sudo").unlink()
    seat.knows(reached, user="wren")
    before = host.etc_digest()
    seat.does("survey", "--plan", "plan.yaml", says=["leased"])
    checked = seat.tool("check", "plan.yaml")
    assert checked.returncode in (0, 4, 6), checked.stdout + checked.stderr
    refused = seat.tool(*CUTOVER)
    assert refused.returncode == 4, refused.stdout + refused.stderr
    assert "needs root" in refused.stderr
    assert why in refused.stderr, refused.stderr
    assert host.etc_digest() == before


def test_a_banner_and_a_talkative_profile(make_host: MakeHost) -> None:
    files, units = STACKS["networkd"]
    host = make_host(files, (*units, SSH))
    seat = Seat(make_host(files, units))
    seat.write("/root/plan.yaml", PLAN.format(what=f"hold: {ANOTHER}"))
    host.write("/etc/banner", "Tern Point Marine Station. Permission denied to nobody.\n" * 20, 0o644)
    host.write("/etc/motd", "high tide at noon\n", 0o644)
    talk = "echo welcome; printf half; read -r first; read -r second; trap 'echo bye; exit 9' EXIT\n"
    host.write("/root/.bashrc", talk)
    host.write("/root/.profile", talk)
    seat.knows(Reached(host, more="Banner /etc/banner\n"))
    converts(seat, host)


@pytest.mark.parametrize("arping", [pytest.param(True, marks=pytest.mark.beyond_cover), False])
def test_without_python(pair: Pair, arping: bool) -> None:
    """Its kernel and its shell do; what they cannot see is said before anything is changed."""
    seat, host, reached = pair
    host("sh", "-c", "for p in /usr/bin/python3*; do mv $p /root/gone-${p##*/}; done")
    if not arping:
        host("sh", "-c", "mv /usr/bin/busybox /root/gone-busybox")
    seat.knows(reached)
    seat.does("probe", ANOTHER, "--from", "ssh:tide-db", says=["free", "weaker"])
    old = host.leased_address()
    seat.does("check", "plan.yaml", says=["plan.yaml: clear"])
    if not arping:
        refused = seat.tool(*CUTOVER)
        assert refused.returncode == 6, refused.stdout + refused.stderr
        assert "owner-not-provable" in refused.stdout
    accepted = [] if arping else ["--accept", "owner-not-provable", "--because", "a spare machine"]
    said = seat.does(*CUTOVER, *accepted, says=[f"the lease of {old} stays", "203.0.113.1 routes: "])
    assert ("nobody else has" in said) == arping, said
    assert host.holds(ANOTHER)


def test_a_read_only_root(pair: Pair) -> None:
    seat, host, reached = pair
    seat.knows(reached)
    seat.does("survey", "--plan", "plan.yaml", says=["leased"])
    # The host's own root has writers, a mount of its own has none.
    for folder in ("/etc", "/var", "/usr"):
        host("mount", "--bind", folder, folder)
        host("mount", "-o", "remount,bind,ro", folder)
    seat.does("check", "plan.yaml")
    refused = seat.tool(*CUTOVER)
    assert refused.returncode == 4, refused.stdout + refused.stderr
    assert "ead-only" in refused.stderr, refused.stderr
    assert host.leased()


def test_what_is_wrong_is_said(pair: Pair) -> None:
    """Unknown and changed host keys, a refused key, a shell that is none, a full disk, nobody there."""
    seat, host, reached = pair

    def said(*words: str, status: int = 4) -> str:
        done = seat.tool(*words)
        assert done.returncode == status, done.stdout + done.stderr
        return done.stderr

    host.disk("/root/.ssh/authorized_keys").unlink(missing_ok=True)
    survey = ("survey", "--host", f"ssh:{reached.address}")
    assert "is not known here" in said(*survey)
    seat.append(seat.host.disk("/root/.ssh/known_hosts"), reached.known_hosts())
    assert "does not let us log in" in said(*survey)
    seat.may_log_in(host)
    seat.does(*survey)
    run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(host.disk("/etc/ssh/other")))
    host.write("/etc/ssh/sshd_config.d/lab.conf", "HostKey /etc/ssh/other\n", 0o644)
    reached.restart_sshd()
    assert "another host key than the one that is known" in said(*survey)
    host.write("/etc/ssh/sshd_config.d/lab.conf", "HostKey /etc/ssh/own_key\n", 0o644)
    reached.restart_sshd()
    reached.add_user("moored", PASSWORD, None)
    seat.may_log_in(host, "moored")
    host("usermod", "-s", "/usr/sbin/nologin", "moored")
    assert "ran something else instead" in said("survey", "--host", f"ssh:moored@{reached.address}")
    host("usermod", "-s", "/bin/rbash", "moored")
    assert "restricted shell" in said("survey", "--host", f"ssh:moored@{reached.address}")
    assert "cannot be found" in said("survey", "--host", "ssh:no-such-host.ternpoint.example")
    host("systemctl", "stop", "ssh.service", "ssh.socket", check=False)
    assert "Connection refused" in said(*survey)
    begun = time.monotonic()
    assert "is not reached" in said("survey", "--host", "ssh:203.0.113.77")
    assert time.monotonic() - begun < 60


@pytest.mark.parametrize("cloned", [True, pytest.param(False, marks=pytest.mark.beyond_cover)])
def test_another_machine_at_its_address(make_host: MakeHost, pair: Pair, cloned: bool) -> None:
    """A clone has the same host key, and another MAC; any other machine has another key. Neither is taken for it."""
    seat, host, reached = pair
    seat.knows(reached)
    files, units = STACKS["networkd"]
    other = make_host(files, (*units, SSH))
    another = Reached(other)
    seat.may_log_in(other)
    if cloned:
        other.disk("/etc/ssh/own_key").write_text(host.read("/etc/ssh/own_key"))
        another.restart_sshd()
    other("ip", "address", "add", f"{ANOTHER}/24", "dev", "eth0")
    host.cut_power()
    told = seat.tool("status", "--plan", "plan.yaml")
    assert told.returncode == 4, told.stdout
    said = f"another machine answers at {ANOTHER}" if cloned else "shows another host key"
    assert said in told.stderr, told.stderr
    assert (other.mac in told.stderr) == cloned, told.stderr
    kept = seat.tool("confirm", "--plan", "plan.yaml", "tide-db:1")
    assert kept.returncode == 4, kept.stdout
    assert said in kept.stderr, kept.stderr


def test_unattended_where_the_new_address_is_not_let_in(pair: Pair) -> None:
    """All is as planned on the host, and nobody can log in at its new address: rolled back, with the reason."""
    seat, host, reached = pair
    seat.knows(reached)
    before = host.etc_digest()
    old = host.leased_address()
    # sshd lets nobody in who comes to the new address.
    host.write("/etc/ssh/sshd_config.d/only.conf", f"Match LocalAddress {ANOTHER}\n  AllowUsers nobody\n", 0o644)
    reached.restart_sshd()
    done = seat.tool(*CUTOVER)
    assert done.returncode == 3, done.stdout + done.stderr + log(host)
    assert "answers-anew" in log(host)
    assert "does not let us log in" in log(host), log(host)
    assert host.leased()
    assert old == host.leased_address()
    host.disk("/etc/ssh/sshd_config.d/only.conf").unlink()
    assert host.etc_digest() == before


@pytest.mark.beyond_cover
def test_a_full_disk(pair: Pair) -> None:
    seat, host, reached = pair
    seat.knows(reached)
    host("mkdir", "-p", "/var/lib/fixed-anchor")
    host("mount", "-t", "tmpfs", "-o", "size=16k", "tmpfs", "/var/lib/fixed-anchor")
    before = host.etc_digest()
    refused = seat.tool(*CUTOVER)
    assert refused.returncode == 4, refused.stdout + refused.stderr
    assert "No space left" in refused.stderr or "could be written" in refused.stderr, refused.stderr
    assert host.etc_digest() == before
    host("umount", "/var/lib/fixed-anchor")


def test_eight_begin_at_once_through_a_jump_host(make_host: MakeHost, tmp_path: Path) -> None:
    """An sshd drops further ones at random (MaxStartups); none of a dozen hosts is lost here."""
    files, units = STACKS["networkd"]
    jump = Reached(make_host(files, (*units, SSH)), more="MaxStartups 10:100:10\nMaxSessions 100\n")
    host = make_host(files, (*units, SSH))
    seat = Seat(make_host(files, units))
    seat.knows(jump, alias="mooring")
    reached = Reached(host, more="MaxStartups 100\n")
    for number in range(16):
        seat.knows(reached, alias=f"vm{number}", jump="mooring")
    words = [word for number in range(16) for word in ("--host", f"ssh:vm{number}")]
    out = seat.does("survey", *words)
    assert out.count("203.0.113.") >= 16, out
    wait_for("every session to end", lambda: host("pgrep", "-c", "-f", "fixed-anchor", check=False).stdout == "0\n", 10)
    assert not host.disk(CHANGE).exists()
