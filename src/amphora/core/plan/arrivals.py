"""Arrivals: under which title and in which folder a package's items are to be in one environment, where that is not
as the package has it. Said once, and remembered for the next version."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace

from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents, States

AS_PACKED = ""
"""Said instead of a title or folder: no longer another one than the package's."""


@dataclass(frozen=True)
class Arrival:
    """Title and folder of one item in an environment; None where nothing was said."""

    title: str | None = None
    folder: str | None = None

    def over(self, earlier: Arrival) -> Arrival:
        """What was said now, and of the rest what was said before."""
        title = earlier.title if self.title is None else self.title
        folder = earlier.folder if self.folder is None else self.folder
        return Arrival(title, folder)

    def of(self, states: States) -> States:
        """An item's states with this title and folder."""
        return replace(states, title=self.title or states.title, folder=self.folder or states.folder)


NOTHING_SAID = Arrival()


def joined(earlier: Mapping[Key, Arrival], now: Mapping[Key, Arrival]) -> dict[Key, Arrival]:
    """What counts for each item, without those for which nothing is left that was said."""
    found = said_over(earlier, now)
    # In one way only: what was taken back and what nobody said are the same from here on.
    return {k: Arrival(one.title or None, one.folder or None) for k, one in found.items() if one.title or one.folder}


def said_over(earlier: Mapping[Key, Arrival], now: Mapping[Key, Arrival]) -> dict[Key, Arrival]:
    """The same with what is taken back now, which has to be said again to count."""
    return {key: now.get(key, NOTHING_SAID).over(earlier.get(key, NOTHING_SAID)) for key in sorted({*earlier, *now})}


def arranged(contents: Contents, arrivals: Mapping[Key, Arrival]) -> Contents:
    """The contents as they are to arrive. Everything after this (matching of names, comparison, writing, the base of
    the next comparison) sees these titles and folders, so that none of them looks like somebody's change."""
    if not arrivals.keys() & contents.items.keys():
        return contents
    items = {
        key: replace(item, states=arrivals[key].of(item.states)) if key in arrivals else item
        for key, item in contents.items.items()
    }
    return replace(contents, items=items)


def moved_folders(contents: Contents, moves: Iterable[tuple[str, str]]) -> dict[Key, Arrival]:
    """The arrivals of items in folders that are to be others, with all below them; the longest name counts, and
    nothing stands for the top.

    `mill -> north/mill` takes `mill/quality` to `north/mill/quality`, and leaves `millers` alone.
    """
    in_order = sorted(moves, key=lambda move: -len(move[0]))
    found = {}
    for key, item in contents.items.items():
        folder = item.states.folder
        for old, new in in_order:
            if not old or folder == old or folder.startswith(f"{old}/"):
                below = folder[len(old) :].strip("/")
                found[key] = Arrival(folder="/".join(part for part in (new.strip("/"), below) if part))
                break
    return found
