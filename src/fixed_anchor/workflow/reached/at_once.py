"""The same for several hosts at once, each in a thread of its own; one that fails does not end the others."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import TypeVar

from fixed_anchor.core.errors import AnchorError

Item = TypeVar("Item")
Result = TypeVar("Result")

#: So many hosts are asked at the same time unless somebody says otherwise.
AT_ONCE = 25

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
