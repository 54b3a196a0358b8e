"""Lists that come in pages: where the next one is, and when there is none."""

from __future__ import annotations

from dataclasses import field
from urllib.parse import urlencode

from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.environments.bridge.parts import Call, Pages
from amphora.environments.bridge.paths import text_at, value_at


@dataclass
class Place:
    """Where in a list somebody is: what has come so far, and what asks for more."""

    near: str = ""
    """The address of the next page, where the platform gives one."""
    position: Json = None
    count: int = 0
    seen: set[str] = field(default_factory=set)

    def values(self, pages: Pages) -> dict[str, Json]:
        """What stands for the placeholders of a list."""
        if self.position is None:
            self.position = pages.first if pages.how == "page" else 0 if pages.how == "offset" else ""
        return {"page": self.position, "offset": self.position, "cursor": self.position, "size": pages.size}

    def went_on(self, pages: Pages, body: Json, got: int, named: str) -> bool:
        """Goes to the next page, by an answer with so many rows; `named` is the address that it gives. Whether there
        is one."""
        self.count += got
        total = value_at(body, pages.total) if pages.total else None
        if pages.how == "none" or (isinstance(total, int) and self.count >= total and pages.how != "cursor"):
            return False
        if pages.how == "link":
            mark = self.near = named
        elif pages.how == "cursor":
            mark = self.position = text_at(body, pages.next)
        else:
            # A server may give fewer than it was asked for: only none at all is the end, where it tells no total.
            mark = f"{self.position}" if got else ""
            self.position = int(self.position) + (1 if pages.how == "page" else got)
        # A server whose last page leads back to the first would keep us for ever.
        is_new = bool(mark) and mark not in self.seen
        self.seen.add(mark)
        return is_new


def query_of(call: Call, pages: Pages, at: dict[str, Json]) -> str:
    """What a list is asked with, where its path has no place for it."""
    said: dict[str, Json] = {}
    if pages.size_ask and "{size}" not in call.path:
        said[pages.size_ask] = pages.size
    if pages.ask and at["cursor"] != "" and "{" + pages.how + "}" not in call.path:
        said[pages.ask] = at["cursor"]
    return urlencode(said)
