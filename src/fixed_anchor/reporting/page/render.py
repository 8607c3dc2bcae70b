"""A report as one HTML page that needs nothing beside it, or as Markdown.

Every value of a template passes :func:`_shown`: no control character, no secret; and in HTML it is escaped.
"""

from __future__ import annotations

import base64
import re
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import msgspec
from jinja2 import Environment, FileSystemLoader, StrictUndefined
from markupsafe import Markup

from fixed_anchor.core.errors import printable
from fixed_anchor.core.secrets import masked_line
from fixed_anchor.core.segment_map import FREE, SegmentMap
from fixed_anchor.reporting.terminal.map_words import KINDS, counts
from fixed_anchor.workflow.handover import Handover, HostPage

#: What Markdown would take for markup, CommonMark 0.31 section 2.4.
_MARKUP = re.compile(r"([\\`*_{}\[\]<>#|~&!])")


class DrawnMap(msgspec.Struct, frozen=True):
    """The map of a segment in a page: ``picture`` is an address of the picture itself, empty where none was drawn."""

    segment: str
    picture: str
    words: Sequence[str]
    free: Sequence[str]
    not_asked: Sequence[str]


def as_html(report: Handover, made: str, version: str) -> str:
    """The page; ``made`` is when, and by which ``version`` of the tool."""
    environment = _environment(autoescape=True, finalize=_in_html)
    return environment.get_template("page.html.jinja").render(**_values(report, made, version))


def as_markdown(report: Handover, made: str, version: str) -> str:
    """The same as Markdown, without pictures."""
    environment = _environment(autoescape=False, finalize=_in_markdown)
    return environment.get_template("page.md.jinja").render(**_values(report, made, version, pictures=False))


def _environment(**more: Any) -> Environment:
    made = Environment(
        loader=FileSystemLoader(Path(__file__).parent),
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
        **more,
    )
    made.filters |= {"fenced": _fenced, "diff_class": _diff_class, "fragment": Markup}
    return made


def _shown(value: object) -> str:
    return masked_line(printable(str(value)))


def _in_html(value: object) -> object:
    # What a template has made is escaped already.
    return value if isinstance(value, Markup) else _shown(value)


def _in_markdown(value: object) -> str:
    return str(value) if isinstance(value, Markup) else _MARKUP.sub(r"\\\1", _shown(value))


def _values(report: Handover, made: str, version: str, pictures: bool = True) -> dict[str, Any]:
    title = f"Addresses of {report.site}" if report.site else "Addresses"
    return {
        "report": report,
        "title": f"{title}: run {report.run.number}" if report.run is not None else title,
        "made": made,
        "version": version,
        "maps": [_map(one, made, pictures) for one in report.maps],
        "summary": [(host, _outcome(host)) for host in report.hosts],
    }


def _outcome(host: HostPage) -> str:
    """How a host stands, in a word or two: its last change, or what the check says of it."""
    if host.why_not:
        return "not read"
    if host.changes:
        return host.changes[-1].state + (", changed again since" if host.later else "")
    return f"not changed, {host.verdict}"


def _map(found: SegmentMap, made: str, pictures: bool) -> DrawnMap:
    picture = ""
    if pictures:
        try:
            from fixed_anchor.reporting.pictures.segment_map import picture as drawn

            data = base64.b64encode(drawn([found], made, "svg")).decode()
            picture = f"data:image/svg+xml;base64,{data}"
        except ModuleNotFoundError:
            pass
    words = [f"{ruler.subnet}: {counts(ruler)}" for ruler in found.rulers]
    words += [
        f"{one.range} {KINDS[one.kind]}" + (f": {one.words}" if one.words else "")
        for ruler in found.rulers
        for one in ruler.stretches
        if one.range.size > 1 and one.kind != FREE
    ]
    free = [str(one) for ruler in found.rulers for one in ruler.free]
    return DrawnMap(found.segment, picture, words, free, found.not_looked_at)


def _diff_class(line: str) -> str:
    """How a line of a diff is set: what kind of line it is, in a word."""
    kinds = {"+++": "file", "---": "file", "@": "place", "+": "added", "-": "gone"}
    return next((kind for start, kind in kinds.items() if line.startswith(start)), "same")


def _fenced(lines: Sequence[str], language: str = "") -> Markup:
    """Lines as a block of code, CommonMark 0.31 section 4.5: its fence is longer than any run of backticks in it."""
    shown = [_shown(line) for line in lines]
    longest = max((len(run) for line in shown for run in re.findall("`+", line)), default=0)
    fence = "`" * max(3, longest + 1)
    return Markup("\n".join([fence + language, *shown, fence]))
