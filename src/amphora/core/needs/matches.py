"""Matching: which item of an environment is the same as one of a package (design, section 3)."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import field

from amphora.core.values.keys import Key, free_key, make_key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Item, Listed


@dataclass(frozen=True)
class Link:
    """One end of an item's set of links: what environment `uid` calls the item `key`.

    `inner` maps portable part ids to the native ones where that environment forced others.
    """

    key: Key
    uid: str
    native_id: str
    inner: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Matches:
    """What was matched: `keys` gives every listed item its key, `by_key` the inverse. `doubtful` are
    package items whose native id stands in the target under another key: (key, that other item)."""

    keys: Mapping[str, Key]
    by_key: Mapping[Key, Listed]
    doubtful: tuple[tuple[Key, Listed], ...] = ()


def assign_keys(listed: Iterable[Listed], links: Iterable[Link], uid: str) -> dict[str, Key]:
    """Keys of all listed items by native id: the recorded ones, and for the others new ones made from
    kind, folders and name (a doubled name gets `~2`; the key of an item that is gone is free again)."""
    # In a fixed order: which of two equal names gets the `~2` must not depend on how an environment lists them.
    rows = sorted(listed, key=lambda row: row.native_id)
    # A link to what is gone is not used, and not deleted either: a restored backup may bring it back.
    there = {row.native_id for row in rows}
    known = {link.native_id: link.key for link in links if link.uid == uid and link.native_id in there}
    keys = {row.native_id: known[row.native_id] for row in rows if row.native_id in known}
    taken = set(known.values())
    numbers: dict[Key, int] = {}
    for row in rows:
        if row.native_id not in keys:
            key = free_key(make_key(row.kind, row.segments), taken, numbers)
            keys[row.native_id] = key
            taken.add(key)
    return keys


def own_keys(
    rows: Sequence[Listed], links: Iterable[Link], uid: str, written: Callable[[Collection[Key]], Mapping[Key, Key]]
) -> dict[str, Key]:
    """The keys of all listed items by native id: the recorded ones, those `written` down for what goes by another key
    here, be it packed or only used, and new ones."""
    mine = [link for link in links if link.uid == uid]
    keys = assign_keys(rows, mine, uid)
    ids = {key: native_id for native_id, key in keys.items()}
    # A record goes before what is written down, be it of that key or of that item.
    known = {link.key for link in mine if link.native_id in keys}
    taken = {link.native_id for link in mine}
    found: dict[str, Key] = {}
    for key, other in sorted(written(ids.keys()).items()):
        if key not in known and other in ids and ids[other] not in taken:
            found.setdefault(ids[other], key)
    return assign_keys(rows, [*mine, *(Link(key, uid, id_) for id_, key in found.items())], uid) if found else keys


def match(
    items: Iterable[Item],
    source_uid: str,
    listed: Iterable[Listed],
    links: Iterable[Link],
    uid: str,
    renamed: Mapping[Key, Key],
    own: Mapping[str, Key] | None = None,
) -> Matches:
    """Decides by recorded link, the crosswalk's `items:` (`renamed`: package key to target key), key. `own` are the
    keys that all there go by (see `own_keys`), where they are known already.

    An equal native id under another key is never taken for the same item; it is reported as doubtful.
    """
    rows = list(listed)
    by_id = {row.native_id: row for row in rows}
    items = list(items)
    links = list(links)
    wanted = {item.key for item in items}
    ends = {link.key: link.native_id for link in links if link.uid == uid}
    # Coming back to its source an item is known there by the id it left with, whatever its key there is now.
    if uid == source_uid:
        ends = {item.key: item.native_id for item in items} | ends
    own = own or assign_keys(rows, (link for link in links if link.uid == uid), uid)
    own_by_key = {key: native_id for native_id, key in own.items()}
    chosen: dict[Key, str] = {}
    given: set[str] = set()
    for key in sorted(wanted):
        # The order of the design: what is recorded, what somebody wrote down, and only then the name.
        candidates = (ends.get(key), own_by_key.get(renamed.get(key, "")), own_by_key.get(key))
        # Each id once: two items of a package that are matched to one would overwrite each other.
        native_id = next((c for c in candidates if c in by_id and c not in given), None)
        if native_id is not None:
            chosen[key] = native_id
            given.add(native_id)
    keys = {native_id: key for key, native_id in chosen.items()}
    taken = set(chosen) | wanted
    numbers: dict[Key, int] = {}
    for native_id, key in sorted(own.items()):
        if native_id not in keys:
            # A name that a package's item has taken is taken, even if that item isn't there yet: else a creation
            # would overwrite the namesake.
            keys[native_id] = key if key not in taken else free_key(key, taken, numbers)
            taken.add(keys[native_id])
    doubtful = tuple(
        (item.key, by_id[item.native_id])
        for item in items
        # Only asked about: copies of an environment share ids without sharing items.
        if item.key not in chosen and item.native_id in by_id and keys[item.native_id] != item.key
    )
    return Matches(keys, {key: by_id[native_id] for native_id, key in keys.items()}, doubtful)
