"""The map of segments as PNG or SVG: rulers, with hosts above them and what was seen below them.

Everything is told apart by shape and pattern; tones only help. Coordinates are pixels from the upper left corner.
matplotlib's own interface without a window (`Figure`, `FigureCanvasAgg`, `FigureCanvasSVG`).
"""

from __future__ import annotations

import io
from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator, Sequence
from itertools import takewhile
from typing import Any

import matplotlib as mpl
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.backends.backend_svg import FigureCanvasSVG
from matplotlib.collections import LineCollection, PatchCollection
from matplotlib.figure import Figure
from matplotlib.patches import Rectangle

from fixed_anchor.core.errors import printable
from fixed_anchor.core.segment_map import ASIDE, EDGE, FREE, HOSTS, OTHERS, POOL, Ruler, SegmentMap, Stretch
from fixed_anchor.reporting.pictures.rulers import WIDTH, Piece, Row, fitting, rows, spread
from fixed_anchor.reporting.terminal.map_words import KINDS, counts, tail

#: Pixels: the picture's width, where rulers begin and end (words aslant need room), the least height; dots per inch.
_ACROSS, _LEFT, _RIGHT, _LEAST, _DPI = 1280, 40, 1150, 300, 100
_UNIT = (_RIGHT - _LEFT) / WIDTH
_BAND, _MARKS, _ARCS, _SEEN, _APART = 34, 18, 40, 22, 19
_SMALL, _TEXT, _LARGE = 8.0, 9.0, 15.0
_INK, _FAINT, _CLASH = "#111111", "#666666", "#c00000"
#: How each kind of stretch is filled: tone and pattern.
_FILLS = {
    EDGE: ("#111111", ""),
    POOL: ("#ead9b8", "////"),
    ASIDE: ("#dcdcec", "xxx"),
    HOSTS: ("#30475e", ""),
    OTHERS: ("#b9cfc6", "---"),
    FREE: ("#ffffff", ""),
}
_PLANNED, _HELD, _BOTH, _ANSWERS, _LEASE, _RESERVED, _RECORD = "v", "o", "D", "P", "s", "^", "|"
_SHAPES = {"answers": _ANSWERS, "lease": _LEASE, "reserved": _RESERVED, "record": _RECORD}
#: So many conflicts are told, and so many sources that nobody asked; fewer free addresses than that have no words.
_CONFLICTS, _MISSING, _FEW = 8, 8, 2


def picture(maps: Sequence[SegmentMap], title: str, ending: str) -> bytes:
    """The maps below one another, in the format of ``ending``: ``png`` or ``svg``."""
    # Text in an SVG stays text, and the same map gives the same bytes.
    with mpl.rc_context({"svg.fonttype": "none", "svg.hashsalt": title, "hatch.linewidth": 0.6}):
        paper = _Paper()
        for found in maps:
            _draw_segment(paper, found, title)
        _draw_legend(paper)
        return paper.saved(ending)


class _Paper:
    """A sheet that is drawn on from its top; how high it is, is known at its end."""

    def __init__(self) -> None:
        self.figure = Figure(dpi=_DPI)
        self.axes = self.figure.add_axes((0.0, 0.0, 1.0, 1.0))
        self.axes.axis("off")
        self.y = 18.0
        self._filled: dict[str, list[Rectangle]] = {}
        self._signs: dict[tuple[str, bool, float], list[tuple[float, float]]] = {}
        self._lines: list[Sequence[tuple[float, float]]] = []

    def text(self, x: float, y: float, words: str, size: float = _TEXT, **more: Any) -> None:
        """Words as they are: nothing in them is a formula."""
        self.axes.text(x, y, printable(words), fontsize=size, parse_math=False, **{"color": _INK, **more})

    def signs(self, xs: Iterable[float], y: float, shape: str, *, filled: bool, size: float = 34) -> None:
        """The same sign at each of ``xs``; all of a kind are drawn as one, which is faster."""
        self._signs.setdefault((shape, filled, size), []).extend((x, y) for x in xs)

    def lines(self, several: Iterable[Sequence[tuple[float, float]]]) -> None:
        """Thin lines from each place to the next."""
        self._lines.extend(several)

    def fill(self, kind: str, left: float, top: float, wide: float, high: float) -> None:
        """A rectangle as stretches of a kind are filled; all of a kind are drawn as one, which is faster."""
        self._filled.setdefault(kind, []).append(Rectangle((left, top), wide, high))

    def saved(self, ending: str) -> bytes:
        """The sheet as bytes."""
        high = max(self.y, _LEAST)
        self.figure.set_size_inches(_ACROSS / _DPI, high / _DPI)
        self.axes.set_xlim(0, _ACROSS)
        self.axes.set_ylim(high, 0)
        for kind, several in self._filled.items():
            tone, pattern = _FILLS[kind]
            look: dict[str, Any] = {"facecolor": tone, "hatch": pattern, "edgecolor": _FAINT, "linewidth": 0.5}
            self.axes.add_collection(PatchCollection(several, zorder=1, **look), autolim=False)
        lines = LineCollection(self._lines, colors=_FAINT, linewidths=0.65, zorder=2)
        self.axes.add_collection(lines, autolim=False)
        for (shape, filled, size), places in self._signs.items():
            colors: dict[str, Any] = {"facecolor": _INK if filled else "white", "edgecolor": _INK}
            if shape == _RECORD:
                colors = {"color": _INK}
            xs, ys = [x for x, _ in places], [y for _, y in places]
            self.axes.scatter(xs, ys, s=size, marker=shape, linewidths=1.2, zorder=5, **colors)
        out = io.BytesIO()
        canvas: Any = FigureCanvasSVG(self.figure) if ending == "svg" else FigureCanvasAgg(self.figure)
        if ending == "svg":
            canvas.print_svg(out, metadata={"Date": None})
        else:
            canvas.print_png(out, pil_kwargs={"compress_level": 4})
        return out.getvalue()


def _draw_segment(paper: _Paper, found: SegmentMap, title: str) -> None:
    for ruler in found.rulers:
        paper.y += 14
        paper.text(_LEFT, paper.y, f"{found.segment}  {ruler.subnet}", _LARGE, weight="bold", va="center")
        paper.text(_ACROSS - _LEFT, paper.y, title, _TEXT, ha="right", va="center")
        paper.y += 24
        paper.text(_LEFT, paper.y, counts(ruler), _TEXT, va="center")
        paper.y += 12
        _draw_conflicts(paper, ruler)
        every = rows(ruler)
        drawn = fitting(every)
        crowds = [row.pieces[0] for row in every if row.larger]
        undrawn = [row.pieces[0] for row in every if row.larger and row not in drawn]
        for row in drawn:
            _draw_row(paper, ruler, row, () if row.larger else crowds, () if row.larger else undrawn)
        if len(every) > len(drawn):
            words = f"{len(every) - len(drawn)} more rulers are not drawn; `map` in the terminal lists every host."
            paper.text(_LEFT, paper.y + 10, words)
            paper.y += 24
        if not every:
            paper.text(_LEFT, paper.y + 10, "Nothing of it is used.")
            paper.y += 24
    missing = [f"not asked: {one}" for one in found.not_looked_at]
    if len(missing) > _MISSING:
        missing[_MISSING:] = [f"and {len(missing) - _MISSING} more that were not asked"]
    for line in missing:
        paper.text(_LEFT, paper.y, line, _TEXT, va="center", style="italic")
        paper.y += 16
    paper.y += 10


def _draw_conflicts(paper: _Paper, ruler: Ruler) -> None:
    """A box that says every address that clashes, and why."""
    lines = [
        f"!  {one.address}  {', '.join(one.codes)}" + (f"  ({', '.join(one.hosts)})" if one.hosts else "")
        for one in ruler.conflicts[:_CONFLICTS]
    ]
    if len(ruler.conflicts) > _CONFLICTS:
        lines.append(f"and {len(ruler.conflicts) - _CONFLICTS} more conflicts")
    if not lines:
        return
    high = 16 * len(lines) + 8
    paper.axes.add_patch(
        Rectangle((_LEFT, paper.y), _ACROSS - 2 * _LEFT, high, facecolor="white", edgecolor=_CLASH, linewidth=2)
    )
    for number, line in enumerate(lines):
        paper.text(_LEFT + 10, paper.y + 12 + 16 * number, line, _TEXT, va="center", weight="bold", color=_CLASH)
    paper.y += high + 8


def _draw_row(paper: _Paper, ruler: Ruler, row: Row, crowds: Sequence[Piece], undrawn: Sequence[Piece]) -> None:
    """From top to bottom: names, marks, moves, the ruler, what was seen, words; no names of what is drawn larger."""
    above, below = _names(ruler, row, crowds, undrawn), _words(ruler, row)
    if row.larger:
        paper.text(_LEFT, paper.y + 8, "drawn again, larger:", _SMALL, style="italic", va="center")
        paper.y += 12
    _labels(paper, above, paper.y + _height(above), up=True)
    paper.y += _height(above)
    arcs = [move for move in ruler.moves if None not in (row.place(int(move.before)), row.place(int(move.after)))]
    marks = paper.y + _MARKS / 2
    band = paper.y + _MARKS + (_ARCS if arcs else 0)
    inside = _inside(row, ruler.marks)
    stems = [[(x, marks), (x, band)] for x in {_x(row, int(m.address)) for m in inside}]
    paper.lines(stems)
    held = {m.address for m in inside if m.is_held}
    for shape, filled, y, chosen in (
        (_BOTH, True, marks, [m for m in inside if m.is_held and m.is_planned]),
        (_PLANNED, True, marks, [m for m in inside if m.is_planned and m.address not in held]),
        # Where one host holds what another one gets, one sign is on top of the other.
        (_PLANNED, True, marks - 9, [m for m in inside if m.is_planned and not m.is_held and m.address in held]),
        (_HELD, False, marks, [m for m in inside if m.is_held and not m.is_planned]),
    ):
        paper.signs([_x(row, int(m.address)) for m in chosen], y, shape, filled=filled)
    for move in arcs:
        begin, end = _x(row, int(move.before)), _x(row, int(move.after))
        bend = min(0.4, 2 * (_ARCS - 6) / max(abs(end - begin), 1.0))
        # The axis points down: an arc to the right bends the other way than one to the left.
        arrow: dict[str, Any] = {
            "arrowstyle": "-|>",
            "connectionstyle": f"arc3,rad={-bend if end > begin else bend}",
            "linewidth": 1.3,
            "color": _INK,
        }
        axes: Any = paper.axes
        axes.annotate("", (end, band - 1), (begin, band - 1), arrowprops=arrow, zorder=4)
    _draw_band(paper, ruler, row, band)
    seen = band + _BAND + _SEEN / 2
    for kind, shape in _SHAPES.items():
        xs = sorted({_x(row, int(one.address)) for one in _inside(row, ruler.sightings) if one.kind == kind})
        paper.signs(xs, seen, shape, filled=kind == "answers", size=26)
    for one in _inside(row, ruler.conflicts):
        x = _x(row, int(one.address))
        paper.axes.plot([x, x], [marks - 8, seen + 8], color=_CLASH, linewidth=3, zorder=3, alpha=0.9)
        paper.text(x, band + _BAND / 2, "!", 15, color="white", weight="bold", ha="center", va="center", zorder=7)
        paper.axes.scatter([x], [band + _BAND / 2], s=190, marker="o", color=_CLASH, zorder=6)
    foot = band + _BAND + _SEEN
    _labels(paper, below, foot, up=False)
    paper.y = foot + _height(below) + 10


def _draw_band(paper: _Paper, ruler: Ruler, row: Row, top: float) -> None:
    for piece in row.pieces:
        for stretch in _stretches(ruler, piece):
            first, last = max(stretch.range.first, piece.first), min(stretch.range.last, piece.last)
            left = _LEFT + (piece.at + (first - piece.first) * piece.each) * _UNIT
            wide = (last - first + 1) * piece.each * _UNIT
            paper.fill(stretch.kind, left, top, wide, _BAND)
            words = _within(ruler, stretch.kind, stretch.range.first, stretch.range.last, stretch.words, wide)
            if words:
                patch = {"boxstyle": "square,pad=0.15", "facecolor": "white", "edgecolor": "none"}
                middle = left + wide / 2
                paper.text(middle, top + _BAND / 2, words, _SMALL, ha="center", va="center", bbox=patch, zorder=4)
        left, right = _LEFT + piece.at * _UNIT, _LEFT + piece.end * _UNIT
        paper.axes.plot([left, left], [top - 4, top + _BAND + 4], color=_INK, linewidth=1.2)
        paper.axes.plot([right, right], [top - 4, top + _BAND + 4], color=_INK, linewidth=1.2)
    for before, after in zip(row.pieces, row.pieces[1:], strict=False):
        middle = _LEFT + (before.end + after.at) / 2 * _UNIT
        paper.text(middle, top + _BAND / 2, "//", _TEXT, ha="center", va="center", color=_FAINT)


def _within(ruler: Ruler, kind: str, first: int, last: int, words: str, wide: float) -> str:
    """The longest words of a stretch that fit inside it; empty where none do."""
    if kind in (EDGE, HOSTS) or (kind == FREE and last - first < _FEW):
        return ""
    edges = _range(ruler, first, last)
    for text in (f"{KINDS[kind]} {edges} {words}".rstrip(), f"{KINDS[kind]} {edges}".rstrip(), edges):
        if len(text) * 6.0 + 8 < wide:
            return text
    return ""


def _names(ruler: Ruler, row: Row, crowds: Sequence[Piece], undrawn: Sequence[Piece]) -> list[tuple[float, str, bool]]:
    """What stands above a ruler: the hosts of each address, with where it goes or comes from.

    Those of ``crowds`` stand in a ruler of their own; where that is one of ``undrawn`` their number stands here.
    """
    going, coming = ruler.going, ruler.coming
    clashes = {int(one.address) for one in ruler.conflicts}
    names: dict[int, list[str]] = {}
    for mark in _inside(row, ruler.marks):
        name = mark.host
        if (mark.host, mark.address) in going:
            name += f" → {tail(ruler, int(going[mark.host, mark.address]))}"
        elif (mark.host, mark.address) in coming:
            name += f" ← {tail(ruler, int(coming[mark.host, mark.address]))}"
        names.setdefault(int(mark.address), []).append(name)
    elsewhere = {number for piece in crowds for number in range(piece.first, piece.last + 1)}
    found = [
        (_x(row, number), f"{tail(ruler, number)} {' + '.join(several)}", number in clashes)
        for number, several in sorted(names.items())
        if number not in elsewhere or number in clashes
    ]
    for piece in undrawn:
        middle = (piece.first + piece.last) // 2
        count = sum(piece.first <= number <= piece.last for number in names)
        if row.place(middle) is not None:
            words = f"{_range(ruler, piece.first, piece.last)}: {count} addresses of hosts"
            found.append((_x(row, middle), words, False))
    return sorted(found)


def _words(ruler: Ruler, row: Row) -> list[tuple[float, str, bool]]:
    """What stands below a ruler: stretches whose words do not fit inside them, and its first and last address."""
    found: dict[float, str] = {}
    for piece in row.pieces:
        for stretch in _stretches(ruler, piece):
            first, last = max(stretch.range.first, piece.first), min(stretch.range.last, piece.last)
            wide = (last - first + 1) * piece.each * _UNIT
            is_little = last - first < _FEW or wide < 3 * _APART
            if stretch.kind == HOSTS or (stretch.kind == FREE and is_little):
                continue
            edges = (stretch.range.first, stretch.range.last)
            if not _within(ruler, stretch.kind, *edges, stretch.words, wide):
                edge = (
                    stretch.words.removesuffix(" address")
                    if stretch.kind == EDGE
                    else f"{KINDS[stretch.kind]} {stretch.words}".strip()
                )
                words = stretch.words if stretch.kind == OTHERS and stretch.words else edge
                found[(piece.middle(first) + piece.middle(last)) / 2] = f"{_range(ruler, *edges)} {words}"
        for number in (piece.first, piece.last):
            words = found.get(piece.middle(number), tail(ruler, number))
            found[piece.middle(number)] = words.replace(tail(ruler, number), str(ruler.address(number)), 1)
    return [(_LEFT + place * _UNIT, words, False) for place, words in sorted(found.items())]


def _labels(paper: _Paper, labels: Sequence[tuple[float, str, bool]], y: float, *, up: bool) -> None:
    """Words aslant, each with a line to its place on the ruler."""
    places = spread([x for x, *_ in labels], _APART, _LEFT, _RIGHT)
    lines = []
    for (x, words, clash), place in zip(labels, places, strict=True):
        toward = y - 9 if up else y + 9
        lines.append([(x, y), (place, toward)])
        style: dict[str, Any] = {"weight": "bold", "color": _CLASH} if clash else {}
        words = f"! {words}" if clash else words
        align = {"ha": "left", "va": "bottom" if up else "top", "rotation": 42 if up else -42}
        paper.text(place, toward, words, _SMALL, rotation_mode="anchor", **align, **style)
    paper.lines(lines)


def _height(labels: Iterable[tuple[float, str, bool]]) -> float:
    longest = max((len(words) for _, words, _ in labels), default=0)
    return 10.0 if not longest else 22 + longest * 4.5


def _draw_legend(paper: _Paper) -> None:
    """What every pattern and every sign means."""
    paper.y += 6
    x = float(_LEFT)
    for kind in _FILLS:
        paper.fill(kind, x, paper.y - 7, 30, 14)
        paper.text(x + 36, paper.y, KINDS[kind], _SMALL, va="center")
        x += 60 + 6.5 * len(KINDS[kind])
    paper.y += 22
    x = float(_LEFT) + 6
    for shape, filled, words in (
        (_BOTH, True, "held now and planned"),
        (_PLANNED, True, "planned"),
        (_HELD, False, "held now, and left"),
        (_ANSWERS, True, "answers on the wire"),
        (_LEASE, False, "leased"),
        (_RESERVED, False, "reserved"),
        (_RECORD, False, "in DNS or a list"),
    ):
        paper.signs([x], paper.y, shape, filled=filled)
        paper.text(x + 10, paper.y, words, _SMALL, va="center")
        x += 40 + 6.5 * len(words)
    paper.axes.scatter([x], [paper.y], s=150, marker="o", color=_CLASH, zorder=6)
    paper.text(x, paper.y, "!", 12, color="white", weight="bold", ha="center", va="center", zorder=7)
    paper.text(x + 12, paper.y, "conflict", _SMALL, va="center")
    paper.y += 24


def _inside(row: Row, several: Sequence[Any]) -> list[Any]:
    """Those of ``several``, which are in the order of their addresses, that a row shows."""
    found: list[Any] = []
    for piece in row.pieces:
        begin = bisect_left(several, piece.first, key=lambda one: int(one.address))
        end = bisect_right(several, piece.last, key=lambda one: int(one.address))
        found += several[begin:end]
    return found


def _stretches(ruler: Ruler, piece: Piece) -> Iterator[Stretch]:
    """The stretches of which a piece shows something."""
    begin = bisect_left(ruler.stretches, piece.first, key=lambda one: one.range.last)
    yield from takewhile(lambda one: one.range.first <= piece.last, ruler.stretches[begin:])


def _x(row: Row, number: int) -> float:
    place = row.place(number)
    assert place is not None
    return _LEFT + place * _UNIT


def _range(ruler: Ruler, first: int, last: int) -> str:
    """The edge addresses of a stretch, short where it stays within a block."""
    if first == last:
        return tail(ruler, first)
    if ruler.subnet.version == 4 and first >> 8 != last >> 8:
        return f"{ruler.address(first)}–{ruler.address(last)}"
    if ruler.subnet.version == 6 and last - first > 0xFFFF:
        return ""
    return f"{tail(ruler, first)}–{tail(ruler, last)}"
