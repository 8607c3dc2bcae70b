"""Changes laid down in a temporary folder, for the engine under a real shell and for the stand-in's."""

from __future__ import annotations

import os
import shutil
import subprocess
import time
from pathlib import Path
from typing import Any

from fixed_anchor.change import states
from fixed_anchor.change.change import Patience, Terms
from fixed_anchor.change.content import FileContent
from fixed_anchor.change.files import FileEdit, FileText
from fixed_anchor.change.steps import Steps
from fixed_anchor.engine.data import as_files
from fixed_anchor.standins.linux_engine import LinuxStandinEngine

OLD, NEW = "old contents\n", "new contents\n"
OK, BAD = ("true",), ("false",)
#: Nobody waits for a network that is not there.
QUICK = Patience(1, 1, 1)
TERMS = Terms(60, False, {}, patience=QUICK)

#: Stands for ip(8) on a host that exists only as files.
_IP = """\
#!/bin/sh
case $* in *"addr show"*) cat {kernel} ;; esac
"""
#: Stands for arping(8): nobody else has any address.
_ARPING = '#!/bin/sh\n[ "$1" != -V ] && [ "$1" != --help ] || echo "arping from iputils: -D -U"\n'


def shells() -> list[str]:
    """The shells of this machine that the engine must run under."""
    return [shell for shell in ("dash", "busybox sh") if shutil.which(shell.split()[0])]


class Scene:
    """A folder that plays the host: live files, a state folder, and the changes in it."""

    def __init__(self, root: Path, shell: str | None) -> None:
        self.root = root
        self.shell = shell
        self.changes = root / "state/changes"
        self.changes.mkdir(parents=True)
        (root / "etc").mkdir()
        self.number = 0
        #: Whether a guard was killed: its log may lack a line.
        self.killed = False
        #: What ``ip`` says of addresses; the machine's own are nobody's business, and it is sent no packet.
        self.kernel = root / "kernel"
        self.kernel.write_text("")
        (root / "bin").mkdir()
        for name, text in (
            ("ip", _IP.format(kernel=self.kernel)),
            ("ping", "#!/bin/sh\nexit 1\n"),
            ("arping", _ARPING),
        ):
            (root / "bin" / name).write_text(text)
            (root / "bin" / name).chmod(0o755)
        self.environment = os.environ | {"PATH": f"{root}/bin:{os.environ['PATH']}"}

    def live(self, name: str) -> Path:
        return self.root / "etc" / name

    def path(self, name: str) -> str:
        """What the manifest calls a live file: the stand-in's paths begin at its tree."""
        return str(self.live(name)) if self.shell else f"/etc/{name}"

    def lay(self, edits: dict[str, tuple[str | None, str | None]], steps: Steps = Steps(), **words: Any) -> Path:
        """Lays down a change; ``edits`` maps names to the contents before and after.

        ``words`` are fields of the content and the terms; ``finals`` maps names to the contents once nothing is held.
        """
        uid, gid = os.getuid(), os.getgid()
        made = []
        for name, (before, after) in edits.items():
            path = self.path(name)
            old = None if before is None else FileText(path, before, 0o640, uid, gid)
            new = None if after is None else FileText(path, after, 0o600, uid, gid)
            made.append(FileEdit(path, old, new))
        finals = tuple((self.path(name), text) for name, text in words.pop("finals", {}).items())
        terms = Terms(
            words.pop("within", 60), words.pop("unattended", False), {}, words.pop("told", ()), patience=QUICK
        )
        until = words.pop("held_until", None)
        content = FileContent(interfaces=("lo",), edits=tuple(made), steps=steps, finals=finals, **words)
        return self.lay_down(content, terms, until)

    def lay_down(self, content: FileContent, terms: Terms = TERMS, held_until: int | None = None) -> Path:
        self.number += 1
        folder = self.changes / f"{self.number:04d}"
        for name, (data, mode) in as_files(content, terms, str(folder), "", held_until).items():
            target = folder / name
            target.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
            target.write_bytes(data)
            target.chmod(mode)
        return folder

    def verb(self, verb: str, folder: Path, *words: str, **environment: str) -> subprocess.CompletedProcess[str]:
        if self.shell is None:
            status, out, err = LinuxStandinEngine(Commands(), self.root, folder).verb(verb, *words or ("",))  # type: ignore[arg-type]
            return subprocess.CompletedProcess([verb], status, out, err)
        argv = [*self.shell.split(), str(folder / "engine.sh"), verb, str(folder), *words]
        there = self.environment | environment
        return subprocess.run(argv, capture_output=True, text=True, check=False, timeout=300, env=there)

    def state(self, folder: Path) -> str:
        if self.shell is None:
            self.verb("status", folder)
        state = folder / "state"
        return state.read_text().strip() if state.exists() else ""

    def wait(self, folder: Path, *states: str, seconds: float = 120) -> str:
        until = time.monotonic() + seconds
        while self.state(folder) not in states:
            assert time.monotonic() < until, f"{self.state(folder)}: {self.log(folder)}"
            time.sleep(0.05)
        reached = self.state(folder)
        # The log line follows the state at once, but not in the same instant.
        while reached in ("confirmed", "rolled-back") and reached not in self.states(folder)[-1:]:
            assert time.monotonic() < until, self.log(folder)
        return reached

    def log(self, folder: Path) -> str:
        log = folder / "log"
        return log.read_text() if log.exists() else ""

    def states(self, folder: Path) -> list[str]:
        return [line.partition("state: ")[2] for line in self.log(folder).splitlines() if "state: " in line]

    def moved_as_the_table_says(self) -> None:
        """Every move that the logs tell of is one of :data:`~fixed_anchor.change.states.STATES`.

        A guard that is killed between a state and its line in the log leaves one state untold: then there may be one
        between two that are told, if another guard began there.
        """
        for folder in sorted(self.changes.glob("0*")):
            before, another = "", False
            for line in self.log(folder).splitlines():
                another = another or " guard: " in line
                if "state: " not in line:
                    continue
                after = line.partition("state: ")[2]
                untold = [untold for untold in _next(before) if after in _next(untold)] if another else []
                assert not before or after in _next(before) or untold, (before, after, self.log(folder))
                before, another = after, False


def _next(state: str) -> tuple[str, ...]:
    row = states.STATES.get(state)
    return (*row.by_guard, *row.by_request, *row.at_boot) if row else ()


class Commands:
    """The commands of a stand-in, as far as the engine tests use them."""

    def command(self, argv: tuple[str, ...]) -> tuple[int, str, str]:
        done = subprocess.run(argv, capture_output=True, text=True, check=False)
        return done.returncode, done.stdout, done.stderr
