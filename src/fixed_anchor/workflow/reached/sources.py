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
            error = _error_without_quotes(error, reader)
            kept = (carried or {}).get(source.label)
            if kept is not None:
                found.append(kept)
                continue
            what = error.what + (f"; expected {error.expected}" if error.expected else "")
            what += f". {error.remedy[0].upper()}{error.remedy[1:]}" if error.remedy else ""
            # A file that cannot be opened is a matter of the line that names it.
            where = error.where if error.where and error.line else f"{plan.file}:{source.line}"
            unread.append(Unread(source.label, where, what))
    return found, tuple(unread)


def _read(source: SourceRef, reader: Reader) -> Claims:
    path = reader.path(source.path)
    origin = Origin(source.kind, source.path, path, source.options)
    claims = SOURCES[source.kind].claims(reader.read(path), origin, reader)
    return msgspec.structs.replace(
        claims,
        broken=tuple(_remark_without_quotes(r, reader) for r in claims.broken),
        untidy=tuple(_remark_without_quotes(r, reader) for r in claims.untidy),
    )


#: Stands for a message that may quote a file which lies outside the plan's folder.
_NOT_QUOTED = (
    "this line is not as expected; what stands there is not shown, since the file lies outside the plan's folder"
)


def _may_be_quoted(file: str | None, line: int | None, reader: Reader) -> bool:
    """Not a line of a file outside the plan's folder: a plan may point to any file of this machine."""
    return file is None or line is None or not reader.is_outside(reader.path(file))


def _error_without_quotes(error: InputError, reader: Reader) -> InputError:
    if _may_be_quoted(error.file, error.line, reader):
        return error
    return InputError(_NOT_QUOTED, file=error.file, line=error.line, column=error.column)


def _remark_without_quotes(remark: Remark, reader: Reader) -> Remark:
    if _may_be_quoted(remark.place.file, remark.place.line or None, reader):
        return remark
    return Remark(_NOT_QUOTED, remark.place)
