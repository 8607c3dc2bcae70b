"""A guard that is slow to come up, or gone: what was said of it stays true."""

from __future__ import annotations

import os
import re
import time
from pathlib import Path

import pytest

from tests.changes import NEW, OLD, Scene
from tests.guards import (
    EDIT,
    command,
    kill_guard,
    tuned,
    waiting,
)

pytestmark = pytest.mark.one_in(3)


def test_a_slow_disk_is_waited_for_as_long_as_the_guard_lives(real: Scene) -> None:
    """The guard's first words take longer than a guard is waited for that gives no sign of life."""
    command(real, "sync", 'case $* in *state.new) sleep 4 ;; esac; exec /bin/sync "$@"')
    change = tuned(real.lay(EDIT), start_limit=2)
    begun = real.verb("start", change)
    assert begun.returncode == 0, begun.stderr
    real.wait(change, "waiting")
    assert real.live("a").read_text() == NEW
    assert (real.changes / "open").is_symlink()
    assert real.verb("roll-back", change).returncode == 0


def test_what_was_said_not_to_have_changed_does_not_change(real: Scene) -> None:
    """`start` gives up while the guard is just about to move the state."""
    command(real, "sync", 'case $* in *state.new) sleep 8 ;; esac; exec /bin/sync "$@"')
    change = tuned(real.lay(EDIT), start_limit=1)
    begun = real.verb("start", change)
    assert begun.returncode == 1
    # Where it hangs still, it is said; in no case the lock goes while it lives.
    assert "it will change nothing" in begun.stderr.lower() or "nothing was changed" in begun.stderr
    real.wait(change, "rolled-back")
    until = time.monotonic() + 120
    while (real.changes / "open").is_symlink():
        assert time.monotonic() < until, real.log(change)
        time.sleep(0.1)
    assert real.live("a").read_text() == OLD
    assert "writing" not in real.states(change)


@pytest.mark.parametrize("end", ["rolled-back", "confirmed"])
def test_a_guard_killed_behind_its_last_word_still_clears_away(real: Scene, end: str) -> None:
    """The state says that it is over, lock and boot unit are there yet, and nobody waits for it."""
    kill = f'[ "$(cat "$2" 2>/dev/null)" = {end} ] || exec /bin/mv "$@"; /bin/mv "$@"; kill -9 "$PPID"'
    command(real, "mv", f'case $* in *state.new*) shift; set -- -f "$@"; {kill} ;; esac; exec /bin/mv "$@"')
    change = waiting(real, real.lay(EDIT))
    os.symlink({"rolled-back": "roll-back: a test", "confirmed": "keep: a test"}[end], change / "decision")
    until = time.monotonic() + 120
    while real.state(change) != end or (real.changes / "open").is_symlink():
        assert time.monotonic() < until, real.log(change)
        time.sleep(0.1)


def test_a_guard_that_never_comes_up(real: Scene) -> None:
    command(real, "setsid", "exit 0")
    change = tuned(real.lay(EDIT), start_limit=1)
    begun = real.verb("start", change)
    assert begun.returncode == 1
    assert "nothing was changed" in begun.stderr
    assert not (real.changes / "open").is_symlink()
    # One that comes up later all the same has nothing to do.
    real.verb("guard", change)
    assert real.live("a").read_text() == OLD
    assert real.state(change) == "rolled-back"


def test_a_guard_whose_lock_is_another_s_does_nothing(real: Scene) -> None:
    change = real.lay(EDIT)
    other = real.lay({"b": (None, NEW)})
    (real.changes / "open").symlink_to(other.name)
    # Before `start` has saved anything a guard has nothing to do.
    real.verb("guard", change)
    assert real.state(change) == ""
    (change / "armed").write_text("yes\n")
    real.verb("guard", change)
    # One that was never armed can be ended all the same.
    never = real.lay({"d": (None, NEW)})
    assert real.verb("roll-back", never).returncode == 0
    assert real.state(never) == "rolled-back"
    assert real.live("a").read_text() == OLD
    assert real.state(change) == "rolled-back"
    assert os.readlink(real.changes / "open") == other.name


def test_a_confirmation_begins_a_guard_again(real: Scene) -> None:
    change = waiting(real, real.lay(EDIT))
    kill_guard(change)
    now = real.verb("status", change)
    assert "guard gone" in now.stdout
    assert now.stderr == ""
    more = real.verb("more-time", change, "100")
    assert (more.returncode, more.stderr) == (0, "")
    assert "guard alive" in real.verb("status", change).stdout
    kill_guard(change)
    kept = real.verb("confirm", change)
    assert (kept.returncode, kept.stdout, kept.stderr) == (0, "confirmed\n", "")
    assert real.live("a").read_text() == NEW


@pytest.mark.parametrize("verb", ["confirm", "more-time"])
def test_after_the_deadline_nothing_counts_any_more(real: Scene, verb: str) -> None:
    change = waiting(real, real.lay(EDIT, within=3))
    kill_guard(change)
    time.sleep(5)
    late = real.verb(verb, change, "100")
    assert late.returncode == 7
    assert "deadline of change 0001 has passed" in late.stderr
    real.wait(change, "rolled-back")
    assert real.live("a").read_text() == OLD


@pytest.mark.parametrize("verb", ["status", "confirm", "roll-back", "more-time", "verdict", "boot", "close"])
def test_no_word_is_the_shell_s_own(real: Scene, verb: str) -> None:
    """Files of the change that are missing, or empty, are no matter of the operator's."""
    change = real.lay(EDIT)
    for name in ("interface", "manifest"):
        (change / name).unlink()
    (change / "heartbeat").write_text("")
    (change / "boot-id").write_text(Path("/proc/sys/kernel/random/boot_id").read_text())
    if verb in ("confirm", "roll-back"):
        (change / "state").write_text("confirmed\n")
    said = real.verb(verb, change, "100", "because")
    assert not re.search(r"engine\.sh: |not found|No such file|arithmetic|syntax", said.stderr), said.stderr
