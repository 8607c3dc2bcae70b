"""The runbook for a Windows machine: one file, in a real PowerShell, at the console of a simulated machine."""

from __future__ import annotations

import re
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from fixed_anchor.change.content import settings_in
from fixed_anchor.change.settings import SettingsContent
from fixed_anchor.engine.windows_runbook import windows_runbook
from fixed_anchor.standins.windows.lines import lines_of
from fixed_anchor.standins.windows.told import facts_of
from tests.powershell import PWSH, needs_powershell, tree_of
from tests.test_commands import run
from tests.test_windows import HOSTILE, MACHINES, NEWER, NEWER_TOKENS, NEWER_VARIABLES, state_of
from tests.test_windows_drafts import CASES, drafted, site_of
from tests.test_windows_engine import COMMANDS, FIXED, changed, moves, terms, wanted_lines
from tests.windows_seat import IMPORTS, WindowsSeat, windows_seat

pytestmark = needs_powershell


@pytest.fixture
def seat(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[WindowsSeat]:
    with windows_seat(tmp_path / "w", monkeypatch, MACHINES["leased"]["machine"]) as there:
        yield there


def content_of(folder: Path) -> SettingsContent:
    return settings_in(drafted(CASES[FIXED], folder).content)


@pytest.fixture
def book(seat: WindowsSeat, tmp_path: Path) -> Path:
    return runbook_file(seat, tmp_path)


def runbook_file(seat: WindowsSeat, folder: Path) -> Path:
    """The runbook for the machine of a seat."""
    file = folder / "gannet-ws-runbook.ps1"
    file.write_bytes(windows_runbook("gannet-ws", content_of(folder), terms(), facts_of(seat.state())))
    return file


def start(book: Path, *words: str) -> subprocess.Popen[str]:
    """The runbook at a console."""
    quoted = " ".join(f"'{word}'" for word in words)
    argv = [PWSH or "", "-NoLogo", "-NoProfile", "-Command", f"{IMPORTS}& '{book}' {quoted}\nexit $LASTEXITCODE"]
    pipe = subprocess.PIPE
    return subprocess.Popen(argv, stdin=pipe, stdout=pipe, stderr=pipe, text=True)


def begun(book: Path) -> subprocess.Popen[str]:
    """One at which somebody has typed that it is to begin."""
    process = start(book)
    assert process.stdin is not None
    process.stdin.write("begin\n")
    process.stdin.flush()
    return process


def runs(book: Path, *words: str, typed: str = "") -> tuple[int, str, str]:
    out, err = (process := start(book, *words)).communicate(typed, timeout=120)
    return process.returncode, out, err


def test_what_it_is_made_of(book: Path, tmp_path: Path) -> None:
    """As the engine; whatever values it carries, they are one quoted text."""
    hostile = facts_of(state_of("leased") | {"search": HOSTILE, "domain": "\n'@\nexit 7\n"})
    book.write_bytes(windows_runbook("gannet-ws", content_of(tmp_path), terms(), hostile))
    tree = tree_of(book, tmp_path)
    assert tree["errors"] == []
    assert not NEWER & set(tree["kinds"])
    assert not NEWER_TOKENS & set(tree["tokens"])
    assert not NEWER_VARIABLES & set(tree["variables"])
    own = set(re.findall(r"^function ([\w-]+)", book.read_text(), re.MULTILINE))
    assert {command["name"] for command in tree["commands"]} <= COMMANDS | own | {"Sort-Object", "Get-Host"}
    assert book.read_bytes().isascii()


def test_shown_and_refused(seat: WindowsSeat, book: Path, tmp_path: Path) -> None:
    """It shows what it would do; nothing begins unless somebody says so; an altered or short file does nothing."""
    before = seat.lines()
    status, out, _ = runs(book, "show")
    assert status == 0
    assert "+  hold       198.51.100.20/24" in out
    assert "then run  EnableStatic of adapter 4: 198.51.100.20/255.255.255.0" in out
    status, _, err = runs(book, typed="yes\n")
    assert (status, "nothing was changed" in err) == (1, True)
    assert runs(book, "frobnicate")[0] == 2
    assert runs(book, "confirm")[0] == 7
    text = book.read_text()
    for altered, said in (
        (text.replace("198.51.100.20", "198.51.100.21"), "was altered on the way"),
        (text[: text.rindex("#END")], "is cut short"),
        (text[: text.index("\nfunction Add-Address")], "is cut short"),
    ):
        book.write_text(altered)
        status, _, err = runs(book, typed="begin\n")
        assert status == 2
        assert said in err
    # Ends of lines that somebody's editor has made are no alteration.
    book.write_bytes(text.replace("\n", "\r\n").encode("utf-8-sig"))
    assert runs(book, "show")[0] == 0
    for more, expected, said in (
        ({"elevated": False}, 4, "run this elevated"),
        ({"elevated": True, "console": "ServerRemoteHost"}, 1, "a remoting session cannot be asked anything"),
        ({"console": "Windows PowerShell ISE Host"}, 1, "run this in a console window"),
    ):
        changed(seat, **more)
        status, out, err = runs(book, typed="begin\n")
        # Before anything else, without a question.
        assert (status, said in err, out) == (expected, True, "")
    changed(seat, console=None, begun_by="explorer.exe")
    status, out, err = runs(book, typed="no\n\n")
    assert (status, out.splitlines()[-1]) == (1, "Press Enter to close this window"), err
    assert seat.lines() == before
    assert not seat.change().exists()


def test_done_kept_and_undone(seat: WindowsSeat, book: Path, tmp_path: Path) -> None:
    """By two lines that a person types; then undone by a change of its own, with the same file."""
    before, guid = seat.lines(), seat.state()["adapters"][0]["guid"]
    status, out, err = runs(book, typed="begin\nkeep\n")
    assert status == 0, out + err + seat.log()
    assert "pass: what is set is as drafted, and in force" in out
    assert "pass: the gateway answers" in out
    assert "change 0001 is kept" in out
    assert sorted(lines_of(seat.state(), [guid], ())) == wanted_lines(drafted(CASES[FIXED], tmp_path))
    assert "a person at the console" in seat.log()
    status, out, _ = runs(book, "status")
    assert "state confirmed" in out
    # A seat knows it as any other change.
    assert seat.target.status("0001").state == "confirmed"
    status, out, err = runs(book, "restore", typed="begin\nkeep\n")
    assert status == 0, out + err + seat.log("0002")
    assert seat.lines() == before


def test_decided_from_another_session(seat: WindowsSeat, book: Path) -> None:
    """Kept, or rolled back, by the same file elsewhere; the first one tells how it ended."""
    before = seat.lines()
    first = begun(book)
    seat.until("waiting", "rolled-back")
    status, out, err = runs(book, "restore")
    assert (status, out.strip()) == (0, "rolled back"), err
    out, err = first.communicate("keep\n", timeout=240)
    assert first.returncode == 3, out + err
    assert "change 0001 was rolled back, because a person, with the runbook asked for it" in err
    assert seat.lines() == before
    assert moves(seat.log())[-2:] == ["rolling-back", "rolled-back"]


def test_not_as_planned(seat: WindowsSeat, book: Path) -> None:
    """The gateway, which answered, does not any more: rolled back without a question."""
    before = seat.lines()
    first = begun(book)
    seat.until("activating", "waiting")
    with seat.server.changing() as state:
        answers, state["wire"]["answers"] = state["wire"]["answers"], []
    seat.until("rolling-back", "rolled-back")
    with seat.server.changing() as state:
        state["wire"]["answers"] = answers
    out, err = first.communicate("", timeout=120)
    assert first.returncode == 3, out + err + seat.log()
    assert "its verification was not-as-planned: the gateway answers (before the change it did)" in err
    assert seat.lines() == before


def test_the_command_that_makes_it(tmp_path: Path) -> None:
    """Of a collection that a person carried here."""
    site_of(CASES[FIXED], tmp_path)
    (tmp_path / "plan.yaml").write_text(
        "plan: 1\nsegments: {labs: {subnet: 198.51.100.0/24, gateway: 198.51.100.1, resolvers: 198.51.100.2, "
        "pools: []}}\nhosts:\n  gannet-ws:\n    reach: collected:x.collection\n    interfaces:\n"
        '      Ethernet: {mac: "00:00:5e:00:53:31", segment: labs, hold: 198.51.100.20}\n'
    )
    made = run(tmp_path, "draft", "plan.yaml", "--runbook")
    assert made.returncode == 0, made.stdout + made.stderr
    assert "powershell -ExecutionPolicy Bypass -File gannet-ws-runbook.ps1 show" in made.stdout + made.stderr
    assert (tmp_path / "gannet-ws-runbook.ps1").read_bytes().startswith(b"# A runbook of Fixed Anchor for Windows")
