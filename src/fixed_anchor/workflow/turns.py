"""The turns of an order as members of a run: each is looked at and drafted when its turn has come."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from fixed_anchor.change.change import Draft, Terms
from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.baseline import Judge
from fixed_anchor.core.errors import AnchorError, Refused
from fixed_anchor.core.order.staged import staged
from fixed_anchor.core.order.turn import WHOLE, Turn
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.workflow.beginning import is_kept_anew, look_from_beside
from fixed_anchor.workflow.events import Member
from fixed_anchor.workflow.network.look import TO_GO, others_holding, still_held
from fixed_anchor.workflow.notes import told
from fixed_anchor.workflow.ordering import Ordered
from fixed_anchor.workflow.reached.site import Site
from fixed_anchor.workflow.targets import HostTarget

#: Today's addresses that stay until the decision, as `--grace` has it.
Hold = Callable[[HostTarget, HostSurvey], frozenset[IPAddress]]
#: What the history of a host keeps of its draft, for the member of that name.
Notes = Callable[[str, HostTarget, Draft], dict[str, Any]]


class Turns:
    """What is to be done for each turn of an order. ``targets`` are by the names of hosts, ``terms`` those of all."""

    def __init__(
        self,
        site: Site,
        found: Ordered,
        targets: Mapping[str, HostTarget],
        terms: Terms,
        hold: Hold,
        notes: Notes,
    ) -> None:
        self._site = site
        self._found = found
        self._targets = targets
        self._terms = terms
        self._hold = hold
        self._notes = notes
        self._turns = {str(turn.key): turn for turn in found.order.turns}

    def members(self) -> list[Member]:
        """A member for each turn, wave by wave. None of them is drafted yet."""
        made: list[Member] = []
        apart = self._site.plan.apart
        for number, wave in enumerate(self._found.order.waves):
            for turn in wave:
                # Of hosts that are kept apart the second is changed only after the first is confirmed.
                before = [m.name for m in made if m.wave < number and _are_apart(apart, self._turns[m.name], turn)]
                after = tuple(dict.fromkeys([*(str(key) for key in turn.after), *before]))
                made.append(Member(str(turn.key), None, self._terms, wave=number, after=after))
        return made

    def by_member(self) -> dict[str, HostTarget]:
        """The targets by the names of members."""
        return {name: self._targets[turn.host] for name, turn in self._turns.items()}

    def make_ready(self, member: Member) -> Member:
        """The member with its draft and its terms, once what it takes is free.

        A host that is changed in one go has the draft that was judged. Raises why it cannot begin.
        """
        turn = self._turns[member.name]
        target = self._targets[turn.host]
        survey = target.survey()
        site = self._site.with_plan(staged(self._site.plan, turn, survey))
        host = site.plan.hosts[turn.host]
        draft = self._found.drafts[turn.host]
        if turn.key.part != WHOLE:
            draft = target.draft(site.plan, host, survey, self._hold(target, survey))
        if isinstance(draft, AnchorError):
            raise draft
        if turn.key.part != WHOLE:
            # Its plan has another address, which may be somebody else's for now.
            every = [a.ip for config in draft.wanted for a in config.addresses]
            new = [address for address in every if address not in survey.own_addresses()]
            target.session.is_to_hold(tuple(new or every))
        # Over a link that is off nobody is heard.
        with target.switched_on(draft, survey):
            _wait_until_free(target, draft, survey)
        look_from_beside(site, target, host.name, survey)
        notes = self._notes(member.name, target, draft)
        terms = Terms(
            member.terms.confirm_within,
            member.terms.unattended,
            notes,
            told(notes, draft),
            Judge(),
            member.terms.patience,
            member.terms.unattended and is_kept_anew(host, target, survey),
        )
        return Member(member.name, draft, terms, survey, member.wave, member.after)


def _are_apart(groups: tuple[tuple[str, ...], ...], one: Turn, other: Turn) -> bool:
    return one.host != other.host and any(one.host in group and other.host in group for group in groups)


def _wait_until_free(target: HostTarget, draft: Draft, survey: HostSurvey) -> None:
    """Asks for the addresses that are new to a host, until nobody else has one of them. Raises :class:`Refused`."""
    taken = still_held(
        lambda: others_holding(lambda interface: target.vantage(survey, interface), survey, draft.waiting), TO_GO
    )
    for address, mac in taken.items():
        raise Refused(
            f"{address} is still held by {mac}, also after {TO_GO:.0f} s; {draft.host} was not begun",
            remedy=f"find the machine with MAC {mac}, and run the same command again",
        )
