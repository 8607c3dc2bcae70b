"""What `--log-level` shows on standard error: commands, packets and verbs, each in a line."""

from __future__ import annotations

import logging

from fixed_anchor.core.errors import printable


class _Printable(logging.Formatter):
    """Lines without control characters: much of what is logged came from a host or the network."""

    def format(self, record: logging.LogRecord) -> str:
        """A line for one record."""
        return printable(super().format(record))


def begin(level: str) -> None:
    """Logs from ``level`` on, a word of the command line."""
    handler = logging.StreamHandler()
    handler.setFormatter(_Printable("%(asctime)s %(levelname)s %(name)s: %(message)s"))
    logging.getLogger("fixed_anchor").addHandler(handler)
    logging.getLogger("fixed_anchor").setLevel(level.upper())
