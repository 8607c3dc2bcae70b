"""What was fetched from a machine at once, to be read like the machine itself."""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import cache

from fixed_anchor.change.files import FileText
from fixed_anchor.core.errors import AnchorError, InputError, NoAccess
from fixed_anchor.machines.readable import Ran, Readable, Wanted, not_asked


class Fetched:
    """Files, links and the outputs of commands, as they were when they were fetched.

    Only files that were asked for can be read: any other raises :class:`LookupError`, which is a bug
    of ours and no word about the host. A command that was not run is not known. A file that may not
    be read says so when it is.
    """

    def __init__(self, name: str, running: bool) -> None:
        self.name = name
        self.running = running
        #: What was wanted, and why its folder cannot be read, where that is so.
        self._patterns: dict[str, NoAccess | None] = {}
        self._wild: tuple[int, list[str]] = (0, [])
        self._files: dict[str, FileText | AnchorError] = {}
        self._links: dict[str, str | None] = {}
        self._ran: dict[tuple[str, ...], Ran] = {}

    def joined(self, other: Fetched) -> Fetched:
        """This with what was fetched next."""
        both = Fetched(self.name, self.running)
        for one in (self, other):
            both._patterns |= one._patterns
            both._files |= one._files
            both._links |= one._links
            both._ran |= one._ran
        return both

    def _raise_for_missing(self, path: str) -> None:
        """Raises unless the file was looked for, and where it would be could be looked into."""
        wanted = [path] if path in self._patterns else []
        wanted += [pattern for pattern in self._wildcards() if matches(path, pattern)]
        if not wanted:
            raise LookupError(f"{path} was not fetched from {self.name}")
        self._raise_for(wanted)

    def _wildcards(self) -> list[str]:
        """Those of the patterns that match more than one path; they only ever become more."""
        known, found = self._wild
        if known != len(self._patterns):
            found = [pattern for pattern in self._patterns if any(c in pattern for c in "*?[")]
            self._wild = len(self._patterns), found
        return found

    def _raise_for(self, patterns: Iterable[str]) -> None:
        """Raises what stood in the way of looking into a folder."""
        for pattern in patterns:
            why = self._patterns[pattern]
            if why is not None:
                raise why

    def read(self, path: str) -> FileText | None:
        found = self._files.get(path)
        if found is None:
            self._raise_for_missing(path)
        if isinstance(found, AnchorError):
            raise found
        return found

    def glob(self, pattern: str) -> list[str]:
        if pattern not in self._patterns:
            raise LookupError(f"{pattern} was not fetched from {self.name}")
        self._raise_for([pattern])
        return sorted(path for path in self._files if matches(path, pattern))

    def knows(self, pattern: str) -> bool:
        return pattern in self._patterns

    def link_target(self, path: str) -> str | None:
        return self._links[path]

    def folders(self, path: str) -> list[str]:
        if not any(pattern.startswith(f"{path}/") for pattern in self._patterns):
            raise LookupError(f"{path} was not fetched from {self.name}")
        return folders_in(self._files, path)

    def run(self, argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        return self._ran.get(argv) or not_asked(argv)


def one_by_one(machine: Readable, wanted: Wanted) -> Fetched:
    """All of ``wanted`` from a machine that is right here, where asking many times costs nothing."""
    fetched = Fetched(machine.name, machine.running)
    for pattern in wanted.files:
        fetched._patterns[pattern] = None
        try:
            paths = machine.glob(pattern) if any(c in pattern for c in "*?[") else [pattern]
        except NoAccess as error:
            # Whoever needs a file of that folder is told; who does not, need not know.
            fetched._patterns[pattern] = error
            continue
        for path in paths:
            try:
                file = machine.read(path)
            except (NoAccess, InputError) as error:
                fetched._files[path] = error
                continue
            if file is not None:
                fetched._files[path] = file
    fetched._links.update({path: machine.link_target(path) for path in wanted.links})
    for argv in wanted.commands:
        fetched._ran[argv] = machine.run(argv) if machine.running else not_asked(argv)
    return fetched


def folders_in(paths: Iterable[str], path: str) -> list[str]:
    """The names of the folders inside ``path`` that any of ``paths`` lies in, sorted."""
    below = (known.removeprefix(f"{path}/") for known in paths if known.startswith(f"{path}/"))
    return sorted({rest.partition("/")[0] for rest in below if "/" in rest})


def matches(path: str, pattern: str) -> bool:
    """Whether a path matches a pattern, part by part; hidden names match no star."""
    before, compiled = _compiled(pattern)
    return path.startswith(before) and compiled.fullmatch(path) is not None


@cache
def _compiled(pattern: str) -> tuple[str, re.Pattern[str]]:
    """What stands before the first wildcard of a pattern of ours, and the whole of it."""
    words = re.split(r"([*?]|\[.[^]]*\])", pattern)
    text = ""
    for place, word in enumerate(words):
        if place % 2 == 0:
            text += re.escape(word)
        elif word == "*":
            text += "(?![.])[^/]*" if text.endswith("/") or not text else "[^/]*"
        elif word == "?":
            text += "[^/]"
        else:
            text += f"[^/{word[2:]}" if word[1] == "!" else word
    return words[0], re.compile(text)
