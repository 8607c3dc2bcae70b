"""The window of a run: from when changes may begin, and by when all must have ended."""

from __future__ import annotations

import datetime
import re
import time
from typing import Any

import click
import msgspec

from fixed_anchor.commands.app import App

_OF_DAY = re.compile(r"([01]?\d|2[0-3]):([0-5]\d)(?::([0-5]\d))?")


class MomentType(click.ParamType[str]):
    """A time of day, or a date and a time, both of this machine's zone; what it means depends on when it is asked."""

    name = "time"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> str:
        text = str(value)
        try:
            moment_after(text, time.time())
        except ValueError:
            self.fail(f"{text!r} is no time; write 22:00, or 2026-12-02T22:00", param, ctx)
        return text


class Window(msgspec.Struct, frozen=True):
    """Moments in seconds since the epoch; ``None`` where the window is open on that side."""

    begins: float | None = None
    ends: float | None = None


def moment_after(text: str, after: float) -> float:
    """What ``text`` means: a time of day is the next one ``after`` that moment. Raises :class:`ValueError`."""
    found = _OF_DAY.fullmatch(text)
    if found is None:
        return datetime.datetime.fromisoformat(text).timestamp()
    hour, minute, second = (int(part or 0) for part in found.groups())
    day = datetime.datetime.fromtimestamp(after)
    at = day.replace(hour=hour, minute=minute, second=second, microsecond=0)
    if at.timestamp() < after:
        # Of the next day by the calendar: where clocks are set in between a day has not 24 hours.
        at = (day + datetime.timedelta(days=1)).replace(hour=hour, minute=minute, second=second, microsecond=0)
    return at.timestamp()


def window_of(not_before: str | None, until: str | None) -> Window:
    """The window of the command line. Raises a usage error for one that is over, or ends before it begins."""
    now = time.time()
    begins = moment_after(not_before, now) if not_before is not None else None
    ends = moment_after(until, begins or now) if until is not None else None
    if ends is not None and ends <= max(begins or now, now):
        raise click.UsageError(f"--until {until} is over, or before --not-before")
    return Window(begins, ends)


def shown(moment: float) -> str:
    """A moment for people: with its date where that is not today."""
    at = datetime.datetime.fromtimestamp(moment)
    return at.strftime("%H:%M:%S" if at.date() == datetime.date.today() else "%Y-%m-%d %H:%M:%S")


def wait_for(app: App, window: Window) -> None:
    """Waits until the window begins; Ctrl-C ends the command, which has done nothing yet."""
    if window.begins is None or window.begins <= time.time():
        return
    app.remark(f"waits until {shown(window.begins)}; Ctrl-C ends it, and nothing was done")
    while (left := window.begins - time.time()) > 0:
        # A clock that is set meanwhile counts.
        time.sleep(min(left, 30.0))
