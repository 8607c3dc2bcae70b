"""Watching a run of many hosts from the terminal: a line for each step of each, and at the end a table of all."""

from __future__ import annotations

import shlex
import time

from rich.text import Text

from fixed_anchor.change import states
from fixed_anchor.commands.app import App
from fixed_anchor.core.errors import printable
from fixed_anchor.core.verification import AS_PLANNED
from fixed_anchor.reporting.terminal.paper import STYLES, plural, put_table, styled
from fixed_anchor.workflow.events import Answered, Event, Failed, Interrupted, MadeReady, Outcome, Unanswered, Verified
from fixed_anchor.workflow.run import HELD, OVER, PLANNED, Run

#: What goes on in a state, where its name alone does not say it.
_SHORTLY = {states.WAITING: "in force, and verified now"}


class WatcherOfMany:
    """Prints what happens to each of many changes, as their run is stepped."""

    def __init__(self, app: App, run: Run, plan: str) -> None:
        self._app, self._run, self._plan = app, run, plan
        self._width = max(map(len, run.names))
        self._state: dict[str, str] = {}
        self._lost: set[str] = set()
        self._wave = -1
        self._asked: set[int] = set()

    def __call__(self, event: Event) -> None:
        if isinstance(event, Interrupted):
            self._interrupted()
            return
        name = event.name
        self._say_wave(name)
        if isinstance(event, MadeReady):
            self._say(name, "its turn", "what answers today is looked at")
        elif isinstance(event, Answered):
            self._answered(name, event)
        elif isinstance(event, Verified):
            word = event.result.verdict
            gone = "also without the old address" if self._run.state(name) in OVER else ""
            more = gone if word == AS_PLANNED else event.result.against
            self._say(name, word, more, STYLES.get(word, "bold yellow"))
        elif isinstance(event, Failed):
            self._say(name, "failed", event.error.what, "bold red")
        elif isinstance(event, Unanswered) and name not in self._lost:
            self._lost.add(name)
            self._say(name, "silent", f"{event.error.what}; its guard goes on, and it is looked for", "yellow")
        self._say_how_to_keep(self._run.member(name).wave)

    def _say_wave(self, name: str) -> None:
        wave = self._run.member(name).wave
        if wave == self._wave:
            return
        self._wave = wave
        names = [n for n in self._run.names if self._run.member(n).wave == wave]
        self._app.say("")
        self._app.say(styled(f"wave {wave + 1}: {', '.join(names)}", "bold"))

    def _answered(self, name: str, event: Answered) -> None:
        status = event.status
        if name in self._lost:
            self._lost.discard(name)
            self._say(name, "answers", "it is reached again")
        if status.state == self._state.get(name):
            return
        self._state[name] = status.state
        words = _SHORTLY.get(status.state, "") if status.is_open else status.why
        self._say(name, states.shown(status.state), printable(words), STYLES.get(status.state, "bold"))

    def _say(self, name: str, word: str, more: str, style: str = "bold") -> None:
        line = Text().append(time.strftime("%H:%M:%S  "), style="dim").append(f"{name:<{self._width}}  ")
        line.append(word, style=style)
        self._app.say(line.append(f"  {printable(more)}" if more else ""), indent=0)

    def _say_how_to_keep(self, wave: int) -> None:
        """Once everything of a wave that is still open waits for a person."""
        if wave in self._asked:
            return
        open_ones = []
        for name in self._run.names:
            if self._run.member(name).wave != wave or self._run.state(name) in OVER:
                continue
            terms, last = self._run.terms(name), self._run.last(name)
            waits = last is not None and last.state == states.WAITING and self._run.verified(name) is not None
            if terms.unattended or not waits:
                return
            open_ones.append(name)
        if not open_ones:
            return
        self._asked.add(wave)
        left = min(self._run.last(name).left or 0 for name in open_ones)  # type: ignore[union-attr]
        self._app.say(f"wave {wave + 1} is in force: rolled back in {left} s, unless you confirm.", style="bold")
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
    if outcome.error is not None:
        return printable(str(outcome.error))
    if outcome.is_left:
        return "nobody watched it to its end: ask `status`"
    if outcome.is_held:
        return printable(outcome.why)
    if outcome.state == states.CONFIRMED:
        return "kept, but not every file could be written: its log says which" if outcome.is_incomplete else ""
    against = outcome.verified.against if outcome.verified is not None else ""
    if outcome.state == states.ROLLED_BACK:
        return printable("; ".join(filter(None, [outcome.why, against])) + "; it is as it was before")
    return printable(f"{outcome.why or 'it could not be rolled back'}: its log says what is left to do")
