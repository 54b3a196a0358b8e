"""A hostile corpus of our own: packages, folders, repositories, servers, titles, keys and planted secrets. `make
attack` prints how much of each class was refused or made harmless; the test suite runs the same cases.
"""

from __future__ import annotations

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
