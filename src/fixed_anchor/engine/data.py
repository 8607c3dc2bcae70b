"""The data of one change: everything ``engine.sh`` reads, as files of its folder.

Nothing here is ever shell source. A step is a command with one argument a line, so
nothing needs quoting; what cannot be written that way is refused.
"""

from __future__ import annotations

import json
from collections.abc import Iterable

import msgspec

from fixed_anchor.change.change import Terms
from fixed_anchor.change.content import FileContent
from fixed_anchor.change.files import FileEdit, encode
from fixed_anchor.change.steps import Fed, argv_of
from fixed_anchor.core.errors import InputError
from fixed_anchor.engine.boot import boot_files
from fixed_anchor.engine.source import engine_source

#: Phases of the steps, as the engine calls them, and their field in :class:`~fixed_anchor.change.steps.Steps`.
PHASES = {
    "leave": "leave",
    "activate": "activate",
    "unload": "unload",
    "reload": "reload",
    "escalate": "escalate",
    "boot": "boot",
    "kernel": "kernel",
    "drop": "drop",
    "drop-escalate": "drop_escalate",
    "commit": "commit",
    "announce": "announce",
}


def as_files(
    content: FileContent, terms: Terms, folder: str, init: str, held_until: int | None = None
) -> dict[str, tuple[bytes, int]]:
    """Every file of a change, by its path below ``folder``, with its mode bits.

    ``init`` is what boots the host, a word of :data:`~fixed_anchor.engine.boot.INITS` or
    empty. ``held_until`` is the uptime in seconds at which what is held must end. Raises
    :class:`InputError` for a path or argument that cannot be written one a line.
    """
    files: dict[str, tuple[bytes, int]] = {}

    def put(path: str, data: bytes) -> None:
        files[path] = (data, 0o600)

    files["engine.sh"] = (engine_source(), 0o700)
    put("interface", _lines(content.interfaces))
    put("confirm-within", b"%d\n" % terms.confirm_within)
    put("launch", b"systemd\n" if init == "systemd" else b"session\n")
    put("about.json", json.dumps(terms.notes, indent=1).encode())
    put("about", _lines(" ".join(line.split()) for line in terms.told))
    put("expect", _lines(content.expect))
    put("gateway-patience", b"%d\n" % terms.patience.gateway)
    if terms.judge.before is not None:
        put("before.json", msgspec.json.format(msgspec.json.encode(terms.judge.before), indent=1))
    if terms.unattended:
        put("unattended", b"")
    for name, data in boot_files(init, folder).items():
        put(name, data)
    if content.grace_facts:
        put("held", _lines(content.grace_facts))
    if held_until is not None:
        put("held-until", b"%d\n" % held_until)
    finals = dict(content.finals)
    manifest = b""
    for number, edit in enumerate(content.edits, 1):
        manifest += _line(_manifest_line(number, edit))
        if edit.before is not None:
            put(f"was/{number}", encode(edit.before.text))
        if edit.link_before is not None:
            put(f"was-link/{number}", _line(edit.link_before))
        if edit.link_after is not None:
            put(f"new/{number}", _line(edit.link_after))
        elif edit.after is not None:
            put(f"new/{number}", encode(edit.after.text))
            final = finals.get(edit.path, edit.after.text)
            if final != edit.after.text:
                put(f"final/{number}", encode(final))
    put("manifest", manifest)
    for phase, field in PHASES.items():
        for number, step in enumerate(getattr(content.steps, field), 1):
            put(f"steps/{phase}/{number:02d}", _lines(argv_of(step)))
            if isinstance(step, Fed):
                put(f"input/{phase}/{number:02d}", encode(step.text))
    return files


def _manifest_line(number: int, edit: FileEdit) -> str:
    shown = edit.after or edit.before
    mode, uid, gid = (shown.mode, shown.uid, shown.gid) if shown is not None else (0o644, 0, 0)
    if edit.link_after is not None:
        kind = "link"
    elif edit.before is None and edit.link_before is None:
        kind = "create"
    else:
        kind = "delete" if edit.after is None else "replace"
    return f"{number} {kind} {mode:04o} {uid} {gid} {edit.path}"


def _lines(texts: Iterable[str]) -> bytes:
    return b"".join(_line(text) for text in texts)


def _line(text: str) -> bytes:
    if text != text.strip() or any(ord(char) < 32 for char in text):
        raise InputError(f"{text!r} holds characters that a change cannot carry", expected="one plain line")
    return encode(text) + b"\n"
