"""The data of one change: everything ``engine.sh`` reads, as files of its folder.

Nothing here is ever shell source. A step is a command with one argument a line, so
nothing needs quoting; what cannot be written that way is refused.
"""

from __future__ import annotations

import msgspec

from fixed_anchor.core.errors import InputError
from fixed_anchor.dialects.protocol import FileEdit, Steps, encode

PHASES = ("leave", "activate", "unload", "reload", "escalate", "boot")

BOOT_UNIT_PATH = "/etc/systemd/system/fixed-anchor-put-back.service"
BOOT_UNIT_WANTS = "/etc/systemd/system/sysinit.target.wants/fixed-anchor-put-back.service"

_BOOT_UNIT = """\
# Exists only while an address change is open. Without confirmation before the machine
# went down, this puts the former files back before any network service reads them.
[Unit]
Description=Fixed Anchor: put back an unconfirmed address change
DefaultDependencies=no
RequiresMountsFor=/etc {folder}
After=local-fs.target
Wants=network-pre.target
Before=network-pre.target systemd-networkd.service NetworkManager.service networking.service network.service
Before=sysinit.target shutdown.target
Conflicts=shutdown.target

[Service]
Type=oneshot
ExecStart=/bin/sh {folder}/engine.sh boot {folder}

[Install]
WantedBy=sysinit.target
"""


class Change(msgspec.Struct, frozen=True):
    """What is to be done on one host: edits of files, the steps around them, and how it is guarded.

    ``interfaces`` are those whose state must come back when the change is put back.
    ``confirm_within`` is in seconds, counted from activation. ``unattended`` lets a
    favourable verification confirm. ``about`` is kept for the history, as JSON.
    """

    interfaces: tuple[str, ...]
    edits: tuple[FileEdit, ...]
    steps: Steps
    confirm_within: int
    unattended: bool
    about: bytes


def engine_source() -> bytes:
    """The text of ``engine.sh``."""
    from importlib import resources

    return resources.files(__package__).joinpath("engine.sh").read_bytes()


def as_files(change: Change, folder: str, systemd: bool) -> dict[str, tuple[bytes, int]]:
    """Every file of the change, by its path below ``folder``, with its mode bits.

    ``systemd`` says whether systemd runs the host. Raises :class:`InputError` for a
    path or argument that cannot be written one a line.
    """
    files: dict[str, tuple[bytes, int]] = {
        "engine.sh": (engine_source(), 0o700),
        "interface": (b"".join(_line(name) for name in change.interfaces), 0o600),
        "confirm-within": (b"%d\n" % change.confirm_within, 0o600),
        "launch": (b"systemd\n" if systemd else b"session\n", 0o600),
        "about.json": (change.about, 0o600),
    }
    if change.unattended:
        files["unattended"] = (b"", 0o600)
    if systemd:
        files["boot-unit"] = (_BOOT_UNIT.format(folder=folder).encode(), 0o600)
        files["boot-unit-path"] = (_line(BOOT_UNIT_PATH), 0o600)
        files["boot-unit-wants"] = (_line(BOOT_UNIT_WANTS), 0o600)
    manifest = b""
    for number, edit in enumerate(change.edits, 1):
        kind = "create" if edit.before is None else "delete" if edit.after is None else "replace"
        shown = edit.after or edit.before
        assert shown is not None
        manifest += _line(f"{number} {kind} {shown.mode:04o} {shown.uid} {shown.gid} {edit.path}")
        if edit.before is not None:
            files[f"was/{number}"] = (encode(edit.before.text), 0o600)
        if edit.after is not None:
            files[f"new/{number}"] = (encode(edit.after.text), 0o600)
    files["manifest"] = (manifest, 0o600)
    for phase in PHASES:
        for number, argv in enumerate(getattr(change.steps, phase), 1):
            files[f"steps/{phase}/{number:02d}"] = (b"".join(_line(word) for word in argv), 0o600)
    return files


def _line(text: str) -> bytes:
    if text != text.strip() or any(ord(char) < 32 for char in text):
        raise InputError(f"{text!r} holds characters that a change cannot carry", expected="one plain line")
    return encode(text) + b"\n"
