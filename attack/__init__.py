"""A hostile corpus of our own: packages, folders, repositories, servers, titles, keys and planted secrets. `make
attack` prints how much of each class was refused or made harmless; the test suite runs the same cases.
"""

from __future__ import annotations

import atexit
import shutil
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

Attack = Callable[[Path], str]
"""Tries something in an empty folder; gives what went wrong, empty where it was refused or did nothing."""


@dataclass(frozen=True)
class Case:
    """One attack, in its class."""

    kind: str
    name: str
    attack: Attack


def folder_until_the_end() -> Path:
    """A folder that many cases share, removed when the process ends."""
    folder = Path(tempfile.mkdtemp(prefix="attack-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    return folder
