"""The JSON documents of the commands: one type each. Scripts rely on these shapes; their schemas are made of them.

What all of them share is in :mod:`~fixed_anchor.reporting.documents.parts`. A document is about hosts, in a list
also where there is one; each has its own result, and its own error. A command that fails prints the same document
with ``errors``.
"""

from __future__ import annotations

import importlib
import json

import msgspec

from fixed_anchor.reporting.documents.parts import Document

#: The documents by command: module and type, so that a command imports its own alone.
DOCUMENTS: dict[str, tuple[str, str]] = {
    "survey": ("stock", "SurveyDocument"),
    "propose": ("stock", "ProposeDocument"),
    "probe": ("checking", "ProbeDocument"),
    "check": ("checking", "CheckDocument"),
    "map": ("mapping", "MapDocument"),
    "draft": ("drafting", "DraftDocument"),
    "cutover": ("changes", "ChangeDocument"),
    "restore": ("changes", "ChangeDocument"),
    "confirm": ("changes", "ChangeDocument"),
    "close": ("changes", "ChangeDocument"),
    "status": ("changes", "StatusDocument"),
    "history": ("changes", "HistoryDocument"),
    "verify": ("verifying", "VerifyDocument"),
    "explain": ("explaining", "ExplainDocument"),
}
#: The same with a line for each event of a run, and with what `history --runs` prints.
EVERY = DOCUMENTS | {"cutover-events": ("events", "RunEvent"), "history-runs": ("runs", "RunsDocument")}

#: Up to this many bytes a document is indented; a larger one only a program reads.
_FOR_PEOPLE = 1_000_000


def document_type(command: str) -> type[Document]:
    """The type of the document that ``command`` prints."""
    module, name = EVERY[command]
    found: type[Document] = getattr(importlib.import_module(f"fixed_anchor.reporting.documents.{module}"), name)
    return found


def as_line(document: Document) -> str:
    """The same in one line, for a document that is one of many."""
    return json.dumps(msgspec.to_builtins(document), ensure_ascii=True)


def as_text(document: Document) -> str:
    """The document as JSON in ASCII: nothing in it can move a terminal's cursor."""
    encoded = msgspec.json.encode(document)
    if len(encoded) < _FOR_PEOPLE:
        encoded = msgspec.json.format(encoded, indent=2)
    # Writing everything as ASCII is ten times slower, and seldom needed.
    if encoded.isascii():
        return encoded.decode()
    return json.dumps(msgspec.to_builtins(document), indent=2, ensure_ascii=True)
