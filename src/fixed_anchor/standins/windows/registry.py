"""How values and keys of the registry are changed on a simulated machine; nothing picks them up before a restart."""

from __future__ import annotations

from typing import Any

from fixed_anchor.standins.windows.addressing import Failed
from fixed_anchor.standins.windows.state import State


def set_value(state: State, key: str, name: str, value: Any) -> None:
    """``Set-ItemProperty``: one value of a key, which must be there."""
    if key not in state["registry"]:
        raise Failed(f"Cannot find path 'HKLM:\\{key}' because it does not exist.")
    state["registry"][key][name] = value


def remove_value(state: State, key: str, name: str) -> None:
    """``Remove-ItemProperty``."""
    if name not in state["registry"].get(key, {}):
        raise Failed(f"Property {name} does not exist at path HKLM:\\{key}.")
    del state["registry"][key][name]


def new_key(state: State, key: str) -> None:
    """``New-Item``: a key without values; one that is there stays as it is."""
    state["registry"].setdefault(key, {})


def remove_key(state: State, key: str) -> None:
    """``Remove-Item``: a key with all below it."""
    below = [k for k in state["registry"] if k == key or k.startswith(key + "\\")]
    if not below:
        raise Failed(f"Cannot find path 'HKLM:\\{key}' because it does not exist.")
    for one in below:
        del state["registry"][one]
