"""The engine: under every shell that is here, and its stand-in over the same data."""

from __future__ import annotations

import os
import re
import signal
import stat
import subprocess
import time
from pathlib import Path

import pytest

from fixed_anchor.change.steps import Steps
from tests.changes import BAD, NEW, OK, OLD, Scene
from tests.disks import mounted

pytestmark = pytest.mark.one_in(2)

EDIT = {"a": (OLD, NEW)}
FORWARD = ["prepared", "leaving", "writing", "activating", "waiting"]
BACK = ["rolling-back", "rolled-back"]


def test_confirmed(scene: Scene) -> None:
    change = scene.lay(EDIT | {"b": (None, "created\n")}, Steps(leave=(OK,), activate=(OK,)))
    assert scene.verb("start", change).returncode == 0
    scene.wait(change, "waiting")
    assert scene.live("a").read_text() == NEW
    assert stat.S_IMODE(scene.live("a").stat().st_mode) == 0o600
    assert scene.live("b").read_text() == "created\n"
    status = scene.verb("status", change).stdout
    assert "state waiting" in status
    assert re.search("left (5.|6[01])", status)
    assert "guard alive" in status
    assert scene.verb("verdict", change, "as-planned").returncode == 0
    assert scene.state(change) == "waiting"
    assert scene.verb("confirm", change).returncode == 0
    assert scene.states(change) == [*FORWARD, "committing", "confirmed"]
    assert scene.live("a").read_text() == NEW
    assert not (scene.changes / "open").is_symlink()
    for verb in ("confirm", "roll-back", "start"):
        assert scene.verb(verb, change).returncode == 7


@pytest.mark.parametrize("end", ["verdict", "person", "deadline"])
def test_roll_back(scene: Scene, end: str) -> None:
    before = scene.live("a").stat()
    created = {"b": (None, "new\n"), "folder/d": (None, "new\n"), "c": (OLD, None)}
    change = scene.lay(EDIT | created, within=1 if end == "deadline" else 60)
    scene.live("c").write_text(OLD)
    assert scene.verb("start", change).returncode == 0
    scene.wait(change, "waiting")
    assert not scene.live("c").exists()
    assert scene.live("folder/d").read_text() == "new\n"
    if end == "verdict":
        assert scene.verb("verdict", change, "not-as-planned").returncode == 0
    elif end == "person":
        assert scene.verb("roll-back", change).returncode == 0
    scene.wait(change, "rolled-back")
    assert scene.states(change) == [*FORWARD, *BACK]
    after = scene.live("a").stat()
    assert scene.live("a").read_text() == OLD
    assert (after.st_mode, after.st_uid, after.st_mtime) == (before.st_mode, before.st_uid, before.st_mtime)
    assert not scene.live("b").exists()
    assert not scene.live("folder").exists()
    assert scene.live("c").read_text() == OLD
    assert scene.verb("confirm", change).returncode == 7


def test_unattended(scene: Scene) -> None:
    change = scene.lay(EDIT, unattended=True)
    scene.verb("start", change)
    scene.wait(change, "waiting")
    scene.verb("verdict", change, "as-planned")
    scene.wait(change, "confirmed")
    second = scene.lay({"a": (NEW, OLD)}, unattended=True)
    scene.verb("start", second)
    scene.wait(second, "waiting")
    scene.verb("verdict", second, "undetermined")
    scene.wait(second, "rolled-back")
    assert scene.live("a").read_text() == NEW


@pytest.mark.parametrize("phase", ["leave", "activate"])
def test_a_step_that_fails_puts_back(scene: Scene, phase: str) -> None:
    steps = Steps(leave=(BAD,)) if phase == "leave" else Steps(activate=(OK, BAD))
    change = scene.lay(EDIT, steps)
    assert scene.verb("start", change).returncode == 0
    scene.wait(change, "rolled-back")
    assert scene.live("a").read_text() == OLD


def test_refused_before_anything_is_touched(scene: Scene) -> None:
    edited = scene.lay({"a": ("something else\n", NEW)})
    refused = scene.verb("start", edited)
    assert refused.returncode == 1
    assert "is not what the draft was made from" in refused.stderr
    appeared = scene.lay({"a": (None, NEW)})
    assert scene.verb("start", appeared).returncode == 1
    assert scene.live("a").read_text() == OLD
    assert not (scene.changes / "open").is_symlink()
    # And the next one is not in the way.
    change = scene.lay(EDIT)
    assert scene.verb("start", change).returncode == 0
    second = scene.lay({"b": (None, NEW)})
    busy = scene.verb("start", second)
    assert busy.returncode == 7
    assert f"change {change.name} is open" in busy.stderr
    assert scene.verb("roll-back", change).returncode == 0


@pytest.mark.parametrize("phase", ["leave", "activate", "unload", "reload"])
def test_a_missing_command_is_refused_before_anything_is_touched(real: Scene, phase: str) -> None:
    change = real.lay(EDIT, Steps(**{phase: (OK, ("/no/such/command", "x"))}))
    refused = real.verb("start", change)
    assert refused.returncode == 1
    assert "the command /no/such/command is not there; nothing was changed" in refused.stderr
    assert real.live("a").read_text() == OLD
    assert not (real.changes / "open").is_symlink()
    assert real.state(change) == ""


@pytest.mark.skipif(os.geteuid() != 0, reason="mounts a small and a read-only file system, which needs root")
@pytest.mark.parametrize(
    ("options", "fill", "status", "said"),
    [("ro", False, 4, "cannot be written"), ("size=1200k", True, 1, "KiB are left on the disk")],
)
def test_a_disk_that_takes_nothing_is_refused(real: Scene, options: str, fill: bool, status: int, said: str) -> None:
    """Read-only, and nearly full: found before anything is touched, also for root."""
    etc = real.root / "etc"
    with mounted(etc, "size=1200k"):
        real.live("a").write_text(OLD)
        if fill:
            real.live("big").write_bytes(bytes(400 * 1024))
        else:
            subprocess.run(["mount", "-o", f"remount,{options}", str(etc)], check=True)
        refused = real.verb("start", real.lay(EDIT))
        assert refused.returncode == status, refused.stderr
        assert said in refused.stderr
        assert real.live("a").read_text() == OLD
        assert not (real.changes / "open").is_symlink()


def test_a_link_in_the_way_is_refused(real: Scene) -> None:
    real.live("b").symlink_to("a")
    change = real.lay({"b": (OLD, NEW)})
    assert real.verb("start", change).returncode == 1
    assert real.live("b").is_symlink()
    assert real.live("a").read_text() == OLD


def test_only_one_decision(real: Scene) -> None:
    change = real.lay(EDIT, within=60)
    real.verb("start", change)
    real.wait(change, "waiting")
    os.symlink("keep", change / "decision")
    refused = real.verb("roll-back", change)
    assert refused.returncode == 7
    real.wait(change, "confirmed")


@pytest.mark.parametrize(
    ("words", "why"),
    [
        (("roll-back", "wren"), "rolled back, because wren asked for it"),
        (
            ("verdict", "not-as-planned", "a check: it failed"),
            "rolled back, because its verification was not-as-planned",
        ),
        (("verdict", "undetermined"), "rolled back, because its verification was undetermined"),
        (("confirm", "wren"), "kept, because wren confirmed it"),
        ((), "rolled back, because nobody confirmed it in time"),
    ],
)
def test_every_end_says_why(scene: Scene, words: tuple[str, ...], why: str) -> None:
    change = scene.lay(EDIT, within=60 if words else 1)
    scene.verb("start", change)
    if words:
        scene.wait(change, "waiting")
        assert scene.verb(words[0], change, *words[1:]).returncode == 0
    scene.wait(change, "confirmed", "rolled-back")
    # The state is on disk before the guard's last line is, and whoever decided may write a line behind it.
    until = time.monotonic() + 120
    while f"it was {why}" not in "\n".join(scene.log(change).splitlines()[-2:]):
        assert time.monotonic() < until, scene.log(change)
        time.sleep(0.05)
    assert f"why {why.partition('because ')[2]}" in scene.verb("status", change).stdout


def _kill_guard(real: Scene, change: Path) -> None:
    # A guard says its state first, and then writes the line of the log.
    while real.state(change) not in real.states(change)[-1:]:
        time.sleep(0.02)
    pid = int((change / "heartbeat").read_text().split()[0])
    os.kill(pid, signal.SIGKILL)


def test_a_killed_guard_comes_back(real: Scene) -> None:
    change = real.lay(EDIT, within=60)
    real.verb("start", change)
    real.wait(change, "waiting")
    _kill_guard(real, change)
    assert real.verb("confirm", change).returncode == 0
    assert real.state(change) == "confirmed"


def test_a_guard_killed_amid_a_step_puts_back(real: Scene) -> None:
    change = real.lay(EDIT, Steps(activate=(("sleep", "5"),)))
    real.verb("start", change)
    real.wait(change, "activating")
    _kill_guard(real, change)
    real.wait(change, "rolled-back")
    assert real.live("a").read_text() == OLD


@pytest.mark.parametrize(
    "state", ["prepared", "leaving", "writing", "activating", "waiting", "committing", "rolling-back"]
)
def test_boot_after_a_power_cut(real: Scene, state: str) -> None:
    """The folder as it lies there when the machine died in ``state``, and what the boot makes of it."""
    marker = real.root / "loaded"
    change = real.lay(EDIT, Steps(boot=(("touch", str(marker)),)))
    (change / "saved").mkdir()
    (change / "saved/1").write_text(OLD)
    (change / "state").write_text(f"{state}\n")
    (real.changes / "open").symlink_to(change.name)
    if state not in ("prepared", "leaving"):
        real.live("a").write_text(NEW)
    assert real.verb("boot", change).returncode == 0
    kept = state == "committing"
    assert real.live("a").read_text() == (NEW if kept else OLD)
    assert real.state(change) == ("confirmed" if kept else "rolled-back")
    assert marker.exists() == (state != "prepared")
    assert not (real.changes / "open").is_symlink()


HOSTILE = "a'b\"c $(touch pwned) `touch pwned` ;&|<>*?[x] \\n ü"


def test_hostile_values_arrive_intact(real: Scene) -> None:
    out = real.root / "arguments"
    show = real.root / "show"
    show.write_text('#!/bin/sh\nfor a in "$@"; do printf "%s\\n" "$a"; done >' + str(out) + "\n")
    show.chmod(0o755)
    text = f"{HOSTILE}\n\0\x01 no newline at the end"
    change = real.lay(
        {HOSTILE.replace("/", ""): (None, text)}, Steps(activate=((str(show), HOSTILE, "-n", "x" * 10000),))
    )
    assert real.verb("start", change).returncode == 0
    real.wait(change, "waiting")
    assert out.read_text().splitlines() == [HOSTILE, "-n", "x" * 10000]
    assert real.live(HOSTILE).read_text() == text
    assert not list(real.root.rglob("pwned"))
    real.verb("roll-back", change)
    assert not real.live(HOSTILE).exists()


def test_a_hand_edit_during_the_wait_is_kept_aside(real: Scene) -> None:
    change = real.lay(EDIT)
    real.verb("start", change)
    real.wait(change, "waiting")
    real.live("a").write_text("by hand\n")
    assert real.verb("roll-back", change).returncode == 0
    assert real.live("a").read_text() == OLD
    assert (change / "found/1").read_text() == "by hand\n"
    assert "edited by hand since" in real.log(change)


def test_nothing_is_readable_by_others(real: Scene) -> None:
    change = real.lay(EDIT)
    real.verb("start", change)
    real.wait(change, "waiting")
    real.verb("roll-back", change)
    for path in change.rglob("*"):
        if path.parent.name == "saved" or path.is_symlink():
            continue  # a saved copy has the mode of its original
        assert not path.stat().st_mode & 0o077, path


def test_a_hanging_step_does_not_outlast_its_limit(real: Scene) -> None:
    engine = real.lay(EDIT, Steps(activate=(("sleep", "600"),))) / "engine.sh"
    engine.write_text(engine.read_text().replace("step_limit=60", "step_limit=1"))
    begun = time.monotonic()
    assert real.verb("start", engine.parent).returncode == 0
    real.wait(engine.parent, "rolled-back")
    assert time.monotonic() - begun < 60
    assert real.live("a").read_text() == OLD
