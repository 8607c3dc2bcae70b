"""A bounded search through the configuration of a host for lines that name addresses."""

from __future__ import annotations

import os
import re
import time
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path

import msgspec

from fixed_anchor.core.config import Place
from fixed_anchor.core.elsewhere import Mention, Spelling
from fixed_anchor.machines.readable import Ran

#: Where software keeps what administrators configure. State and logs lie elsewhere, and name addresses of the past.
FOLDERS = ("/etc", "/usr/local/etc", "/var/named", "/var/spool/cron")
#: Copies that nothing reads: of editors, of package managers, of careful people.
COPIES = (
    "~", ".bak", ".orig", ".old", ".save", ".swp",
    ".dpkg-old", ".dpkg-dist", ".dpkg-new", ".dpkg-bak", ".ucf-old", ".ucf-dist", ".rpmsave", ".rpmnew", ".rpmorig",
)  # fmt: skip
TOO_LARGE = "larger than 1 MiB"
#: The same search as commands for a host on which there is no Python: find(1), grep(1). What is looked for comes
#: behind the first, as ``-e ADDRESS``, and then ``{} +``.
_FIND = ("timeout", "10", "find", *FOLDERS, "-xdev", "-type", "f", "-size")
GREP = (*_FIND, "-2048", "-exec", "grep", "-IHniF", "-m", "50")
LARGE = (*_FIND, "+2047")

#: How a line begins that only remarks on something.
_REMARKS = ("#", ";", "//")
_REMARK_AT_END = re.compile(r"\s#.*$")


class Limits(msgspec.Struct, frozen=True):
    """Where a search stops: ``size`` in bytes for one file, ``lines`` found, ``files`` looked at, and ``seconds``."""

    size: int = 1024 * 1024
    lines: int = 500
    files: int = 100_000
    seconds: float = 10.0


class Found(msgspec.Struct, frozen=True):
    """The lines that were found, and in words what was left out."""

    mentions: tuple[Mention, ...] = ()
    left_out: tuple[str, ...] = ()


def is_worth_a_look(path: str) -> bool:
    """Whether anything may read the file: copies are left out."""
    return not path.endswith(COPIES)


def lines_naming(spelling: Spelling, path: str, text: str) -> Iterator[Mention]:
    """The lines of a file that name an address, remarks left out."""
    for number, line in enumerate(text.splitlines(), 1):
        yield from line_naming(spelling, Place(path, number), line)


def line_naming(spelling: Spelling, place: Place, line: str) -> Iterator[Mention]:
    """The addresses that a line names, unless it is a remark, or they stand in the one at its end."""
    text = line.strip()
    if not text.startswith(_REMARKS):
        for address in spelling.in_line(_REMARK_AT_END.sub("", text)):
            yield Mention(address, place, text)


class LeftOut:
    """What a search did not look at, by the reason; in words, one line for each."""

    def __init__(self, said: Iterable[str] = ()) -> None:
        self._said = tuple(said)
        self._paths: dict[str, list[str]] = {}

    def add(self, path: str, why: str) -> None:
        """Notes one path."""
        self._paths.setdefault(why, []).append(path)

    def words(self) -> tuple[str, ...]:
        """``/etc/a and 3 more: permission denied``."""
        return self._said + tuple(
            paths[0] + (f" and {len(paths) - 1} more" if len(paths) > 1 else "") + f": {why}"
            for why, paths in self._paths.items()
        )


def found_by_commands(host: str, spelling: Spelling, greps: Iterable[Ran], large: Ran | None) -> Found:
    """What the commands :data:`GREP` and :data:`LARGE` have found on a host."""
    mentions: list[Mention] = []
    left_out = LeftOut()
    for ran in greps:
        for line in ran.out.splitlines():
            path, _, rest = line.partition(":")
            number, _, text = rest.partition(":")
            if number.isdecimal() and is_worth_a_look(path):
                mentions += line_naming(spelling, Place(path, int(number)), text)
        if ran.status == 124:
            left_out.add(f"some files of {host}", "10 seconds were over")
    for path in large.out.splitlines() if large is not None else ():
        left_out.add(path, TOO_LARGE)
    return Found(tuple(dict.fromkeys(mentions)), left_out.words())


def search_folders(local: Callable[[str], Path], spelling: Spelling, limits: Limits = Limits()) -> Found:
    """Searches :data:`FOLDERS` on a disk; ``local`` tells where a path of the host lies here.

    Symbolic links are not followed, other file systems not entered, binary files not read.
    """
    until = time.monotonic() + limits.seconds
    mentions: list[Mention] = []
    left_out = LeftOut()
    for seen, (path, entry) in enumerate(_files(local, left_out)):
        why = _why_stop(limits, seen, len(mentions), until)
        if why is not None:
            left_out.add(f"{path} and all that comes after it", why)
            break
        if not is_worth_a_look(path):
            continue
        try:
            if entry.stat(follow_symlinks=False).st_size > limits.size:
                left_out.add(path, TOO_LARGE)
                continue
            with open(entry.path, "rb") as file:
                data = file.read(limits.size)
        except FileNotFoundError:
            continue
        except OSError as error:
            left_out.add(path, str(error.strerror).lower())
            continue
        if b"\0" not in data and spelling.may_be_in(data):
            mentions += lines_naming(spelling, path, data.decode("utf-8", "replace"))
    return Found(tuple(mentions), left_out.words())


def _why_stop(limits: Limits, files: int, lines: int, until: float) -> str | None:
    """Which limit is reached, if one is."""
    if files >= limits.files:
        return f"{limits.files} files were looked at"
    if lines >= limits.lines:
        return f"{limits.lines} lines were found"
    return f"{limits.seconds:g} seconds were over" if time.monotonic() > until else None


def _files(local: Callable[[str], Path], left_out: LeftOut) -> Iterator[tuple[str, os.DirEntry[str]]]:
    """The regular files of all folders, by the host's own paths, in the order of their names."""
    mounted = _mount_points()
    for folder in FOLDERS:
        root = str(local(folder))
        if not os.path.isdir(root):
            continue
        left = [(folder, root)]
        while left:
            shown, here = left.pop()
            try:
                with os.scandir(here) as listed:
                    entries = sorted(listed, key=lambda e: e.name)
            except OSError as error:
                left_out.add(shown, str(error.strerror).lower())
                continue
            below = []
            for entry in entries:
                path = f"{shown}/{entry.name}"
                if entry.is_file(follow_symlinks=False):
                    yield path, entry
                elif entry.is_dir(follow_symlinks=False):
                    below.append((path, entry.path))
            for path, there in reversed(below):
                # Even to look at it could take for ever, where a server behind it does not answer.
                if there in mounted:
                    left_out.add(path, "another file system")
                else:
                    left.append((path, there))


def _mount_points() -> frozenset[str]:
    """Where file systems are mounted on this machine, proc_pid_mountinfo(5)."""
    try:
        lines = Path("/proc/self/mountinfo").read_text("utf-8", "replace").splitlines()
    except OSError:
        return frozenset()
    escaped = (line.split()[4] for line in lines)
    return frozenset(re.sub(r"\\([0-7]{3})", lambda m: chr(int(m[1], 8)), path) for path in escaped)
