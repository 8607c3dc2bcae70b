"""The radio network of a plan's wireless interface, with the passphrase from the file that the plan names."""

from __future__ import annotations

from pathlib import Path

from fixed_anchor.core.config import Wireless
from fixed_anchor.core.errors import InputError, NoAccess
from fixed_anchor.core.plan import Plan, WirelessPlan

#: IEEE 802.11i, annex H.4: what a passphrase has in characters, all of them ASCII that prints; 64 are a key.
_SHORTEST, _LONGEST = 8, 63
_KEY = 64


def network_to_join(plan: Plan, wifi: WirelessPlan | None) -> Wireless | None:
    """What ``wifi`` of a plan says, with its passphrase. The file of that counts from the folder of the plan.

    Raises :class:`InputError` for a file that others may read, or that has no passphrase, :class:`NoAccess` for one
    that cannot be read. Neither says anything of what is in it.
    """
    if wifi is None:
        return None
    if wifi.password is None:
        return Wireless(wifi.network)
    path = Path(plan.file).parent / wifi.password
    try:
        mode = path.stat().st_mode
        data = path.read_bytes()
    except OSError as error:
        raise NoAccess(f"the passphrase cannot be read: {error.strerror}", file=str(path)) from None
    if mode & 0o077:
        raise InputError(
            f"others may read the passphrase: mode {mode & 0o777:04o}", file=str(path), remedy=f"run `chmod 600 {path}`"
        )
    try:
        text = data.decode("ascii").rstrip("\r\n")
    except UnicodeDecodeError:
        text = ""
    is_key = len(text) == _KEY and all(char in "0123456789abcdefABCDEF" for char in text)
    if not (is_key or _SHORTEST <= len(text) <= _LONGEST) or not text.isprintable():
        raise InputError(
            "there is no passphrase in this file",
            file=str(path),
            expected=f"one line of {_SHORTEST} to {_LONGEST} characters, or {_KEY} hexadecimal digits",
        )
    return Wireless(wifi.network, text)
