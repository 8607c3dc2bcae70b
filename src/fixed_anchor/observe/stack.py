"""Who is in charge of an interface: which stack declares it, runs, and has not let go of it."""

from __future__ import annotations

from collections.abc import Mapping

import msgspec

from fixed_anchor.core.config import LinkFacts
from fixed_anchor.daemons import DAEMONS, units
from fixed_anchor.daemons.protocol import Governs, Questions, Seen, is_enabled
from fixed_anchor.formats import FORMATS
from fixed_anchor.formats.protocol import Declaration
from fixed_anchor.machines.readable import Readable
from fixed_anchor.observe.fetching import active_units


class Charge(msgspec.Struct, frozen=True):
    """Who governs one interface. ``stack`` is a format's name or ``None``; ``evidence`` says why.

    ``rivals`` are further stacks that claim it as well, each with its declaration.
    """

    stack: str | None
    declaration: Declaration | None
    evidence: tuple[str, ...]
    rivals: tuple[tuple[str, Declaration], ...] = ()


class Services(msgspec.Struct, frozen=True):
    """What runs on the machine: active units by the names of :func:`fixed_anchor.daemons.units`, and what was seen.

    ``seen`` is of the active daemons. ``known`` is false where no answer came.
    """

    active: frozenset[str]
    known: bool
    seen: Mapping[str, Seen]

    def governs(self, daemon: str, interface: str) -> Governs:
        """Whether ``daemon`` runs ``interface``, and what says so."""
        return DAEMONS[daemon].governs(interface, self.seen.get(daemon, Seen(False)))

    def is_disabled(self, daemon: str) -> bool:
        """Whether ``daemon`` runs now, and nothing starts it at boot; false where that is not known."""
        seen, unit = self.seen.get(daemon, Seen(False)), DAEMONS[daemon].unit
        return seen.active and seen.outputs.get(is_enabled(unit), "").strip() == "disabled"

    def profile(self, interface: str) -> tuple[str, ...]:
        """Name and UUID of the profile in force on ``interface``, where its daemon has several."""
        said = (DAEMONS[name].profile(interface, seen) for name, seen in self.seen.items() if seen.active)
        return next((names for names in said if names), ())


def active_daemons(machine: Readable) -> frozenset[str]:
    """The names of those whose services run."""
    return _names(active_units(machine))


def _names(by_unit: Mapping[str, bool]) -> frozenset[str]:
    return frozenset(name for name, unit in units().items() if by_unit.get(unit))


def services(machine: Readable) -> Services:
    """Asks what boots the services, and then each daemon, which links it runs."""
    by_unit = active_units(machine)
    active = _names(by_unit)
    seen = {
        name: Seen(name in active, *_answers(machine, daemon.charge, name in active))
        for name, daemon in DAEMONS.items()
    }
    return Services(active, bool(by_unit), seen)


def _answers(
    machine: Readable, questions: Questions, active: bool
) -> tuple[dict[tuple[str, ...], str], dict[str, str]]:
    """The output of each command, and the text of each file that is there; a daemon that does not run is not asked."""
    outputs = {argv: machine.run(argv).out for argv in questions.commands} if active else {}
    texts = {path: file.text for path in questions.files if (file := machine.read(path)) is not None}
    return outputs, texts


def in_charge(link: LinkFacts, declarations: Mapping[str, Declaration], running: Services | None) -> Charge:
    """Who governs ``link``, from what the files of each stack declare and what runs.

    ``declarations`` maps formats to what they declare for this link. ``running`` is
    ``None`` where only files were read.
    """
    claims = [(name, declarations[name]) for name in FORMATS if name in declarations]
    if running is not None and running.known:
        live = [(name, d) for name, d in claims if running.governs(d.daemon, link.name).yes]
        # Nothing of what declares it runs: the files are still what a boot would load.
        claims = live or claims
    # A stanza or file that leaves the interface to others is no claim.
    claiming = [(n, d) for n, d in claims if d.config.ipv4 != "off" or d.config.ipv6 not in ("off", "ra")] or claims[:1]
    if not claiming:
        return Charge(None, None, ("no file of a supported stack declares it",))
    stack, declaration = claiming[0]
    evidence = [f"{declaration.places[0]} declares it"]
    if running is not None and running.known:
        evidence += running.governs(declaration.daemon, link.name).evidence
    return Charge(stack, declaration, tuple(evidence), tuple(claiming[1:]))
