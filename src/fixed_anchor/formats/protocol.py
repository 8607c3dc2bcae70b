"""What every interface-file format offers: the one Protocol, and the types it speaks in.

A format never reads a disk and knows no command. It gets the texts of all files that its
patterns match, says what they declare, and gives back texts. What brings the files into
force is a daemon's business (:mod:`fixed_anchor.daemons`); what must hold for every edit
is that of the one pipeline (:mod:`fixed_anchor.formats.rewriting`).
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Protocol

import msgspec

from fixed_anchor.change.files import Files, FileText
from fixed_anchor.core.aside import Aside
from fixed_anchor.core.config import InterfaceConfig, LinkFacts, Place, Wireless


class Loaded(msgspec.Struct, frozen=True):
    """What the daemon itself loads for an interface, where that is a profile among several.

    ``path`` is its file, ``names`` the words by which the daemon is told of it; a profile of
    a higher ``priority`` wins.
    """

    path: str
    names: tuple[str, ...] = ()
    priority: int = 0


class Declaration(msgspec.Struct, frozen=True):
    """What the files of a format declare for one interface, and where.

    ``daemon`` is the key of :data:`fixed_anchor.daemons.DAEMONS` of who carries it out.
    ``places`` lists the file and line of each fact, the declaration itself first. ``identity``
    is the name under which the files know the interface, where that is not its own. ``dhcp_in``
    is the place that turns IPv4 DHCP on, ``None`` where nothing does. ``aliases`` are further names
    under which the files declare the same link.
    """

    link: LinkFacts
    config: InterfaceConfig
    daemon: str
    places: tuple[Place, ...]
    identity: str = ""
    loaded: Loaded | None = None
    dhcp_in: Place | None = None
    aliases: tuple[str, ...] = ()

    @property
    def file(self) -> str:
        """The file that declares the interface."""
        return self.places[0].file


#: What files become: their new text by path, ``None`` for one that goes.
Texts = Mapping[str, str | None]


class Format(Protocol):
    """One interface-file format.

    ``name`` is the key in the registry, and the word for the stack. ``patterns`` are glob
    patterns of the files that belong to it, absolute, in the order in which the folders are
    read. Of the mode of every edited file the bits of ``mode_taken`` are taken away, and those
    of ``mode_given`` added: what its reader demands. ``created`` is the mode of a new file.
    ``all_or_nothing`` says of its reader that one broken file keeps it from loading all others,
    and ``run_wins`` that a file under /run hides one of its name under /etc, and not the other way round.
    ``time_daemon`` is the time daemon that is told of the time servers in these files, if one is, and ``has_fallback``
    says whether they can hold an address for when no DHCP server answers.
    """

    name: str
    patterns: tuple[str, ...]
    mode_taken: int
    mode_given: int
    created: int
    all_or_nothing: bool
    run_wins: bool
    time_daemon: str
    has_fallback: bool

    def check(self, file: FileText) -> None:
        """Raises :class:`~fixed_anchor.core.errors.InputError` if the reader of ``file`` would not take it."""
        ...

    def read(self, files: Files, links: tuple[LinkFacts, ...]) -> tuple[Declaration, ...]:
        """What the files declare for each of ``links``; links that they do not govern are left out.

        Raises :class:`~fixed_anchor.core.errors.InputError` for a file that its reader would not take.
        """
        ...

    def asides(self, files: Files, links: tuple[LinkFacts, ...]) -> tuple[Aside, ...]:
        """What the files say of ``links`` beside their configuration, that can undo it."""
        ...

    def named(self, files: Files) -> dict[str, str]:
        """The interfaces that the files call by name, each with its kind (``LinkFacts.kind``) as the files have it."""
        ...

    def edit(
        self,
        files: Files,
        declared: Declaration,
        wanted: InterfaceConfig,
        todo: tuple[str, ...],
        links: tuple[LinkFacts, ...],
    ) -> Texts:
        """The texts after which the files declare ``wanted``; ``todo`` are the respects in which they do not yet.

        ``links`` are all links of the host. A declaration that is for several of them stays as it is, and the
        link gets one of its own that wins.

        What is untouched in ``wanted`` stays byte for byte, and so does every line that belongs to
        something else. Raises :class:`~fixed_anchor.core.errors.NotSupported`, by name, for what
        cannot be written. Nobody need read the result back: the pipeline does.
        """
        ...

    def declare(
        self, files: Files, link: LinkFacts, wanted: InterfaceConfig, daemon: str, wireless: Wireless | None = None
    ) -> Texts:
        """The texts after which the files declare ``wanted`` for ``link``, which none of them declares yet.

        It is written as the host's other interfaces are declared, for ``daemon`` to carry out. Lines are only added
        to what is there. ``wireless`` is the network of a wireless link. Raises
        :class:`~fixed_anchor.core.errors.NotSupported`, by name, for what cannot be written.
        """
        ...

    def names_files(self, files: Files) -> tuple[str, ...]:
        """Paths and patterns of further files that these name, as ``source`` does; none for most formats."""
        ...

    def others(self, files: Files, declared: Declaration) -> object:
        """All that the files say of anything but the interface of ``declared``, to be compared after an edit.

        What :meth:`read` says of the other interfaces is compared anyway; this is for what it leaves out.
        """
        ...
