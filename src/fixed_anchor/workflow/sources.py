"""Reading the sources of a plan, afresh at each check."""

from __future__ import annotations

from pathlib import Path

import msgspec

from fixed_anchor.core.claims import Claims, Remark
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
    found: list[Claims] = []
    unread: list[Unread] = []
    for source in plan.sources:
        reader = Reader(Path(plan.file).parent)
        try:
            found.append(_read(source, reader))
        except InputError as error:
            error = without_quotes(error, reader)
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
    claims = SOURCES[source.kind].claims(reader.read(path), origin, reader)
    broken, untidy = (tuple(_without_quotes(r, reader) for r in remarks) for remarks in (claims.broken, claims.untidy))
    return msgspec.structs.replace(claims, broken=broken, untidy=untidy)


#: Stands for a message that may quote a file which lies outside the plan's folder.
_NOT_QUOTED = (
    "this line is not as expected; what stands there is not shown, since the file lies outside the plan's folder"
)


def without_quotes(error: InputError, reader: Reader) -> InputError:
    """The error, without words of a file outside the plan's folder: a plan may point to any file of this machine."""
    if error.file is None or error.line is None or not reader.is_outside(reader.path(error.file)):
        return error
    return InputError(_NOT_QUOTED, file=error.file, line=error.line, column=error.column)


def _without_quotes(remark: Remark, reader: Reader) -> Remark:
    if not remark.place.line or not reader.is_outside(reader.path(remark.place.file)):
        return remark
    return Remark(_NOT_QUOTED, remark.place)
