"""What every dialect offers: the one Protocol, and the plain types it speaks in.

A dialect never reads a disk. It gets the texts of all files its patterns match,
and gives back edits and steps. Paths are absolute on the host.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Protocol

import msgspec

from fixed_anchor.core.config import InterfaceConfig, LinkFacts, Place, Route
from fixed_anchor.core.errors import InputError


class FileText(msgspec.Struct, frozen=True):
    """One file of a host: its path there, its text, mode bits and owner.

    Bytes that are not UTF-8 are kept as lone surrogates (``surrogateescape``).
    """

    path: str
    text: str
    mode: int = 0o644
    uid: int = 0
    gid: int = 0


#: All files of a dialect on one host, by path.
Files = Mapping[str, FileText]


class Declaration(msgspec.Struct, frozen=True):
    """What the files of a dialect declare for one interface, and where.

    ``places`` lists the file and line of each fact, the declaration itself first.
    ``identity`` is the name under which the files know it, where that is not the
    interface's name. ``backend`` names the daemon that carries it out. ``dhcp_in`` is
    the place that turns IPv4 DHCP on, ``None`` where nothing does.
    """

    link: LinkFacts
    config: InterfaceConfig
    places: tuple[Place, ...]
    identity: str = ""
    backend: str = ""
    dhcp_in: Place | None = None


class FileEdit(msgspec.Struct, frozen=True):
    """One file as it shall become: ``before`` is ``None`` where it is new, ``after`` where it is deleted.

    ``link_before`` is the target where the path is a symbolic link now, which the file
    replaces; ``link_after`` where it shall become one.
    """

    path: str
    before: FileText | None
    after: FileText | None
    link_before: str | None = None
    link_after: str | None = None


class Fed(msgspec.Struct, frozen=True):
    """A command that reads ``text`` from its standard input."""

    argv: tuple[str, ...]
    text: str


#: One command of a change, as its argument list.
Step = tuple[str, ...] | Fed


def argv_of(step: Step) -> tuple[str, ...]:
    """The argument list of a step."""
    return step.argv if isinstance(step, Fed) else step


class Steps(msgspec.Struct, frozen=True):
    """Commands that make the stack load files, in the order of a change.

    ``leave`` runs while the old files are in place, ``activate`` after the new ones are.
    To put back: ``unload`` runs while the new files are still there, ``reload`` after the
    old ones are back, ``kernel`` sets what was in the kernel alone, ``escalate`` goes one
    after the other while the stack sticks, and ``boot`` runs at boot, before any network
    service has started.

    Where an old address is held until the decision, ``drop`` loads the final files without
    it, and ``drop_escalate`` goes on where the stack sticks. ``commit`` runs when the change
    is kept. ``releases`` says that the ``leave`` steps give the lease back to the server.
    """

    leave: tuple[Step, ...] = ()
    activate: tuple[Step, ...] = ()
    unload: tuple[Step, ...] = ()
    reload: tuple[Step, ...] = ()
    escalate: tuple[Step, ...] = ()
    boot: tuple[Step, ...] = ()
    kernel: tuple[Step, ...] = ()
    drop: tuple[Step, ...] = ()
    drop_escalate: tuple[Step, ...] = ()
    commit: tuple[Step, ...] = ()
    releases: bool = False


class Dialect(Protocol):
    """One interface-file format.

    ``name`` is the key in the registry; ``patterns`` are glob patterns of the files
    that belong to it, absolute, in the order in which the stack reads the folders.
    """

    name: str
    patterns: tuple[str, ...]

    def read(self, files: Files, links: tuple[LinkFacts, ...]) -> tuple[Declaration, ...]:
        """What the files declare for each of ``links``; links that they do not govern are left out.

        Raises :class:`InputError` for a file that the stack would not take.
        """
        ...

    def named(self, files: Files) -> tuple[str, ...]:
        """The interfaces that the files call by name, for a tree with no kernel to ask."""
        ...

    def rewrite(self, files: Files, link: LinkFacts, wanted: InterfaceConfig) -> tuple[FileEdit, ...]:
        """The edits after which the files declare ``wanted`` for ``link``; none if they do already.

        What is untouched in ``wanted`` stays byte for byte, and so does every line
        that belongs to something else. Raises :class:`InputError` for broken files and
        :class:`~fixed_anchor.core.errors.NotSupported`, by name, for what cannot be written.
        """
        ...

    def steps(self, before: Files, after: Files, link: LinkFacts) -> Steps:
        """The steps that bring a change of ``link`` from ``before`` to ``after`` into force."""
        ...


def apply_edits(files: Files, edits: tuple[FileEdit, ...]) -> dict[str, FileText]:
    """The files as they are once ``edits`` are written."""
    result = dict(files)
    for edit in edits:
        if edit.after is None:
            result.pop(edit.path, None)
        else:
            result[edit.path] = edit.after
    return result


def route_words(route: Route, interface: str) -> tuple[str, ...]:
    """A route in the words of ip-route(8)."""
    words = ["default" if route.is_default else str(route.destination)]
    if route.next_hop is not None:
        words += ["via", str(route.next_hop)]
    words += ["dev", interface]
    if route.metric is not None:
        words += ["metric", str(route.metric)]
    return (*words, "onlink") if route.on_link else tuple(words)


def decode(data: bytes) -> str:
    """File bytes to text without loss; line ends stay as they are."""
    return data.decode("utf-8", "surrogateescape")


def encode(text: str) -> bytes:
    """The inverse of :func:`decode`."""
    return text.encode("utf-8", "surrogateescape")


def not_text(file: FileText) -> InputError | None:
    """An error where the file holds bytes that are not UTF-8, for formats that demand it."""
    for number, line in enumerate(file.text.split("\n"), 1):
        for column, char in enumerate(line, 1):
            if 0xDC80 <= ord(char) <= 0xDCFF:
                return InputError("a byte that is not UTF-8", file=file.path, line=number, column=column)
    return None
