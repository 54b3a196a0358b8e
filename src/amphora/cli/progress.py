"""Progress, on stderr: a view that renews itself at a terminal, sparse lines elsewhere, or a JSON document a line."""

from __future__ import annotations

import json
import sys
import threading
import time
from collections.abc import Iterable
from datetime import UTC, datetime
from typing import Any

from amphora.cli.streams import complain, silence
from amphora.core.values.visible import escaped_json, visible

HOWS = ("view", "lines", "json", "none")
"""A view that renews itself; a line a second; a JSON document a line; nothing."""

QUIET_S = 1.0
"""Progress is shown for what takes longer than this; and not more often, where it stays on the screen."""

OFTEN_S = 0.25
"""Not more often than this is a machine told how far one thing is."""

SURE_S = 3.0
"""Before that nobody can tell how long it will take."""

FORMAT = 1


class Progress:
    """Tells what goes on. Several targets may be worked on at once: each has a line of its own in the view. Called
    from whichever thread does the work."""

    def __init__(self, how: str = "") -> None:
        self.how = how
        self._started = self._told = time.monotonic()
        self._parts: dict[str, _Part] = {}
        self._view: Any = None
        self._lock = threading.Lock()

    def __call__(self, what: str, done: int, total: int) -> None:
        if sys.stderr is None or self.how == "none":
            return
        with self._lock:
            now = time.monotonic()
            before, colon, rest = what.partition(": ")
            # What belongs to no target in particular shares one line.
            place = before if colon else ""
            part = self._parts.get(place)
            if part is None or part.total != total:
                part = self._parts[place] = _Part(now, total)
            part.what, part.done = (rest or what), done
            self._tell(now, place, part, what)

    def _tell(self, now: float, place: str, part: _Part, what: str) -> None:
        if self.how == "json":
            if now - part.told >= OFTEN_S or part.kind != part.what.partition(" ")[0] or part.done == part.total:
                part.told, part.kind = now, part.what.partition(" ")[0]
                document = {"what": what, "done": part.done, "total": part.total}
                self._write_json(document | ({"left_s": left} if (left := part.left_s(now)) is not None else {}))
        # Most commands are over before anybody has wondered.
        elif now - self._started < QUIET_S:
            return
        elif self.how == "view" or (not self.how and sys.stderr.isatty()):
            self._renew(now)
        # In a log each of these is a line for ever.
        elif now - self._told >= QUIET_S:
            complain([f"… {what}{part.count()}{part.rest(now)}"])
            self._told = now

    def say(self, lines: Iterable[str]) -> None:
        """Says something beside the result, in the manner of the rest."""
        self.stop()
        if self.how == "json":
            for line in lines:
                self._write_json({"said": line})
        else:
            complain(lines)

    def _write_json(self, document: dict[str, Any]) -> None:
        at = datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
        text = escaped_json(json.dumps({"amphora_progress": FORMAT, "at": at, **document}, ensure_ascii=False))
        try:
            print(text, file=sys.stderr, flush=True)
        except (OSError, ValueError):
            silence(sys.stderr)

    def _renew(self, now: float) -> None:
        from rich.text import Text

        if self._view is None:
            from rich.live import Live

            from amphora.render.terminal import console_for

            self._view = Live(console=console_for(sys.stderr), transient=True, refresh_per_second=8)
            self._view.start()
        # What was said before any target was at work is over by then.
        parts = {place: part for place, part in self._parts.items() if place} or self._parts
        width = max(len(place) + 2 if place else 0 for place in parts)
        # As text and not as markup: a title may hold brackets.
        lines = [
            f"{place:<{width}}{part.bar()}{part.what}{part.count()}{part.rest(now)}"
            for place, part in sorted(parts.items())
        ]
        self._view.update(Text("\n".join(visible(line) for line in lines), no_wrap=True, overflow="ellipsis"))

    def stop(self) -> None:
        """Takes the view away."""
        with self._lock:
            view, self._view = self._view, None
            if view is not None:
                try:
                    view.stop()
                except OSError:
                    silence(sys.stderr)


class _Part:
    """How far one thing is."""

    WIDTH = 16

    def __init__(self, began: float, total: int) -> None:
        self.began, self.total = began, total
        self.what, self.kind = "", ""
        self.done, self.told = 0, 0.0

    def count(self) -> str:
        return f", {self.done:,} of {self.total:,}" if self.total else ""

    def bar(self) -> str:
        """As much of a line as is done."""
        if not self.total:
            return ""
        full = round(self.WIDTH * min(1.0, self.done / self.total))
        return "▪" * full + "·" * (self.WIDTH - full) + "  "

    def left_s(self, now: float) -> float | None:
        """How long it will take, if what is left goes as what is done; None while that would be a guess."""
        spent = now - self.began
        if spent < SURE_S or not 0 < self.done < self.total:
            return None
        return round(spent / self.done * (self.total - self.done), 1)

    def rest(self, now: float) -> str:
        left = self.left_s(now)
        if left is None:
            return ""
        return f", about {left / 60:.0f} min left" if left >= 90 else f", about {left:.0f} s left"
