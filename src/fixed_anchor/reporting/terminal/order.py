"""The view of an order: every turn in its wave with the reasons for its place, and who is left out."""

from __future__ import annotations

from collections.abc import Mapping

from rich.console import Console
from rich.text import Text

from fixed_anchor.core.addresses import in_words
from fixed_anchor.core.order.turn import SECOND, Order, Standing, Turn
from fixed_anchor.reporting.terminal.paper import plural, put, put_table, styled


def show_order(out: Console, order: Order, standings: Mapping[str, Standing]) -> None:
    """Every wave with its turns; then those that are left out, and those that are as planned."""
    rows: list[list[str | Text]] = []
    for number, wave in enumerate(order.waves, 1):
        for place, turn in enumerate(wave):
            shown = styled(str(number), "bold") if not place else ""
            rows.append([shown, styled(str(turn.key), "bold"), _comes(turn, standings[turn.host]), "; ".join(turn.why)])
    if rows:
        put_table(out, ["wave", "host", "gets", "why there"], rows)
    if order.left_out:
        out.print()
        left: list[list[str | Text]] = [
            [styled(one.host, "bold yellow"), "its second change" if one.is_begun else "", one.why]
            for one in order.left_out
        ]
        put_table(out, ["left out", "", "why"], left)
    if order.settled:
        out.print()
        put(out, f"as planned already: {', '.join(order.settled)}")
    out.print()
    put(out, summary(order), style="bold")


def summary(order: Order) -> str:
    """How many hosts are changed, in how many waves, and how many are not."""
    hosts = len({turn.host for turn in order.turns})
    words = f"{plural(hosts, 'host')} in {plural(len(order.waves), 'wave')}" if hosts else "no host is to be changed"
    left = len({one.host for one in order.left_out if not one.is_begun})
    more = [f"{left} left out"] if left else []
    more += [f"{len(order.settled)} as planned already"] if order.settled else []
    return ", ".join([words, *more])


def _comes(turn: Turn, standing: Standing) -> str:
    """What its host has after a turn that it did not have before."""
    if turn.key.part == SECOND and not turn.alone:
        return in_words(standing.coming)
    if turn.key.part == SECOND:
        return f"no {in_words(standing.going)} any more"
    return in_words(turn.parked.get(address, address) for address in standing.coming) or "the same"
