"""Whether a machine can be changed now: the facts, as somebody gathered them."""

from __future__ import annotations

import msgspec


class CarriesRoot(msgspec.Struct, frozen=True):
    """The root file system comes over the network: by ``interface``, or ``unknown`` says why that is not known.

    ``seen_in`` is what says that it does.
    """

    interface: str | None
    seen_in: str
    unknown: str | None = None


class Readiness(msgspec.Struct, frozen=True):
    """``busy`` are processes and jobs of the network stack in the middle of something, each in words.

    ``boots`` is what boots the machine, empty where it is nothing that could roll a change back.
    """

    busy: tuple[str, ...]
    carry_root: tuple[CarriesRoot, ...]
    boots: str
