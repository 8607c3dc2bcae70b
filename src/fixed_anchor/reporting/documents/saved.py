"""Reading a survey that was saved."""

from __future__ import annotations

import json
from pathlib import Path

import msgspec

from fixed_anchor.core.errors import InputError
from fixed_anchor.reporting.documents.stock import HostStock, SurveyDocument

_EXPECTED = "what `survey --json` prints, or `survey -o FILE` writes"


def read_stock(path: str) -> HostStock:
    """The one host of the survey in the file ``path``. Raises :class:`InputError`."""
    found = read_stocks(path)
    if len(found) != 1:
        names = ", ".join(host.host for host in found) or "none"
        raise InputError(f"the survey is of several hosts, or of none: {names}", file=path, expected="one host")
    return found[0]


def read_stocks(path: str) -> list[HostStock]:
    """The hosts of the survey in the file ``path`` that answered. Raises :class:`InputError`."""
    try:
        data = json.loads(Path(path).read_bytes())
    except OSError as error:
        raise InputError(f"the survey cannot be read: {error.strerror}", file=path) from None
    except (ValueError, RecursionError):
        raise InputError("this is not JSON", file=path, expected=_EXPECTED) from None
    number = data.get("format") if isinstance(data, dict) else None
    try:
        if number != 2:
            raise InputError("this is not a survey in format 2", file=path, expected=_EXPECTED)
        hosts = msgspec.convert(data, SurveyDocument).hosts
    except (msgspec.ValidationError, KeyError, TypeError, AttributeError) as error:
        raise InputError(f"this is not a survey: {error}", file=path, expected=_EXPECTED) from None
    return [host for host in hosts if host.error is None]
