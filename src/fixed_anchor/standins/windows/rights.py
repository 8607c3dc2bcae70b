"""Who may do what with the files of a simulated Windows machine: owners, entries, ``icacls`` and ``Get-Acl``.

Files and folders are the real ones of the disk it lies on. What is said of one is kept by its number there, as it goes
along when the file is renamed. Whatever says nothing of its own has the entries of the folder above; at the top they
are those of the folder for programs: everybody reads, none but administrators writes. ``root`` of the state stands
before each path, ``makes_as`` is who owns what is made, ``icacls_fails`` counts calls that fail.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

from fixed_anchor.standins.windows.addressing import Failed
from fixed_anchor.standins.windows.state import State

ADMINISTRATORS = "BA"
#: A person without rights of an administrator.
SOMEBODY = "S-1-5-21-77-88-99-1004"
_NAMES = {"BA": "BUILTIN\\Administrators", "SY": "NT AUTHORITY\\SYSTEM", SOMEBODY: "GANNET-WS\\smew"}
_NUMBERS = {"S-1-5-18": "SY", "S-1-5-32-544": "BA"}
_TOP = ("(A;OICIID;FA;;;SY)", "(A;OICIID;FA;;;BA)", "(A;OICIID;0x1200a9;;;BU)", "(A;OICIIOID;GA;;;CO)")


def described(state: State, path: Path, **more: Any) -> None:
    """Says of a path its ``owner``, ``entries`` of its own, ``(TYPE;FLAGS;RIGHTS;;;WHO)``, and if it ``inherits``."""
    record = state.setdefault("rights", {}).setdefault(_number(path), {})
    record.update(more)


def get_acl(state: State, path: str) -> dict[str, str]:
    """``Get-Acl``: the owner's name, and all of it as text (Security Descriptor Definition Language)."""
    there = _there(state, path)
    owner = str(_record(state, there).get("owner", state.get("makes_as", ADMINISTRATORS)))
    is_bound = not _record(state, there).get("inherits", True)
    entries = "".join(_entries(state, there))
    return {
        "Owner": _NAMES.get(owner, owner),
        "Sddl": f"O:{owner}G:{owner}D:{'PAI' if is_bound else 'AI'}{entries}",
    }


def icacls(state: State, words: list[str]) -> dict[str, Any]:
    """``icacls``: of a link it is what that leads to. Other entries of its own stay whatever is granted."""
    there = _there(state, words[0])
    if state.get("icacls_fails", 0) > 0:
        state["icacls_fails"] -= 1
        return {"status": 5, "said": f"{words[0]}: Access is denied."}
    at = 1
    while at < len(words):
        word = words[at]
        at += 1
        if word == "/setowner":
            described(state, there, owner=_number_of(words[at]))
            at += 1
        elif word == "/inheritance:r":
            described(state, there, inherits=False)
        elif word == "/grant:r":
            while at < len(words) and words[at].startswith("*"):
                who, _, what = words[at].partition(":")
                own = [e for e in _record(state, there).get("entries", ()) if not e.endswith(f";{_number_of(who)})")]
                flags = "".join(f for f in ("OI", "CI") if f"({f})" in what)
                described(state, there, entries=[*own, f"(A;{flags};FA;;;{_number_of(who)})"])
                at += 1
        else:
            return {"status": 87, "said": f"Invalid parameter {word!r}"}
    return {"status": 0, "said": "Successfully processed 1 files; Failed processing 0 files"}


def _entries(state: State, path: Path) -> list[str]:
    record = _record(state, path)
    own = list(record.get("entries", ()))
    if not record.get("inherits", True):
        return own
    above = list(_TOP) if path == path.parent else _entries(state, path.parent)
    return [*own, *(_handed_down(entry) for entry in above if "OI" in entry or "CI" in entry)]


def _handed_down(entry: str) -> str:
    kind, flags, rest = entry.split(";", 2)
    return entry if "ID" in flags else f"{kind};{flags}ID;{rest}"


def _number_of(word: str) -> str:
    number = word.lstrip("*")
    return _NUMBERS.get(number, number)


def _there(state: State, path: str) -> Path:
    found = Path(f"{state.get('root', '')}{path}")
    if not found.exists():
        raise Failed(f"Cannot find path '{path}' because it does not exist.")
    return found


def _number(path: Path) -> str:
    return str(path.stat().st_ino)


def _record(state: State, path: Path) -> dict[str, Any]:
    return state.get("rights", {}).get(_number(path), {})  # type: ignore[no-any-return]
