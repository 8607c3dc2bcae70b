"""A host as the collector saw it: its files and the output of commands, in one carried document."""

from __future__ import annotations

import re
import shlex
from importlib import resources
from pathlib import Path

from fixed_anchor.change.files import FileText, decode
from fixed_anchor.core.elsewhere import Spelling
from fixed_anchor.core.errors import InputError
from fixed_anchor.daemons import (
    all_files,
    all_links,
    all_questions,
    busy_patterns,
    ifupdown,
    is_active,
    others,
    programs,
    starts_at_boot,
    time_is_active,
)
from fixed_anchor.daemons.protocol import INTERFACE
from fixed_anchor.formats import FORMATS
from fixed_anchor.machines.carried import Carried
from fixed_anchor.machines.carried_lines import CarriedLines
from fixed_anchor.machines.fetched import Fetched, folders_in, matches, one_by_one
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.machines.readable import Ran, Wanted, not_asked
from fixed_anchor.machines.search import (
    FOLDERS,
    GREP,
    LARGE,
    Found,
    LeftOut,
    found_by_commands,
    is_worth_a_look,
    lines_naming,
)
from fixed_anchor.machines.seat import Way
from fixed_anchor.machines.windows.windows_facts import is_of_windows
from fixed_anchor.machines.windows_collected import WindowsCollected

HEADER = "fixed-anchor collection 1"
#: By so many bytes it is told what a document is.
HEAD = 4096


def collector_source() -> str:
    """The text of ``collector.sh``, with what the daemons and formats of this version need filled in."""
    text = resources.files(__package__).joinpath("collector.sh").read_text("utf-8")
    once = [_run(argv) for argv in (is_active(), time_is_active(), starts_at_boot(), *programs.COMMANDS)]
    once.append(f"for path in {' '.join(FORMATS['netplan'].patterns)}; do")
    once.append(f'    [ ! -f "$path" ] || {{ {_run(programs.FEATURES)}; break; }}')
    once.append("done")
    each = [_run(ifupdown.DUMP_LEASE)]
    for unit, asked in all_questions().items():
        # Some would start the service that they ask.
        once += [f"active {unit} && {_run(argv)}" for argv in asked.commands]
        each += [f"active {unit} && {_run(argv)}" for argv in asked.for_interface]
    fill = {
        "# @COMMANDS@": "\n".join(once),
        "# @FOR_INTERFACE@": "\n    ".join(each),
        "@LINKS@": " ".join(map(_plain, all_links())),
        "@PROCESSES@": "|".join((*ifupdown.LEASE_CLIENTS, *busy_patterns())),
        "@SEARCH@": " ".join(map(_plain, GREP)),
        "@LARGE@": " ".join(map(_plain, LARGE)),
        '"@FILES@"': " \\\n    ".join(map(_plain, (*all_files(), *others.FILES))),
    }
    for mark, words in fill.items():
        assert mark in text, mark
        text = text.replace(mark, words)
    return text


def _run(argv: tuple[str, ...]) -> str:
    return "run " + " ".join('"$interface"' if word == INTERFACE else shlex.quote(word) for word in argv)


def _plain(word: str) -> str:
    """A word of our own registries for the shell; patterns stay patterns. Anything else is a bug."""
    assert re.fullmatch(r"[A-Za-z0-9_./,:*@+-]+", word), word
    return word


def is_collection(data: bytes) -> bool:
    """Whether ``data`` begins as a collection does, of whichever system."""
    return data.startswith(HEADER.encode() + b"\n") or is_of_windows(data)


class Collected(Carried):
    """What ``collector.sh`` printed on a host. Commands that it did not run are not there.

    Raises :class:`InputError` with the line for a document that is cut or broken.
    """

    def __init__(self, file: Path) -> None:
        super().__init__(file)
        self.files: dict[str, FileText] = {}
        self.links: dict[str, str] = {}
        self.commands: dict[tuple[str, ...], Ran] = {}
        try:
            text = decode(file.read_bytes())
        except OSError as error:
            raise InputError(f"the collection cannot be read: {error.strerror}", file=str(file)) from None
        self._carried = CarriedLines(text.split("\n"))
        self._lines = self._carried.lines
        self._read()

    # --- the document -------------------------------------------------------------------

    def _broken(self, what: str, expected: str | None = None) -> InputError:
        return InputError(
            what,
            file=str(self.file),
            line=self._carried.at + 1,
            expected=expected,
            remedy="collect again, and carry it whole",
        )

    def _read(self) -> None:
        if self._lines[0].rstrip("\r") != HEADER:
            raise self._broken("this is no collection", f"`{HEADER}`, as collector.sh prints it")
        if self._lines[0].endswith("\r"):
            raise self._broken("the line ends were changed on the way", "line ends as the collector wrote them")
        self._carried.at = 1
        while True:
            if self._carried.at >= len(self._lines):
                raise self._broken("the collection is cut short", "`end`")
            kind, _, rest = self._lines[self._carried.at].partition(" ")
            if kind == "end":
                return
            if kind == "host":
                self.name = rest.strip() or self.name
                self._carried.at += 1
            elif kind == "file":
                self._file(rest)
            elif kind == "link":
                self._carried.at += 1
                self.links[rest] = self._carried.contents().rstrip("\n")
            elif kind == "run":
                self._run(rest)
            else:
                raise self._broken(f"{self._lines[self._carried.at][:40]!r} stands here", "file, link, run or end")

    def _file(self, rest: str) -> None:
        words = rest.split(" ", 3)
        try:
            mode, uid, gid, path = int(words[0], 8), int(words[1]), int(words[2]), words[3]
        except (ValueError, IndexError):
            raise self._broken("no mode, owner and path", "file MODE UID GID PATH") from None
        self._carried.at += 1
        self.files[path] = FileText(path, self._carried.contents(), mode, uid, gid)

    def _run(self, rest: str) -> None:
        if not rest.isdecimal():
            raise self._broken("no number of words", "run NUMBER")
        begin = self._carried.at + 1
        argv = self._lines[begin : begin + int(rest)]
        if len(argv) != int(rest) or any(not word.startswith(" ") for word in argv):
            raise self._broken("the words of a command are missing", f"{rest} lines that begin with a space")
        self._carried.at = begin + int(rest)
        out = self._carried.contents()
        kind, _, status = (self._lines[self._carried.at] if self._carried.at < len(self._lines) else "").partition(" ")
        if kind != "status" or not status.isdecimal():
            raise self._broken("the status of a command is missing", "status NUMBER")
        self._carried.at += 1
        self.commands[tuple(word[1:] for word in argv)] = Ran(int(status), out, "")

    # --- the machine --------------------------------------------------------------------

    def read(self, path: str) -> FileText | None:
        return self.files.get(path)

    def glob(self, pattern: str) -> list[str]:
        return sorted(path for path in self.files if matches(path, pattern))

    def knows(self, pattern: str) -> bool:
        return True

    def link_target(self, path: str) -> str | None:
        return self.links.get(path)

    def run(self, argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        return self.commands.get(argv) or not_asked(argv)

    def fetch(self, wanted: Wanted) -> Fetched:
        return one_by_one(self, wanted)

    def search(self, spelling: Spelling) -> Found:
        """What the collector found, which looked for the addresses that the host had; and the files that it carried."""
        carried = [f for path, f in self.files.items() if path.startswith(FOLDERS) and is_worth_a_look(path)]
        mentions = [m for file in carried for m in lines_naming(spelling, file.path, file.text)]
        greps = [(argv, ran) for argv, ran in self.commands.items() if argv[: len(GREP)] == GREP]
        found = found_by_commands(self.name, spelling, [ran for _, ran in greps], self.commands.get(LARGE))
        unasked = [a for a in spelling.addresses if not any(str(a) in argv[len(GREP) :] for argv, _ in greps)]
        left_out = LeftOut(found.left_out)
        for address in unasked:
            left_out.add(f"files of {self.name} that name {address}", "the collector did not look for it")
        return Found(tuple(dict.fromkeys((*mentions, *found.mentions))), left_out.words())

    def folders(self, path: str) -> list[str]:
        return folders_in(self.files, path)


def collection(file: Path) -> Machine:
    """The collection in ``file``, of whichever system. Raises :class:`InputError`."""
    try:
        with open(file, "rb") as opened:
            head = opened.read(HEAD)
    except OSError as error:
        raise InputError(f"the collection cannot be read: {error.strerror}", file=str(file)) from None
    return WindowsCollected(file) if is_of_windows(head) else Collected(file)


def reach(way: Way) -> Machine:
    """The collection in the file that is named, seen from the folder of the plan."""
    return collection(way.folder / way.rest)
