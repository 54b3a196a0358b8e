"""What is written to stderr, and what becomes of a stream that nobody reads any more."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable
from typing import TextIO

from amphora.core.values.visible import visible


def complain(lines: Iterable[str]) -> None:
    """Writes lines to stderr, if anybody listens there: where nobody does, that stops nothing."""
    if sys.stderr is None:
        return
    try:
        for line in lines:
            print(visible(line), file=sys.stderr)
        sys.stderr.flush()
    except (OSError, ValueError):
        silence(sys.stderr)


def silence(stream: TextIO | None) -> None:
    """Points a stream that is broken to nowhere, so that leaving the program doesn't fail on it either."""
    try:
        nowhere = os.open(os.devnull, os.O_WRONLY)
        os.dup2(nowhere, stream.fileno() if stream else 1)
        os.close(nowhere)
    except (OSError, ValueError, AttributeError):
        pass
