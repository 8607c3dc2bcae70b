"""``fixed-anchor history --runs``: the runs of this seat, and the turns of one."""

from __future__ import annotations

import click
from rich.text import Text

from fixed_anchor.change import states
from fixed_anchor.commands.app import App
from fixed_anchor.core.errors import EXIT_DONE, printable
from fixed_anchor.reporting.documents.runs import RunsDocument, run_history
from fixed_anchor.reporting.terminal.paper import STYLES, plural, put_table, styled
from fixed_anchor.workflow.run_records import CUTOVER, RunRecord, RunStore, TurnRecord, seat_runs


def show_runs(app: App, typed: str | None) -> int:
    """Prints all runs, or with a number its turns; the exit status."""
    store = seat_runs()
    if typed is not None and not typed.isdecimal():
        raise click.UsageError(f"{typed!r} is not the number of a run; `fixed-anchor history --runs` lists them")
    numbers = [store.number(int(typed))] if typed is not None else store.numbers()
    runs = [store.read(number) for number in numbers]
    held = {run.number for run in runs if store.is_held(run.number)}
    if app.as_json:
        app.print_document(RunsDocument(runs=[run_history(run, run.number in held) for run in runs]), EXIT_DONE)
    if typed is not None:
        _show_one(app, runs[0], runs[0].number in held)
    elif not runs:
        app.say(f"no runs of this seat ({store.folder})")
    else:
        _show_all(app, store, runs, held)
    return EXIT_DONE


def _show_all(app: App, store: RunStore, runs: list[RunRecord], held: set[str]) -> None:
    rows: list[list[str | Text]] = []
    under: list[list[str]] = []
    for run in runs:
        first, last = run.sittings[0], run.sittings[-1]
        what = run.kind if run.restores is None else f"restore of {run.restores}"
        rows.append([styled(run.number, "bold"), what, _how_far(run), first.begun, _end(run, run.number in held)])
        notes = [f"note: {printable(one.note)}" for one in run.sittings if one.note]
        again = [f"restored by run {run.restored_by}"] if run.restored_by else []
        under.append([printable(run.plan), f"by {printable(last.by)}", *again, *notes])
    put_table(app.out, ["run", "kind", "hosts confirmed", "begun", "ended"], rows, under=under)


def _how_far(run: RunRecord) -> str:
    latest = {turn.host: turn for turn in sorted(run.turns, key=lambda one: one.place)}
    good = sum(turn.is_good for turn in latest.values())
    left = sum(not one.is_kept for one in run.sittings[-1].left_out)
    return f"{good} of {len(latest)}" + (f", {plural(left, 'host')} left out" if left else "")


def _end(run: RunRecord, is_held: bool) -> str:
    if is_held:
        return "under way"
    return run.sittings[-1].ended or "its seat has gone"


def _show_one(app: App, run: RunRecord, is_held: bool) -> None:
    app.say(f"run {run.number}: {run.kind} of {printable(run.plan)}", style="bold")
    for sitting in run.sittings:
        note = f", note: {printable(sitting.note)}" if sitting.note else ""
        ended = sitting.ended or ("goes on" if is_held and sitting is run.sittings[-1] else "its seat has gone")
        app.say(f"{sitting.begun} to {ended}, by {printable(sitting.by)}{note}")
    if run.restores:
        app.say(f"it takes run {run.restores} back")
    if run.restored_by:
        app.say(f"run {run.restored_by} took it back")
    rows: list[list[str | Text]] = []
    under: list[list[str]] = []
    for turn in sorted(run.turns, key=lambda one: one.place):
        word = _word(turn)
        change = f"{turn.host}:{turn.change}" if turn.change else ""
        shown = styled(printable(turn.name), "bold")
        rows.append([str(turn.wave), shown, change, styled(word, STYLES.get(word, "bold")), turn.begun or ""])
        words = turn.words if not turn.is_good else ""
        under.append([printable(words)] if words else [])
    if rows:
        put_table(app.out, ["wave", "host", "change", "state", "begun"], rows, under=under)
    for one in run.sittings[-1].left_out:
        app.say(f"left out: {printable(one.host)}: {printable(one.why)}")
    if run.kind == CUTOVER and run.restored_by is None and any(turn.is_good for turn in run.turns):
        app.type("take it back:  ", f"fixed-anchor restore --run {int(run.number)}")


def _word(turn: TurnRecord) -> str:
    if turn.begun is None or (turn.ended is not None and not turn.change):
        return "not begun"
    if turn.ended is None:
        return "end not seen"
    return states.shown(turn.state)
