"""What was said on the command line of how items are to arrive."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import PurePosixPath

from amphora.core.merge.compare import STATE
from amphora.core.merge.merge import PACKAGE
from amphora.core.plan.arrivals import NOTHING_SAID, Arrival, moved_folders
from amphora.core.plan.decisions import LEAVE, Decisions, ItemDecision
from amphora.core.values.errors import UsageFault
from amphora.core.values.keys import Key, readable
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents
from amphora.core.values.near import near
from amphora.core.values.next_step import NextStep, advice
from amphora.core.values.once import said_once
from amphora.core.values.pairs import apart, pair_of
from amphora.engine.called import Called
from amphora.files.docket_file import CHOICES


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

    def over(self, called: Called, said: Decisions) -> Decisions:
        """These, and what else was decided on the package; UsageFault where they name nothing, or are at odds."""
        taken, left = taken_for(called, self.same, self.replaced), left_out(called, self.leave)
        if both := [key for key in taken.same if key in left]:
            words = f"{readable(both[0])} can't be left out and be the same as what is there at once."
            raise UsageFault(words, subject=both[0], next_step=advice("Say one of them."))
        return replace(
            said,
            # What was decided on an item by itself counts more than what was said of many.
            items={**taken.items, **left, **said.items},
            arrivals=arrivals_of(called, self.titles, self.folders),
            same=taken.same,
            bring=brought_again(called, self.bring, left),
            pause_after=words_after(called, self.pause_after),
        )


def arrivals_of(called: Called, titles: Sequence[str], folders: Sequence[str]) -> dict[Key, Arrival]:
    """The arrivals that `ITEM=TITLE` and `FROM=TO` ask for; a title by itself is that of one item."""
    # Folders first: a title is laid over the move of its folder, so that both hold.
    contents = called.contents
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
        titled.append((called.the_one(name), title))
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


def brought_again(called: Called, names: Sequence[str], left: Mapping[Key, ItemDecision]) -> tuple[Key, ...]:
    """The items that come along although they were left out before; UsageFault where one is to stay out as well."""
    # What was remembered gives way without being asked; two words of one moment contradict each other.
    found = tuple(left_out(called, names))
    if both := [key for key in found if key in left]:
        words = f"{readable(both[0])} can't be left out and brought at once."
        raise UsageFault(words, subject=both[0], next_step=advice("Say one of them."))
    return found


def left_out(called: Called, names: Sequence[str]) -> dict[Key, ItemDecision]:
    """The items that are to stay out of an import; what uses them needs them there."""
    return {key: ItemDecision(LEAVE) for key in called.choose(names)}


def taken_for(called: Called, same: Sequence[str], replaced: Sequence[str]) -> Decisions:
    """The items that are the ones in their places there, and those of them that overwrite what differs."""
    # To overwrite what stands there is to say that it is the one.
    keys, known = called.choose(replaced), called.choose(same)
    return Decisions({key: ItemDecision(PACKAGE) for key in keys}, same=tuple(dict.fromkeys([*known, *keys])))


def words_after(called: Called, texts: Sequence[str]) -> dict[Key, str]:
    """The items after which an import is to wait for somebody's word, `ITEM` or `ITEM=ABOUT`."""
    found: dict[Key, str] = {}
    for text in texts:
        name, _, about = apart(text)
        found |= dict.fromkeys(called.choose([name]), about.strip())
    return found


def chosen_for_items(called: Called, texts: Sequence[str]) -> Decisions:
    """Choices for whole items, as `ITEM=CHOICE`, and for single places, as `ITEM@/PLACE=CHOICE`; a pattern chooses
    for all that it means."""
    found: dict[Key, ItemDecision] = {}
    said_once(((name, choice) for name, _, choice in (text.rpartition("=") for text in texts)), "choices")
    for text in texts:
        # The last one: titles may hold the sign, choices never do.
        name, _, choice = text.rpartition("=")
        if choice not in (*CHOICES, LEAVE) or not name:
            raise UsageFault(
                f"{text!r} is no choice for an item.",
                subject=text,
                next_step=advice(f"Write ITEM=CHOICE, with one of {', '.join((*CHOICES, LEAVE))}."),
            )
        item, _, place = name.partition("@/")
        for key in called.choose([item]):
            said = found.get(key, ItemDecision())
            if place and choice != LEAVE:
                found[key] = replace(
                    said, places={**said.places, place if place.startswith(STATE) else f"/{place}": choice}
                )
            else:
                found[key] = replace(said, whole=choice)
    return Decisions(found)


def wants_records(with_: Sequence[str]) -> bool:
    """Whether rows are to be loaded; UsageFault for anything else that is asked to come along."""
    if unknown := sorted(set(with_) - {"records"}):
        raise UsageFault(f"--with takes records, not {unknown[0]!r}.", next_step=advice("Write --with records."))
    return bool(with_)
