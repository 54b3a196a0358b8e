"""The program, killed for good at the nth moment: before and after each commit of the journal and each call that
changes a target (`tests.loaded`).
"""

from __future__ import annotations

import os
import signal
from typing import Any

from amphora.engine import session
from amphora.ledger.journal import Journal
from amphora.ledger.ledger import Ledger
from tests.faults.trouble import CHANGING


class Clock:
    """Counts moments, and ends the process at the one that was named."""

    def __init__(self, at: int) -> None:
        self.left = at
        # Killed for good, unless a test has another signal in mind.
        self.signal = signal.Signals[os.environ.get("KILL_WITH", "SIGKILL")]
        if self.signal is not signal.SIGKILL:
            # Whoever started the tests may have it ignored, as `nohup` does, and the program would go by that.
            signal.signal(self.signal, signal.default_int_handler)

    def moment(self) -> None:
        self.left -= 1
        if self.left == 0:
            os.kill(os.getpid(), self.signal)

    def around(self, method: Any) -> Any:
        """The method with a moment before and one after it."""

        def timed(*words: Any, **more: Any) -> Any:
            self.moment()
            result = method(*words, **more)
            self.moment()
            return result

        return timed


def arm(at: int) -> None:
    """Lets this process, which is to be the program, end at its nth moment."""
    clock = Clock(at)
    for owner, names in (
        (Journal, ("begin", "begin_steps", "begin_next", "end_step", "end_steps", "forgo_steps", "end")),
        (Ledger, ("finish", "finish_backwards")),
    ):
        for name in names:
            setattr(owner, name, clock.around(getattr(owner, name)))
    opening: Any = vars(session)["open_environment"]

    def opened(*words: Any) -> Any:
        environment = opening(*words)
        for name in CHANGING:
            if hasattr(environment, name):
                setattr(environment, name, clock.around(getattr(environment, name)))
        return environment

    vars(session)["open_environment"] = opened
