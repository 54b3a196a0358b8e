"""What was said on the command line of how items are to arrive."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import PurePosixPath

from amphora.core.merge.merge import PACKAGE
from amphora.core.needs.selection import choose, the_one
from amphora.core.plan.arrivals import NOTHING_SAID, Arrival, moved_folders
from amphora.core.plan.decisions import LEAVE, Decisions, ItemDecision
from amphora.core.values.errors import UsageFault
from amphora.core.values.keys import Key, readable
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents
from amphora.core.values.near import near
from amphora.core.values.next_step import NextStep, advice
from amphora.core.values.once import said_once
from amphora.core.values.pairs import pair_of
from amphora.engine.export import listed_items


@dataclass(frozen=True)
class Said:
    """Words on the items of a package, as they were typed: titles, folders, what stays out or comes along again, what
    is the one in its place there, without and with what differs, and after what to wait for somebody."""

    titles: Sequence[str] = ()
    folders: Sequence[str] = ()
    leave: Sequence[str] = ()
    bring: Sequence[str] = ()
    same: Sequence[str] = ()
    replaced: Sequence[str] = ()
    pause_after: Sequence[str] = ()

    def over(self, contents: Contents, said: Decisions) -> Decisions:
        """These, and what else was decided on the package; UsageFault where they name nothing, or are at odds."""
        taken, left = taken_for(contents, self.same, self.replaced), left_out(contents, self.leave)
        if both := [key for key in taken.same if key in left]:
            words = f"{readable(both[0])} can't be left out and be the same as what is there at once."
            raise UsageFault(words, subject=both[0], next_step=advice("Say one of them."))
        return replace(
            said,
            # What was decided on an item by itself counts more than what was said of many.
            items={**taken.items, **left, **said.items},
            arrivals=arrivals_of(contents, self.titles, self.folders),
            same=taken.same,
            bring=brought_again(contents, self.bring, left),
            pause_after=words_after(contents, self.pause_after),
        )


def arrivals_of(contents: Contents, titles: Sequence[str], folders: Sequence[str]) -> dict[Key, Arrival]:
    """The arrivals that `ITEM=TITLE` and `FROM=TO` ask for; a title by itself is that of one item."""
    # Folders first: a title is laid over the move of its folder, so that both hold.
    said = [pair_of(text, "FROM=TO", "--folder mill=north/mill") for text in folders]
    moves = [(before.strip("/"), after) for before, after in said]
    said_once(moves, "folders")
    found = moved_folders(contents, moves)
    # Each of them by itself: one that was mistyped beside one that was not would be passed over.
    for move in moves:
        if not moved_folders(contents, [move]):
            raise UsageFault(
                f"No item of {contents.title} is in {move[0]!r}.",
                subject=move[0],
                next_step=_folder_advice(contents, move[0]),
            )
    titled: list[tuple[Key, str]] = []
    for text in titles:
        name, title = pair_of(text, "ITEM=TITLE", '--title "Weigh slip=Weigh slip (north)"')
        titled.append((the_one(name, listed_items(contents), contents.title), title))
    said_once(titled, "titles")
    for key, title in titled:
        found[key] = Arrival(title=title).over(found.get(key, NOTHING_SAID))
    return found


def _folder_advice(contents: Contents, name: str) -> NextStep:
    folders = {PurePosixPath(item.states.folder) for item in contents.items.values()}
    known = sorted({str(one) for folder in folders for one in (folder, *folder.parents)} - {"."})
    if found := near(name, known, most=3):
        return advice(f"Name a folder in which the package has something: {', '.join(found)}?")
    return advice("Name a folder in which the package has something.")


def brought_again(contents: Contents, names: Sequence[str], left: Mapping[Key, ItemDecision]) -> tuple[Key, ...]:
    """The items that come along although they were left out before; UsageFault where one is to stay out as well."""
    # What was remembered gives way without being asked; two words of one moment contradict each other.
    found = tuple(left_out(contents, names))
    if both := [key for key in found if key in left]:
        words = f"{readable(both[0])} can't be left out and brought at once."
        raise UsageFault(words, subject=both[0], next_step=advice("Say one of them."))
    return found


def left_out(contents: Contents, names: Sequence[str]) -> dict[Key, ItemDecision]:
    """The items that are to stay out of an import; what uses them needs them there."""
    if not names:
        return {}
    return {key: ItemDecision(LEAVE) for key in choose(names, listed_items(contents), contents.title)}


def taken_for(contents: Contents, same: Sequence[str], replaced: Sequence[str]) -> Decisions:
    """The items that are the ones in their places there, and those of them that overwrite what differs."""
    # To overwrite what stands there is to say that it is the one.
    keys = choose(replaced, listed_items(contents), contents.title) if replaced else []
    known = choose(same, listed_items(contents), contents.title) if same else []
    return Decisions({key: ItemDecision(PACKAGE) for key in keys}, same=tuple(dict.fromkeys([*known, *keys])))


def words_after(contents: Contents, texts: Sequence[str]) -> dict[Key, str]:
    """The items after which an import is to wait for somebody's word, `ITEM` or `ITEM=ABOUT`."""
    found: dict[Key, str] = {}
    for text in texts:
        name, _, about = text.partition("=")
        found |= dict.fromkeys(choose([name], listed_items(contents), contents.title), about.strip())
    return found


def wants_records(with_: Sequence[str]) -> bool:
    """Whether rows are to be loaded; UsageFault for anything else that is asked to come along."""
    if unknown := sorted(set(with_) - {"records"}):
        raise UsageFault(f"--with takes records, not {unknown[0]!r}.", next_step=advice("Write --with records."))
    return bool(with_)
