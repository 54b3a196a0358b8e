"""Many texts that are sought in others: which of thousands of ids a definition names."""

from __future__ import annotations

from collections.abc import Iterator

WINDOWS_A_TEXT = 3
"""So many windows can be looked up in the time in which one text is searched for."""


class Sought:
    """Texts that are sought, each with what it stands for. One by one they would be searched for in every definition,
    and putting ten thousand items back would take a hundred million searches."""

    def __init__(self) -> None:
        self._by_length: dict[int, dict[str, str]] = {}
        self._count = 0

    def add(self, text: str, meaning: str) -> None:
        """Seeks a text as well; none that is empty."""
        alike = self._by_length.setdefault(len(text), {})
        self._count += text not in alike
        alike[text] = meaning

    def discard(self, text: str) -> None:
        """Seeks it no longer."""
        alike = self._by_length.get(len(text), {})
        self._count -= alike.pop(text, None) is not None
        if not alike:
            self._by_length.pop(len(text), None)

    def inside(self, text: str) -> set[str]:
        """What those texts stand for that occur in this one."""
        # Windows of each length are looked up, unless that is more work: a long text, or texts of many lengths.
        if len(text) * len(self._by_length) < WINDOWS_A_TEXT * self._count:
            return set(self._by_windows(text))
        return {m for alike in self._by_length.values() for one, m in alike.items() if one in text}

    def _by_windows(self, text: str) -> Iterator[str]:
        for length, alike in self._by_length.items():
            windows = {text[start : start + length] for start in range(len(text) - length + 1)}
            yield from (alike[one] for one in windows & alike.keys())
