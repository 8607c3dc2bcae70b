"""The words of a map, wherever it is drawn: in a terminal, in a picture, in a page."""

from __future__ import annotations

from fixed_anchor.core.segment_map import ASIDE, EDGE, FREE, HOSTS, OTHERS, POOL, Ruler
from fixed_anchor.reporting.terminal.paper import plural

#: What each kind of stretch is called.
KINDS = {EDGE: "no host's", POOL: "DHCP pool", ASIDE: "set aside", HOSTS: "plan", OTHERS: "others", FREE: "free"}


def counts(ruler: Ruler) -> str:
    """How many addresses of a subnet are whose, in words."""
    held = sum(mark.is_held for mark in ruler.marks)
    planned = sum(mark.is_planned and not mark.is_held for mark in ruler.marks)
    words = [f"{held} held by hosts of the plan", f"{planned} to come", f"{_short(ruler.count(POOL))} in pools"]
    words += [f"{ruler.count(OTHERS)} others'", f"{_short(ruler.count(FREE))} free"]
    conflicts = len(ruler.conflicts)
    return ", ".join(words) + (f", {plural(conflicts, 'CONFLICT')}" if conflicts else "")


def _short(count: int) -> str:
    return str(count) if count < 1_000_000 else f"{count:.2g}"


def tail(ruler: Ruler, number: int) -> str:
    """The part of an address by which it differs in its block."""
    return f".{number & 255}" if ruler.subnet.version == 4 else f":{number & 0xFFFF:x}"
