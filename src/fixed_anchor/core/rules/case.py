"""What a rule is asked about. A rule takes one case, of the level at which it speaks, and yields findings."""

from __future__ import annotations

from collections.abc import Mapping

import msgspec

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.facts import Facts
from fixed_anchor.core.foreseen import Foreseen
from fixed_anchor.core.knowledge import Knowledge
from fixed_anchor.core.plan import HostPlan, InterfacePlan, Plan, Segment
from fixed_anchor.core.survey import HostSurvey, SurveyedInterface
from fixed_anchor.core.wire import DhcpServerSeen, WireSeen

_NO_MACS: frozenset[str] = frozenset()
_NOTHING_SEEN = WireSeen()


class SiteCase(msgspec.Struct, frozen=True):
    """All that is checked; ``foreseen`` is what the drafts would declare, by host."""

    facts: Facts
    foreseen: Mapping[str, Foreseen] = {}


class SegmentCase(msgspec.Struct, frozen=True):
    """One segment."""

    facts: Facts
    segment: Segment

    @property
    def wire(self) -> WireSeen:
        """What the wire said; of nothing where nobody was to look."""
        return self.facts.wire or _NOTHING_SEEN


class HostCase(msgspec.Struct, frozen=True):
    """One host that is reached: as it is, and as it would be."""

    facts: Facts
    host: HostPlan
    survey: HostSurvey
    foreseen: Foreseen


class InterfaceCase(msgspec.Struct, frozen=True, gc=False):
    """One interface of the plan; ``found`` is what the ``survey`` of its host has of it."""

    facts: Facts
    host: HostPlan
    interface: InterfacePlan
    survey: HostSurvey | None = None
    found: SurveyedInterface | None = None

    @property
    def plan(self) -> Plan:
        """The plan."""
        return self.facts.known.plan

    @property
    def known(self) -> Knowledge:
        """What is known of its addresses."""
        return self.facts.known

    @property
    def segment(self) -> Segment:
        """The segment that it is planned on."""
        return self.facts.known.plan.segments[self.interface.segment]

    @property
    def wire(self) -> WireSeen:
        """What the wire said; of nothing where nobody was to look."""
        return self.facts.wire or _NOTHING_SEEN

    @property
    def servers(self) -> tuple[DhcpServerSeen, ...]:
        """The DHCP servers that answered on its segment."""
        return self.wire.servers.get(self.interface.segment, ())

    @property
    def own_macs(self) -> frozenset[str]:
        """The MACs of its host, as far as they are known."""
        if self.survey is not None:
            return self.survey.own_macs()
        return frozenset((self.interface.mac,)) if self.interface.mac else _NO_MACS

    @property
    def session(self) -> IPAddress | None:
        """The address of its host by which the operator's own session comes in."""
        return self.facts.sessions.get(self.host.name)
