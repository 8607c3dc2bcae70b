"""How the addresses of a subnet lie on rulers: which part of it each row shows, and where the names stand.

A row is 256 units wide. A block of 256 addresses fills one; a crowded stretch of 32 is drawn again in a row of its own;
of a subnet too large to be drawn whole there are the used parts alone, side by side.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence

import msgspec

from fixed_anchor.core.segment_map import EDGE, FREE, Ruler

#: Units of a row; addresses of a block, of a crowded stretch, the names from which on it is crowded, and addresses of
#: a move whose arrow is too short.
WIDTH, BLOCK, WINDOW, CROWD, SHORT = 256.0, 256, 32, 8, 6
#: A subnet of more blocks than this is drawn by what is used of it; and so many rows are drawn at most.
WHOLE, MOST = 16, 24
#: Addresses around a used one, and units between two parts of a row.
_AROUND, _GAP = 2, 8.0
#: A part is at least so wide, in units.
_LEAST = 40.0


class Piece(msgspec.Struct, frozen=True):
    """The addresses from ``first`` to ``last``, drawn from unit ``at`` on, each ``each`` units wide."""

    first: int
    last: int
    at: float
    each: float

    def middle(self, number: int) -> float:
        """Where an address is, in units."""
        return self.at + (number - self.first + 0.5) * self.each

    @property
    def end(self) -> float:
        """The unit at which it ends."""
        return self.at + (self.last - self.first + 1) * self.each


class Row(msgspec.Struct, frozen=True):
    """One ruler; ``larger``: a stretch of the row above it, drawn again."""

    pieces: tuple[Piece, ...]
    larger: bool = False

    def place(self, number: int) -> float | None:
        """Where an address is, in units; None where the row does not show it."""
        for piece in self.pieces:
            if piece.first <= number <= piece.last:
                return piece.middle(number)
        return None


def rows(ruler: Ruler) -> list[Row]:
    """The rows of a subnet from its first address to its last, crowded stretches behind the row that they are in."""
    begin, end = int(ruler.subnet.network_address), int(ruler.subnet.broadcast_address)
    if end - begin < WHOLE * BLOCK:
        found = [_block(first, end) for first in range(begin, end + 1, BLOCK)]
    elif ruler.subnet.version == 4:
        blocks = {number - (number - begin) % BLOCK for number in used(ruler)}
        found = [_block(first, end) for first in sorted(blocks)]
    else:
        found = _side_by_side(_parts(used(ruler), begin, end))
    marked, short = sorted({int(mark.address) for mark in ruler.marks}), _short(ruler)
    return [one for row in found for one in (row, *_crowds(row, marked, short))]


def fitting(every: list[Row]) -> list[Row]:
    """As many rows as are drawn: those that are drawn again give way to the others."""
    spare = MOST - sum(not row.larger for row in every)
    found: list[Row] = []
    for row in every:
        if len(found) < MOST and (not row.larger or spare > 0):
            found.append(row)
            spare -= row.larger
    return found


def used(ruler: Ruler) -> set[int]:
    """The addresses at which there is something to see, the edges of stretches among them."""
    found = ruler.noted
    for stretch in ruler.stretches:
        if stretch.kind not in (FREE, EDGE):
            found |= {stretch.range.first, stretch.range.last}
    return found


def spread(wanted: Sequence[float], apart: float, low: float, high: float) -> list[float]:
    """Places for labels, in the order of ``wanted``: each as near to its own as ``apart`` from the others lets it."""
    apart = min(apart, (high - low) / max(len(wanted), 1))
    placed: list[float] = []
    for one in wanted:
        placed.append(max(one, low, placed[-1] + apart if placed else low))
    limit = high
    for number in range(len(placed) - 1, -1, -1):
        placed[number] = min(placed[number], limit)
        limit = placed[number] - apart
    return placed


def _whole(first: int, last: int, larger: bool = False) -> Row:
    """A row that is filled by these addresses."""
    return Row((Piece(first, last, 0.0, WIDTH / (last - first + 1)),), larger)


def _block(first: int, end: int) -> Row:
    return _whole(first, min(first + BLOCK - 1, end))


def _crowds(row: Row, marked: Sequence[int], short: Iterable[tuple[int, int]]) -> Iterator[Row]:
    """The stretches of a row that are drawn again: of many ``marked`` addresses, or around a ``short`` move."""
    for piece in row.pieces:
        if piece.last - piece.first < WINDOW:
            continue
        inside = (number for number in marked if piece.first <= number <= piece.last)
        counts = Counter(number - (number - piece.first) % WINDOW for number in inside)
        crowded = {window for window, count in counts.items() if count > CROWD}
        for low, high in short:
            is_shown = any(one <= low and high < one + WINDOW for one in crowded)
            if piece.first <= low and high <= piece.last and not is_shown:
                crowded.add(max(piece.first, min(low - WINDOW // 2, piece.last - WINDOW + 1)))
        for window in sorted(crowded):
            yield _whole(window, min(window + WINDOW - 1, piece.last), larger=True)


def _short(ruler: Ruler) -> list[tuple[int, int]]:
    """The moves whose ends are too near one another for an arrow between them, each from low to high."""
    ends = {tuple(sorted((int(move.before), int(move.after)))) for move in ruler.moves}
    return [(low, high) for low, high in sorted(ends) if high - low < SHORT]


def _parts(numbers: Iterable[int], begin: int, end: int) -> list[tuple[int, int]]:
    """Used addresses with some around them; what is near one another is one part, of a block at most."""
    parts: list[tuple[int, int]] = []
    for number in sorted(numbers):
        low, high = max(begin, number - _AROUND), min(end, number + _AROUND)
        if parts and low - parts[-1][1] <= WINDOW and high - parts[-1][0] < BLOCK:
            parts[-1] = (parts[-1][0], high)
        else:
            parts.append((max(low, parts[-1][1] + 1) if parts else low, high))
    return parts


def _side_by_side(parts: Iterable[tuple[int, int]]) -> list[Row]:
    found: list[Row] = []
    pieces: list[Piece] = []
    at = 0.0
    for first, last in parts:
        size = last - first + 1
        wide = max(_LEAST, float(size))
        if pieces and at + wide > WIDTH:
            found.append(Row(tuple(pieces)))
            pieces, at = [], 0.0
        pieces.append(Piece(first, last, at, wide / size))
        at += wide + _GAP
    return [*found, Row(tuple(pieces))] if pieces else found
