"""Pace: what makes bulk work faster without changing it."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def uncollected() -> Iterator[None]:
    """No garbage collection while much is built that stays: it costs a third of the time there."""
    was_enabled = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_enabled:
            gc.enable()
