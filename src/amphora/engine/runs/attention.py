"""What may not break a run: a listener that fails, and signals, which are looked at between two steps."""

from __future__ import annotations

import signal
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from types import FrameType

from amphora.engine.session import Listener

SIGNALS = tuple(
    number for name in ("SIGINT", "SIGTERM", "SIGHUP") if (number := getattr(signal, name, None)) is not None
)


class Attention:
    """Whether somebody wants the run to stop."""

    def __init__(self) -> None:
        self.is_wanted = False

    def __call__(self, number: int, frame: FrameType | None) -> None:
        # The first signal lets the step under way finish; whoever sends a second one means it.
        if self.is_wanted:
            raise KeyboardInterrupt
        self.is_wanted = True


_SHARED: ContextVar[Attention | None] = ContextVar("attention", default=None)


@contextmanager
def attended() -> Iterator[Attention]:
    """Signals are kept until somebody looks, as long as this lasts; in the main thread, where they arrive. Whatever
    is attended to inside of this looks at the same: several runs at once are stopped together."""
    outer = _SHARED.get()
    if outer is not None:
        yield outer
        return
    attention = Attention()
    if threading.current_thread() is not threading.main_thread():
        yield attention
        return
    before = {number: signal.getsignal(number) for number in SIGNALS}
    for number in SIGNALS:
        if before[number] is not signal.SIG_IGN:  # who started us with nohup means it
            signal.signal(number, attention)
    token = _SHARED.set(attention)
    try:
        yield attention
    finally:
        _SHARED.reset(token)
        for number, handler in before.items():
            if handler is not None:
                signal.signal(number, handler)


def forgiving(listener: Listener) -> Listener:
    """A listener that is dropped once it raises: a closed screen is no reason to stop changing a target."""
    is_dropped = False

    def tell(what: str, done: int, total: int) -> None:
        nonlocal is_dropped
        if is_dropped:
            return
        try:
            listener(what, done, total)
        except Exception:
            is_dropped = True

    return tell
