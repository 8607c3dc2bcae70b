"""Windows machines over SSH: an `ssh` that ends in a real PowerShell over a simulated machine, behind three shells."""

from __future__ import annotations

import http.server
import json
import os
import socket
import sys
import threading
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from fixed_anchor.core.addresses import parse_address
from fixed_anchor.core.errors import NoAccess, OtherSystem, Unreachable
from fixed_anchor.machines import reach_by
from fixed_anchor.machines.readable import Wanted
from fixed_anchor.machines.seat import Seat
from fixed_anchor.machines.ssh.machine import SshMachine
from fixed_anchor.machines.ssh.windows_session import command, new_mark
from fixed_anchor.machines.ssh.windows_vantage import WindowsVantage
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.standins.windows.state import machine
from fixed_anchor.standins.windows.told import facts_of
from tests.powershell import COMMANDS, PWSH, needs_powershell, tree_of
from tests.test_commands import run
from tests.test_over_ssh import SSH
from tests.test_windows import HOSTILE, MACHINES, NEWER, NEWER_TOKENS

LOOKING = Path(__file__).parent.parent / "src/fixed_anchor/machines/ssh/looking.ps1"
BOOTSTRAP = Path(__file__).parent.parent / "src/fixed_anchor/machines/ssh/bootstrap.ps1"

#: The shell that sshd starts there: it knows `powershell`, and says of all else what it would say.
LOGIN = rf"""#!/bin/sh
echo "$2" >>"$FAKE/asked"
case $2 in
"powershell "*) [ "$SHELL_THERE" = nothing ] || exec {sys.executable} "$FAKE/powershell.py" $2 ;;
esac
case $SHELL_THERE in
cmd) echo "'exec' is not recognized as an internal or external command," >&2
     echo "operable program or batch file." >&2; exit 1 ;;
PowerShell) echo "exec : The term 'exec' is not recognized as the name of a cmdlet" >&2; exit 1 ;;
guest) SYSTEMROOT='C:\WINDOWS' exec /bin/sh -c "$2" ;;
nothing) echo "This account is currently not available." ; exit 1 ;;
esac
"""

#: Puts the module that stands for Windows' commands, and a language mode, before the program that was given.
POWERSHELL = r"""
import base64, os, sys
words = sys.argv[1:]
at = words.index("-EncodedCommand") + 1
program = base64.b64decode(words[at]).decode("utf-16-le")
before = f"Import-Module '{os.environ['COMMANDS']}' -DisableNameChecking\n"
if os.environ.get("MODE"):
    before += f"$ExecutionContext.SessionState.LanguageMode = '{os.environ['MODE']}'\n"
if os.environ.get("LOUD"):
    before += "'a profile says hello'\n"
words[at] = base64.b64encode((before + program).encode("utf-16-le")).decode()
os.execv(os.environ["PWSH"], [os.environ["PWSH"], "-NoLogo", *words[1:]])
"""


#: Whom a machine has found.
NEIGHBOURS = [
    {"index": 4, "address": "198.51.100.1", "mac": "00-00-5E-00-53-04", "state": "Reachable"},
    {"index": 4, "address": "198.51.100.20", "mac": "00-00-00-00-00-00", "state": "Unreachable"},
    {"index": 4, "address": "198.51.100.30", "mac": "00-00-5E-00-53-5A", "state": "Permanent"},
    {"index": 5, "address": "198.51.100.40", "mac": "00-00-5E-00-53-5B", "state": "Reachable"},
]


class Quiet(http.server.BaseHTTPRequestHandler):
    """A web server that has nothing."""

    def do_HEAD(self) -> None:
        self.send_response(204)
        self.end_headers()

    def log_message(self, format: str, *args: object) -> None:
        """Nothing is logged."""


@pytest.fixture
def there(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """The folder of the fake: its `ssh` comes first on PATH."""
    folder = tmp_path / "fake"
    folder.mkdir()
    for name, text in (("ssh", SSH), ("login", LOGIN), ("powershell.py", POWERSHELL)):
        (folder / name).write_text(text)
        (folder / name).chmod(0o755)
    for name, value in {
        "PATH": f"{folder}:{os.environ['PATH']}", "FAKE": str(folder), "LOGIN": str(folder / "login"),
        "SAID": str(folder / "said"), "COMMANDS": str(COMMANDS), "PWSH": PWSH or "", "SHELL_THERE": "cmd",
        "FIXED_ANCHOR_WINDOWS": str(folder / "machine.json"), "FIXED_ANCHOR_STATE": str(folder / "FixedAnchor"),
    }.items():  # fmt: skip
        monkeypatch.setenv(name, value)
    runs(folder, MACHINES["leased"]["machine"])
    return folder


def runs(folder: Path, said: dict[str, Any]) -> None:
    (folder / "machine.json").write_text(json.dumps(machine(said)))


def reached(tmp_path: Path, seat: Seat, macs: frozenset[str] = frozenset(), *addresses: str) -> SshMachine:
    held = tuple(map(parse_address, addresses))
    found = reach_by("ssh:gannet-ws", tmp_path, seat, "gannet-ws", held, macs)
    assert isinstance(found, SshMachine)
    return found


@needs_powershell
@pytest.mark.parametrize("shell", ["cmd", "PowerShell", "guest"])
def test_it_is_recognised_by_asking(there: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, shell: str) -> None:
    """Whatever its shell is: the plan says `ssh:` and no more. Asked again it tells what is so by then."""
    monkeypatch.setenv("SHELL_THERE", shell)
    monkeypatch.setenv("LOUD", "yes")
    with closing(Seat()) as seat:
        found = reached(tmp_path, seat)
        survey = take_stock(found)
        assert survey.system.startswith("Windows 11")
        assert [str(a.address) for a in survey.interfaces[0].addresses][-1] == "198.51.100.77/24"
        assert (str(found.session.address()), found.session.port()) == ("203.0.113.20", 22)
        runs(there, MACHINES["several addresses"]["machine"])
        assert "198.51.100.21/24" in [str(a.address) for a in take_stock(found).interfaces[0].addresses]
        # It has no files of Linux, and runs none of its commands.
        assert found.read("/etc/hosts") is None
        assert (found.glob("/etc/hosts"), found.folders("/etc")) == ([], [])
        assert not found.run(("true",)).known
        with pytest.raises(OtherSystem, match="runs Windows"):
            found.put("/etc/hosts", b"")
        assert found.rights.why_no_change() is None
    # One connection to learn that it is no Linux host, and one for all else.
    asked = (there / "asked").read_text().splitlines()
    assert len([line for line in asked if line.startswith("powershell ")]) == 1
    assert len(asked[-1]) < 8191


@needs_powershell
def test_a_restricted_mode_is_all_that_is_told(there: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("MODE", "ConstrainedLanguage")
    with closing(Seat()) as seat:
        survey = take_stock(reached(tmp_path, seat))
    assert survey.stack_evidence == ("its language mode is ConstrainedLanguage: nothing else can be known of it",)


@needs_powershell
def test_a_machine_at_its_address_must_be_itself(there: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Where its name does not answer it is looked for at its addresses, and known there by key and MAC."""
    monkeypatch.setenv("AT", "address")
    with closing(Seat()) as seat:
        mine = reached(tmp_path, seat, frozenset({"00:00:5e:00:53:31"}), "203.0.113.20")
        assert take_stock(mine).system.startswith("Windows")
        found = mine.session.end.session
        assert found is not None
        assert found.found_at is not None
        assert str(found.found_at.address) == "203.0.113.20"
    with closing(Seat()) as seat:
        other = reached(tmp_path, seat, frozenset({"00:00:5e:00:53:99"}), "203.0.113.20")
        with pytest.raises(NoAccess, match=r"another machine answers at 203\.0\.113\.20"):
            other.fetch(Wanted())


def test_what_is_no_windows_machine_either(there: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The first answer is the one that helps."""
    monkeypatch.setenv("SHELL_THERE", "nothing")
    with closing(Seat()) as seat, pytest.raises(NoAccess, match="something else instead: This account is"):
        take_stock(reached(tmp_path, seat))


@needs_powershell
def test_hostile_values_come_over_it_as_they_are(there: Path, tmp_path: Path) -> None:
    adapters = {text or "none": {"mac": f"00:00:5e:00:53:{n:02x}", "suffix": text} for n, text in enumerate(HOSTILE)}
    runs(there, {"domain": HOSTILE[0], "search": HOSTILE, "adapters": adapters})
    with closing(Seat()) as seat:
        found = reached(tmp_path, seat)
        take_stock(found)
        told = facts_of(json.loads((there / "machine.json").read_text()))
        assert found.windows is not None
        assert (found.windows.adapters, found.windows.dns, found.windows.search) == (
            told.adapters, told.dns, told.search,
        )  # fmt: skip


@needs_powershell
def test_the_line_is_lost(there: Path, tmp_path: Path) -> None:
    with closing(Seat()) as seat:
        found = reached(tmp_path, seat)
        take_stock(found)
        assert found.session.end.session is not None
        found.session.end.session.channel._process.kill()
        with pytest.raises(Unreachable, match="the connection to gannet-ws was lost"):
            take_stock(found)
        # It is connected anew.
        assert take_stock(found).system


@needs_powershell
def test_what_the_bootstrap_is_made_of(tmp_path: Path) -> None:
    """The one program that runs text; nothing in it that 5.1 lacks."""
    tree = tree_of(BOOTSTRAP, tmp_path)
    assert tree["errors"] == []
    assert {c["name"] for c in tree["commands"]} == {
        "ConvertTo-Json",
        "ForEach-Object",
        "Where-Object",
        "by Ampersand VariableExpressionAst",
    }
    assert set(tree["members"]) == {
        "[Console]::OpenStandardInput", "[IO.StreamReader]::new", "ReadLineAsync", "Wait", "[scriptblock]::Create",
        "[Convert]::FromBase64String", "[Convert]::ToBase64String", "GetString", "GetBytes", "WriteLine", "ContainsKey",
    }  # fmt: skip
    assert BOOTSTRAP.read_text("utf-8").isascii()
    assert len(command(new_mark())) < 8191


@needs_powershell
def test_the_commands_of_a_seat(there: Path, tmp_path: Path) -> None:
    """Surveyed, checked and drafted as any other host, by the program as it is installed."""
    runs(there, {**MACHINES["leased"]["machine"], "neighbours": NEIGHBOURS})
    (tmp_path / "plan.yaml").write_text(
        "plan: 1\nsegments: {labs: {subnet: 198.51.100.0/24, gateway: 198.51.100.1, resolvers: 198.51.100.2, "
        "pools: []}}\nhosts:\n  gannet-ws:\n    reach: ssh:gannet-ws\n    interfaces:\n"
        '      Ethernet: {mac: "00:00:5e:00:53:31", segment: labs, hold: 198.51.100.20}\n'
    )
    drafted = run(tmp_path, "draft", "plan.yaml")
    assert drafted.returncode == 0, drafted.stderr
    assert "Windows 11 Pro" in drafted.stdout
    assert "EnableStatic of adapter 4: 198.51.100.20/255.255.255.0" in drafted.stdout
    checked = run(tmp_path, "check", "plan.yaml")
    # By its own neighbour table: nobody has the address, and the gateway is there.
    assert checked.returncode == 0, checked.stdout + checked.stderr
    assert "plan.yaml: clear" in checked.stdout
    dry = run(tmp_path, "cutover", "plan.yaml", "--host", "gannet-ws", "--dry-run")
    assert dry.returncode == 0, dry.stderr
    assert "this is what it would do; nothing was done" in dry.stdout


@pytest.fixture
def looking(there: Path, tmp_path: Path) -> Iterator[WindowsVantage]:
    """The vantage of the one adapter; its PowerShell is a real one, and so are its sockets."""
    runs(there, {**MACHINES["leased"]["machine"], "neighbours": NEIGHBOURS})
    with closing(Seat()) as seat:
        found = reached(tmp_path, seat)
        vantage = found.vantage(take_stock(found).interfaces[0])
        assert isinstance(vantage, WindowsVantage)
        yield vantage


@needs_powershell
def test_whom_it_finds_and_connects_to(looking: WindowsVantage) -> None:
    """Neighbours of the simulated machine; and servers of this test on loopback, asked by a real PowerShell."""
    wanted = [parse_address(f"198.51.100.{n}") for n in (1, 20, 30, 77)]
    assert {str(a): macs for a, macs in looking.neighbours(wanted).items()} == {
        "198.51.100.1": {"00:00:5e:00:53:04": "resolved by the kernel"},
        "198.51.100.20": {},
        "198.51.100.30": {"00:00:5e:00:53:5a": "a permanent entry"},
        # Its own: the machine has looked for duplicates, and seen none.
        "198.51.100.77": {},
    }
    here = parse_address("127.0.0.1")
    web = http.server.HTTPServer(("127.0.0.1", 0), Quiet)
    threading.Thread(target=web.serve_forever, daemon=True).start()
    other = socket.create_server(("127.0.0.1", 0))
    try:
        port = web.server_address[1]
        assert looking.connect(here, port, here, 3) == "accepts"
        assert looking.fetch(here, f"http://tide.ternpoint.example:{port}/x?y=1", None, 3) == "status 204"
        assert looking.fetch(here, f"https://tide.ternpoint.example:{port}/", None, 3).startswith("accepts, and no TLS")
        closed = other.getsockname()[1]
        other.close()
        assert looking.connect(here, closed, None, 3) == "refuses"
    finally:
        web.shutdown()
        web.server_close()
    answered, _ = looking.across_router(here)
    assert answered[0] == ("echo across the router", "answered")
    assert looking.router_says(here) is None


@needs_powershell
def test_what_looking_is_made_of(tmp_path: Path) -> None:
    tree = tree_of(LOOKING, tmp_path)
    assert tree["errors"] == []
    assert not NEWER & set(tree["kinds"])
    assert not NEWER_TOKENS & set(tree["tokens"])
    own = {"Endpoint", "Word", "Connected", "Provoke", "Neighbours", "States", "Hop", "Read-All", "Connect", "Head"}
    allowed = {
        "ConvertFrom-Json": {"InputObject"}, "ConvertTo-Json": {"Depth", "Compress", "InputObject"},
        "New-Object": {"TypeName", "ArgumentList"}, "ForEach-Object": set(),
        "Get-NetNeighbor": {"InterfaceIndex", "ErrorAction"},
        "Get-NetIPAddress": {"IPAddress", "PolicyStore", "ErrorAction"},
    }  # fmt: skip
    for command_there in tree["commands"]:
        name = command_there["name"]
        assert name in allowed or name in own | {"Ask-Name-Server"}, command_there
        assert set(command_there["parameters"]) <= allowed.get(name, set()), command_there
    assert set(tree["members"]) <= {
        "[System.Net.IPAddress]::Parse", "[Convert]::FromBase64String", "[Convert]::ToBase64String", "Bind",
        "BeginConnect", "WaitOne", "EndConnect", "Close", "Send", "GetStream", "Write", "Read", "Connect", "Receive",
        "GetBytes", "ReadLine",
    }  # fmt: skip
    assert LOOKING.read_text("utf-8").isascii()
