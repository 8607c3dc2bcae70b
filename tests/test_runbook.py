"""A runbook: whether it is what was made, before anything of it is believed."""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

import pytest

from fixed_anchor.change.change import Terms
from fixed_anchor.change.content import FileContent
from fixed_anchor.change.files import FileEdit, FileText
from fixed_anchor.engine.runbook import runbook
from tests.changes import shells

CONTENT = FileContent(("eth0",), (FileEdit("/etc/tide", None, FileText("/etc/tide", "contents\n")),))
NEEDED = ("sed", "mktemp", "mkdir", "chmod", "rm", "tr", "cat", "diff", "dash", "sh")


@pytest.fixture(params=shells())
def shell(request: pytest.FixtureRequest) -> list[str]:
    return str(request.param).split()


def shown(shell: list[str], book: Path, path: str = os.environ["PATH"]) -> subprocess.CompletedProcess[str]:
    program = shutil.which(shell[0]) or shell[0]
    return subprocess.run(
        [program, *shell[1:], str(book), "show"], env={"PATH": path}, capture_output=True, text=True, check=False
    )


@pytest.fixture
def book(tmp_path: Path) -> Path:
    made = tmp_path / "tide-db-runbook.sh"
    made.write_bytes(runbook(CONTENT, Terms(60, False, {}, ("cutover of eth0 on tide-db",)), {"eth0": None}))
    return made


@pytest.mark.parametrize(
    ("before", "after", "said"),
    [
        ("|contents", "|Contents", "altered on the way"),
        # The program of it is as much of the change as its data.
        ("umask 077", "umask 022", "altered on the way"),
        ("#END ", "#end ", "cut short"),
    ],
)
def test_what_was_altered_is_refused(shell: list[str], book: Path, before: str, after: str, said: str) -> None:
    assert shown(shell, book).returncode == 0
    head, _, tail = book.read_text().rpartition(before)
    book.write_text(head + after + tail)
    done = shown(shell, book)
    assert (done.returncode, said in done.stderr) == (2, True), done.stderr


@pytest.mark.parametrize("by", ["sha256sum", "shasum", "openssl", None])
def test_the_digest_is_checked_by_what_there_is(book: Path, tmp_path: Path, by: str | None) -> None:
    """Where there is nothing to check it with, that is said, and with what it would have to be compared."""
    if by is not None and shutil.which(by) is None:
        pytest.skip(f"this machine has no {by}")
    tools = tmp_path / "tools"
    tools.mkdir()
    for name in (*NEEDED, *((by,) if by else ())):
        (tools / name).symlink_to(shutil.which(name) or "/nowhere")
    done = shown(["dash"], book, str(tools))
    assert done.returncode == 0, done.stderr
    digest = book.read_text().splitlines()[-1].removeprefix("#END ")
    assert (digest in done.stderr) == (by is None), done.stderr
    assert ("was not checked" in done.stderr) == (by is None)
    if by is not None:
        book.write_text(book.read_text().replace("umask 077", "umask 022"))
        assert shown(["dash"], book, str(tools)).returncode == 2
