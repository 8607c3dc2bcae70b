"""What every daemon offers that brings interface files into force: the one Protocol, and the types it speaks in.

A daemon's module runs nothing and reads no disk. It says what must be asked of a host, judges
the answers, and names the commands of a change as argument lists.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Protocol

import msgspec

from fixed_anchor.change.steps import Step, Steps
from fixed_anchor.core.config import LinkFacts
from fixed_anchor.formats.protocol import Declaration

#: Stands for an interface's name in a command that is run for each.
INTERFACE = "INTERFACE"

#: Where the resolvers of an interface are to be set.
IN_FILES, IN_DROP_IN, IN_RESOLV_CONF = "files", "drop-in", "resolv.conf"


def with_interface(argv: tuple[str, ...], name: str) -> tuple[str, ...]:
    """A command for one interface, with its name in the place of :data:`INTERFACE`."""
    return tuple(name if word == INTERFACE else word for word in argv)


class Questions(msgspec.Struct, frozen=True):
    """What has to be collected from a host for a daemon.

    ``commands`` are run once, ``for_interface`` for each interface, with its name in the place
    of :data:`INTERFACE`; ``files`` are paths or glob patterns.
    """

    commands: tuple[tuple[str, ...], ...] = ()
    for_interface: tuple[tuple[str, ...], ...] = ()
    files: tuple[str, ...] = ()

    def joined(self, more: Questions) -> Questions:
        """Both, each once."""
        return Questions(
            tuple(dict.fromkeys((*self.commands, *more.commands))),
            tuple(dict.fromkeys((*self.for_interface, *more.for_interface))),
            tuple(dict.fromkeys((*self.files, *more.files))),
        )

    def of_interface(self, name: str) -> tuple[tuple[str, ...], ...]:
        """The commands of ``for_interface`` for one interface."""
        return tuple(with_interface(argv, name) for argv in self.for_interface)


#: Stands at the beginning of a word for the folder of a copy of files, over which a command is tried.
COPY = "@copy"
#: Stands for the names of the interfaces that the files declare.
NAMES = "@names"


class OwnParser(msgspec.Struct, frozen=True):
    """The parser of a stack, where it has one that changes nothing: a command over a copy of its files.

    Words of ``argv`` may begin with :data:`COPY`, and one may be :data:`NAMES`. Its files are those below ``folder``.
    ``joined`` is the one file that it is given, into whose copy those that it names are put in their place. Where it
    ends with a status other than 0 for a mere warning, ``complains`` begins the lines that are none.
    """

    argv: tuple[str, ...]
    folder: str
    joined: str = ""
    complains: str = ""


class Seen(msgspec.Struct, frozen=True):
    """What a host said of a daemon: whether its unit is active, and what it answered to ``charge``.

    Commands are by their arguments, files by their path; what is not there is empty.
    """

    active: bool
    outputs: Mapping[tuple[str, ...], str] = {}
    texts: Mapping[str, str] = {}


class Governs(msgspec.Struct, frozen=True):
    """Whether a daemon runs a link, and what says so."""

    yes: bool
    evidence: tuple[str, ...]


class Daemon(Protocol):
    """One daemon, or what does its work by commands, as ifupdown does.

    ``name`` is the key in the registry, ``unit`` its service, ``reads`` the name of the format that it reads without
    anything before it. ``busy`` are extended regular
    expressions (POSIX, and the same to Python) of the command lines that show it in the middle
    of something. ``charge`` is what must be asked to tell which links it governs, ``further``
    what a survey asks beyond that: its records of leases, say.

    ``own_client``: its lease client is a program of its own, which writes /etc/resolv.conf where nobody else does, and
    adds no second default route. ``numbers_metrics``: it numbers the metrics of leased routes by the kind of device,
    as devices come. ``joins_resolvers``: the file of each interface has the resolvers of all, since they are written
    over one another.
    """

    name: str
    unit: str
    reads: str
    busy: tuple[str, ...]
    charge: Questions
    further: Questions
    own_client: bool
    numbers_metrics: bool
    joins_resolvers: bool

    def governs(self, interface: str, seen: Seen) -> Governs:
        """Whether it runs ``interface`` on a host of which that much was ``seen``."""
        ...

    def profile(self, interface: str, seen: Seen) -> tuple[str, ...]:
        """Name and UUID of the profile in force on ``interface``, for a daemon that has several; else nothing."""
        ...

    def resolver_place(self, writer: str) -> str:
        """Where the resolvers of its interfaces go: one of the three places above.

        ``writer`` is who writes /etc/resolv.conf, as :func:`fixed_anchor.observe.resolvers.owner` tells.
        """
        ...

    def lease_file(self, interface: str) -> str | None:
        """The file in which its lease client takes a lease for when no server answers; ``None`` for no such thing."""
        ...

    def steps(self, before: Declaration | None, after: Declaration | None, link: LinkFacts) -> Steps:
        """The commands that bring a change of ``link`` from ``before`` to ``after`` into force.

        ``None`` stands for files that declare nothing for the link.
        """
        ...


class HostWide(Protocol):
    """What brings a file into force that belongs to no interface. ``unit`` is its service, if it has one."""

    name: str

    @property
    def unit(self) -> str | None: ...

    questions: Questions

    def load(self, path: str) -> tuple[Step, ...]:
        """What makes it take the file at ``path`` as it is, the same both ways; nothing where that is not its own."""
        ...

    def at_boot(self, path: str) -> tuple[Step, ...]:
        """The same at boot, before any service has started; nothing where its service then reads the file itself."""
        ...


class TimeDaemon(HostWide, Protocol):
    """A time daemon. The first command of its ``questions`` has it name its servers."""

    @property
    def unit(self) -> str: ...

    def servers(self, out: str) -> tuple[str, ...]:
        """The servers in what that command printed."""
        ...


def is_enabled(unit: str) -> tuple[str, ...]:
    """The command that tells whether something starts a service at boot."""
    return ("systemctl", "is-enabled", unit)


def runs(unit: str, active: bool) -> str:
    """The sentence that says so."""
    return f"{unit} {'runs' if active else 'does not run'}"
