"""A target of a kind of its own is one module: no machine, no shell; its store is a dictionary, its guard a clock.

It stands for whatever assigns addresses from outside: here it is drafted, shown, carried out, rolled back, restored.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

import msgspec
import pytest
from rich.console import Console

from fixed_anchor.change import states
from fixed_anchor.change.access import Rights, Session
from fixed_anchor.change.change import ChangeStatus, Draft, Record, Terms
from fixed_anchor.change.shown import Shown
from fixed_anchor.change.target import Target, Waiting
from fixed_anchor.core.addresses import IPAddress, parse_address
from fixed_anchor.core.baseline import Baseline
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.errors import ChangeOpen, InputError, Refused
from fixed_anchor.core.plan import HostPlan, Plan
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.core.verification import FAIL, PASS, VerifyCheck, VerifyResult
from fixed_anchor.reporting.documents.drafting import host_drafted
from fixed_anchor.reporting.terminal.draft import show_draft
from fixed_anchor.workflow.driving import drive
from fixed_anchor.workflow.events import Answered, Event, Member
from fixed_anchor.workflow.history import history
from fixed_anchor.workflow.run import Run


class Entry(msgspec.Struct, frozen=True):
    """Its kind of content: the address of one key, before and after."""

    key: str
    before: str
    after: str

    @property
    def interfaces(self) -> tuple[str, ...]:
        return (self.key,)

    @property
    def is_empty(self) -> bool:
        return self.before == self.after

    def shown(self) -> Shown:
        return Shown(settings=((f"{self.key} {self.before}",), (f"{self.key} {self.after}",)))


class Kept(msgspec.Struct):
    """A change as the target keeps it."""

    content: Entry
    terms: Terms
    state: str = states.WAITING
    why: str = ""
    log: list[str] = []


class FromBeside(Session):
    """Whoever asks it comes from another machine."""

    def address(self) -> IPAddress | None:
        return parse_address("203.0.113.9")


class Drawer:
    """A drawer with addresses. What is begun is in force at once, and is rolled back after some looks."""

    rights, session = Rights(has_tool=False), FromBeside()
    by_hand_page = "docs/by-hand.md"

    def __init__(self, name: str, addresses: dict[str, str], looks: int = 50) -> None:
        self.name, self.addresses, self.looks = name, addresses, looks
        self.changes: dict[str, Kept] = {}
        self.is_broken = False

    def survey(self) -> HostSurvey:
        return HostSurvey(self.name, None, (), ())

    def drafted(self, key: str, after: str) -> Draft:
        return Draft(self.name, "drawer", (), Entry(key, self.addresses[key], after), ())

    def draft(self, plan: Plan, host: HostPlan, survey: HostSurvey, hold: frozenset[IPAddress] = frozenset()) -> Draft:
        (interface,) = host.interfaces
        return self.drafted(interface.name, str(interface.hold[0].address))

    def restore_draft(self, number: str, hold: frozenset[IPAddress] = frozenset()) -> Draft:
        kept = self.changes[number]
        if kept.state != states.CONFIRMED:
            raise ChangeOpen(f"change {number} was never kept")
        return self.drafted(kept.content.key, kept.content.before)

    def begin(self, draft: Draft, terms: Terms) -> str:
        content = draft.content
        assert isinstance(content, Entry)
        if self.addresses[content.key] != content.before:
            raise Refused("it is another address by now")
        number = f"{len(self.changes) + 1:04d}"
        self.changes[number] = Kept(content, terms, log=[*terms.told])
        self.addresses[content.key] = content.after
        return number

    def numbers(self) -> list[str]:
        return sorted(self.changes)

    def number(self, typed: str) -> str:
        if typed.zfill(4) not in self.changes:
            raise InputError(f"there is no change {typed}")
        return typed.zfill(4)

    def open_change(self) -> str | None:
        return next((n for n in self.changes if self.status(n).is_open), None)

    def status(self, number: str) -> ChangeStatus:
        kept = self.changes[number]
        if kept.state == states.WAITING:
            self.looks -= 1
            if self.looks < 0:
                self._ends(number, states.ROLLED_BACK, "nobody confirmed it in time")
        left = self.looks if kept.state == states.WAITING else None
        return ChangeStatus(number, kept.state, kept.content.key, left, guard_alive=True, why=kept.why)

    def _ends(self, number: str, state: str, why: str) -> None:
        kept = self.changes[number]
        kept.state, kept.why = state, why
        if state == states.ROLLED_BACK:
            self.addresses[kept.content.key] = kept.content.before

    def record(self, number: str) -> Record:
        return Record(self.changes[number].terms.notes, tuple(self.changes[number].log))

    @contextmanager
    def switched_on(self, draft: Draft, survey: HostSurvey) -> Iterator[Callable[[bool], None]]:
        yield lambda kept: None

    def baseline(self, draft: Draft, survey: HostSurvey) -> Baseline:
        return Baseline()

    def recorded_baseline(self, number: str) -> Baseline | None:
        return self.changes[number].terms.judge.before

    def verify(
        self,
        host: str,
        wanted: tuple[InterfaceConfig, ...],
        hostname: str | None,
        terms: Terms,
        left: float | None = None,
        told: Waiting | None = None,
    ) -> VerifyResult:
        outcome = FAIL if self.is_broken else PASS
        check = VerifyCheck("address-present", True, host, "port", self.name, "it", "it", outcome, "it is not there")
        return VerifyResult((check,))

    def answers_anew(self, host: str, interface: str, seconds: float) -> VerifyCheck:
        return VerifyCheck("answers-anew", True, host, interface, "the seat", "it", "it", PASS)

    def from_elsewhere(self, wanted: tuple[InterfaceConfig, ...]) -> tuple[VerifyCheck, ...]:
        return ()

    def give_verdict(self, number: str, word: str, checks: tuple[str, ...], why: str) -> None:
        if not self.status(number).is_open:
            raise ChangeOpen("it is decided")
        if word != "as-planned":
            self._ends(number, states.ROLLED_BACK, f"its verification was {word}: {why}")
        elif self.changes[number].terms.unattended and not self.changes[number].terms.anew:
            self._ends(number, states.CONFIRMED, "all its required checks passed")

    def decide(self, number: str, decision: str, who: str, over_old: bool = False) -> None:
        if not self.status(number).is_open:
            raise ChangeOpen("it is decided")
        self._ends(number, states.CONFIRMED if decision == states.KEEP else states.ROLLED_BACK, who)

    def more_time(self, number: str, seconds: int) -> None:
        self.looks += seconds

    def close(self, number: str, who: str, because: str) -> None:
        raise ChangeOpen("it is never stuck")

    def last_cutover(self) -> str:
        return self.numbers()[-1]

    def later_ones(self, number: str) -> tuple[str, ...]:
        return tuple(n for n in self.numbers() if n > number and self.changes[n].state == states.CONFIRMED)

    def addresses_left(self, number: str) -> tuple[IPAddress, ...]:
        return ()

    def record_folder(self, number: str) -> str:
        return f"drawer/{number}"

    def command_without_tool(self, number: str, verb: str) -> str | None:
        return None


def carried_out(target: Target, draft: Draft, **terms: Any) -> tuple[str, int, list[Event]]:
    """Carries a change out; its state, its exit status, and what was heard of it."""
    heard: list[Event] = []
    notes = {"kind": "cutover", "by": "wren", "interfaces": list(draft.interfaces)}
    run = Run((Member(target.name, draft, Terms(60, notes=notes, **terms), target.survey()),))
    drive(run, {target.name: target}, heard.append)
    outcome = run.outcome(target.name)
    assert outcome is not None
    return outcome.state, outcome.exit_status, heard


@pytest.fixture(autouse=True)
def at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("fixed_anchor.workflow.run.PAUSE", 0.0)


@pytest.mark.parametrize("anew", [False, True])
def test_it_is_kept_shown_and_restored(anew: bool, capsys: pytest.CaptureFixture[str]) -> None:
    drawer = Drawer("sonar-ports", {"port": "198.18.16.10"})
    draft = drawer.drafted("port", "198.18.16.20")
    show_draft(Console(width=100), [draft])
    shown = capsys.readouterr().out
    assert "- port 198.18.16.10" in shown.replace("-port", "- port")
    settings = host_drafted(draft).settings
    assert settings is not None
    assert (settings.before, settings.after) == (["port 198.18.16.10"], ["port 198.18.16.20"])
    state, status, heard = carried_out(drawer, draft, unattended=True, anew=anew)
    assert (state, status, drawer.addresses) == (states.CONFIRMED, 0, {"port": "198.18.16.20"})
    assert sum(isinstance(event, Answered) for event in heard) == 2
    assert [(past.number, past.state, past.by) for past in history(drawer)] == [("0001", states.CONFIRMED, "wren")]
    assert carried_out(drawer, drawer.restore_draft("0001"), unattended=True)[:2] == (states.CONFIRMED, 0)
    assert drawer.addresses == {"port": "198.18.16.10"}


def test_it_is_rolled_back() -> None:
    drawer = Drawer("sonar-ports", {"port": "198.18.16.10"})
    draft = drawer.drafted("port", "198.18.16.20")
    # Nobody confirms it.
    assert carried_out(drawer, draft, unattended=False)[:2] == (states.ROLLED_BACK, 3)
    drawer.looks, drawer.is_broken = 50, True
    assert carried_out(drawer, draft, unattended=True)[:2] == (states.ROLLED_BACK, 3)
    assert drawer.addresses == {"port": "198.18.16.10"}
    drawer.addresses["port"] = "198.18.16.30"
    assert carried_out(drawer, draft, unattended=True)[:2] == (states.NOT_BEGUN, 1)


def test_several_together() -> None:
    """Each in a thread of its own; one of them is rolled back."""
    drawers = [Drawer(f"ports-{number}", {"port": "198.18.16.10"}) for number in range(5)]
    drawers[2].is_broken = True
    members = [Member(d.name, d.drafted("port", "198.18.16.20"), Terms(60, True, {})) for d in drawers]
    run = Run(members, at_once=3)
    drive(run, {d.name: d for d in drawers}, lambda event: None)
    ends = [outcome.state for name in run.names if (outcome := run.outcome(name)) is not None]
    assert ends == [states.CONFIRMED, states.CONFIRMED, states.ROLLED_BACK, states.CONFIRMED, states.CONFIRMED]
