"""A clock for calls as a whole: what takes longer is ended from outside."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager


class Clock:
    """Ends whatever takes longer than it may. One thread for all that goes on: one for each call took as long as some
    short calls do."""

    def __init__(self) -> None:
        self._due: dict[object, tuple[float, Callable[[], object]]] = {}
        self._changed = threading.Condition()
        self._thread: threading.Thread | None = None

    @contextmanager
    def over(self, seconds: float | None, end: Callable[[], object]) -> Iterator[None]:
        """Calls `end`, once, if what is done inside takes longer than these seconds (None: as long as it likes)."""
        if seconds is None:
            yield
            return
        one, due = object(), time.monotonic() + seconds
        with self._changed:
            is_first = due < min((at for at, _ in self._due.values()), default=due + 1)
            self._due[one] = due, end
            # Not before it is needed, and anew in a process that was forked: threads stay behind.
            if self._thread is None or not self._thread.is_alive():
                self._thread = threading.Thread(target=self._run, daemon=True)
                self._thread.start()
            elif is_first:
                self._changed.notify()
        try:
            yield
        finally:
            with self._changed:
                self._due.pop(one, None)

    def _run(self) -> None:
        while True:
            with self._changed:
                now = time.monotonic()
                late = [one for one, (due, _) in self._due.items() if due <= now]
                ends = [self._due.pop(one)[1] for one in late]
                if not ends:
                    first = min((due for due, _ in self._due.values()), default=None)
                    self._changed.wait(None if first is None else first - now)
            # Outside of the lock: to close a line may take a while.
            for end in ends:
                end()


CLOCK = Clock()
