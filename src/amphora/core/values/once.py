"""What is said twice: of two that differ nobody knows which was meant, and taking the last one is a guess."""

from __future__ import annotations

from collections.abc import Iterable

from amphora.core.values.errors import UsageFault
from amphora.core.values.next_step import advice


def said_once(pairs: Iterable[tuple[str, object]], what: str) -> None:
    """UsageFault where one name is given two `what` that differ; the same said twice is no harm."""
    said: dict[str, object] = {}
    for name, value in pairs:
        if said.setdefault(name, value) != value:
            raise UsageFault(f"Two {what} are said for {name!r}.", subject=name, next_step=advice("Say one of them."))
