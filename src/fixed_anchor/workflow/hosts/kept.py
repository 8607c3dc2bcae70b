"""The confirmed changes of a host: what can be gone back behind, and what they left."""

from __future__ import annotations

import msgspec

from fixed_anchor.change import states
from fixed_anchor.change.change import LeavingLease
from fixed_anchor.core.addresses import IPAddress, parse_address
from fixed_anchor.core.errors import InputError, Refused
from fixed_anchor.engine import driver
from fixed_anchor.machines.store import Store


def later_ones(store: Store, number: str) -> tuple[str, ...]:
    """The confirmed changes after ``number``, oldest first: going back behind it undoes them too."""
    after = [n for n in driver.numbers(store) if n > number]
    return tuple(n for n in after if driver.status(store, n).state == states.CONFIRMED)


def last_cutover(store: Store) -> str:
    """The change that a restore without a number goes back behind: the last one, if that was a cutover.

    Raises :class:`InputError` where there is none, :class:`Refused` where the last one was a restore already:
    to undo that would bring back what somebody has left.
    """
    for number in reversed(driver.numbers(store)):
        if driver.status(store, number).state != states.CONFIRMED:
            continue
        notes = driver.notes(store, number)
        if notes.get("kind") == "restore":
            raise Refused(
                f"change {number}, the last one, was a restore already (of change {notes.get('restores', '?')})",
                remedy="name the change to go back behind: see `fixed-anchor history`",
            )
        return number
    raise InputError(driver.never_begun(store) or f"there is no change to restore on {store.name}")


def addresses_left(store: Store, number: str) -> tuple[IPAddress, ...]:
    """The leased addresses that a host left with change ``number``, as far as its notes can be read."""
    try:
        leases = msgspec.convert(driver.notes(store, number).get("leases") or [], list[LeavingLease])
    except (InputError, msgspec.ValidationError):
        return ()
    return tuple(parse_address(str(lease.address)) for lease in leases)
