"""Where a change must not begin, and who may begin one."""

from __future__ import annotations

import os
import subprocess
import time
from pathlib import Path

import pytest

from tests.changes import NEW, OLD, Scene
from tests.guards import (
    EDIT,
    command,
    needs_mount,
    tuned,
    waiting,
)

pytestmark = pytest.mark.one_in(2)


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
    assert "belongs to somebody else (65534)" in refused.stderr


@pytest.mark.skipif(os.geteuid() != 0, reason="gives a folder to somebody else, which needs root")
@pytest.mark.parametrize("how", ["owner", "group", "everybody", "link", "the change itself"])
def test_a_state_folder_below_one_that_others_may_rename_is_refused(how: str, tmp_path: Path) -> None:
    """They could lay an engine of their own where root runs one at boot."""
    above = tmp_path / "other"
    scene = Scene(above / "state", "dash")
    scene.live("a").write_text(OLD)
    change = scene.lay(EDIT)
    if how == "owner":
        os.chown(above, 65534, 65534)
    elif how == "link":
        above.rename(tmp_path / "real")
        above.symlink_to("real")
    elif how == "the change itself":
        os.chown(change, 65534, 65534)
    else:
        above.chmod(0o775 if how == "group" else 0o757)
    refused = scene.verb("start", change)
    assert refused.returncode == 4, refused.stderr
    assert f"{change if how == 'the change itself' else above} " in refused.stderr
    assert "could be replaced by others" in refused.stderr
    assert scene.live("a").read_text() == OLD


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


def test_who_comes_late_to_a_lock_that_was_left_takes_no_other_away(real: Scene) -> None:
    """It was seen, cleared away by somebody who died of it, and taken: all before the late one went on."""
    first = waiting(real, real.lay({"x": (None, NEW)}))
    real.verb("confirm", first)
    died, taken, late = (real.lay({name: (None, NEW)}) for name in "ytz")
    (died / "starting").write_text("999999\n")
    (first / "cleared-by").symlink_to(died.name)
    (taken / "starting").write_text(f"{os.getpid()}\n")
    (real.changes / "open").symlink_to(taken.name)
    once = real.root / "once"
    once.write_text(first.name)
    command(
        real,
        "readlink",
        f'case $1 in */open) if [ -e {once} ]; then cat {once}; rm {once}; exit; fi ;; esac; exec /bin/readlink "$@"',
    )
    refused = real.verb("start", late)
    assert refused.returncode == 7, refused.stderr
    assert os.readlink(real.changes / "open") == taken.name


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
    assert time.monotonic() - begun < 90
    assert real.live("a").read_text() == OLD


HELD = "address 203.0.113.9/24 fixed on lo"


def test_a_session_of_the_host_to_itself_proves_nothing(real: Scene) -> None:
    real.kernel.write_text("2: lo inet 203.0.113.9/24 scope global lo\n")
    change = waiting(real, real.lay(EDIT, grace_facts=(HELD,)))
    kept = real.verb("confirm", change, SSH_CONNECTION="203.0.113.9 50000 203.0.113.9 22")
    assert kept.returncode == 0, kept.stderr
    assert "in a session on" not in real.log(change)
