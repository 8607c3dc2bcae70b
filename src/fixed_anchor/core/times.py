"""Times as everything of ours writes them: UTC, with the date."""

from __future__ import annotations

import calendar
import re
import time

_FORM = "%Y-%m-%dT%H:%M:%SZ"
_TIME = re.compile(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ")


def utc(seconds: float | None = None) -> str:
    """A time in seconds since 1970 (now, if none is given) as ``2026-11-28T19:23:09Z``."""
    return time.strftime(_FORM, time.gmtime(seconds))


def seconds_of(text: str) -> int:
    """The seconds since 1970 of such a time. Raises :class:`ValueError`."""
    return calendar.timegm(time.strptime(text, _FORM))


def time_in(text: str) -> str | None:
    """The time that ``text`` begins with, if any."""
    found = _TIME.match(text)
    return found[0] if found else None


def on_the_clock(text: str) -> str:
    """``text`` as a person reads it: a whole time becomes the time of day here."""
    if time_in(text) != text:
        return text
    return time.strftime("%H:%M:%S", time.localtime(seconds_of(text)))
