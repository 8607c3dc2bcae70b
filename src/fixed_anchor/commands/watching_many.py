"""Watching a run of many hosts from the terminal: one table of what is under way, and at the end a table of all.

What is not a terminal gets a line for each step of each host instead.
"""

from __future__ import annotations

import shlex
import time
from collections import Counter
from collections.abc import Callable, Mapping
from types import TracebackType
from typing import TYPE_CHECKING

from rich.text import Text

from fixed_anchor.change import states
from fixed_anchor.commands.app import App
from fixed_anchor.commands.standing import give_back_from_seat
from fixed_anchor.core.errors import printable
from fixed_anchor.core.verification import AS_PLANNED
from fixed_anchor.reporting.terminal.paper import STYLES, plural, put_table, styled
from fixed_anchor.workflow.driving import StillOpen, drive
from fixed_anchor.workflow.events import (
    Answered,
    BaselineTaken,
    Event,
    Failed,
    Interrupted,
    MadeReady,
    Member,
    Outcome,
    Unanswered,
    Verified,
)
from fixed_anchor.workflow.run import HELD, OVER, PLANNED, Run
from fixed_anchor.workflow.run_records import Recorder
from fixed_anchor.workflow.targets import HostTarget

if TYPE_CHECKING:
    from rich.console import Group
    from rich.live import Live

#: What goes on in a state, where its name alone does not say it.
_SHORTLY = {states.WAITING: "in force, being verified"}
#: Lines of a terminal that the table leaves to what is printed above and below it.
_SPARE = 6
#: Widths of the columns for the state of a host and for how long it is under way.
_STATE, _SECONDS = 14, 5


class _Row:
    """What is shown of a host that is under way, or that did not end well."""

    def __init__(self) -> None:
        self.since = time.monotonic()
        self.word, self.words, self.style = "", "", "bold"


class WatcherOfMany:
    """Shows what happens to each of many changes, as their run is stepped; it is entered before the run is driven."""

    def __init__(self, app: App, run: Run, plan: str, is_live: bool = True) -> None:
        self._app, self._run, self._plan = app, run, plan
        self._width = max(map(len, run.names))
        self._state: dict[str, str] = {}
        self._lost: set[str] = set()
        self._asked: set[int] = set()
        self._waves: dict[int, list[str]] = {}
        for name in run.names:
            self._waves.setdefault(run.member(name).wave, []).append(name)
        self._wave = -1
        self._rows: dict[str, _Row] = {}
        self._ends: Counter[str] = Counter()
        self._over: set[str] = set()
        out = app.out
        self._live: Live | None = None
        if is_live and not app.as_json and out.is_terminal and not out.is_dumb_terminal:
            from rich.live import Live

            self._live = Live(console=out, get_renderable=self._table, refresh_per_second=2, transient=True)

    def __enter__(self) -> WatcherOfMany:
        if self._live is not None:
            self._live.start()
        return self

    def __exit__(self, kind: type[BaseException] | None, value: BaseException | None, at: TracebackType | None) -> None:
        self._stop()

    def _stop(self) -> None:
        if self._live is not None:
            self._live.stop()

    def __call__(self, event: Event) -> None:
        if isinstance(event, Interrupted):
            self._stop()
            self._interrupted()
            return
        name = event.name
        self._say_wave(name)
        if isinstance(event, MadeReady):
            self._say(name, "its turn", "recording the baseline")
        elif isinstance(event, BaselineTaken):
            self._show(name, "its turn", "starting the change")
        elif isinstance(event, Answered):
            self._answered(name, event)
        elif isinstance(event, StillOpen) and event.checks:
            self._show(name, "verifying", f"waiting for {printable(event.checks[0].code)}")
        elif isinstance(event, Verified):
            word = event.result.verdict
            gone = "also without the old address" if self._run.state(name) in OVER else ""
            more = gone if word == AS_PLANNED else event.result.against
            self._say(name, word, more, STYLES.get(word, "bold yellow"))
        elif isinstance(event, Failed):
            self._say(name, "failed", event.error.what, "bold red")
        elif isinstance(event, Unanswered) and name not in self._lost:
            self._lost.add(name)
            self._say(name, "silent", f"{event.error.what}; the guard is still running; reconnecting", "yellow")
        self._note_end(name)
        self._say_how_to_keep(self._run.member(name).wave)

    # --- the table -------------------------------------------------------------------------------------

    def _table(self) -> Group:
        """How far the run is: a line of counts, and a row for each host under way or not ended well."""
        from rich.console import Group
        from rich.table import Table

        height = max(4, self._app.out.size.height - _SPARE)
        width = min(self._width, max(12, self._app.out.size.width // 3))
        # What was not good is seen as long as the run goes on.
        names = sorted(self._rows, key=lambda name: name not in self._over)
        table = Table(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
        table.add_column(width=width, no_wrap=True, overflow="crop")
        table.add_column(width=_STATE, no_wrap=True, overflow="crop")
        table.add_column(width=_SECONDS, no_wrap=True, justify="right")
        rest = max(10, self._app.out.size.width - width - _STATE - _SECONDS - 6)
        table.add_column(width=rest, no_wrap=True, overflow="crop")
        now = time.monotonic()
        for name in names[:height]:
            row = self._rows[name]
            seconds = f"{now - row.since:.0f} s" if name not in self._over else ""
            table.add_row(styled(name, "bold"), styled(row.word, row.style), seconds, printable(row.words))
        more = [Text(f"and {len(names) - height} more", style="dim")] if len(names) > height else []
        return Group(Text(""), self._counts(), table, *more)

    def _counts(self) -> Text:
        total = len(self._run.names)
        under_way = len(self._rows) - len(self._over & self._rows.keys())
        words = [f"{self._ends[states.CONFIRMED]} of {total} confirmed", f"{under_way} under way"]
        words += [f"{count} {word}" for word, count in self._ends.items() if word != states.CONFIRMED]
        return styled(f"wave {self._wave + 1} of {len(self._waves)}: {', '.join(words)}", "bold")

    def _show(self, name: str, word: str, words: str, style: str = "bold") -> None:
        """Shows in the table what a host is doing; on what is no terminal nothing."""
        row = self._rows.setdefault(name, _Row())
        row.word, row.words, row.style = word, words, style

    def _note_end(self, name: str) -> None:
        outcome = self._run.outcome(name)
        if outcome is None or name in self._over:
            return
        self._over.add(name)
        word = _word(self._run.state(name), outcome)
        self._ends[word] += 1
        if outcome.is_good:
            self._rows.pop(name, None)
        else:
            against = outcome.verified.against if outcome.verified is not None else ""
            self._show(name, word, against or _what(outcome), STYLES.get(word, "bold red"))

    # --- lines -----------------------------------------------------------------------------------------

    def _say_wave(self, name: str) -> None:
        wave = self._run.member(name).wave
        if wave == self._wave:
            return
        self._wave = wave
        if self._live is None:
            self._app.say("")
            self._app.say(styled(f"wave {wave + 1}: {', '.join(self._waves[wave])}", "bold"))

    def _answered(self, name: str, event: Answered) -> None:
        status = event.status
        if name in self._lost:
            self._lost.discard(name)
            self._say(name, "answers", "reached again")
        if status.state == self._state.get(name):
            return
        self._state[name] = status.state
        words = _SHORTLY.get(status.state, "") if status.is_open else status.why
        self._say(name, states.shown(status.state), printable(words), STYLES.get(status.state, "bold"))

    def _say(self, name: str, word: str, more: str, style: str = "bold") -> None:
        self._show(name, word, more, style)
        if self._live is not None:
            return
        line = Text().append(time.strftime("%H:%M:%S  "), style="dim").append(f"{name:<{self._width}}  ")
        line.append(word, style=style)
        self._app.say(line.append(f"  {printable(more)}" if more else ""), indent=0)

    def _say_how_to_keep(self, wave: int) -> None:
        """Once everything of a wave that is still open waits for a person."""
        if wave in self._asked or self._run.terms(self._waves[wave][0]).unattended:
            return
        open_ones = []
        for name in self._waves[wave]:
            if self._run.state(name) in OVER:
                continue
            last = self._run.last(name)
            if last is None or last.state != states.WAITING or self._run.verified(name) is None:
                return
            open_ones.append(name)
        if not open_ones:
            return
        self._asked.add(wave)
        left = min(self._run.last(name).left or 0 for name in open_ones)  # type: ignore[union-attr]
        self._app.say(f"wave {wave + 1} is in force: automatic rollback in {left} s, unless you confirm", style="bold")
        self._app.type("keep it, from a new session:  ", _command("confirm", self._plan, "--all"))
        self._app.type("go back at once:              ", _command("restore", self._plan, "--all"))

    def _interrupted(self) -> None:
        under_way = [n for n in self._run.names if (o := self._run.outcome(n)) is not None and o.is_left and o.number]
        if under_way:
            self._app.remark(
                f"{plural(len(under_way), 'change')} of {', '.join(under_way)} go on without this terminal"
            )
        self._app.remark(f"how they end: {_command('status', self._plan)}")


def _command(verb: str, plan: str, *more: str) -> str:
    return shlex.join(["fixed-anchor", verb, "--plan", plan, *more])


def drive_recorded(
    app: App,
    run: Run,
    targets: Mapping[str, HostTarget],
    makes_ready: Callable[[Member], Member],
    recorder: Recorder,
    watcher: WatcherOfMany,
    also: Callable[[Event], None] = lambda event: None,
    kept: Callable[[HostTarget], None] = lambda target: None,
) -> None:
    """Carries a run out that is recorded and watched; ``targets`` are by the names of members.

    ``also`` hears every event, and ``kept`` of each target whose change is kept, once its leases are given back.
    """
    over: set[str] = set()

    def hears(event: Event) -> None:
        recorder.hear(run, event)
        also(event)
        watcher(event)
        outcome = run.outcome(event.name) if event.name in targets else None
        if outcome is not None and outcome.state == states.CONFIRMED and event.name not in over:
            over.add(event.name)
            give_back_from_seat(app, targets[event.name], outcome.number)
            kept(targets[event.name])

    with watcher:
        drive(run, targets, hears, makes_ready)
    recorder.end(run)


def show_ends(app: App, run: Run, again: str) -> None:
    """What is so of each host, why, and what to do; ``again`` is the command that goes on."""
    app.say("")
    rows: list[list[str | Text]] = []
    for name in run.names:
        outcome = run.outcome(name)
        if outcome is None:
            continue
        word = _word(run.state(name), outcome)
        rows.append([styled(name, "bold"), outcome.number, styled(word, STYLES.get(word, "bold")), _what(outcome)])
    put_table(app.out, ["host", "change", "now", "why, and what to do"], rows)
    good = sum(o.is_good for n in run.names if (o := run.outcome(n)) is not None)
    app.say("")
    app.say(f"{good} of {plural(len(run.names), 'change')} confirmed", style="bold")
    if good < len(run.names):
        app.type("correct that, then go on with:  ", again)


def _word(state: str, outcome: Outcome) -> str:
    if state in (HELD, PLANNED) or not outcome.number:
        return "not begun"
    return states.shown(outcome.state)


def _what(outcome: Outcome) -> str:
    if outcome.error is not None or outcome.is_held:
        return printable(outcome.reason)
    if outcome.is_left:
        return "nobody watched it to its end: ask `status`"
    against = outcome.verified.against if outcome.verified is not None else ""
    if outcome.state == states.CONFIRMED:
        incomplete = "kept, but not every file could be written: its log says which" if outcome.is_incomplete else ""
        wrong = f"kept, but not as planned now: {against}" if not outcome.is_good and against else ""
        return printable("; ".join(filter(None, [incomplete, wrong])))
    if outcome.state == states.ROLLED_BACK:
        why = outcome.why if against in outcome.why else "; ".join(filter(None, [outcome.why, against]))
        return printable(f"{why}; the state is as before")
    return printable(f"{outcome.why or 'it could not be rolled back'}: its log says what is left to do")
