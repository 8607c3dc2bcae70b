"""Every way in which a change can end or be asked about, and what the commands then say: docs/endings.md.

.venv/bin/python -m tests.endings > docs/endings.md
"""

from __future__ import annotations

import contextlib
import json
import os
import re
import shutil
import signal
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from fixed_anchor.change.steps import Steps
from fixed_anchor.standins.layout import lay_out
from tests.changes import NEW, OLD, Scene
from tests.guards import kill_guard

PROGRAM = Path(sys.executable).with_name("fixed-anchor")
ALONE = ["unshare", "--net"] if os.geteuid() == 0 and shutil.which("unshare") else []
EDIT: dict[str, tuple[str | None, str | None]] = {"a": (OLD, NEW)}
NOTES = {"kind": "cutover", "host": "tide-db", "interfaces": ["enp1s0"], "by": "wren", "begun": "2026-11-28T02:00:00Z"}

#: Runs the command line as a user who is not root; the Python that runs it may lie where only root may look.
AS_NOBODY = """\
import importlib, os, pkgutil, sys
import fixed_anchor, rich.console, rich.text, rich.status, rich._unicode_data
for module in pkgutil.walk_packages(fixed_anchor.__path__, "fixed_anchor."):
    if not module.name.endswith("__main__"):
        importlib.import_module(module.name)
from fixed_anchor.cli import main
os.setgroups([]); os.setgid(65534); os.setuid(65534)
main()
"""

ASKED = ("status", "history", "confirm", "restore")


class Stage(NamedTuple):
    """Where the commands are run: a folder, the words before the command, and the program."""

    folder: Path
    words: tuple[str, ...]
    program: tuple[str, ...] = (str(PROGRAM),)

    def run(self, *words: str) -> subprocess.CompletedProcess[str]:
        there = os.environ | {"USER": "wren", "NO_COLOR": "1", "COLUMNS": "200"}
        there.pop("SUDO_USER", None)
        argv = [*ALONE, *self.program, *self.words, *words]
        return subprocess.run(argv, cwd=self.folder, env=there, capture_output=True, text=True, check=False)


# --- stages of the engine itself -------------------------------------------------------------


def engine(root: Path) -> tuple[Scene, Stage]:
    scene = Scene(root, "dash" if shutil.which("dash") else "sh")
    scene.live("a").write_text(OLD)
    return scene, Stage(root, ("--state-dir", str(root / "state")))


def laid(scene: Scene, steps: Steps = Steps(), **words: object) -> Path:
    change = scene.lay(EDIT, steps, **words)
    (change / "about.json").write_text(json.dumps(NOTES))
    text = (change / "engine.sh").read_text()
    # A wait shows nothing.
    text = text.replace("settles 20 ", "settles 1 ").replace("settles 15 ", "settles 1 ")
    (change / "engine.sh").write_text(text)
    return change


def begun(scene: Scene, **words: object) -> Path:
    change = laid(scene, **words)
    assert scene.verb("start", change).returncode == 0, scene.log(change)
    scene.wait(change, "waiting")
    return change


def waiting(root: Path) -> Stage:
    scene, stage = engine(root)
    begun(scene)
    return stage


def verified(root: Path) -> Stage:
    scene, stage = engine(root)
    scene.verb("verdict", begun(scene), "as-planned")
    return stage


def guard_dead(root: Path) -> Stage:
    scene, stage = engine(root)
    kill_guard(begun(scene))
    return stage


def opened(root: Path) -> Stage:
    scene, stage = engine(root)
    change = laid(scene, Steps(activate=(("sleep", "20"),)))
    scene.verb("start", change)
    scene.wait(change, "activating")
    return stage


def by_a_person(root: Path) -> Stage:
    scene, stage = engine(root)
    scene.verb("roll-back", begun(scene), "wren")
    return stage


def by_the_deadline(root: Path) -> Stage:
    scene, stage = engine(root)
    scene.wait(begun(scene, within=1), "rolled-back")
    return stage


def by_a_check(root: Path) -> Stage:
    scene, stage = engine(root)
    change = begun(scene)
    scene.verb("verdict", change, "not-as-planned", "resolver-answers on enp1s0: what it saw (what is wrong with that)")
    scene.wait(change, "rolled-back")
    return stage


def by_a_command(root: Path) -> Stage:
    scene, stage = engine(root)
    change = laid(scene, Steps(activate=(("false",),)))
    scene.verb("start", change)
    scene.wait(change, "rolled-back")
    return stage


def at_boot(root: Path) -> Stage:
    scene, stage = engine(root)
    change = begun(scene)
    kill_guard(change)
    assert scene.verb("boot", change).returncode == 0
    return stage


def stuck_change(root: Path) -> tuple[Scene, Path, Stage]:
    scene, stage = engine(root)
    change = begun(scene)
    # A fact that never comes back.
    (change / "baseline/facts").write_text("address 203.0.113.131/24 leased on enp1s0\n")
    assert scene.verb("roll-back", change, "wren").returncode == 5, scene.log(change)
    return scene, change, stage


def stuck(root: Path) -> Stage:
    return stuck_change(root)[2]


def closed(root: Path) -> Stage:
    scene, change, stage = stuck_change(root)
    scene.verb("close", change, "wren", "the lease is served by another server now")
    return stage


def never_begun(root: Path) -> Stage:
    scene, stage = engine(root)
    laid(scene)
    return stage


def engine_gone(root: Path) -> Stage:
    scene, stage = engine(root)
    change = begun(scene)
    kill_guard(change)
    (change / "engine.sh").unlink()
    return stage


def no_permission(root: Path) -> Stage:
    stage = by_a_person(root)
    (root / "state").chmod(0o700)
    return Stage(Path("/"), stage.words, (sys.executable, "-c", AS_NOBODY))


def no_state_folder(root: Path) -> Stage:
    return Stage(root, ("--state-dir", str(root / "state")))


# --- stages of a simulated host, which has a network to go back to ---------------------------------


def confirmed(root: Path) -> Stage:
    lay_out(root / "site")
    stage = Stage(root / "site", ("--state-dir", "hosts/tide-db/state"))
    words = ("cutover", "plan.yaml", "--host", "tide-db", "--unattended", "--note", "ticket 4711")
    done = stage._replace(words=()).run(*words)
    assert done.returncode == 0, done.stdout + done.stderr
    return stage


def restored(root: Path) -> Stage:
    stage = confirmed(root)
    assert stage.run("restore").returncode == 0
    return stage


ENDINGS: dict[str, Callable[[Path], Stage]] = {
    "open: the network stack is being told": opened,
    "waiting, not yet verified": waiting,
    "waiting, verified": verified,
    "confirmed": confirmed,
    "confirmed, and restored": restored,
    "rolled back by a person": by_a_person,
    "rolled back by the deadline": by_the_deadline,
    "rolled back by a check": by_a_check,
    "rolled back, since a command failed": by_a_command,
    "rolled back at boot": at_boot,
    "stuck": stuck,
    "closed": closed,
    "never begun": never_begun,
    "the guard is dead": guard_dead,
    "the engine is gone": engine_gone,
    "no permission": no_permission,
    "no state folder": no_state_folder,
}


def said(stage: Stage, root: Path, verb: str) -> tuple[int, str]:
    """The exit status of a command, and what it printed, with what differs from run to run made the same."""
    done = stage.run(verb)
    text = (done.stdout + done.stderr).replace(str(root / "state"), "/var/lib/fixed-anchor")
    text = text.replace("--state-dir /var/lib/fixed-anchor ", "").replace("--state-dir hosts/tide-db/state ", "")
    text = text.replace(os.uname().nodename, "tide-db").replace(str(root), "")
    text = re.sub(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ", "2026-11-28T02:00:00Z", text)
    text = re.sub(r"(?<![T:])\b\d\d:\d\d:\d\d\b(?!:)", "02:10:00", text)
    text = re.sub(r"\bin -?\d+ s\b", "in 60 s", text)
    return done.returncode, "\n".join(line.rstrip() for line in text.strip().splitlines())


def chapter(name: str, folder: Path) -> str:
    """What all commands say of one ending; those that act, each on a host of its own."""
    lines = [f"## {name[0].upper()}{name[1:]}\n"]
    stage = None
    for number, verb in enumerate(ASKED):
        root = folder / f"{number}"
        if verb != "history":
            root.mkdir(parents=True)
            stage = ENDINGS[name](root)
            at = root
        assert stage is not None
        status, text = said(stage, at, verb)
        lines.append(f"`fixed-anchor {verb}` ends with {status}:\n\n```\n{text}\n```\n")
        end_guards(at)
    return "\n".join(lines)


def end_guards(root: Path) -> None:
    """Ends the processes that a stage has left running, by their ids."""
    for process in Path("/proc").glob("[0-9]*"):
        try:
            words = (process / "cmdline").read_bytes()
        except OSError:
            continue
        if f"{root}/state/changes/".encode() in words:
            with contextlib.suppress(ProcessLookupError):
                os.kill(int(process.name), signal.SIGKILL)


HEAD = """\
# What is said of a change, however it ended

Made by running the commands (`python -m tests.endings`), one host for each; a test holds this page against them. Times,
paths and names are made the same. The exit statuses are those of the README: 0 done, 1 refused, 2 usage, 3 rolled back,
4 no access, 5 stuck, 6 undetermined, 7 another change is open or this one is decided.

"""


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        print(HEAD + "\n".join(chapter(name, Path(folder) / str(n)) for n, name in enumerate(ENDINGS)), end="")


if __name__ == "__main__":
    main()
