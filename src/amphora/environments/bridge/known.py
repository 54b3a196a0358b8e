"""What a platform has shown so far: of which kind an id is, and what was called how when."""

from __future__ import annotations

import time


class Known:
    """What was shown, by id. Titles count with it: some platforms give the ids of what was removed again."""

    def __init__(self) -> None:
        self._kinds: dict[str, str] = {}
        self._first: dict[str, dict[str, float]] = {}

    def shown(self, native_id: str, kind: str, title: str) -> None:
        """Notes that an item was shown, now."""
        self._kinds[native_id] = kind
        self._first.setdefault(native_id, {}).setdefault(title, time.monotonic())

    def kind_of(self, native_id: str) -> str:
        """The kind of what was shown under an id; empty where nothing was."""
        return self._kinds.get(native_id, "")

    def was_there(self, native_id: str, title: str, moment: float) -> bool:
        """Whether an item of this id and title was shown before a moment of this process's clock."""
        return self._first.get(native_id, {}).get(title, moment) < moment

    def forget(self, native_id: str) -> None:
        """That there was such an item."""
        self._kinds.pop(native_id, None)
        self._first.pop(native_id, None)
