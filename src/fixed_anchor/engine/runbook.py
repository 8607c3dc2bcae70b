"""A change in one file, to carry to a host: ``runbook.sh``, and below it the engine and the data as text."""

from __future__ import annotations

import hashlib
import re
from importlib import resources

from fixed_anchor.change.change import Terms
from fixed_anchor.change.content import FileContent
from fixed_anchor.core.errors import InputError
from fixed_anchor.daemons import busy_patterns
from fixed_anchor.engine.boot import INITS, boot_files
from fixed_anchor.engine.data import as_files

#: Stands for the change's folder, which is known only on the host.
_FOLDER = "@FOLDER@"


def runbook(content: FileContent, terms: Terms, macs: dict[str, str | None]) -> bytes:
    """The script for a change; ``macs`` tell the host by its interfaces.

    Raises :class:`InputError` for contents that no text can carry.
    """
    files = as_files(content, terms, _FOLDER, "")
    lines = "".join(f"{name} {mac or '-'}\n" for name, mac in macs.items())
    files["macs"] = (lines.encode(), 0o600)
    # What shows that the network stack is in the middle of something.
    files["busy"] = ("".join(f"{pattern}\n" for pattern in busy_patterns()).encode(), 0o600)
    for init in INITS:
        for name, data in boot_files(init, _FOLDER).items():
            files[f"init/{init}/{name}"] = (data, 0o600)
    head = resources.files(__package__).joinpath("runbook.sh").read_bytes()
    data = b"".join(_section(path, *file) for path, file in files.items())
    text = head + b"#DATA\n" + data
    return text + b"#END " + hashlib.sha256(text).hexdigest().encode() + b"\n"


def _section(path: str, data: bytes, mode: int) -> bytes:
    if b"\0" in data:
        raise InputError("this file holds a NUL byte, which no runbook can carry", file=path)
    out = b"=%03o %s\n" % (mode, path.encode())
    pieces = re.split(b"(?<=\n)", data)
    for piece in pieces:
        if piece:
            out += (b"|" + piece) if piece.endswith(b"\n") else (b"+" + piece + b"\n")
    return out
