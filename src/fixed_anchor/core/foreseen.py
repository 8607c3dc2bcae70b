"""What the files of a host would declare after a change: what the rules judge before it is made."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import msgspec

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.aside import Aside
from fixed_anchor.core.config import InterfaceConfig, Place, Route
from fixed_anchor.core.errors import AnchorError
from fixed_anchor.core.plan import HostPlan, Plan
from fixed_anchor.core.survey import HostSurvey


class Declared(msgspec.Struct, frozen=True):
    """What is declared for one interface, where, and who carries it out; ``kind`` is that of the link.

    ``routes`` and ``addresses`` have the place of each that stands in a line of its own. ``own_client`` and
    ``numbers_metrics`` are what the daemon says of itself (:class:`~fixed_anchor.daemons.protocol.Daemon`).
    """

    config: InterfaceConfig
    daemon: str
    place: Place
    kind: str
    routes: Mapping[Route, Place] = {}
    addresses: Mapping[IPAddress, Place] = {}
    own_client: bool = False
    numbers_metrics: bool = False

    def where(self, route: Route | None) -> Place:
        """Where a route stands, or all of it."""
        return self.routes.get(route, self.place) if route is not None else self.place

    def where_address(self, address: IPAddress) -> Place:
        """Where an address stands, or all of it."""
        return self.addresses.get(address, self.place)


class Refusal(msgspec.Struct, frozen=True):
    """Why the draft of a host cannot be made; ``seen_in`` is a place, or what was being drafted."""

    message: str
    seen_in: str
    remedy: str | None


class Foreseen(msgspec.Struct, frozen=True):
    """The files of a host as they would be.

    ``wanted`` is what the plan wants, and ``declared`` what is then declared, by interface. ``asides`` is
    what the files say beside that. ``going`` are the addresses that the host would not hold any more.
    ``refusal`` says why none can be drafted, ``unfit`` why the host's own parser would not take them,
    and ``untried`` why it was not asked.
    ``rewritten`` has the text of each file that the draft changes, ``None`` where it is deleted.
    """

    wanted: Mapping[str, InterfaceConfig]
    declared: Mapping[str, Declared]
    asides: tuple[Aside, ...]
    going: frozenset[IPAddress]
    refusal: Refusal | None = None
    unfit: Refusal | None = None
    untried: str = ""
    rewritten: Mapping[str, str | None] = {}


def refusal_of(error: AnchorError, plan: Plan, line: int) -> Refusal:
    """Why a draft cannot be made; seen in ``line`` of the plan where the error names no place of its own."""
    where = f"{error.file}:{error.line}" if error.file and error.line else error.file or f"{plan.file}:{line}"
    return Refusal(error.what, where, error.remedy)


def going_from(host: HostPlan, survey: HostSurvey, wanted: Mapping[str, InterfaceConfig]) -> Iterator[IPAddress]:
    """The addresses of today that no interface of the host would hold."""
    kept = {a.ip for config in wanted.values() for a in config.addresses}
    kept |= {address for i in host.interfaces for address in (*i.every_address, *i.leave_alone)}
    kept |= {a.address.ip for i in survey.interfaces if i.name not in wanted for a in i.addresses}
    for name, config in wanted.items():
        found = survey.interface(name)
        if found is None:
            continue
        declared = found.declared.addresses if found.declared is not None else ()
        for address in (*declared, *found.link.in_kernel):
            # An interface that stays on its lease keeps the address.
            stays = config.method(address.version) in ("dhcp", "ra") and address.ip in found.leased_addresses()
            if config.touches(address.version) and address.ip not in kept and not stays:
                yield address.ip
