"""Values that mean something to a shell, a terminal or a file format, in every field that takes text."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import yaml

from fixed_anchor.change.change import Terms
from fixed_anchor.change.content import FileContent
from fixed_anchor.change.files import FileEdit, FileText
from fixed_anchor.change.steps import Steps
from fixed_anchor.core.errors import InputError
from fixed_anchor.engine.data import as_files
from fixed_anchor.engine.runbook import runbook
from tests.changes import TERMS
from tests.test_commands import ALONE, STATE

VALUES = {
    "quotes": "a'b\"c",
    "substitution": "$(touch pwned)`touch pwned`",
    "separator": "x;touch pwned|touch pwned&",
    "newline": "a\nb: c\ntouch pwned",
    "terminal": "\x1b[2J\x07",
    "unicode": "ümläut\u202e\u2028",
    "path": "../../../pwned",
    "option": "--help",
    "long": "x" * 10240,
    "yaml": "{a: *b}",
}


#: Runs the program once for every line of its input, each time as a process of its own that has its imports behind it.
FORKING = """\
import json, os, sys
import fixed_anchor.commands.cutover, fixed_anchor.commands.restore, fixed_anchor.cli
for line in sys.stdin:
    child = os.fork()
    if child == 0:
        out = os.open(sys.argv[1], os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
        os.dup2(out, 1), os.dup2(out, 2)
        sys.argv = ["fixed-anchor", *json.loads(line)]
        fixed_anchor.cli.main()
    print(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]), flush=True)
"""


class Program:
    """The command, run in ``site``; what it printed is in ``said``."""

    def __init__(self, site: Path) -> None:
        self.printed = site.with_name("printed")
        argv = [*ALONE, sys.executable, "-c", FORKING, str(self.printed)]
        self.process = subprocess.Popen(argv, cwd=site, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)

    def __call__(self, *words: str) -> int:
        assert self.process.stdin is not None
        assert self.process.stdout is not None
        self.process.stdin.write(json.dumps(words) + "\n")
        self.process.stdin.flush()
        return int(self.process.stdout.readline())

    @property
    def said(self) -> str:
        return self.printed.read_bytes().decode()

    def close(self) -> None:
        self.process.communicate()


@pytest.fixture
def program(site: Path) -> Iterator[Program]:
    made = Program(site)
    yield made
    made.close()


def _set(document: Any, path: str, value: str) -> None:
    """Puts ``value`` at ``path``; a path that ends in ``!`` renames the key instead."""
    *above, last = path.rstrip("!").split("/")
    for key in above:
        document = document[int(key) if isinstance(document, list) else key]
    if path.endswith("!"):
        document[value] = document.pop(last)
    else:
        document[int(last) if isinstance(document, list) else last] = value


FIELDS = (
    "site",
    "segments/quay!",
    "segments/quay/subnet",
    "segments/quay/gateway",
    "segments/quay/resolvers/0",
    "segments/quay/search/0",
    "segments/quay/pools/0",
    "hosts/tide-db!",
    "hosts/tide-db/hostname",
    "hosts/tide-db/reach",
    "hosts/tide-db/interfaces/enp1s0!",
    "hosts/tide-db/interfaces/enp1s0/mac",
    "hosts/tide-db/interfaces/enp1s0/segment",
    "hosts/tide-db/interfaces/enp1s0/hold/0",
    "hosts/tide-db/interfaces/enp1s0/time_servers",
    "sources/0/kea",
    "standin",
)


@pytest.mark.parametrize("field", FIELDS)
def test_a_plan_field(site: Path, program: Program, field: str) -> None:
    """Refused by the plan, or carried intact: never run, never half done, never a bug of ours."""
    plan = yaml.safe_load((site / "plan.yaml").read_text())
    for name in ("kelp-files", "sonar-vm1", "gannet-ws"):
        del plan["hosts"][name]
    original = json.dumps(plan)
    netplan = site / "hosts/tide-db/etc/netplan/50-tide.yaml"
    before = netplan.read_text()
    for kind, value in VALUES.items():
        changed = json.loads(original)
        _set(changed, field, value)
        (site / "plan.yaml").write_text(yaml.safe_dump(changed, allow_unicode=True))
        status = program("cutover", "plan.yaml", "--unattended")
        told = f"{field}={kind}: {program.said[-3000:]}"
        assert status in (0, 1, 2, 6), told
        assert "Traceback" not in told
        assert not [c for c in program.said if ord(c) < 32 and c != "\n"], told
        assert not list(site.parent.rglob("pwned*")), told
        if status != 0:
            assert netplan.read_text() == before, told
            continue
        # What was let through is there again as it was said, and can be gone back behind.
        declared = yaml.safe_load(netplan.read_text())["network"]["ethernets"]["enp1s0"]
        assert "203.0.113.20/24" in declared["addresses"], told
        if field.endswith("search/0"):
            assert value in declared["nameservers"]["search"], told
        assert program(*STATE, "restore", "--unattended") == 0, told
        assert netplan.read_text() == before, told


@pytest.mark.parametrize("value", [VALUES["newline"], VALUES["terminal"], "trailing\n", "behind ", "a\tb"])
def test_what_one_line_cannot_carry_is_refused(value: str) -> None:
    """Paths and arguments are one line each in a change: whatever would be two is refused before it is written."""
    text = FileText("/etc/x", "contents\n")
    for content in (
        FileContent(("eth0",), (FileEdit(f"/etc/{value}", None, text),)),
        FileContent(("eth0",), (), Steps(activate=(("true", value),))),
        FileContent((value,), ()),
    ):
        with pytest.raises(InputError, match="characters that a change cannot carry"):
            as_files(content, TERMS, "/var/lib/fixed-anchor/changes/0001", "")


def test_an_argument_does_not_begin_with_a_space() -> None:
    content = FileContent(("eth0",), (), Steps(activate=(("true", " before"),)))
    with pytest.raises(InputError, match="characters that a change cannot carry"):
        as_files(content, TERMS, "/var/lib/fixed-anchor/changes/0001", "")


def test_a_runbook_carries_what_text_can() -> None:
    hostile = "#END 00\n=755 ../../etc/passwd\n|x\n+y\n$(touch pwned)\n\x01 no line end"
    content = FileContent(("eth0",), (FileEdit("/etc/x", None, FileText("/etc/x", hostile)),))
    book = runbook(content, Terms(60, False, {}, ("by $(touch pwned)",)), {"eth0": None}).decode()
    # Every line of contents stands behind a bar: none of them can be taken for a path or an end.
    assert [line for line in book.split("\n#DATA\n")[1].splitlines() if line.startswith("=755")] == []
    assert "|#END 00\n|=755 ../../etc/passwd\n||x\n|+y\n" in book
    with pytest.raises(InputError, match="NUL"):
        runbook(FileContent(("eth0",), (FileEdit("/etc/x", None, FileText("/etc/x", "\0")),)), TERMS, {})
