"""On a terminal of 80 columns lines are broken at blanks only, and their rest stands further in."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from rich.console import Console
from rich.text import Text

from fixed_anchor.commands.demo import AFTER_CUTOVER, AFTER_MISTAKES, BEFORE_CUTOVER, CUTOVER
from fixed_anchor.reporting.terminal.paper import put, put_command
from fixed_anchor.standins.layout import lay_out
from tests.terminals import on_terminal
from tests.test_commands import run

WIDE = 5000
MORE = (
    "",
    "explain",
    "explain in-dhcp-pool",
    "check plan.yaml",
    "check plan.yaml --detail",
    "verify plan.yaml",
    "survey --plan seat.yaml",
    "status --plan seat.yaml",
    "--state-dir hosts/tide-db/state status",
    "--state-dir hosts/tide-db/state history",
    "--state-dir hosts/tide-db/state history 1",
)
EVERY = [
    *(words for _, words in (*BEFORE_CUTOVER, *AFTER_MISTAKES)),
    "--state-dir hosts/tide-db/state status",
    f"{CUTOVER} --unattended",
    *MORE,
    *(words for _, words in AFTER_CUTOVER),
]
#: One of each view, for every run of the tests.
SOME = [
    AFTER_MISTAKES[1][1], "map plan.yaml quay", "check plan.yaml --detail", "draft plan.yaml --host gannet-ws",
    f"{CUTOVER} --unattended",
    "verify plan.yaml", "status --plan seat.yaml", "--state-dir hosts/tide-db/state history 1", "explain in-dhcp-pool",
]  # fmt: skip
#: What differs from run to run.
_MOMENT = re.compile(r"\d\d\d\d-\d\d-\d\dT|\d\d:\d\d:\d\dZ?|\b\d+ s\b|\b[0-9a-f]{64}\b")
#: A line of a diff is printed as it is.
_DIFF = re.compile(r"  ([-+ ]|@@ )")


def plain(line: str) -> str:
    return " ".join(_MOMENT.sub("T", line.removesuffix(" \\").replace("/narrow", "/wide")).split())


def is_diff(lines: list[str], number: int) -> bool:
    """Whether a line is one of a diff: these are two columns in, and begin behind the line with the file's name."""
    while number >= 0 and _DIFF.match(lines[number]):
        if lines[number].startswith("  --- "):
            return True
        number -= 1
    return False


@pytest.mark.parametrize(
    "commands", [pytest.param(SOME, id="some"), pytest.param(EVERY, id="every", marks=pytest.mark.beyond_cover)]
)
def test_nothing_breaks_a_word_or_begins_again_at_the_left(tmp_path: Path, commands: list[str]) -> None:
    for name in ("narrow", "wide"):
        lay_out(tmp_path / name)
    for words in commands:
        narrow = on_terminal(tmp_path / "narrow", 80, *words.split()).splitlines()
        wide = on_terminal(tmp_path / "wide", WIDE, *words.split()).splitlines()
        assert wide, words
        left = list(narrow)
        for number, whole in enumerate(wide):
            first = left.pop(0)
            if is_diff(wide, number):
                assert first == whole, words
                continue
            said = [first]
            while plain(" ".join(said)) != plain(whole):
                assert left, (words, whole, said)
                assert left[0].startswith("  "), (words, whole, left[0])
                said[-1] = said[-1].removesuffix(" \\")
                said.append(left.pop(0))
            for line in said:
                too_long = len(line) > 80 and len(line.split()) > 1 and len(line.split()[-1]) < 80 - 30
                assert not too_long, (words, line)
        assert not left, (words, left)


@pytest.mark.parametrize("environment", [{"LC_ALL": "C"}, {"NO_COLOR": "1"}, {"TERM": "dumb"}])
def test_the_same_everywhere(site: Path, environment: dict[str, str]) -> None:
    """No colour, no turning mark of odd characters, and the same words."""
    words = ("check", "plan.yaml", "--host", "sonar-vm1")
    usual = on_terminal(site, 100, *words)
    said = on_terminal(site, 100, *words, **environment)
    assert plain(said) == plain(usual)
    assert said.isascii()
    assert "\x1b" not in said


def test_a_file_has_no_padding_and_no_broken_lines(site: Path) -> None:
    for words in ("check plan.yaml --detail", "survey --plan plan.yaml", "verify plan.yaml", "explain"):
        lines = run(site, *words.split()).stdout.splitlines()
        assert [line for line in lines if line != line.rstrip()] == [], words
    assert max(map(len, run(site, "explain").stdout.splitlines())) > 200


def test_words_and_commands_stay_whole(capsys: pytest.CaptureFixture[str]) -> None:
    out = Console(width=30, force_terminal=False)
    put(out, Text("a path that is too long: /var/lib/fixed-anchor/changes/0001/log is there"), indent=2)
    put_command(out, "back: ", "fixed-anchor --state-dir /var/lib/elsewhere restore 0001")
    assert capsys.readouterr().out.splitlines() == [
        "  a path that is too long:",
        "    /var/lib/fixed-anchor/changes/0001/log",
        "    is there",
        "  back: fixed-anchor \\",
        "      --state-dir \\",
        "      /var/lib/elsewhere \\",
        "      restore 0001",
    ]
