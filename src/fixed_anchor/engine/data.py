"""The data of one change: everything ``engine.sh`` reads, as files of its folder.

Nothing here is ever shell source. A step is a command with one argument a line, so
nothing needs quoting; what cannot be written that way is refused.
"""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from fixed_anchor.core.errors import InputError
from fixed_anchor.dialects.protocol import Fed, FileEdit, Steps, argv_of, encode
from fixed_anchor.engine.boot import boot_files

#: Phases of the steps, as the engine calls them, and their field in :class:`Steps`.
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
}


class Change(msgspec.Struct, frozen=True):
    """What is to be done on one host: edits of files, the steps around them, and how it is guarded.

    ``interfaces`` are those whose state must come back when the change is put back.
    ``confirm_within`` is in seconds, counted from activation. ``unattended`` lets a
    favourable verification confirm. ``about`` is kept for the history, as JSON, and
    ``told`` are its lines in the log.

    Where old addresses are held until the decision, ``edits`` are the files with them,
    ``finals`` the texts without, by path; ``held`` are the facts that then end, as the
    engine observes them, and ``held_until`` the uptime in seconds at which they must.
    ``expect`` are the facts that the engine's own small checks ask for.
    """

    interfaces: tuple[str, ...]
    edits: tuple[FileEdit, ...]
    steps: Steps
    confirm_within: int
    unattended: bool
    about: bytes
    told: tuple[str, ...] = ()
    finals: tuple[tuple[str, str], ...] = ()
    held: tuple[str, ...] = ()
    held_until: int | None = None
    expect: tuple[str, ...] = ()


def engine_source() -> bytes:
    """The text of ``engine.sh``."""
    from importlib import resources

    return resources.files(__package__).joinpath("engine.sh").read_bytes()


def as_files(change: Change, folder: str, init: str) -> dict[str, tuple[bytes, int]]:
    """Every file of the change, by its path below ``folder``, with its mode bits.

    ``init`` is what boots the host, a word of :data:`~fixed_anchor.engine.boot.INITS` or
    empty. Raises :class:`InputError` for a path or argument that cannot be written one a line.
    """
    files: dict[str, tuple[bytes, int]] = {}

    def put(path: str, data: bytes) -> None:
        files[path] = (data, 0o600)

    files["engine.sh"] = (engine_source(), 0o700)
    put("interface", _lines(change.interfaces))
    put("confirm-within", b"%d\n" % change.confirm_within)
    put("launch", b"systemd\n" if init == "systemd" else b"session\n")
    put("about.json", change.about)
    put("about", _lines(" ".join(line.split()) for line in change.told))
    put("expect", _lines(change.expect))
    if change.unattended:
        put("unattended", b"")
    for name, data in boot_files(init, folder).items():
        put(name, data)
    if change.held:
        put("held", _lines(change.held))
    if change.held_until is not None:
        put("held-until", b"%d\n" % change.held_until)
    finals = dict(change.finals)
    manifest = b""
    for number, edit in enumerate(change.edits, 1):
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
        for number, step in enumerate(getattr(change.steps, field), 1):
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
