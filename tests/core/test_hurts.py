"""The list of changes that would hurt somebody fits the code."""

from __future__ import annotations

from pathlib import Path

from sharpness.hurts import HURTS

from amphora.core.values import errors

SOURCES = Path(errors.__file__).parents[2]


def test_every_change_that_would_hurt_can_be_made() -> None:
    """A list of changes that no longer fit the code would try nothing, without a word."""
    missing = [
        hurt.what
        for hurt in HURTS
        if not (path := SOURCES / hurt.path).exists() or path.read_text(encoding="utf-8").count(hurt.old) != 1
    ]
    assert not missing
