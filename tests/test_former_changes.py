"""Changes that an earlier version began: its engine lies in their folders, and its words are read.

``former/engine.sh`` is that engine, as it was.
"""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from fixed_anchor.change import states
from fixed_anchor.core.errors import ChangeOpen
from fixed_anchor.standins.linux_engine import LinuxStandinEngine
from fixed_anchor.workflow.history import history
from fixed_anchor.workflow.linux.host import LinuxHost
from tests.changes import NEW, OLD, Commands, Scene
from tests.machines import OnDisk

FORMER = Path(__file__).parent / "former/engine.sh"
EDIT = {"a": (OLD, NEW)}


def lay(scene: Scene) -> Path:
    folder = scene.lay(EDIT)
    (folder / "engine.sh").write_bytes(FORMER.read_bytes())
    return folder


def target_of(scene: Scene) -> LinuxHost:
    """The scene as a target of changes; its engines run under the shell of the machine."""
    return LinuxHost(OnDisk(Path("/"), str(scene.changes.parent), scene.environment))


def begun(scene: Scene) -> tuple[Path, LinuxHost]:
    folder = lay(scene)
    assert scene.verb("start", folder).returncode == 0
    scene.wait(folder, "waiting")
    return folder, target_of(scene)


@pytest.mark.parametrize("decision", [states.KEEP, states.ROLL_BACK])
def test_an_open_one_is_read_and_decided(real: Scene, decision: str) -> None:
    folder, target = begun(real)
    number = folder.name
    assert target.open_change() == number
    now = target.status(number)
    assert (now.state, now.is_open, now.guard_alive) == (states.WAITING, True, True)
    target.more_time(number, 60)
    target.decide(number, decision, "somebody")
    kept = decision == states.KEEP
    now = target.status(number)
    assert (now.state, now.decision) == (states.CONFIRMED if kept else states.ROLLED_BACK, decision)
    assert real.live("a").read_text() == (NEW if kept else OLD)
    assert target.open_change() is None
    assert [past.state for past in history(target)] == [now.state]
    with pytest.raises(ChangeOpen):
        target.decide(number, states.KEEP, "somebody")


def test_one_that_a_power_cut_struck_while_it_was_rolled_back(real: Scene) -> None:
    folder = lay(real)
    (folder / "saved").mkdir()
    (folder / "saved/1").write_text(OLD)
    (folder / "state").write_text("putting-back\n")
    (real.changes / "open").symlink_to(folder.name)
    real.live("a").write_text(NEW)
    target = target_of(real)
    assert target.status(folder.name).state == states.ROLLING_BACK
    assert real.verb("boot", folder).returncode == 0
    assert target.status(folder.name).state == states.ROLLED_BACK
    assert target.status(folder.name).rolled_back_at_boot
    assert real.live("a").read_text() == OLD


def test_the_lock_that_one_left_is_in_nobodys_way(real: Scene) -> None:
    former = lay(real)
    (former / "state").write_text("put-back\n")
    (real.changes / "open").symlink_to(former.name)
    change = real.lay(EDIT)
    assert real.verb("start", change).returncode == 0
    real.wait(change, states.WAITING)
    # A runbook of that version says its own word to the engine of today.
    assert real.verb(states.FORMER_VERB, change).returncode == 0
    assert real.state(change) == states.ROLLED_BACK


@pytest.mark.parametrize("written", ["putting-back", "put-back"])
def test_a_simulated_one(tmp_path: Path, written: str) -> None:
    scene = Scene(tmp_path, None)
    scene.live("a").write_text(OLD)
    folder = lay(scene)
    (folder / "state").write_text(f"{written}\n")
    status, out, _ = LinuxStandinEngine(Commands(), scene.root, folder).verb("status", "")  # type: ignore[arg-type]
    assert (status, f"state {states.FORMER[written]}\n" in out) == (0, True)
    os.symlink(folder.name, scene.changes / "open")
    again = scene.lay(EDIT)
    assert scene.verb("start", again).returncode == (0 if written == "put-back" else 7)
