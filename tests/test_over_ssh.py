"""Hosts over SSH without a network: an `ssh` that runs the host's login shell here, and says what the real one says."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from fixed_anchor.change import states
from fixed_anchor.change.change import ChangeStatus
from fixed_anchor.core.addresses import parse_address
from fixed_anchor.core.errors import AnchorError, ChangeOpen, InputError, NoAccess, Unreachable, worst
from fixed_anchor.daemons.protocol import COPY
from fixed_anchor.machines import reach_by
from fixed_anchor.machines.readable import Wanted
from fixed_anchor.machines.seat import Seat
from fixed_anchor.machines.ssh.client import BOOTSTRAP, Effective
from fixed_anchor.machines.ssh.destination import parse_destination
from fixed_anchor.machines.ssh.machine import SshMachine
from fixed_anchor.machines.ssh.trouble import why_no_session
from fixed_anchor.vantages.relay import Failed
from fixed_anchor.workflow.linux.linux_host import LinuxHost

#: Runs the command of its last word by the login shell in $LOGIN, after what $BEFORE prints; $GONE ends it at once.
SSH = r"""#!/bin/sh
for last; do :; done
case " $* " in *" -G "*) printf 'hostname fake\nport %s\n' "${PORT:-22}"; exit 0 ;; esac
echo "$*" >>"$SAID"
case " $* " in
*" HostName="*) case "${AT-}" in key) echo "WARNING: REMOTE HOST IDENTIFICATION HAS CHANGED!" >&2; exit 255 ;; esac ;;
*) case "${AT-}" in ?*) echo "ssh: connect to host tide-db port 22: No route to host" >&2; exit 255 ;; esac ;;
esac
if [ "${HANGS_UP-0}" -ge "$(grep -c . "$SAID")" ]; then printf '%b' "${ERRORS-}" >&2; exit 255; fi
printf '%b' "${BEFORE-}"
printf '%b' "${ERRORS-}" >&2
[ -z "${STATUS-}" ] || exit "$STATUS"
exec env SSH_CONNECTION="203.0.113.9 40000 203.0.113.20 22" ${LOGIN:-/bin/sh} -c "$last"
"""

SUDO = r"""#!/bin/sh
# sudo as it is configured in $SUDO: never, password, free.
case $SUDO in
never) echo "sudo: sorry, you must have a tty to run sudo" >&2; exit 1 ;;
password) case ${1-} in -n) echo "sudo: a password is required" >&2; exit 1 ;; esac ;;
esac
while :; do
    case ${1-} in
    -S) IFS= read -r given; [ "$given" = "$SECRET" ] || { echo "sudo: 1 incorrect password attempt" >&2; exit 1; } ;;
    -p) shift ;;
    -n | -k) ;;
    *) break ;;
    esac
    shift
done
AS_ROOT=yes exec "$@"
"""

#: What tells a program that it is root, as far as it asks.
ID = '#!/bin/sh\ncase "$*" in -u) [ -z "${AS_ROOT-}" ] && echo 1000 || echo 0 ;; *) exec /usr/bin/id "$@" ;; esac\n'


@pytest.fixture
def bin_folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    folder = tmp_path / "bin"
    folder.mkdir()
    for name, text in (("ssh", SSH),):
        (folder / name).write_text(text)
        (folder / name).chmod(0o755)
    monkeypatch.setenv("PATH", f"{folder}:{os.environ['PATH']}")
    monkeypatch.setenv("SAID", str(tmp_path / "said"))
    return folder


@pytest.fixture
def host(bin_folder: Path) -> Iterator[SshMachine]:
    seat = Seat()
    machine = reach_by("ssh:tide-db", Path("."), seat)
    assert isinstance(machine, SshMachine)
    yield machine
    seat.close()


@pytest.mark.parametrize(
    ("text", "shown", "parts"),
    [
        ("tide-db", "tide-db", ("tide-db", None, None)),
        ("wren@tide-db:2222", "wren@tide-db:2222", ("tide-db", "wren", 2222)),
        ("[2001:db8:7e:1::20]:2222", "[2001:db8:7e:1::20]:2222", ("2001:db8:7e:1::20", None, 2222)),
        ("wren@2001:db8:7e:1::20", "wren@[2001:db8:7e:1::20]", ("2001:db8:7e:1::20", "wren", None)),
        ("[fe80::5311%eth0]:22", "[fe80::5311%eth0]:22", ("fe80::5311%eth0", None, 22)),
        ("wren@station@tide-db", None, None),
        ("-oProxyCommand=x", None, None),
        ("-l@tide-db", None, None),
        ("wren@-tide", None, None),
        ("@tide-db", None, None),
        ("tide-db:", None, None),
        ("tide-db:70000", None, None),
        ("tide-db:2²", None, None),
        ("[tide-db]x", None, None),
        ("[2001:db8::1", None, None),
        ("a:b:c", None, None),
        ("tide db", None, None),
        ("tide-db;reboot", None, None),
        ("%h", None, None),
        ("wren@", None, None),
    ],
)
def test_destinations(text: str, shown: str | None, parts: tuple[str, str | None, int | None] | None) -> None:
    if parts is None:
        with pytest.raises(InputError):
            parse_destination(text)
        return
    found = parse_destination(text)
    assert (found.name, found.user, found.port) == parts
    assert str(found) == shown
    assert parse_destination(str(found)) == found


@given(st.text(max_size=30))
def test_no_destination_is_an_option(text: str) -> None:
    try:
        found = parse_destination(text)
    except InputError:
        return
    assert not found.name.startswith("-")
    assert not (found.user or "").startswith("-")


def test_the_client_is_told_nothing_that_a_configuration_could_twist(host: SshMachine, tmp_path: Path) -> None:
    host.run(("true",))
    said = (tmp_path / "said").read_text()
    for option in ("BatchMode=yes", "ClearAllForwardings=yes", "ControlPath=none", "RemoteCommand=none"):
        assert option in said
    assert said.index("IgnoreUnknown=") < said.index("SessionType=")
    assert "-- tide-db " in said


SHELLS = [shell for shell in ("dash", "bash", "busybox sh", "zsh", "fish", "csh") if shutil.which(shell.split()[0])]


@pytest.mark.parametrize("shell", SHELLS)
def test_any_login_shell_will_do(host: SshMachine, shell: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Files, links, folders and commands, whatever is in them; written beside and renamed."""
    monkeypatch.setenv("LOGIN", shell)
    odd = b"plain\n|bar\n+plus\n-\n\xff\xfe bytes\tand \\backslash\r\nno end"
    tree = tmp_path / "tree"
    (tree / "a folder").mkdir(parents=True)
    (tree / "a folder" / "odd [1].conf").write_bytes(odd)
    (tree / "long.conf").write_bytes(b"x" * 100 + b"\n" + odd * 500)
    (tree / ".hidden.conf").write_text("")
    (tree / "link").symlink_to("long.conf")
    read = host.read(f"{tree}/a folder/odd [1].conf")
    assert read is not None
    assert read.text.encode("utf-8", "surrogateescape") == odd
    long = host.read(f"{tree}/long.conf")
    assert long is not None
    assert long.text.encode("utf-8", "surrogateescape") == (tree / "long.conf").read_bytes()
    assert host.read(f"{tree}/nothing") is None
    assert host.read(str(tree)) is None
    assert host.glob(f"{tree}/*.conf") == [f"{tree}/long.conf"]
    assert host.link_target(f"{tree}/link") == "long.conf"
    assert host.folders(str(tree)) == ["a folder"]
    ran = host.run(("sh", "-c", "printf 'out\\n'; echo 'it is \"err\"' >&2; exit 3"))
    assert (ran.status, ran.out, ran.err) == (3, "out\n", 'it is "err"\n')
    assert host.run(("echo", "a b", "$(reboot)", "*")).out == "a b $(reboot) *\n"
    assert host.run(("no-such-command",)).status == 127
    assert host.make_folder(f"{tree}/new/state")
    assert not host.make_folder(f"{tree}/new/state")
    host.put_all(f"{tree}/new/state", {"engine.sh": (odd, 0o700), "steps/01": (b"", 0o600)})
    host.rename_folder(f"{tree}/new/state", f"{tree}/new/0001")
    assert (tree / "new/0001/engine.sh").read_bytes() == odd
    assert (tree / "new/0001/engine.sh").stat().st_mode & 0o777 == 0o700
    assert not list((tree / "new/0001").glob(".*"))
    fetched = host.fetch(Wanted(files=(f"{tree}/*.conf", "/no/such"), links=(f"{tree}/link",), commands=(("true",),)))
    assert fetched.glob(f"{tree}/*.conf") == [f"{tree}/long.conf"]
    assert fetched.read("/no/such") is None
    assert fetched.run(("true",)).good
    with pytest.raises(NoAccess, match="there already"):
        host.rename_folder(f"{tree}/new/0001", f"{tree}/a folder")


@given(st.binary(max_size=400).filter(lambda data: b"\0" not in data))
@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], max_examples=30, deadline=None)
def test_what_is_written_is_read_back(host: SshMachine, tmp_path: Path, data: bytes) -> None:
    host.put(f"{tmp_path}/state/file", data)
    read = host.read(f"{tmp_path}/state/file")
    assert read is not None
    assert read.text.encode("utf-8", "surrogateescape") == data
    assert (tmp_path / "state/file").read_bytes() == data


def test_a_setting_of_the_kernel_is_read_whole(host: SshMachine) -> None:
    """A shell that reads it byte by byte gets its first digit alone."""
    path = "/proc/sys/net/ipv4/ip_local_port_range"
    found = host.read(path)
    assert found is not None
    assert found.text == Path(path).read_text()


def test_what_cannot_be_carried_is_refused(host: SshMachine, tmp_path: Path) -> None:
    with pytest.raises(InputError, match="null byte"):
        host.put(f"{tmp_path}/x", b"a\0b")
    with pytest.raises(InputError, match="line ends"):
        host.run(("echo", "two\nlines"))
    with pytest.raises(InputError, match="line ends"):
        host.read("/etc/host\nname")


def test_a_profile_that_prints_reads_and_traps(
    host: SshMachine, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    profile = tmp_path / "profile"
    profile.write_text("echo hello; printf half; read -r a; read -r b; trap 'echo bye' EXIT\n")
    monkeypatch.setenv("BASH_ENV", str(profile))
    monkeypatch.setenv("LOGIN", "bash")
    monkeypatch.setenv("BEFORE", "Welcome!\\n\\033[2Jno line end")
    assert host.run(("echo", "x")).out == "x\n"


@pytest.fixture
def ordinary(bin_folder: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """The host lets nobody in as root."""
    for name, text in (("sudo", SUDO), ("id", ID)):
        (bin_folder / name).write_text(text)
        (bin_folder / name).chmod(0o755)
    # The host's own PATH comes first there.
    monkeypatch.setenv("SECRET", "gull's \\cry")
    monkeypatch.setattr(
        "fixed_anchor.machines.ssh.session.opening", lambda mark: _opening(mark, f"PATH={bin_folder}:$PATH\nmark=$1")
    )
    return bin_folder


def _opening(mark: str, beginning: str) -> bytes:
    from fixed_anchor.machines.ssh.errand import opening

    return opening(mark).replace(b"mark=$1", beginning.encode(), 1)


@pytest.mark.parametrize(
    ("sudo", "answers", "asked", "root", "why"),
    [
        ("free", [], 0, True, ""),
        ("never", [], 0, False, "must have a tty"),
        ("password", ["gull's \\cry"], 1, True, ""),
        ("password", ["wrong", "gull's \\cry"], 2, True, ""),
        ("password", ["a", "b", "c", "d"], 3, False, "did not take the password"),
        ("password", [None], 1, False, "wants a password"),
    ],
)
def test_root(
    ordinary: Path,
    monkeypatch: pytest.MonkeyPatch,
    sudo: str,
    answers: list[str | None],
    asked: int,
    root: bool,
    why: str,
) -> None:
    monkeypatch.setenv("SUDO", sudo)
    given: list[tuple[str, bool]] = []

    def ask(host: str, refused: str | None) -> str | None:
        given.append((host, refused is not None))
        return answers[len(given) - 1]

    seat = Seat(ask)
    machine = reach_by("ssh:tide-db", Path("."), seat)
    assert machine.run(("echo", "x")).out == "x\n"
    refusal = machine.rights.why_no_change()
    assert (refusal is None) == root
    assert why in str(refusal or "")
    assert len(given) == asked
    assert all(host == "tide-db" for host, _ in given)
    if asked > 1:
        assert given[1][1]
    # It is asked once for all hosts.
    other = reach_by("ssh:tide-ns1", Path("."), seat)
    before = len(given)
    if root:
        assert other.rights.why_no_change() is None
        assert len(given) == before
    seat.close()


@pytest.mark.parametrize(
    ("errors", "status", "kind", "said"),
    [
        ("Host key verification failed.\n", 255, NoAccess, "is not known here"),
        (
            "WARNING: REMOTE HOST IDENTIFICATION HAS CHANGED!\nOffending ED25519 key in /root/.ssh/known_hosts:3\n"
            "Host key verification failed.\n",
            255,
            NoAccess,
            "known_hosts, line 3",
        ),
        ("banner\nwren@tide-db: Permission denied (publickey).\n", 255, NoAccess, "does not let us log in"),
        ("ssh: Could not resolve hostname tide-db: Name or service not known\n", 255, Unreachable, "cannot be found"),
        ("ssh: connect to host tide-db port 22: Connection refused\n", 255, Unreachable, "Connection refused"),
        ("Connection timed out during banner exchange\n", 255, Unreachable, "timed out"),
        ("kex_exchange_identification: Connection closed by remote host\n", 255, Unreachable, "closed by remote"),
        ("/root/.ssh/config: line 3: Bad configuration option: frobnicate\n", 255, NoAccess, "cannot read its config"),
        ("sh: not found\n", 127, NoAccess, "runs no /bin/sh"),
        ("-rbash: exec: restricted\n", 1, NoAccess, "restricted shell"),
        ("", 1, NoAccess, "ran something else instead"),
    ],
)
def test_why_there_is_no_session(
    host: SshMachine, monkeypatch: pytest.MonkeyPatch, errors: str, status: int, kind: type[AnchorError], said: str
) -> None:
    monkeypatch.setenv("ERRORS", errors.replace("\n", "\\n"))
    monkeypatch.setenv("STATUS", str(status))
    monkeypatch.setenv("BEFORE", "This account is currently not available.\\n")
    with pytest.raises(kind) as raised:
        host.run(("true",))
    assert said in str(raised.value)
    assert raised.value.remedy
    assert isinstance(raised.value, kind)
    assert isinstance(raised.value, Unreachable) == (kind is Unreachable)


@pytest.mark.parametrize("said", ["", "kex_exchange_identification: read: Connection reset by peer\\n"])
@pytest.mark.parametrize(("times", "reached"), [(1, True), (2, True), (99, False)])
def test_a_server_that_hangs_up_before_the_login(
    host: SshMachine, monkeypatch: pytest.MonkeyPatch, said: str, times: int, reached: bool
) -> None:
    """With too many at once sshd sends some away, mostly without a word: tried three times."""
    monkeypatch.setattr("fixed_anchor.machines.ssh.connector._AGAIN_AFTER", (0.01, 0.01))
    monkeypatch.setenv("HANGS_UP", str(times))
    monkeypatch.setenv("ERRORS", said)
    if reached:
        assert host.run(("echo", "x")).out == "x\n"
        return
    with pytest.raises(Unreachable, match="ends the connection before the login"):
        host.run(("true",))


def test_control_characters_of_a_host_are_not_printed() -> None:
    assert "\033" not in str(why_no_session("tide-db", "ssh tide-db", 1, "", b"\033[2J\033]0;x\007gone"))


#: What PowerShell says on its standard error where nobody sees a console.
CLIXML = (
    '#< CLIXML\n<Objs Version="1.1.0.1"><Obj S="progress" RefId="0"><MS><SR N="Record"/></MS></Obj>'
    '<S S="Error">Access &amp; rights: denied_x000D__x000A_</S></Objs>'
)


@pytest.mark.parametrize(
    ("status", "said", "told"),
    [
        (1, CLIXML, "ran something else instead: Access & rights: denied"),
        (255, "wren@gannet-ws: Permission denied (publickey).", r"%ProgramData%\ssh\administrators_authorized_keys"),
    ],
)
def test_what_windows_hosts_say(status: int, said: str, told: str) -> None:
    why = why_no_session("gannet-ws", "ssh gannet-ws", status, said, b"")
    shown = f"{why} {why.remedy}"
    assert told in shown
    assert "CLIXML" not in shown
    assert "Objs" not in shown


def test_a_lost_connection_is_made_again(host: SshMachine, tmp_path: Path) -> None:
    """Looking goes on over a new one; what was to be done is not done twice."""
    (tmp_path / "file").write_text("x\n")
    assert host.read(f"{tmp_path}/file") is not None
    host.session.open().opened().channel._process.kill()
    assert host.read(f"{tmp_path}/file") is not None
    host.session.open().opened().channel._process.kill()
    with pytest.raises(Unreachable, match="was lost"):
        host.run(("sh", "-c", f"echo >>{tmp_path}/done"))
    assert not (tmp_path / "done").exists()
    assert host.run(("true",)).good


def test_ctrl_c_in_the_middle_of_a_request(host: SshMachine, monkeypatch: pytest.MonkeyPatch) -> None:
    """What is asked next goes over a connection of its own."""
    session = host.session.open().opened()

    def interrupted(data: bytes, until: float) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(session.channel, "write", interrupted)
    with pytest.raises(KeyboardInterrupt):
        host.run(("echo", "earlier"))
    assert host.run(("echo", "later")).out == "later\n"
    assert host.session.open().opened() is not session


def test_a_relay_has_the_connection_and_gives_it_back(host: SshMachine) -> None:
    with host.session.open().relay() as relay, pytest.raises(Failed, match="refused"):
        relay.call(b"C", 1, address="127.0.0.1", port=9, interface="", source="", timeout=1)
    assert host.run(("echo", "x")).out == "x\n"
    with host.session.open().relay() as relay:
        assert relay.call(b"E") == {}


@pytest.mark.parametrize(
    ("at", "macs", "found", "said"),
    [
        ("itself", {"own"}, True, ""),
        ("itself", set(), True, ""),
        ("itself", {"00:00:5e:00:53:99"}, False, "at 203.0.113.20: another machine answers at 203.0.113.20, with the"),
        ("key", {"own"}, False, "at 203.0.113.20: tide-db shows another host key"),
    ],
)
def test_at_the_address_that_it_is_to_hold(
    bin_folder: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, at: str, macs: set[str], found: bool, said: str
) -> None:
    """It is looked for there with its key and its MAC, and another machine is told of."""
    monkeypatch.setenv("AT", at)
    own = {path.read_text().strip() for path in Path("/sys/class/net").glob("*/address")}
    known = frozenset(own if "own" in macs else macs)
    seat = Seat()
    machine = reach_by("ssh:tide-db", Path("."), seat, "tide-db", (parse_address("203.0.113.20"),), known)
    if found:
        assert machine.run(("echo", "x")).out == "x\n"
        seat.close()
        assert seat.remarks == {
            "tide-db is at 203.0.113.20, by its plan. Correct at this seat:": [
                ("DNS, and the PTR record of 203.0.113.20", "fake. IN A 203.0.113.20")
            ]
        }
        proven = machine.session.answers_anew()
        assert proven is not None
        assert ("and its MAC" in proven) == bool(known)
        # A host that waits at another address for its own is proven there.
        machine.session.is_to_hold((parse_address("203.0.113.240"),))
        assert "203.0.113.240 is this host" in (machine.session.answers_anew() or "")
    else:
        with pytest.raises(Unreachable, match="No route to host") as raised:
            machine.run(("true",))
        assert said in str(raised.value)
        machine.session.at_its_addresses()
        with pytest.raises(NoAccess) as refused:
            machine.run(("true",))
        assert type(refused.value) is NoAccess
        assert said.partition(": ")[2] in str(refused.value)
    for option in ("HostKeyAlias=fake", "StrictHostKeyChecking=yes", "CheckHostIP=no", "ControlPath=none"):
        assert option in (tmp_path / "said").read_text()
    seat.close()


def test_the_names_by_which_a_key_is_known() -> None:
    assert Effective("db.ternpoint.example", 22).known_as() == ("db.ternpoint.example",)
    assert Effective("db", 2222).known_as() == ("[db]:2222", "db")
    assert Effective("db", 2222, "keys-of-db").known_as() == ("keys-of-db",)


def test_the_bootstrap_is_plain() -> None:
    """No shell of whichever kind may take anything in it for its own."""
    inside = BOOTSTRAP.removeprefix("exec /bin/sh -c '").removesuffix("'")
    assert "'" not in inside
    assert "\n" not in BOOTSTRAP
    assert "!" not in inside.replace("!=", "")
    assert subprocess.run(["sh", "-n", "-c", BOOTSTRAP], check=False).returncode == 0


@pytest.mark.parametrize(
    ("statuses", "expected"),
    [([], 0), ([0, 6], 6), ([6, 7, 4], 4), ([4, 1], 1), ([1, 3], 3), ([3, 5, 0], 5), ([5, 2], 2)],
)
def test_the_worst_of_several(statuses: list[int], expected: int) -> None:
    assert worst(statuses) == expected


@pytest.mark.parametrize(
    ("says", "raised"),
    [
        (["lost", "lost", "confirmed"], None),
        (["committing: keep", "confirmed"], None),
        (["rolled-back"], ChangeOpen),
        (["waiting"], Unreachable),
    ],
)
def test_a_connection_that_goes_with_the_decision(
    host: SshMachine, monkeypatch: pytest.MonkeyPatch, says: list[str], raised: type[AnchorError] | None
) -> None:
    """What came of it the host itself tells, once it answers again."""
    told = iter(says)

    def status(machine: object, number: str) -> ChangeStatus:
        state, _, decision = next(told).partition(": ")
        if state == "lost":
            raise Unreachable("tide-db is not reached")
        return ChangeStatus(number, state, "eth0", decision=decision or None)

    def confirm(*words: object) -> None:
        raise Unreachable("the connection to tide-db was lost")

    monkeypatch.setattr("fixed_anchor.engine.driver.confirm", confirm)
    monkeypatch.setattr("fixed_anchor.engine.driver.status", status)
    monkeypatch.setattr("time.sleep", lambda seconds: None)
    target = LinuxHost(host)
    if raised is None:
        target.decide("0001", states.KEEP, "wren")
    else:
        with pytest.raises(raised):
            target.decide("0001", states.KEEP, "wren")


def test_a_copy_of_files_is_tried_and_goes(host: SshMachine, tmp_path: Path) -> None:
    """Its words come back as those of any command; nothing of it stays, and nothing of it was on a command line."""
    script = 'stat -c %a "$1"; cat "$1/etc/netplan/a b"; echo "$1" >"$2"; echo said >&2; exit 3'
    files = {"/etc/netplan/a b": "secret: $(id)\n|bar\nno end", "/etc/empty": ""}
    note = tmp_path / "where"
    ran = host.try_out(files, ("sh", "-c", script, "sh", COPY, str(note)))
    assert (ran.status, ran.out, ran.err) == (3, "700\nsecret: $(id)\n|bar\nno end\n", "said\n")
    folder = Path(note.read_text().strip())
    assert folder.name.startswith("tmp.")
    assert not folder.exists()
    # The session goes on, and the next copy is another one.
    assert host.try_out({"/x": "1\n"}, ("cat", f"{COPY}/x")).out == "1\n"
    assert host.try_out({}, ("ls", COPY)).status == 0


def test_a_host_without_room_for_a_copy(host: SshMachine, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("TMPDIR", "/nowhere")
    ran = host.try_out({"/etc/x": "a\n"}, ("cat", f"{COPY}/etc/x"))
    assert ran.status == 126
    assert "no room" in ran.err
    assert host.run(("echo", "still here")).out == "still here\n"
