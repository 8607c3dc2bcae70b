"""The same for several hosts at once, each in a thread of its own; one that fails does not end the others."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterable
from functools import cache
from typing import TypeVar

from fixed_anchor.core.errors import AnchorError

Item = TypeVar("Item")
Result = TypeVar("Result")

#: So many hosts are asked at the same time unless somebody says otherwise.
AT_ONCE = 25

#: M_ARENA_MAX of mallopt(3).
_ARENA_MAX = -8

#: Told how many of how many have answered.
Told = Callable[[int, int], None]


def at_once(
    items: Iterable[Item], work: Callable[[Item], Result], limit: int = AT_ONCE, told: Told | None = None
) -> list[Result | AnchorError]:
    """What ``work`` makes of each item, in their order, or the error that it raised; at most ``limit`` at a time.

    Any other exception ends it all, and is raised.
    """
    every = list(items)

    def guarded(item: Item) -> Result | AnchorError:
        try:
            return work(item)
        except AnchorError as error:
            return error

    if len(every) < 2:
        return [guarded(item) for item in every]
    # Most commands are about one host.
    from concurrent.futures import ThreadPoolExecutor, as_completed

    _share_memory()
    pool = ThreadPoolExecutor(min(limit, len(every)))
    try:
        futures = [pool.submit(guarded, item) for item in every]
        for count, done in enumerate(as_completed(futures), 1):
            done.result()
            if told is not None:
                told(count, len(every))
        return [future.result() for future in futures]
    finally:
        # Whoever presses Ctrl-C does not wait for hosts that are silent.
        pool.shutdown(wait=False, cancel_futures=True)


@cache
def _share_memory() -> None:
    """Lets all threads allocate from one arena, where the C library is glibc.

    Each would have one of its own, which keeps what its thread once needed; and only one thread of Python allocates at
    a time anyway. Of 50 hosts that is a fifth of all memory.
    """
    import ctypes

    with contextlib.suppress(AttributeError, OSError):
        ctypes.CDLL(None).mallopt(_ARENA_MAX, 1)
