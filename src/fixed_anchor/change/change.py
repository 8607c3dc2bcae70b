"""What is known of a change before, while and after it is carried out, whatever it is made to."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import msgspec

from fixed_anchor.change import states
from fixed_anchor.change.content import Content
from fixed_anchor.core.addresses import IPInterface
from fixed_anchor.core.baseline import Judge
from fixed_anchor.core.config import InterfaceConfig


class GraceAddress(msgspec.Struct, frozen=True):
    """An old address that stays beside the new ones until the change is decided."""

    interface: str
    address: IPInterface


class LeavingLease(msgspec.Struct, frozen=True):
    """A lease whose address goes with a change, and what its server has to be told to have it back.

    ``client_id`` is in hexadecimal, ``None`` where it is not known.
    """

    interface: str
    mac: str
    address: str
    server: str
    client_id: str | None = None


class Draft(msgspec.Struct, frozen=True):
    """A change as it is drafted for one target: its content, and the configurations that it declares.

    ``wanted`` is what is declared in the end, ``waiting`` what is until the decision, where old
    addresses have their ``grace``. ``stack`` names what carries it out, for people. ``reachable`` is what users
    of each interface need; ``leaving`` are the leases that are to be given back.
    """

    host: str
    stack: str
    wanted: tuple[InterfaceConfig, ...]
    content: Content
    waiting: tuple[InterfaceConfig, ...]
    grace: tuple[GraceAddress, ...] = ()
    hostname: str | None = None
    reachable: Mapping[str, tuple[str, ...]] = {}
    leaving: tuple[LeavingLease, ...] = ()

    @property
    def interfaces(self) -> tuple[str, ...]:
        """The interfaces that the change is about, declared in the end or not."""
        return self.content.interfaces


class Patience(msgspec.Struct, frozen=True):
    """How long is waited for what a network does not do at once, in seconds.

    ``checks`` after activation, or ``carrier`` after the last change of a carrier, if that is later, until the
    required checks pass: ports of switches forward after 30 s, and Wi-Fi or an aggregated link is not there at once.
    ``gateway`` is for the engine, when it rolls back, and only the gateway does not answer yet.
    """

    checks: int = 20
    carrier: int = 45
    gateway: int = 60


class Terms(msgspec.Struct, frozen=True):
    """How a change is guarded, and what is kept of it.

    ``confirm_within`` is in seconds, counted from activation. ``unattended`` lets a favourable
    verification confirm; where it is ``anew``, not by the guard, but by whoever watches, once the target has answered
    over a new connection. ``notes`` are kept for the history; ``told`` are the lines by which
    its log begins. ``judge`` knows what was before, which the change is judged against.
    """

    confirm_within: int
    unattended: bool
    notes: dict[str, Any]
    told: tuple[str, ...] = ()
    judge: Judge = Judge()
    patience: Patience = Patience()
    anew: bool = False


class ChangeStatus(msgspec.Struct, frozen=True):
    """What the engine says of one change.

    ``state`` is a key of :data:`~fixed_anchor.change.states.STATES`. ``left`` is the number of
    seconds until the deadline, ``None`` before activation. ``grace_facts`` are those that end with the
    decision: old addresses. ``is_incomplete`` says of a confirmed change that not every file of its final
    state could be written. ``why`` says why it was rolled back or kept, once that is decided, and ``closed_by``
    by whom and why what was there was accepted. ``gateway_answered`` is whether the gateway did so
    beforehand; ``None`` where nobody looked. ``engine_gone`` is the sentence that what carries it out is not
    there any more.
    """

    number: str
    state: str
    interface: str
    left: int | None = None
    guard_alive: bool = False
    decision: str | None = None
    verdict: str | None = None
    rolled_back_at_boot: bool = False
    is_incomplete: bool = False
    grace_facts: tuple[str, ...] = ()
    why: str = ""
    closed_by: str = ""
    gateway_answered: bool | None = None
    engine_gone: str = ""

    @property
    def is_open(self) -> bool:
        """Whether it is still to be decided or carried out; one that is stuck is open."""
        return self.state not in states.FINAL


class Record(msgspec.Struct, frozen=True):
    """What a target keeps of one change: the notes that were made of it, and the lines of its log."""

    notes: dict[str, Any]
    log: tuple[str, ...]
