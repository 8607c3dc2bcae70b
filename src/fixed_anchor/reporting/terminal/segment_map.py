"""The map of a segment in a terminal: blocks of 256 addresses as bars, and below them every stretch and every host.

A bar has a cell for four addresses; where one cell has several marks, its 64 addresses are drawn again, one to a cell.
"""

from __future__ import annotations

from collections.abc import Iterable

from rich.console import Console
from rich.text import Text

from fixed_anchor.core.segment_map import ASIDE, EDGE, FREE, HOSTS, OTHERS, POOL, Mark, Ruler, SegmentMap
from fixed_anchor.reporting.terminal.map_words import KINDS, counts, tail
from fixed_anchor.reporting.terminal.paper import plural, put, put_table, styled

#: How each kind of stretch is filled: told apart without any colour.
FILLS = {EDGE: "|", POOL: "=", ASIDE: "/", HOSTS: "#", OTHERS: "%", FREE: "."}
_BLOCK, _CELLS, _MARGIN = 256, 64, 6
#: So many blocks are drawn at most, and so many stretches are listed.
_BLOCKS, _LINES = 8, 40


def show_map(out: Console, found: SegmentMap, title: str) -> None:
    """Every subnet of the segment, with its counts, bars and lists; then what was not looked at."""
    for ruler in found.rulers:
        put(out, Text().append(f"{found.segment} {ruler.subnet}", style="bold").append(f"   {title}", style="dim"))
        put(out, counts(ruler))
        for number in _drawn(ruler):
            out.print()
            _show_bar(out, ruler, number, _BLOCK)
            crowds = _crowds(ruler, number)
            if crowds:
                put(out, "the crowded part, larger:", indent=_MARGIN, style="dim")
            for crowd in crowds:
                _show_bar(out, ruler, crowd, _CELLS)
        out.print()
        put(out, "  ".join(f"{FILLS[kind]} {KINDS[kind]}" for kind in FILLS), style="dim")
        put(
            out,
            "v planned  o held now  x both  2-9 so many  ! conflict  + answers  - leased or written down",
            style="dim",
        )
        _show_lists(out, ruler)
        out.print()
    for missing in found.not_looked_at:
        put(out, f"not asked: {missing}", style="yellow")


def show_free(out: Console, found: SegmentMap) -> None:
    """The free stretches, one to a line."""
    for ruler in found.rulers:
        for free in ruler.free:
            put(out, f"{free}   {plural(free.size, 'address', 'addresses')}")


def _drawn(ruler: Ruler) -> list[int]:
    """The first addresses of the blocks that are drawn: all of a small subnet, the used ones of a large one."""
    begin, end = int(ruler.subnet.network_address), int(ruler.subnet.broadcast_address)
    if end - begin < _BLOCKS * _BLOCK:
        return list(range(begin, end + 1, _BLOCK))
    return sorted({number - (number - begin) % _BLOCK for number in ruler.noted})[:_BLOCKS]


def _crowds(ruler: Ruler, block: int) -> list[int]:
    """The 64 addresses around each cell that has more marks than it can show."""
    cells: dict[int, set[int]] = {}
    for number in ruler.noted:
        if block <= number < block + _BLOCK:
            cells.setdefault((number - block) * _CELLS // _BLOCK, set()).add(number)
    crowded = {block + cell * (_BLOCK // _CELLS) for cell, numbers in cells.items() if len(numbers) > 1}
    return sorted({number - (number - block) % _CELLS for number in crowded})


def _show_bar(out: Console, ruler: Ruler, first: int, size: int) -> None:
    """The marks, the bar itself with its edge addresses, and what was seen, one line each."""
    last = min(first + size - 1, int(ruler.subnet.broadcast_address))
    each = size // _CELLS
    marks: dict[int, dict[int, str]] = {}
    seen: dict[int, str] = {}
    for mark in ruler.marks:
        number = int(mark.address)
        if first <= number <= last:
            marks.setdefault((number - first) // each, {})[number] = _sign(mark)
    for one in ruler.sightings:
        number = int(one.address)
        if first <= number <= last:
            cell = (number - first) // each
            seen[cell] = "+" if one.kind == "answers" or seen.get(cell) == "+" else "-"
    clash = {(int(one.address) - first) // each for one in ruler.conflicts if first <= int(one.address) <= last}
    width = (last - first) // each + 1
    above = "".join(_shown(marks.get(cell, {})) for cell in range(width))
    if clash:
        cells = "".join("!" if cell in clash else " " for cell in range(width))
        put(out, Text(" " * _MARGIN).append(cells.rstrip(), style="bold red"))
    if above.strip():
        out.print(Text(" " * _MARGIN + above.rstrip()))
    begin, end = tail(ruler, first), tail(ruler, last)
    out.print(Text(f"{begin:>{_MARGIN - 1}} ").append(_bar(ruler, first, each, width)).append(f" {end}"))
    below = "".join(seen.get(cell, " ") for cell in range(width))
    if below.strip():
        out.print(Text(" " * _MARGIN + below.rstrip()))


def _bar(ruler: Ruler, first: int, each: int, width: int) -> str:
    """The fills, cell by cell: a cell shows the kind of most of its addresses that somebody has."""
    filled = []
    for cell in range(width):
        begin = first + cell * each
        sizes: dict[str, int] = {}
        for stretch in ruler.stretches:
            common = min(stretch.range.last, begin + each - 1) - max(stretch.range.first, begin) + 1
            if common > 0:
                sizes[stretch.kind] = sizes.get(stretch.kind, 0) + common
        # A single address is not to vanish in what surrounds it.
        special = next((kind for kind in (HOSTS, OTHERS, EDGE) if kind in sizes), None)
        filled.append(FILLS[special or max(sizes, key=lambda kind: sizes[kind])])
    return "".join(filled)


def _sign(mark: Mark) -> str:
    return "x" if mark.is_held and mark.is_planned else "v" if mark.is_planned else "o"


def _shown(signs: dict[int, str]) -> str:
    if len(signs) > 1:
        return str(min(len(signs), 9))
    return next(iter(signs.values()), " ")


def _show_lists(out: Console, ruler: Ruler) -> None:
    """Hosts with their moves and conflicts, then the stretches."""
    conflicts = {one.address: ", ".join(one.codes) for one in ruler.conflicts}
    going, coming = ruler.going, ruler.coming
    rows: list[list[str | Text]] = []
    for mark in ruler.marks:
        what = "keeps it" if mark.is_held and mark.is_planned else "gets it" if mark.is_planned else "holds it"
        if (mark.host, mark.address) in going:
            what = f"leaves for {going[mark.host, mark.address]}"
        elif (mark.host, mark.address) in coming:
            what = f"comes from {coming[mark.host, mark.address]}"
        against = styled(conflicts.pop(mark.address, ""), "bold red")
        rows.append([str(mark.address), styled(mark.host, "bold"), what, against])
    rows += [[str(address), "", "", styled(codes, "bold red")] for address, codes in conflicts.items()]
    if rows:
        out.print()
        put_table(out, ["address", "host", "what", "conflict"], rows)
    lines = list(_lines(ruler))
    out.print()
    put_table(out, ["stretch", "what", ""], lines[:_LINES])
    if len(lines) > _LINES:
        put(out, f"and {len(lines) - _LINES} more; `--json` has them all", style="dim")


def _lines(ruler: Ruler) -> Iterable[list[str | Text]]:
    for stretch in ruler.stretches:
        if stretch.kind in (EDGE, HOSTS):
            continue
        size = plural(stretch.range.size, "address", "addresses") if stretch.range.size < 1_000_000 else ""
        style = "bold green" if stretch.kind == FREE else ""
        yield [str(stretch.range), styled(KINDS[stretch.kind], style), "; ".join(filter(None, [size, stretch.words]))]
