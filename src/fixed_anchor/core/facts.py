"""What was gathered of a plan, once: what a check judges. Nothing in here is looked up any more."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property

import msgspec

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.elsewhere import Elsewhere
from fixed_anchor.core.errors import AnchorError
from fixed_anchor.core.knowledge import Knowledge
from fixed_anchor.core.plan import HostPlan, Plan
from fixed_anchor.core.readiness import Readiness
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.core.wire import WireSeen


class CarriedEvidence(msgspec.Struct, frozen=True):
    """Saved evidence that stands in for sources which cannot be read here: its file, and its age in words.

    ``limit`` is the number of hours for which it is relied on, and is set where it is older. ``without`` is what is
    known without it.
    """

    path: str
    age: str
    limit: int | None
    without: Knowledge


class Facts(msgspec.Struct, frozen=True, dict=True):
    """The plan, what was found on its hosts, what the sources claim, and what the wire answered.

    ``hosts`` are those that are checked; the mappings are by the names of hosts. ``wire`` is ``None`` where nobody was
    to look. ``searched`` is what was found of addresses that go, or why a host could not be searched. ``around`` are
    the surveys of the plan's other hosts, where a rule asks what is in force there.

    Where several hosts are changed in their order, ``handed`` are the addresses that one lets go of before another one
    takes them, each with the MACs of the former; ``arriving`` are those at which gateways, resolvers and DHCP servers
    are to be before anybody relies on them.
    """

    hosts: tuple[HostPlan, ...]
    known: Knowledge
    surveys: Mapping[str, HostSurvey] = {}
    unreached: Mapping[str, AnchorError] = {}
    sessions: Mapping[str, IPAddress] = {}
    readiness: Mapping[str, Readiness] = {}
    wire: WireSeen | None = None
    going: Mapping[str, frozenset[IPAddress]] = {}
    searched: Mapping[str, Elsewhere | AnchorError] = {}
    around: tuple[HostSurvey, ...] = ()
    carried: CarriedEvidence | None = None
    handed: Mapping[IPAddress, frozenset[str]] = {}
    arriving: frozenset[IPAddress] = frozenset()

    @property
    def plan(self) -> Plan:
        """The plan, as it was read."""
        return self.known.plan

    @cached_property
    def segments(self) -> tuple[str, ...]:
        """The names of the segments of the hosts that are checked, each once."""
        return tuple(dict.fromkeys(i.segment for h in self.hosts for i in h.interfaces))
