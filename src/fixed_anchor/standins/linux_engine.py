"""What a change of a simulated Linux host consists of: files, and the steps of daemons; as ``engine.sh`` does it."""

from __future__ import annotations

import os
import shutil
from pathlib import Path
from typing import NamedTuple

from fixed_anchor.standins.engine import StandinEngine


class _Line(NamedTuple):
    number: str
    kind: str
    mode: int
    path: str


def last_words(said: str) -> str:
    """What a command said last: two lines at most, of those with a letter in them, without control characters."""
    lines = ("".join(c for c in line if c.isprintable()).strip() for line in said.splitlines())
    return "; ".join([line for line in lines if any(c.isalpha() for c in line)][-2:])


class LinuxStandinEngine(StandinEngine):
    """One change of a simulated Linux host."""

    def _why_not(self) -> str:
        return next((why for line in self._manifest() if (why := self._refused(line))), "")

    def _save(self) -> None:
        (self.folder / "saved").mkdir()
        for line in self._manifest():
            if line.kind != "create":
                shutil.copy2(self._live(line.path), self.folder / "saved" / line.number, follow_symlinks=False)

    def _leave(self) -> bool:
        return self._steps("leave")

    def _write_all(self) -> bool:
        for line in self._manifest():
            self._write(line)
        return True

    def _activate(self) -> bool:
        return self._steps("activate")

    def _confirm_within(self) -> int:
        return int(self._value("confirm-within"))

    def _take_back(self) -> bool:
        self._steps("unload")
        for line in self._manifest():
            live = self._live(line.path)
            if line.kind == "create":
                live.unlink(missing_ok=True)
                made = self._value(f"made-{line.number}")
                if made and not any(Path(made).iterdir()):
                    Path(made).rmdir()
            else:
                live.unlink(missing_ok=True)
                shutil.copy2(self.folder / "saved" / line.number, live, follow_symlinks=False)
            self._log(f"rolled back: {line.path}")
        self._steps("reload")
        self._steps("kernel")
        return True

    def _drop_held(self) -> None:
        for line in self._manifest():
            self._write(line, "final")
        self._steps("drop")

    def _at_commit(self) -> None:
        self._steps("commit")

    def _held(self) -> list[str]:
        return self._value("held").splitlines()

    def _is_unattended(self) -> bool:
        return (self.folder / "unattended").exists()

    def _manifest(self) -> list[_Line]:
        lines = []
        for text in (self.folder / "manifest").read_text().splitlines():
            number, kind, mode, _, _, path = text.split(" ", 5)
            lines.append(_Line(number, kind, int(mode, 8), path))
        return lines

    def _live(self, path: str) -> Path:
        return self.tree / path.lstrip("/")

    def _beside(self, line: _Line) -> Path:
        return self._live(line.path).with_name(f".fixed-anchor.{self.name}.{line.number}")

    def _steps(self, phase: str) -> bool:
        """Runs a phase's steps; false as soon as one fails."""
        folder = self.folder / "steps" / phase
        for step in sorted(folder.iterdir()) if folder.is_dir() else []:
            argv = tuple(step.read_text().splitlines())
            self._log("step: " + " ".join(argv))
            status, out, err = self.host.command(argv)
            if status != 0:
                words = last_words(out + err)
                self._failed = f"a command ended with status {status}: {' '.join(argv)}" + (
                    f"; it said: {words}" if words else ""
                )
            self._log(f"step ended: status {status} {out}{err}".rstrip())
            if status != 0:
                return False
        return True

    def _refused(self, line: _Line) -> str:
        """Why the live file is not what the draft was made from; empty if it is."""
        live = self._live(line.path)
        target = os.readlink(live) if live.is_symlink() else ""
        if target != self._value(f"was-link/{line.number}"):
            return f"{line.path} is a symbolic link that the draft did not see, or no longer one"
        for above in live.parents:
            if above == self.tree:
                break
            if above.is_symlink():
                return f"/{above.relative_to(self.tree)}, above {line.path}, is a symbolic link"
        if line.kind == "create":
            return f"{line.path} has appeared since the draft was made" if live.exists() else ""
        was = self.folder / "was" / line.number
        if was.exists() and (not live.exists() or live.read_bytes() != was.read_bytes()):
            return f"{line.path} is not what the draft was made from"
        return ""

    def _write(self, line: _Line, texts: str = "new") -> None:
        live = self._live(line.path)
        if texts == "final" and not (self.folder / "final" / line.number).exists():
            return
        if line.kind == "delete":
            live.unlink(missing_ok=True)
        elif line.kind == "link":
            beside = self._beside(line)
            os.symlink(self._value(f"new/{line.number}"), beside)
            beside.replace(live)
        else:
            if not live.parent.is_dir():
                live.parent.mkdir(mode=0o755)
                self._put(f"made-{line.number}", str(live.parent))
            beside = self._beside(line)
            shutil.copyfile(self.folder / texts / line.number, beside)
            beside.chmod(line.mode)
            beside.replace(live)
        self._log(f"written: {line.kind} {line.path}")
