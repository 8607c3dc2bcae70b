"""Reading the JSON documents of the commands in tests."""

from __future__ import annotations

import json
from typing import Any


def only(text: str) -> dict[str, Any]:
    """The part of the one host of a document."""
    (host,) = json.loads(text)["hosts"]
    found: dict[str, Any] = host
    return found


def findings(text: str | dict[str, Any]) -> list[dict[str, Any]]:
    """All findings of a document: those of no host, and then those of every host."""
    document = json.loads(text) if isinstance(text, str) else text
    return [*document.get("findings", []), *(f for host in document["hosts"] for f in host["findings"])]


def addresses(text: str | dict[str, Any]) -> list[dict[str, Any]]:
    """What was asked about every address of a document."""
    document = json.loads(text) if isinstance(text, str) else text
    return [a for host in document["hosts"] for a in host["addresses"]]
