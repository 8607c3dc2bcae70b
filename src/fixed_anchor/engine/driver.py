"""Calls the verbs of an engine, and reads what is kept of its changes: by a store, wherever that is.

It knows states, numbers and words, and nothing of what a change consists of.
"""

from __future__ import annotations

import json
import logging
from collections.abc import Callable, Mapping
from typing import Any

from fixed_anchor.change import states
from fixed_anchor.change.change import ChangeStatus
from fixed_anchor.core.errors import AnchorError, ChangeOpen, InputError, NoAccess, Refused, Stuck, printable
from fixed_anchor.machines.readable import Ran
from fixed_anchor.machines.store import Store

_log = logging.getLogger(__name__)

_ERRORS: dict[int, type[AnchorError]] = {
    1: Refused,
    2: InputError,
    4: NoAccess,
    5: Stuck,
    7: ChangeOpen,
}

#: Every file of a change by its path in the change's folder, with its mode bits.
Data = Mapping[str, tuple[bytes, int]]


#: Behind the name of a folder whose data is being laid down.
_LAYING = ".laying"


def changes_folder(store: Store) -> str:
    """The folder of all changes of a machine."""
    return f"{store.state_dir}/changes"


def never_begun(store: Store) -> str:
    """The sentence that no change was ever begun on the machine, where its state folder is not there; else empty."""
    state_dir = store.state_dir
    above, _, name = state_dir.rstrip("/").rpartition("/")
    there = name in store.folders(above or "/")
    return "" if there else f"no change was ever begun on {store.name}: there is no {state_dir}"


def number_of(store: Store, typed: str) -> str:
    """The change that was typed as ``7`` or ``0007``. Raises :class:`InputError`."""
    if not typed.isdecimal() or len(typed) > 6:
        raise InputError(f"{typed!r} is not the number of a change", expected="its number, such as 0007")
    name = f"{int(typed):04d}"
    if name not in numbers(store):
        never = never_begun(store)
        raise InputError(never or f"there is no change {name} on {store.name}", remedy="see `fixed-anchor history`")
    return name


def folder_of(store: Store, number: str) -> str:
    """The folder of a change; ``number`` has its four digits, as :func:`number_of` gives it."""
    return f"{changes_folder(store)}/{number}"


def numbers(store: Store) -> list[str]:
    """The numbers of all changes of the machine, oldest first."""
    return [name for name in store.folders(changes_folder(store)) if name.isdecimal()]


def open_change(store: Store) -> str | None:
    """The number of the open change, or ``None``."""
    target = store.link_target(f"{changes_folder(store)}/open")
    if target is None or target not in numbers(store):
        return None
    return target if status(store, target).is_open else None


def lay_down(store: Store, data_in: Callable[[str], Data]) -> str:
    """Writes the data of a new change to the machine and returns its number. Touches nothing else.

    ``data_in`` gives the data for the folder that the change gets.
    """
    store.make_folder(changes_folder(store))
    taken = numbers(store)
    number = int(taken[-1]) + 1 if taken else 1
    # Under another name until it is whole: one that was interrupted must be in nobody's way.
    while not store.make_folder(f"{folder_of(store, f'{number:04d}')}{_LAYING}"):
        number += 1
    folder = folder_of(store, f"{number:04d}")
    store.put_all(f"{folder}{_LAYING}", data_in(folder))
    store.rename_folder(f"{folder}{_LAYING}", folder)
    return f"{number:04d}"


def engine_command(store: Store, number: str, verb: str) -> tuple[str, ...]:
    """The plain command of a verb, as it can be typed on a host without Python."""
    return store.engine_argv(folder_of(store, number), verb)


def _verb(store: Store, number: str, verb: str, *words: str, timeout: float = 60.0) -> Ran:
    if not _has_engine(store, number):
        if _state_on_disk(store, number):
            raise Stuck(_engine_gone(store, number), remedy=_by_hand(store))
        raise ChangeOpen(f"change {number} was never begun", remedy="its folder holds no engine, and may be removed")
    ran = store.ask_engine(folder_of(store, number), verb, words, timeout)
    _log.info("change %s of %s: %s %s: status %s", number, store.name, verb, " ".join(words), ran.status)
    return ran


def _checked(ran: Ran) -> Ran:
    if ran.status == 0:
        return ran
    message = (ran.err or ran.out).strip().replace("\n", "; ") or f"the engine ended with status {ran.status}"
    raise _ERRORS.get(ran.status or 0, NoAccess)(message)


def _has_engine(store: Store, number: str) -> bool:
    return bool(store.glob(f"{folder_of(store, number)}/{store.engine_file}"))


def _by_hand(store: Store) -> str:
    """What is left where neither the tool nor the engine can do it."""
    return f"roll it back by hand, as {store.by_hand_page} says"


def _state_on_disk(store: Store, number: str) -> str:
    file = store.read(f"{folder_of(store, number)}/state")
    return file.text.strip() if file is not None else ""


def _engine_gone(store: Store, number: str) -> str:
    return f"the engine of change {number} is gone: there is no {folder_of(store, number)}/{store.engine_file}"


def start(store: Store, number: str) -> None:
    """Arms the guard, which then carries the change out. Raises where the engine refuses."""
    # The engine itself waits for a guard on a slow disk, and must not be cut short.
    _checked(_verb(store, number, "start", timeout=300))


def give_verdict(store: Store, number: str, word: str, checks: tuple[str, ...] = (), why: str = "") -> None:
    """Tells the guard how the verification ended: ``as-planned``, ``not-as-planned`` or ``undetermined``.

    ``checks`` are its lines for the log, ``why`` what it was that was not as planned.
    """
    text = "".join(printable(line) + "\n" for line in checks)
    store.put(f"{folder_of(store, number)}/checks", text.encode("utf-8", "replace"))
    _checked(_verb(store, number, "verdict", word, *((printable(why),) if why else ())))


def confirm(store: Store, number: str, who: str, over_old: bool = False) -> None:
    """Keeps the change, and waits until that is so. Raises :class:`ChangeOpen` if it is decided already.

    Raises :class:`Refused` from a session on an address that goes, unless ``over_old`` says that it counts.
    """
    _checked(_verb(store, number, "confirm", who, *(("over-old",) if over_old else ()), timeout=300))


def more_time(store: Store, number: str, seconds: int) -> None:
    """Puts the deadline off by ``seconds``. Raises :class:`ChangeOpen` if it is decided already."""
    _checked(_verb(store, number, "more-time", str(seconds)))


def roll_back(store: Store, number: str, who: str) -> None:
    """Rolls an open change back, and waits until that is so. Raises :class:`Stuck`."""
    # A change is carried out by the engine that lies in its folder, of the version that began it.
    _checked(_verb(store, number, states.ROLL_BACK, who, timeout=300))


def close(store: Store, number: str, who: str, because: str) -> None:
    """Accepts what is there now, of a change that is stuck. Raises :class:`ChangeOpen` where it is not."""
    _checked(_verb(store, number, "close", who, because))


def status(store: Store, number: str) -> ChangeStatus:
    """What the engine says of a change."""
    if not _has_engine(store, number):
        state = _state_on_disk(store, number)
        interface = store.read(f"{folder_of(store, number)}/interface") if state else None
        names = " ".join(interface.text.split()) if interface is not None else ""
        return ChangeStatus(number, state, names, engine_gone=_engine_gone(store, number) if state else "")
    lines = _checked(_verb(store, number, "status")).out.splitlines()
    values = dict(line.partition(" ")[::2] for line in lines)
    decision = values.get("decision")
    return ChangeStatus(
        number=number,
        state=values.get("state", ""),
        interface=values.get("interface", "").strip(),
        left=int(values["left"]) if "left" in values else None,
        guard_alive=values.get("guard") == "alive",
        decision=decision or None,
        verdict=values.get("verdict"),
        is_incomplete="incomplete" in values,
        rolled_back_at_boot="rolled-back-at-boot" in values,
        why=values.get("why", ""),
        closed_by=values.get("closed-by", ""),
        gateway_answered=values["gateway-answered"] == "yes" if "gateway-answered" in values else None,
        grace_facts=tuple(fact for fact in values.get("held", "").split(";") if fact),
    )


def notes(store: Store, number: str) -> dict[str, Any]:
    """The notes of a change. Raises :class:`InputError` where they are broken."""
    path = f"{folder_of(store, number)}/about.json"
    file = store.read(path)
    try:
        values = json.loads(file.text) if file else {}
    except ValueError:
        values = None
    if not isinstance(values, dict):
        raise InputError("the notes of the change are broken", file=path, expected="a JSON object")
    return values


def log(store: Store, number: str) -> tuple[str, ...]:
    """The lines of the log of a change; of one that cannot be read whole, why not."""
    path = f"{folder_of(store, number)}/log"
    try:
        file = store.read(path)
    except InputError as error:
        return (f"the log is not shown: {error}",)
    return tuple(file.text.splitlines()) if file else ()
