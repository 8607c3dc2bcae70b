"""Pausing Python's cyclic garbage collector while many objects are made that all stay."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def paused() -> Iterator[None]:
    """No collection inside: it would find nothing in growing data, and cost half the time.

    What was made inside is set aside for good: looking through it once more would cost as much again.
    """
    collecting = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if collecting:
            gc.freeze()
            gc.enable()
