"""Versions as SemVer 2.0.0 has them: are they any, and which one is higher?"""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Any

_SEMVER = re.compile(r"(0|[1-9]\d*)\.(0|[1-9]\d*)\.(0|[1-9]\d*)(?:-([0-9A-Za-z.-]+))?(?:\+[0-9A-Za-z.-]+)?", re.ASCII)
LONGEST = 255
"""Longer texts are no versions here: they end up in the names of files."""


def is_version(text: str) -> bool:
    """Whether a text is a version as SemVer 2.0.0 has it."""
    return len(text) <= LONGEST and _SEMVER.fullmatch(text) is not None


def version_order(text: str) -> tuple[Any, ...]:
    """Sorts versions by the precedence of SemVer 2.0.0, section 11."""
    found = _SEMVER.fullmatch(text)
    if found is None:
        raise ValueError(f"{text!r} is no version")
    before = tuple(
        (0, int(part), "") if part.isdigit() else (1, 0, part) for part in (found[4] or "").split(".") if part
    )
    return (*(int(found[n]) for n in (1, 2, 3)), not before, before)


def newest(versions: Iterable[str]) -> str:
    """The highest of some versions; what is none counts least. Empty where there is nothing.

    >>> newest(["1.9.0", "1.10.0", "draft"])
    '1.10.0'
    """
    # The text breaks ties: builds of one version have the same precedence (section 10).
    return max(
        versions, key=lambda one: (is_version(one), version_order(one) if is_version(one) else (), one), default=""
    )
