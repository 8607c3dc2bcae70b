"""What the formats have in common where an interface joins a radio network."""

from __future__ import annotations

from fixed_anchor.core.config import Wireless
from fixed_anchor.core.errors import NotSupported


def unknown_network(wireless: Wireless) -> NotSupported:
    """The refusal of a network whose passphrase neither the plan nor a file of the stack has."""
    return NotSupported(
        f"no file of the stack knows the network {wireless.network!r}",
        remedy="add `password: file:PATH` to `wifi:` in the plan",
    )


def kept_elsewhere(wireless: Wireless, path: str) -> NotSupported:
    """The refusal of a network that a file joins by something else than a passphrase that stands in it."""
    return NotSupported(
        f"{path} joins {wireless.network!r}, and has no passphrase for it",
        file=path,
        remedy="add `password: file:PATH` to `wifi:` in the plan, or declare the link by hand",
    )
