"""Schedules: the engine's processes, and others that call it, are held at their writes in turns drawn at random.

Every `mv`, `ln`, `rm` and `cp` of `start`, guard and callers may be held for a while, as if the process had been
stopped there; which, and for how long, follows from the seed and from what is written. Each schedule must end wholly
old or wholly new, with nobody told anything else. A cover runs always, 300 of them with ``--whole-matrix``.
"""

from __future__ import annotations

import os
import random
import re
import signal
import subprocess
import time
from pathlib import Path

import pytest

from fixed_anchor.change import states
from tests.changes import NEW, OLD, Scene, shells

pytestmark = pytest.mark.one_in(3)

#: Holds about a third of all writes for up to half a second.
HOLD = """\
#!/bin/sh
turn=$(printf '%s' "{seed} {name} $*" | cksum)
turn=${{turn%% *}}
case $((turn % 3)) in 0) sleep "0.$((turn / 3 % 5))" ;; esac
exec {real} "$@"
"""
FILES = ("a", "b")


class Caller:
    """Somebody who asks for something while the change goes on, and what came of it."""

    def __init__(self, scene: Scene, change: Path, *words: str) -> None:
        self.words = words
        assert scene.shell is not None
        verb, *more = words
        argv = [*scene.shell.split(), str(change / "engine.sh"), verb, str(change), *more]
        pipe = subprocess.PIPE
        self.process = subprocess.Popen(argv, env=scene.environment, stdout=pipe, stderr=pipe, text=True)

    def ended(self) -> tuple[str, int, str]:
        _, err = self.process.communicate(timeout=120)
        return self.words[0], self.process.returncode, err


def live(scene: Scene) -> set[str]:
    return {scene.live(name).read_text() for name in FILES}


def look(scene: Scene, change: Path) -> None:
    """What `status` says of the end is so, from the moment that it says it."""
    said = scene.verb("status", change)
    assert said.returncode == 0, said.stderr
    assert said.stderr == ""
    state = re.search("^state (.*)$", said.stdout, re.MULTILINE)
    assert state is not None
    assert state[1] in states.STATES
    if state[1] == states.CONFIRMED:
        assert live(scene) == {NEW}, said.stdout
    elif state[1] == states.ROLLED_BACK:
        assert live(scene) == {OLD}, said.stdout


def holder(scene: Scene) -> str:
    """The change that has the lock."""
    try:
        return os.readlink(scene.changes / "open")
    except FileNotFoundError:
        return ""


def kill_guard(change: Path) -> None:
    try:
        os.kill(int((change / "heartbeat").read_text().split()[0]), signal.SIGKILL)
    except (OSError, ValueError, IndexError):
        pass


def one_schedule(scene: Scene, seed: int) -> None:
    chance = random.Random(seed)
    for name in ("mv", "ln", "rm", "cp"):
        real = next(p for p in ("/bin/" + name, "/usr/bin/" + name) if os.path.exists(p))
        (scene.root / "bin" / name).write_text(HOLD.format(seed=seed, name=name, real=real))
        (scene.root / "bin" / name).chmod(0o755)
    for name in FILES:
        scene.live(name).write_text(OLD)
    change = scene.lay({name: (OLD, NEW) for name in FILES}, within=chance.randint(1, 6))
    engine = change / "engine.sh"
    engine.write_text(engine.read_text().replace("start_limit=15", f"start_limit={chance.choice([1, 2, 15])}"))
    other = scene.lay({"c": (None, NEW)})
    asked = [Caller(scene, change, "start")]
    wishes = [
        ("confirm", "one"), ("confirm", "another"), ("roll-back", "one"), ("more-time", "2"), ("verdict", "as-planned"),
        ("verdict", "not-as-planned"), ("boot",), ("guard",), ("kill",), ("other",),
    ]  # fmt: skip
    for wish in chance.sample(wishes, chance.randint(1, 4)):
        until = time.monotonic() + chance.random() * 1.5
        while time.monotonic() < until:
            if (change / "heartbeat").exists():
                look(scene, change)
            time.sleep(0.05)
        if wish == ("kill",):
            scene.killed = True
            kill_guard(change)
        elif wish == ("other",):
            asked.append(Caller(scene, other, "start"))
        else:
            asked.append(Caller(scene, change, *wish))
    answers = [caller.ended() for caller in asked]
    begun = answers[0][1] == 0
    # A guard that was killed is begun again by itself; a verb does it too.
    until = time.monotonic() + 240
    while scene.state(change) not in states.FINAL:
        # Its lock may be with the other change, which came first.
        if not begun and not scene.state(change) and holder(scene) != change.name:
            break
        assert time.monotonic() < until, (scene.state(change), answers, scene.log(change))
        time.sleep(0.1)
    end = scene.state(change)
    assert end in ("", states.CONFIRMED, states.ROLLED_BACK), (end, answers)
    assert live(scene) == ({NEW} if end == states.CONFIRMED else {OLD}), (end, answers, scene.log(change))
    for verb, status, err in answers[1:]:
        if status == 0 and verb == "confirm":
            assert end == states.CONFIRMED, (answers, scene.log(change))
        if status == 0 and verb == "roll-back":
            assert end == states.ROLLED_BACK, (answers, scene.log(change))
        assert not re.search(r"engine\.sh: (line )?\d+:", err), err
    if not begun:
        assert "nothing" in answers[0][2] or "open" in answers[0][2] or answers[0][1] == 7, answers
        assert end != states.CONFIRMED, answers
    until = time.monotonic() + 120
    while holder(scene) == change.name:
        assert time.monotonic() < until, (answers, scene.log(change))
        time.sleep(0.1)
    scene.verb("roll-back", other)


def pytest_generate_tests(metafunc: pytest.Metafunc) -> None:
    seeds = range(300 if metafunc.config.getoption("--whole-matrix") else 16)
    metafunc.parametrize("seed", seeds)


def test_every_schedule_ends_wholly_old_or_new(seed: int, tmp_path: Path) -> None:
    scene = Scene(tmp_path, shells()[seed % len(shells())])
    print(f"seed {seed}, {scene.shell}")
    one_schedule(scene, seed)
    # A guard that was killed may have written a state, and not yet the line of the log that tells of it.
    if not scene.killed:
        scene.moved_as_the_table_says()
