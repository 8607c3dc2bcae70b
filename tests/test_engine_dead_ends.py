"""Changes that are stuck, not complete, or were never begun, and the ways out."""

from __future__ import annotations

import json
import subprocess
import sys
import time
from pathlib import Path

import pytest
from jsonschema import Draft202012Validator

from fixed_anchor.change import states
from fixed_anchor.change.steps import Steps
from fixed_anchor.core.errors import ChangeOpen
from fixed_anchor.engine import driver
from fixed_anchor.reporting.documents.changes import change as document_of
from fixed_anchor.reporting.schemas import schema
from fixed_anchor.workflow.history import history
from tests.changes import NEW, OLD, Scene
from tests.documents import only
from tests.guards import (
    EDIT,
    kill_guard,
    kill_guard_if_any,
    needs_mount,
    small_disk,
    target_of,
    tuned,
    waiting,
)

pytestmark = pytest.mark.one_in(2)


def stuck(scene: Scene, **more: object) -> Path:
    """A change whose way back does not lead to where it began."""
    scene.kernel.write_text("2: lo inet 203.0.113.9/24 scope global lo\n")
    script = scene.root / "other"
    script.write_text(f"#!/bin/sh\necho '2: lo inet 203.0.113.77/24 scope global lo' >{scene.kernel}\n")
    script.chmod(0o755)
    change = scene.lay(EDIT, Steps(activate=((str(script),),), **more))  # type: ignore[arg-type]
    engine = change / "engine.sh"
    engine.write_text(engine.read_text().replace("settles 20", "settles 1").replace("settles 15", "settles 1"))
    waiting(scene, change)
    assert scene.verb("roll-back", change).returncode == 5
    assert scene.state(change) == "stuck"
    return change


def test_a_stuck_change_can_be_closed(real: Scene) -> None:
    change = stuck(real)
    log = real.log(change)
    assert f"close {change}" in log
    assert "the next boot tries once more" in log
    target = target_of(real)
    second = real.lay({"b": (None, NEW)})
    assert real.verb("start", second).returncode == 7
    assert real.verb("close", change, "somebody").returncode == 2
    real.live("a").write_text("repaired by hand\n")
    target.close(change.name, "somebody", "repaired by hand")
    assert real.live("a").read_text() == "repaired by hand\n"
    assert "closed by somebody, because repaired by hand" in real.log(change)
    assert target.open_change() is None
    assert next(iter(history(target))).state == states.CLOSED
    # It is over: nothing opens it again, no boot touches the host.
    for verb in ("confirm", "roll-back", "close"):
        assert real.verb(verb, change, "x", "y").returncode == 7
    real.verb("boot", change)
    assert real.live("a").read_text() == "repaired by hand\n"
    assert real.verb("start", second).returncode == 0
    real.wait(second, "waiting")
    real.verb("roll-back", second)


def test_what_a_person_sees_of_a_stuck_change_and_of_a_dead_guard(real: Scene) -> None:
    def tool(*words: str) -> subprocess.CompletedProcess[str]:
        argv = [sys.executable, "-m", "fixed_anchor", "--state-dir", str(real.changes.parent), *words]
        return subprocess.run(argv, capture_output=True, text=True, check=False, env=real.environment)

    stuck(real)
    now = tool("status")
    assert now.returncode == 5
    assert "close 0001 --because" in now.stdout
    assert "keep it" not in now.stdout
    assert "be closed" in tool("confirm").stderr
    assert tool("close", "1", "--because", " ").returncode == 2
    closed = tool("close", "1", "--because", "repaired", "--json")
    assert (closed.returncode, only(closed.stdout)["change"]["state"]) == (0, "closed")
    Draft202012Validator(schema("close")).validate(json.loads(closed.stdout))
    assert tool("close", "1", "--because", "again").returncode == 7
    real.live("a").write_text(OLD)
    change = waiting(real, real.lay(EDIT))
    kill_guard(change)
    now = tool("status")
    assert "no guard is running" in now.stdout
    assert "automatic rollback" not in now.stdout
    real.verb("confirm", change)


def test_only_a_stuck_change_can_be_closed(scene: Scene) -> None:
    change = waiting(scene, scene.lay(EDIT))
    refused = scene.verb("close", change, "somebody", "because")
    assert refused.returncode == 7
    assert "only a change that is stuck can be closed" in refused.stderr
    assert scene.verb("roll-back", change).returncode == 0


def test_a_boot_leaves_a_repair_alone(real: Scene) -> None:
    marker = real.root / "loaded"
    change = stuck(real, boot=(("touch", str(marker)),))
    real.live("a").write_text("repaired by hand\n")
    kill_guard_if_any(change)
    real.verb("boot", change)
    assert real.live("a").read_text() == "repaired by hand\n"
    assert "left alone" in real.log(change)
    assert marker.exists()
    assert real.state(change) == "stuck"
    # What is as the change wrote it comes back.
    real.live("a").write_text(NEW)
    assert real.verb("boot", change).returncode == 0
    assert real.live("a").read_text() == OLD
    assert real.state(change) == "rolled-back"


def test_a_lease_with_another_address_is_a_lease(real: Scene) -> None:
    real.kernel.write_text("2: lo inet 203.0.113.150/24 scope global dynamic lo\n")
    script = real.root / "renewed"
    script.write_text(f"#!/bin/sh\necho '2: lo inet 203.0.113.20/24 scope global dynamic lo' >{real.kernel}\n")
    script.chmod(0o755)
    change = waiting(real, real.lay(EDIT, Steps(reload=((str(script),),))))
    assert real.verb("roll-back", change).returncode == 0
    assert real.state(change) == "rolled-back"


def test_a_folder_without_its_engine_was_never_begun(real: Scene) -> None:
    change = waiting(real, real.lay(EDIT))
    real.verb("confirm", change)
    (real.changes / "0002").mkdir()
    (real.changes / "0002/manifest").write_text("")
    (real.changes / "0003.laying").mkdir()
    target = target_of(real)
    assert target.numbers() == ["0001", "0002"]
    assert target.open_change() is None
    assert [past.state for past in history(target)] == [states.CONFIRMED, states.shown(states.NOT_BEGUN)]
    with pytest.raises(ChangeOpen, match="never begun"):
        target.decide("0002", states.ROLL_BACK, "somebody")


def test_the_folder_gets_its_name_when_it_is_whole(real: Scene, monkeypatch: pytest.MonkeyPatch) -> None:
    machine = target_of(real).machine
    seen: list[str] = []

    def data(folder: str) -> dict[str, tuple[bytes, int]]:
        assert folder.endswith("/0001")
        return {"engine.sh": (b"", 0o700), "manifest": (b"", 0o600)}

    monkeypatch.setattr(machine, "put", lambda path, data, mode: seen.append(path))
    with monkeypatch.context() as broken:
        broken.setattr(machine, "rename_folder", lambda old, new: (_ for _ in ()).throw(KeyboardInterrupt))
        with pytest.raises(KeyboardInterrupt):
            driver.lay_down(machine.store, data)
    assert driver.numbers(machine.store) == []
    assert all("/0001.laying/" in path for path in seen)
    assert driver.lay_down(machine.store, lambda folder: {}) == "0002"


HELD = "address 203.0.113.9/24 fixed on lo"


@needs_mount
def test_a_confirmation_without_its_final_files_is_told(real: Scene) -> None:
    etc = real.root / "etc"
    with small_disk(etc):
        change = tuned(real.lay(EDIT, finals={"a": "final\n"}, grace_facts=(HELD,)), final_tries=2)
        waiting(real, change)
        subprocess.run(["mount", "-o", "remount,ro", str(etc)], check=True)
        said = real.verb("confirm", change)
        assert said.returncode == 5, said.stdout
        assert "not every file of its final state could be written" in said.stderr
        assert f"cp {change}/final/1 {real.live('a')}" in real.log(change)
        target = target_of(real)
        now = target.status(change.name)
        assert (now.state, now.is_incomplete) == (states.CONFIRMED, True)
        assert [(past.state, past.is_incomplete) for past in history(target)] == [(states.CONFIRMED, True)]
        assert document_of(target.name, now).complete is False


@needs_mount
def test_a_final_file_is_tried_again(real: Scene) -> None:
    etc = real.root / "etc"
    with small_disk(etc):
        change = waiting(real, real.lay(EDIT, finals={"a": "final\n"}, grace_facts=(HELD,)))
        subprocess.run(["mount", "-o", "remount,ro", str(etc)], check=True)
        asked = subprocess.Popen(
            [*real.shell.split(), str(change / "engine.sh"), "confirm", str(change)],  # type: ignore[union-attr]
            env=real.environment, stdout=subprocess.PIPE, text=True,
        )  # fmt: skip
        real.wait(change, "committing")
        time.sleep(1)
        subprocess.run(["mount", "-o", "remount,rw", str(etc)], check=True)
        out, _ = asked.communicate(timeout=240)
        assert (asked.returncode, out) == (0, "confirmed\n")
        assert real.live("a").read_text() == "final\n"
        assert not target_of(real).status(change.name).is_incomplete
