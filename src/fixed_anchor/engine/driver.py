"""Calls the engine's verbs on a machine, and reads what it keeps."""

from __future__ import annotations

import msgspec

from fixed_anchor.core.errors import AnchorError, ChangeOpen, InputError, NoAccess, Refused, Stuck, printable
from fixed_anchor.engine.boot import init_of
from fixed_anchor.engine.data import Change, as_files
from fixed_anchor.machines.protocol import Machine, Ran

FINAL = ("confirmed", "put-back")

_ERRORS: dict[int, type[AnchorError]] = {
    1: Refused,
    2: InputError,
    4: NoAccess,
    5: Stuck,
    7: ChangeOpen,
}


class ChangeStatus(msgspec.Struct, frozen=True):
    """What the engine says of one change.

    ``left`` is the number of seconds until the deadline, ``None`` before activation. ``held``
    are facts that end with the decision: old addresses.
    """

    number: str
    state: str
    interface: str
    left: int | None = None
    guard_alive: bool = False
    decision: str | None = None
    verdict: str | None = None
    put_back_at_boot: bool = False
    held: tuple[str, ...] = ()

    @property
    def is_open(self) -> bool:
        return self.state not in FINAL


def changes_folder(machine: Machine) -> str:
    return f"{machine.state_dir}/changes"


def folder_of(machine: Machine, number: str) -> str:
    """The folder of a change; ``number`` as typed (``7`` or ``0007``). Raises :class:`InputError`."""
    if not number.isdecimal() or len(number) > 6:
        raise InputError(f"{number!r} is no change", expected="its number, such as 0007")
    name = f"{int(number):04d}"
    if name not in numbers(machine):
        raise InputError(f"there is no change {name} on {machine.name}", remedy="see `fixed-anchor status`")
    return f"{changes_folder(machine)}/{name}"


def numbers(machine: Machine) -> list[str]:
    """The numbers of all changes of the machine, oldest first."""
    return [name for name in machine.folders(changes_folder(machine)) if name.isdecimal()]


def open_change(machine: Machine) -> str | None:
    """The number of the open change, or ``None``."""
    target = machine.link_target(f"{changes_folder(machine)}/open")
    if target is None or target not in numbers(machine):
        return None
    return target if status(machine, target).is_open else None


def lay_down(machine: Machine, change: Change) -> str:
    """Writes the data of a new change to the machine and returns its number. Touches nothing else."""
    machine.make_folder(changes_folder(machine))
    taken = numbers(machine)
    number = int(taken[-1]) + 1 if taken else 1
    while not machine.make_folder(f"{changes_folder(machine)}/{number:04d}"):
        number += 1
    folder = f"{changes_folder(machine)}/{number:04d}"
    for path, (data, mode) in as_files(change, folder, init_of(machine)).items():
        machine.put(f"{folder}/{path}", data, mode)
    return f"{number:04d}"


def engine_command(machine: Machine, number: str, verb: str) -> tuple[str, ...]:
    """The plain command of a verb, as it can be typed on a host without Python."""
    folder = f"{changes_folder(machine)}/{number}"
    return ("/bin/sh", f"{folder}/engine.sh", verb, folder)


def _verb(machine: Machine, number: str, verb: str, *words: str, timeout: float = 60.0) -> Ran:
    return machine.run((*engine_command(machine, number, verb), *words), timeout)


def _checked(ran: Ran) -> Ran:
    if ran.status == 0:
        return ran
    message = (ran.err or ran.out).strip().replace("\n", "; ") or f"the engine ended with status {ran.status}"
    raise _ERRORS.get(ran.status, NoAccess)(message)


def start(machine: Machine, number: str) -> None:
    """Arms the guard, which then carries the change out. Raises where the engine refuses."""
    _checked(_verb(machine, number, "start"))


def give_verdict(machine: Machine, number: str, word: str, checks: tuple[str, ...] = ()) -> None:
    """Tells the guard how the verification ended: ``as-planned``, ``not-as-planned`` or ``undetermined``.

    ``checks`` are its lines for the log.
    """
    text = "".join(printable(line) + "\n" for line in checks)
    machine.put(f"{changes_folder(machine)}/{number}/checks", text.encode("utf-8", "replace"))
    _checked(_verb(machine, number, "verdict", word))


def confirm(machine: Machine, number: str, who: str, over_old: bool = False) -> None:
    """Keeps the change, and waits until that is so. Raises :class:`ChangeOpen` if it is decided already.

    Raises :class:`Refused` from a session on an address that goes, unless ``over_old`` says that it counts.
    """
    _checked(_verb(machine, number, "confirm", who, *(("over-old",) if over_old else ()), timeout=300))


def more_time(machine: Machine, number: str, seconds: int) -> None:
    """Puts the deadline off by ``seconds``. Raises :class:`ChangeOpen` if it is decided already."""
    _checked(_verb(machine, number, "more-time", str(seconds)))


def put_back(machine: Machine, number: str, who: str) -> None:
    """Puts an open change back, and waits until that is so. Raises :class:`Stuck`."""
    _checked(_verb(machine, number, "put-back", who, timeout=300))


def status(machine: Machine, number: str) -> ChangeStatus:
    """What the engine says of a change."""
    lines = _checked(_verb(machine, number, "status")).out.splitlines()
    said = dict(line.partition(" ")[::2] for line in lines)
    return ChangeStatus(
        number=number,
        state=said.get("state") or "not begun",
        interface=said.get("interface", "").strip(),
        left=int(said["left"]) if "left" in said else None,
        guard_alive=said.get("guard") == "alive",
        decision=said.get("decision"),
        verdict=said.get("verdict"),
        put_back_at_boot="put-back-at-boot" in said,
        held=tuple(fact for fact in said.get("held", "").split(";") if fact),
    )
