"""A command of a change that fails is told with its own last words, there and on the way back."""

from __future__ import annotations

from pathlib import Path

import pytest

from fixed_anchor.change.steps import Steps
from fixed_anchor.standins.linux_engine import last_words
from tests.changes import Scene
from tests.guards import EDIT

pytestmark = pytest.mark.one_in(2)

#: What a program prints, in `sh`; how it ends is told, and what it said.
SAYS: dict[str, tuple[str, str]] = {
    "two lines": ("echo first; echo 'no way' >&2; exit 3", "ended with status 3: {step}; it said: first; no way"),
    "more lines": ("seq -f 'line %.0f' 100; exit 1", "status 1: {step}; it said: line 99; line 100"),
    "a line and where in it": (
        "printf 'a.yaml:7:15: Error in network definition\\n    - to: default\\n          ^\\n'; exit 1",
        "it said: a.yaml:7:15: Error in network definition; - to: default",
    ),
    "control characters": (
        "printf '\\033[31mred\\033[0m \\007bell\\000\\r\\n\\033]0;title\\007\\n'; exit 1",
        "it said: red bell; ]0;title",
    ),
    "10 MB": ("head -c 10485760 /dev/zero | tr '\\0' x; echo; echo the end; exit 1", "xxx; the end"),
    "nothing": ("exit 4", "a command ended with status 4: {step}"),
    "nothing, and it hangs": ("sleep 60", "a command did not end within 2 s: {step}"),
    "words, and it hangs": (
        "echo waiting for the bus; exec sleep 60", "did not end within 2 s: {step}; it said: waiting for the bus",
    ),
}  # fmt: skip


def program(folder: Path, text: str) -> str:
    script = folder / "does"
    script.write_text(f"#!/bin/sh\n{text}\n")
    script.chmod(0o755)
    return str(script)


def quicker(change: Path) -> None:
    engine = change / "engine.sh"
    text = engine.read_text().replace("step_limit=60", "step_limit=2").replace("question_limit=10", "question_limit=1")
    engine.write_text(text.replace("settles 20", "settles 1").replace("settles 15", "settles 1"))


@pytest.mark.parametrize("what", SAYS)
def test_a_step_that_fails(real: Scene, tmp_path: Path, what: str) -> None:
    text, told = SAYS[what]
    step = program(tmp_path, text)
    change = real.lay(EDIT, Steps(activate=((step,),)))
    quicker(change)
    real.verb("start", change)
    real.wait(change, "rolled-back")
    why = (change / "why").read_text()
    assert told.format(step=step) in why
    assert why.endswith("\n")
    assert why[:-1].isprintable()
    assert len(why) < 1000
    log = (change / "log").read_text(errors="replace")
    assert len(log) < 60_000
    assert ("the middle is left out" in log) == (what == "10 MB")


def test_a_step_of_the_way_back_that_fails(real: Scene, tmp_path: Path) -> None:
    """Where the former state does not come it is in the reason; all of it is in the log."""
    real.kernel.write_text("2: lo inet 203.0.113.9/24 scope global lo\n")
    there = program(tmp_path, f"echo '2: lo inet 203.0.113.77/24 scope global lo' >{real.kernel}")
    (tmp_path / "back").mkdir()
    back = program(tmp_path / "back", "echo the daemon is masked; exit 5")
    change = real.lay(EDIT, Steps(activate=((there,),), reload=((back,),)))
    quicker(change)
    real.verb("start", change)
    real.wait(change, "waiting")
    assert real.verb("roll-back", change, "wren").returncode == 5
    why = (change / "why").read_text()
    assert f"on the way back a command ended with status 5: {back}; it said: the daemon is masked" in why


@pytest.mark.parametrize(("always", "end", "status"), [(False, "rolled-back", 0), (True, "stuck", 5)])
def test_a_question_of_the_engine_that_hangs(real: Scene, always: bool, end: str, status: int) -> None:
    """It is asked once more; where it never answers the change ends all the same, and its log says why."""
    real.kernel.write_text("2: lo inet 203.0.113.9/24 scope global lo\n")
    change = real.lay(EDIT)
    quicker(change)
    real.verb("start", change)
    real.wait(change, "waiting")
    hang = real.root / "hang"
    hang.touch()
    once = "" if always else f"rm {hang}; "
    asked = f"if [ -e {hang} ]; then {once}exec sleep 60; fi; cat {real.kernel}"
    program(real.root / "bin", f'case $* in *"addr show"*) {asked} ;; esac')
    (real.root / "bin/does").replace(real.root / "bin/ip")
    assert real.verb("roll-back", change, "wren").returncode == status
    real.wait(change, end)
    log = (change / "log").read_text()
    assert f"no answer within 1 s (try {2 if always else 1} of 2): ip -o addr show" in log
    hang.unlink(missing_ok=True)


@pytest.mark.parametrize(
    ("said", "told"),
    [
        ("", ""),
        ("one\ntwo\nthree\n", "two; three"),
        ("a.yaml:1: no\n   ^\n", "a.yaml:1: no"),
        ("\x1b]0;x\x07y", "]0;xy"),
    ],
)
def test_last_words(said: str, told: str) -> None:
    """The simulated engine's are the same."""
    assert last_words(said) == told
