"""Reading the sources of a plan, afresh at each check."""

from __future__ import annotations

from pathlib import Path

from fixed_anchor.core.claims import Claims
from fixed_anchor.core.errors import InputError
from fixed_anchor.core.knowledge import Unread
from fixed_anchor.core.plan import Plan, SourceRef
from fixed_anchor.sources import SOURCES
from fixed_anchor.sources.protocol import Origin, Reader


def read_sources(plan: Plan, carried: dict[str, Claims] | None = None) -> tuple[list[Claims], tuple[Unread, ...]]:
    """What the sources of ``plan`` claim, and those that could not be read.

    ``carried`` are claims by label from saved evidence: they stand in where a source cannot
    be read here.
    """
    reader = Reader(Path(plan.file).parent)
    found: list[Claims] = []
    unread: list[Unread] = []
    for source in plan.sources:
        try:
            found.append(_read(source, reader))
        except InputError as error:
            kept = (carried or {}).get(source.label)
            if kept is not None:
                found.append(kept)
                continue
            what = error.what + (f"; expected {error.expected}" if error.expected else "")
            what += f". {error.remedy[0].upper()}{error.remedy[1:]}" if error.remedy else ""
            unread.append(Unread(source.label, error.where or f"{plan.file}:{source.line}", what))
    return found, tuple(unread)


def _read(source: SourceRef, reader: Reader) -> Claims:
    path = reader.path(source.path)
    origin = Origin(source.kind, source.path, path, source.options)
    return SOURCES[source.kind].claims(reader.read(path), origin, reader)
