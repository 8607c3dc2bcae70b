"""What is asked of a host in one round trip, and what it answers: ``errand.sh`` seen from the seat, without sockets."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from importlib import resources

import msgspec

from fixed_anchor.change.files import FileText, decode, encode
from fixed_anchor.core.errors import AnchorError, InputError, NoAccess
from fixed_anchor.machines.carried_lines import CarriedLines, as_lines, plain_line, plain_lines
from fixed_anchor.machines.readable import Ran

#: Empty lines in front of the program: a profile there may read some.
_TO_BE_EATEN = 64


def opening(mark: str) -> bytes:
    """What begins a session: the program that the host runs from then on."""
    text = resources.files(__package__).joinpath("errand.sh").read_text("utf-8")
    return f"{chr(10) * _TO_BE_EATEN}fixed-anchor {mark}\n{text}end {mark}\n".encode()


class Errand:
    """Requests that are sent together."""

    def __init__(self) -> None:
        self._lines: list[str] = []
        #: How long the commands may take altogether, in seconds.
        self.seconds = 0.0

    def file(self, path: str) -> None:
        """One file, with its contents."""
        self._lines.append(f"file {plain_line(path)}")

    def glob(self, pattern: str) -> None:
        """All files that match, with their contents."""
        self._lines.append(f"glob {plain_line(pattern)}")

    def names(self, pattern: str) -> None:
        """The paths of the files that match."""
        self._lines.append(f"names {plain_line(pattern)}")

    def link(self, path: str) -> None:
        """Where a symbolic link points."""
        self._lines.append(f"link {plain_line(path)}")

    def folders(self, path: str) -> None:
        """The folders inside a folder."""
        self._lines.append(f"folders {plain_line(path)}")

    def run(self, argv: tuple[str, ...], seconds: float) -> None:
        """A command, which is ended after ``seconds``."""
        self.seconds += seconds
        self._lines += [f"run {seconds:.0f} {len(argv)}", *(f" {word}" for word in plain_lines(argv))]

    def try_out(self, files: Mapping[str, str], argv: tuple[str, ...], seconds: float) -> None:
        """The same over a copy of ``files`` in a folder that goes again; ``COPY`` in a word is that one."""
        self.seconds += seconds
        self._lines.append("copy")
        for path, text in files.items():
            if "\0" in text:
                raise InputError("a null byte cannot be carried to another host", file=path)
            self._lines += [f"lay {plain_line(path)}", *as_lines(text), "."]
        self._lines += [f"try {seconds:.0f} {len(argv)}", *(f" {word}" for word in plain_lines(argv))]

    def put(self, path: str, data: bytes, mode: int) -> None:
        """A file to be written, with its mode."""
        text = decode(data)
        if "\0" in text:
            raise InputError("a null byte cannot be carried to another host", file=path)
        self._lines += [f"put {mode:o} {len(data)} {plain_line(path)}", *as_lines(text), "."]

    def new_folder(self, path: str) -> None:
        """A folder to be made, for root alone."""
        self._lines.append(f"folder {plain_line(path)}")

    def rename_folder(self, old: str, new: str) -> None:
        """A folder to be given another name."""
        self._lines += [f"rename {plain_line(old)}", f" {plain_line(new)}"]

    def encode(self, number: int) -> bytes:
        """The requests; the answer ends with their ``number``."""
        return b"".join(encode(line) + b"\n" for line in (*self._lines, f"reply {number}"))


class Reply(msgspec.Struct):
    """What came back: files by path, or why they cannot be read, and everything else in the order it was asked."""

    files: dict[str, FileText | AnchorError] = {}
    #: Paths and patterns that this user may not look at.
    denied: set[str] = set()
    links: dict[str, str] = {}
    names: list[str] = []
    folders: list[str] = []
    ran: list[Ran] = []
    #: What became of each thing that was to be written: ``done``, ``there`` or ``failed``, and what was said.
    done: list[tuple[str, str]] = []


def read_reply(lines: Iterable[bytes], mark: str) -> Reply:
    """The reply in ``lines``, those between the marked ones. Raises :class:`NoAccess` where it makes no sense."""
    reply = Reply()
    carried = CarriedLines([decode(line) for line in lines])
    while carried.left:
        kind, _, rest = carried.lines[carried.at].partition(" ")
        carried.at += 1
        if kind == "file":
            mode, uid, gid, path = _four(rest)
            reply.files[path] = FileText(path, carried.contents(), int(mode, 8), int(uid), int(gid))
        elif kind == "large":
            size, _, path = rest.partition(" ")
            reply.files[path] = InputError(f"{size} bytes are too many for a configuration file", file=path)
        elif kind == "denied":
            reply.denied.add(rest)
        elif kind == "link":
            reply.links[rest] = carried.contents().removesuffix("\n")
        elif kind == "name":
            reply.names.append(rest)
        elif kind == "folder":
            reply.folders.append(rest)
        elif kind == "ran":
            reply.ran.append(_ran(carried.contents(), mark))
        elif kind in ("done", "there", "failed"):
            reply.done.append((kind, rest.strip()))
        else:
            raise _nonsense(f"{kind[:40]!r}")
    return reply


def _four(rest: str) -> list[str]:
    words = rest.split(" ", 3)
    if len(words) != 4 or not (words[0] + words[1] + words[2]).isdecimal():
        raise _nonsense(f"{rest[:40]!r}")
    return words


def _ran(text: str, mark: str) -> Ran:
    err, found, rest = text.rpartition(f"\n{mark} ")
    status, _, out = rest.partition("\n")
    if not found or not status.isdecimal():
        raise _nonsense("a command without its status")
    # The shell takes empty lines off the end, and puts one back.
    return Ran(int(status), out if out.strip("\n") else "", err)


def _nonsense(what: str) -> NoAccess:
    return NoAccess(f"the answer makes no sense: {what}", remedy="is something else printing into it there?")
