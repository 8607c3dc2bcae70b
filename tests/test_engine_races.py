"""Two processes and a slow or broken host: what strikes between states, and the ways out of every dead end."""

from __future__ import annotations

import os
import re
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from fixed_anchor.change import states
from fixed_anchor.change.steps import Steps
from fixed_anchor.core.errors import ChangeOpen, Stuck
from fixed_anchor.engine import driver
from fixed_anchor.workflow.history import history
from fixed_anchor.workflow.linux_host import LinuxHost
from tests.changes import NEW, OLD, Scene
from tests.machines import OnDisk

EDIT = {"a": (OLD, NEW)}


def target_of(scene: Scene) -> LinuxHost:
    """The scene as a target of changes; its engines run under the shell of the machine."""
    return LinuxHost(OnDisk(Path("/"), str(scene.changes.parent), scene.environment))


def tuned(change: Path, **limits: int) -> Path:
    """The change with other limits in its engine."""
    engine = change / "engine.sh"
    text = engine.read_text()
    for name, value in limits.items():
        text, count = re.subn(rf"\b{name}=\d+", f"{name}={value}", text)
        assert count == 1, name
    engine.write_text(text)
    return change


def command(scene: Scene, name: str, text: str) -> None:
    """Puts a command of the test's own before that of the machine."""
    (scene.root / "bin" / name).write_text(f"#!/bin/sh\n{text}\n")
    (scene.root / "bin" / name).chmod(0o755)


def guard_of(change: Path) -> int:
    return int((change / "heartbeat").read_text().split()[0])


def kill_guard(change: Path) -> None:
    """The guard and what would begin it again."""
    pid = guard_of(change)
    above = int(Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[1])
    if f"supervise\0{change}" in Path(f"/proc/{above}/cmdline").read_text():
        os.kill(above, signal.SIGKILL)
    os.kill(pid, signal.SIGKILL)
    while Path(f"/proc/{pid}").exists() and "Z" not in Path(f"/proc/{pid}/stat").read_text().split()[2]:
        time.sleep(0.02)


def waiting(scene: Scene, change: Path) -> Path:
    assert scene.verb("start", change).returncode == 0
    scene.wait(change, "waiting")
    return change


# --- 1: a guard that is slow to come up ---------------------------------------------------


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
    time.sleep(0.5)
    assert real.live("a").read_text() == OLD
    assert "writing" not in real.states(change)
    assert not (real.changes / "open").is_symlink()


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


# --- 2: stuck ----------------------------------------------------------------------------


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
    closed = tool("close", "1", "--because", "repaired")
    assert (closed.returncode, closed.stdout.split()[2]) == (0, "closed")
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


def kill_guard_if_any(change: Path) -> None:
    until = time.monotonic() + 10
    while Path(f"/proc/{guard_of(change)}").exists():
        assert time.monotonic() < until
        time.sleep(0.05)


def test_a_lease_with_another_address_is_a_lease(real: Scene) -> None:
    real.kernel.write_text("2: lo inet 203.0.113.150/24 scope global dynamic lo\n")
    script = real.root / "renewed"
    script.write_text(f"#!/bin/sh\necho '2: lo inet 203.0.113.20/24 scope global dynamic lo' >{real.kernel}\n")
    script.chmod(0o755)
    change = waiting(real, real.lay(EDIT, Steps(reload=((str(script),),))))
    assert real.verb("roll-back", change).returncode == 0
    assert real.state(change) == "rolled-back"


# --- 3: a change that was never laid down ----------------------------------------------------


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
            driver.lay_down(machine, data)
    assert driver.numbers(machine) == []
    assert all("/0001.laying/" in path for path in seen)
    assert driver.lay_down(machine, lambda folder: {}) == "0002"


# --- 4: a late end takes nothing from the next ------------------------------------------------


def test_a_late_end_takes_nothing_from_the_next_change(real: Scene) -> None:
    change = waiting(real, real.lay(EDIT))
    real.verb("confirm", change)
    unit = real.root / "unit.service"
    second = real.lay({"a": (NEW, OLD)})
    for folder in (change, second):
        (folder / "boot-unit").write_text("unit\n")
        (folder / "boot-unit-path").write_text(f"{unit}\n")
        (folder / "boot-unit-mode").write_text("644\n")
        (folder / "boot-unit-wants").write_text(f"{real.root}/wants/unit.service\n")
    waiting(real, second)
    own = [real.root / "unit-0002.service", real.root / "wants/unit-0002.service"]
    aside = real.live(f".fixed-anchor.{second.name}.1.old")
    assert all(path.exists() for path in (*own, aside))
    # The first one's guard comes to its end only now.
    real.verb("guard", change)
    assert all(path.exists() for path in (*own, aside))
    assert (real.changes / "open").is_symlink()
    assert real.verb("roll-back", second).returncode == 0
    assert not any(path.exists() or path.is_symlink() for path in (*own, aside))
    assert real.live("a").read_text() == NEW


# --- 5: final files that cannot be written --------------------------------------------------


@contextmanager
def small_disk(folder: Path) -> Iterator[None]:
    """A file system of its own at ``folder``, with the same file in it."""
    text = (folder / "a").read_text()
    done = subprocess.run(["mount", "-t", "tmpfs", "lab", str(folder)], capture_output=True, check=False)
    if done.returncode != 0:
        pytest.skip("this machine does not let root mount")
    (folder / "a").write_text(text)
    try:
        yield
    finally:
        subprocess.run(["umount", "-l", str(folder)], check=True)


needs_mount = pytest.mark.skipif(os.geteuid() != 0, reason="mounts a file system and makes it read-only: needs root")
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
        assert [past.state for past in history(target)] == [f"{states.CONFIRMED}, not complete"]
        with pytest.raises(Stuck, match="not every file"):
            raise Stuck(said.stderr)


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
        out, _ = asked.communicate(timeout=60)
        assert (asked.returncode, out) == (0, "confirmed\n")
        assert real.live("a").read_text() == "final\n"
        assert not target_of(real).status(change.name).is_incomplete


# --- 6: a guard that is gone ------------------------------------------------------------------


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


# --- 7: boot ----------------------------------------------------------------------------------


def test_a_boot_while_a_guard_lives_does_nothing(real: Scene) -> None:
    change = waiting(real, real.lay(EDIT))
    assert real.verb("boot", change).returncode == 0
    assert real.live("a").read_text() == NEW
    assert real.state(change) == "waiting"
    assert "a guard is alive" in real.log(change)
    assert real.verb("confirm", change).returncode == 0


@needs_mount
@pytest.mark.parametrize("state", ["prepared", "waiting", "committing", "stuck"])
def test_a_boot_on_a_disk_that_takes_nothing_ends(real: Scene, state: str) -> None:
    """It restores what it can, runs its steps, and does not hold the boot up."""
    marker = real.root / "loaded"
    change = tuned(real.lay(EDIT, Steps(boot=(("touch", str(marker)),))), final_tries=2, boot_tries=2)
    (change / "saved").mkdir()
    (change / "saved/1").write_text(OLD)
    (change / "state").write_text(f"{state}\n")
    real.live("a").write_text(NEW)
    state_folder = real.changes.parent
    subprocess.run(["mount", "--bind", str(state_folder), str(state_folder)], check=True)
    try:
        subprocess.run(["mount", "-o", "remount,ro,bind", str(state_folder)], check=True)
        begun = time.monotonic()
        said = real.verb("boot", change)
        assert time.monotonic() - begun < 20
        assert not re.search(r"engine\.sh: |cannot create|Read-only", said.stderr), said.stderr
        assert marker.exists() == (state != "prepared")
        assert real.live("a").read_text() == (OLD if state in ("waiting", "stuck") else NEW)
        assert real.state(change) == state
    finally:
        subprocess.run(["umount", "-l", str(state_folder)], check=True)
    # With a disk that writes again the next boot ends it.
    real.verb("boot", change)
    assert real.state(change) in states.FINAL


# --- 8: where a change must not begin, and who may begin one -----------------------------------------


@needs_mount
def test_a_file_that_is_mounted_by_itself_is_refused(real: Scene) -> None:
    """A rename cannot replace it: found before anything starts."""
    other = real.root / "elsewhere"
    other.write_text(OLD)
    done = subprocess.run(["mount", "--bind", str(other), str(real.live("a"))], capture_output=True, check=False)
    if done.returncode != 0:
        pytest.skip("this machine does not let root mount")
    try:
        refused = real.verb("start", real.lay(EDIT))
    finally:
        subprocess.run(["umount", "-l", str(real.live("a"))], check=True)
    assert refused.returncode == 1
    assert "is mounted by itself" in refused.stderr
    assert not (real.changes / "open").is_symlink()


def test_a_state_folder_with_a_blank_is_refused(tmp_path: Path) -> None:
    scene = Scene(tmp_path / "two words", "dash")
    scene.live("a").write_text(OLD)
    refused = scene.verb("start", scene.lay(EDIT))
    assert refused.returncode == 1
    assert "has a blank in its path" in refused.stderr
    assert scene.live("a").read_text() == OLD


@needs_mount
def test_a_state_folder_in_memory_is_refused(real: Scene) -> None:
    done = subprocess.run(["mount", "-t", "tmpfs", "lab", str(real.changes)], capture_output=True, check=False)
    if done.returncode != 0:
        pytest.skip("this machine does not let root mount")
    try:
        change = real.lay(EDIT)
        (change / "boot-unit").write_text("unit\n")
        (change / "boot-unit-path").write_text(f"{real.root}/unit\n")
        refused = real.verb("start", change)
        assert refused.returncode == 1
        assert "lies in memory" in refused.stderr
    finally:
        subprocess.run(["umount", "-l", str(real.changes)], check=True)


@pytest.mark.skipif(os.geteuid() != 0, reason="gives a folder to somebody else, which needs root")
def test_a_state_folder_of_somebody_else_is_refused(real: Scene) -> None:
    change = real.lay(EDIT)
    os.chown(real.changes, 65534, 65534)
    refused = real.verb("start", change)
    assert refused.returncode == 4
    assert "belongs to somebody else" in refused.stderr


def test_of_many_starts_one_takes_the_lock(real: Scene) -> None:
    """After a finished change whose lock was left behind, and one that died as it took it over."""
    for number in range(3):
        first = waiting(real, real.lay({f"x{number}": (None, NEW)}))
        real.verb("confirm", first)
        (real.changes / "open").symlink_to(first.name)
        died = real.lay({f"y{number}": (None, NEW)})
        (died / "starting").write_text("999999\n")
        (first / "cleared-by").symlink_to(died.name)
        many = [real.lay({f"z{number}-{other}": (None, NEW)}) for other in range(6)]
        asked = [
            subprocess.Popen(
                [*real.shell.split(), str(change / "engine.sh"), "start", str(change)],  # type: ignore[union-attr]
                env=real.environment,
                stderr=subprocess.DEVNULL,
            )
            for change in many
        ]
        ended = [process.wait(60) for process in asked]
        assert sorted(ended) == [0, 7, 7, 7, 7, 7]
        winner = many[ended.index(0)]
        assert os.readlink(real.changes / "open") == winner.name
        real.wait(winner, "waiting")
        assert real.verb("roll-back", winner).returncode == 0


def test_all_that_a_rollback_needs_is_on_disk_before_the_boot_unit(real: Scene) -> None:
    """And a disk that never answers does not hold the start up for ever."""
    seen = real.root / "synced"
    command(real, "sync", f'echo "$*" >>{seen}; ls {real.changes}/0001/saved >>{seen} 2>/dev/null; exec /bin/sync "$@"')
    change = waiting(real, real.lay(EDIT))
    said = seen.read_text().splitlines()
    assert f"-f {change}" in said
    assert said[said.index(f"-f {change}") + 1] == "1"
    real.verb("roll-back", change)
    command(real, "sync", "exec sleep 600")
    hung = tuned(real.lay(EDIT), start_limit=1)
    engine = hung / "engine.sh"
    engine.write_text(
        engine.read_text().replace("limited 30", "limited 1").replace("durable() {", "durable() { return 0;")
    )
    begun = time.monotonic()
    refused = real.verb("start", hung)
    assert refused.returncode == 1
    assert "does not take the saved copies" in refused.stderr
    assert time.monotonic() - begun < 30
    assert real.live("a").read_text() == OLD


def test_a_session_of_the_host_to_itself_proves_nothing(real: Scene) -> None:
    real.kernel.write_text("2: lo inet 203.0.113.9/24 scope global lo\n")
    change = waiting(real, real.lay(EDIT, grace_facts=(HELD,)))
    kept = real.verb("confirm", change, SSH_CONNECTION="203.0.113.9 50000 203.0.113.9 22")
    assert kept.returncode == 0, kept.stderr
    assert "in a session on" not in real.log(change)
