"""The machine dies at every single write, rename and state change of the engine, and is booted.

Whatever the point, the host's files end wholly old or wholly new, no lock and no state in between is left,
and what the engine then says is true. In the cover it dies at every other one, with ``--whole-matrix`` at all.
"""

from __future__ import annotations

import subprocess
import time
from pathlib import Path

import msgspec
import pytest

from fixed_anchor.change.steps import Steps
from tests.changes import NEW, OLD, Scene, shells

FINAL = "final contents\n"

#: The commands by which the engine changes anything on disk.
CHANGING = ("mv", "ln", "rm", "cp", "mkdir", "chmod", "chown", "rmdir")

#: Stands before each of them: counts, and at the chosen count ends every process of the change, as a power cut would.
WRAPPER = """\
#!/bin/sh
n=$(($(/bin/cat {folder}/count) + 1))
echo $n >{folder}/count.$$ && /bin/mv {folder}/count.$$ {folder}/count
if [ $n -eq {die} ] && [ {when} = before ]; then /usr/bin/touch {folder}/dead; exec /usr/bin/pkill -9 -f {change}; fi
{real} "$@"
status=$?
if [ $n -eq {die} ]; then /usr/bin/touch {folder}/dead; exec /usr/bin/pkill -9 -f {change}; fi
exit $status
"""


def wrap(scene: Scene, folder: Path, change: Path, die: int, when: str) -> dict[str, str]:
    """An environment in which the engine's commands are counted."""
    folder.mkdir()
    (folder / "count").write_text("0\n")
    for name in CHANGING:
        real = next(str(p) for d in ("/bin", "/usr/bin", "/usr/sbin") if (p := Path(d) / name).exists())
        script = WRAPPER.format(folder=folder, die=die, when=when, real=real, change=change)
        (folder / name).write_text(script)
        (folder / name).chmod(0o755)
    return scene.environment | {"PATH": f"{folder}:{scene.environment['PATH']}"}


def gone(change: Path) -> bool:
    """Whether no process of the change is left; one look may miss a child with a lower number than its parent."""
    for _ in range(3):
        if subprocess.run(["pgrep", "-f", str(change)], capture_output=True, check=False).returncode == 0:
            return False
        time.sleep(0.01)
    return True


def run_until_dead(scene: Scene, change: Path, environment: dict[str, str], keep: bool, folder: Path) -> bool:
    """Starts the change and asks for its end; true if the machine died on the way, with no process left."""
    argv = [*(scene.shell or "").split(), str(change / "engine.sh")]

    def verb(name: str) -> subprocess.Popen[bytes]:
        quiet = subprocess.DEVNULL
        return subprocess.Popen([*argv, name, str(change)], env=environment, stdout=quiet, stderr=quiet)

    asked = False
    begun = verb("start")
    processes = [begun]
    until = time.monotonic() + 240
    while time.monotonic() < until:
        state = scene.state(change)
        if (folder / "dead").exists():
            for process in processes:
                process.kill()
                process.wait()
            while not gone(change):
                subprocess.run(["pkill", "-9", "-f", str(change)], check=False)
                time.sleep(0.01)
            return True
        if state == "waiting" and not asked:
            asked = True
            processes.append(verb("confirm" if keep else "roll-back"))
        ended = state in ("confirmed", "rolled-back") and all(p.poll() is not None for p in processes)
        if ended and gone(change):
            # The last point of all may have struck since it was looked for above.
            return (folder / "dead").exists()
        time.sleep(0.01)
    raise AssertionError(f"no end: {scene.state(change)} {scene.log(change)}")


def lay(root: Path, shell: str) -> tuple[Scene, Path]:
    scene = Scene(root, shell)
    scene.live("a").write_text(OLD)
    scene.live("a").chmod(0o640)
    scene.live("c").write_text(OLD)
    edits = {"a": (OLD, NEW), "b": (None, NEW), "folder/d": (None, NEW), "c": (OLD, None)}
    steps = Steps(
        leave=(("true",),), activate=(("true",),), unload=(("true",),), reload=(("true",),), boot=(("true",),)
    )
    # What is held beside the new state ends in `committing`, by a second writing of the first file.
    steps = msgspec.structs.replace(steps, drop=(("true",),), commit=(("true",),))
    return scene, scene.lay(
        edits, steps, within=60, finals={"a": FINAL}, grace_facts=("address 203.0.113.100/32 fixed on lo",)
    )


def points(shell: str, root: Path, keep: bool) -> int:
    """How many points there are in a run that nothing disturbs."""
    scene, change = lay(root, shell)
    environment = wrap(scene, root / "wrapped", change, -1, "before")
    assert not run_until_dead(scene, change, environment, keep, root / "wrapped")
    return int((root / "wrapped/count").read_text())


def is_old(scene: Scene) -> bool:
    kept = scene.live("a").read_text() == OLD and scene.live("c").exists() and scene.live("c").read_text() == OLD
    return kept and not scene.live("b").exists() and not scene.live("folder/d").exists()


def is_new(scene: Scene) -> bool:
    made = scene.live("a").read_text() == FINAL and scene.live("b").exists() and scene.live("b").read_text() == NEW
    return made and scene.live("folder/d").exists() and not scene.live("c").exists()


#: Under the first shell all there is; a second one is a check that nothing depends on the first.
RUNS = [(shell, keep, when) for shell in shells() for keep in (True, False) for when in ("before", "after")]
RUNS = [run for run in RUNS if run[0] == shells()[0] or run[2] == "before"]


#: The points of a run are taken in parts, for several processes to share; every other one of them in the cover.
PARTS = 4


pytestmark = pytest.mark.one_in(3)


def pytest_generate_tests(metafunc: pytest.Metafunc) -> None:
    is_whole = metafunc.config.getoption("--whole-matrix")
    metafunc.parametrize(("shell", "keep", "when"), RUNS)
    metafunc.parametrize("part", range(PARTS) if is_whole else range(0, PARTS, 2))


def test_every_crash_point(tmp_path: Path, shell: str, keep: bool, when: str, part: int) -> None:
    total = points(shell, tmp_path / "count", keep)
    assert total > 30
    outcomes: dict[str, int] = {}
    for die in range(1 + part, total + 1, PARTS):
        root = tmp_path / f"{die}"
        root.mkdir()
        scene, change = lay(root, shell)
        environment = wrap(scene, root / "wrapped", change, die, when)
        died = run_until_dead(scene, change, environment, keep, root / "wrapped")
        before = scene.state(change)
        if died:
            done = scene.verb("boot", change)
            assert done.returncode == 0, done.stderr
        state = scene.state(change)
        told = f"died {when} {die} of {total} while {before!r}, now {state!r}: {scene.log(change)}"
        assert state in ("confirmed", "rolled-back"), told
        assert is_new(scene) if state == "confirmed" else is_old(scene), told
        assert not (scene.changes / "open").is_symlink(), told
        assert not list(scene.live("").glob(".fixed-anchor*")), told
        # Only a decision to keep it makes a change stay.
        assert (state == "confirmed") <= keep, told
        outcomes[state] = outcomes.get(state, 0) + 1
        # The next change is not in the way of anything.
        again = scene.lay({"a": (scene.live("a").read_text(), "again\n")})
        assert scene.verb("start", again).returncode == 0, told
        scene.wait(again, "waiting")
        assert scene.verb("roll-back", again).returncode == 0
    assert outcomes["rolled-back"] > 4
