"""Selection: the ways in which people name items."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from fnmatch import fnmatchcase

from amphora.core.values.errors import UsageFault
from amphora.core.values.keys import Key, name_of, path_of, readable
from amphora.core.values.model import Listed
from amphora.core.values.near import near
from amphora.core.values.next_step import NextStep, advice, to_type


class Unknown(UsageFault):
    """A name that means nothing there."""


def choose(wanted: Sequence[str], rows: Mapping[Key, Listed], where: str) -> list[Key]:
    """The keys that all names together mean, sorted; UsageFault for a name that means none or several.

    A name is a key, a native id, a pasted link, a pattern (`flow:mill/*`), a title, or the last segment
    of a path. Patterns may mean many, everything else one.
    """
    found: dict[Key, None] = {}
    for name in wanted:
        found.update(dict.fromkeys(named(name, rows, where)))
    return sorted(found)


def the_one(name: str, rows: Mapping[Key, Listed], where: str) -> Key:
    """The one key that a name means; UsageFault for a pattern that means several: what is done with the first of them
    only would be taken for done with all."""
    first, *more = choose([name], rows, where)
    if more:
        raise _several(name, [first, *more], rows, where)
    return first


def spoken(key: Key, titles: Mapping[Key, str]) -> str:
    """What to type for an item: its title if that means nothing else among these, or its key.

    >>> titles = {"flow:mill/a": "Weigh", "flow:mill/b": "weigh", "flow:mill/c": "Weigh*", "flow:mill/d": "Press"}
    >>> [spoken(key, titles) for key in titles]
    ['flow:mill/a', 'flow:mill/b', 'flow:mill/c', 'Press']
    """
    mine = titles[key].casefold()
    is_clear = sum(title.casefold() == mine for title in titles.values()) == 1 and not _is_pattern(mine)
    return titles[key] if is_clear else readable(key)


def still_there(wanted: Sequence[str], rows: Mapping[Key, Listed], where: str) -> tuple[list[str], list[str]]:
    """Of names that meant something once: those that still do, and those that mean nothing any more. What means
    several by now is refused as ever."""
    there, gone = [], []
    for name in wanted:
        try:
            named(name, rows, where)
        except Unknown:
            gone.append(name)
        else:
            there.append(name)
    return there, gone


def lasting(wanted: Sequence[str], rows: Mapping[Key, Listed], where: str) -> list[str]:
    """The same names in a form that survives renaming: keys, and patterns as they are."""
    return [name if _is_pattern(name) else named(name, rows, where)[0] for name in wanted]


def _is_pattern(text: str) -> bool:
    return any(letter in text for letter in "*?[")


def named(name: str, rows: Mapping[Key, Listed], where: str) -> list[Key]:
    """The keys that one name means; see `choose`."""
    text = name.strip()
    # A key first: it is what we print, and whoever pastes it means just that.
    if text in rows:
        return [text]
    if spelled := [key for key in rows if readable(key) == text]:
        return spelled
    for means in (_by_id, _by_link, _by_pattern, _by_title, _by_path):
        keys = sorted(means(text, rows))
        if len(keys) > 1 and means is not _by_pattern:
            raise _several(name, keys, rows, where)
        if keys:
            return keys
    raise _unknown(name, rows, where)


def _several(name: str, keys: Sequence[Key], rows: Mapping[Key, Listed], where: str) -> UsageFault:
    return UsageFault(
        f"{name!r} can mean {len(keys)} items in {where}.",
        subject=name,
        details=[f"{readable(key)}  ({rows[key].states.title})" for key in keys],
        next_step=advice("Name one of them by its key."),
    )


def _by_id(text: str, rows: Mapping[Key, Listed]) -> Iterable[Key]:
    return (key for key, row in rows.items() if row.native_id == text)


def _by_link(text: str, rows: Mapping[Key, Listed]) -> Iterable[Key]:
    if "://" not in text:
        return ()
    wanted = text.rstrip("/")
    exact = [key for key, row in rows.items() if row.link and row.link.rstrip("/") == wanted]
    # Anywhere in the address: platforms have several pages for one item, and people copy any of them.
    pieces = set(re.split(r"[/?#&=]", wanted))
    return exact or (key for key, row in rows.items() if row.native_id in pieces)


def _by_pattern(text: str, rows: Mapping[Key, Listed]) -> Iterable[Key]:
    if not _is_pattern(text):
        return ()
    # In small letters on both sides: nobody knows by heart which of them a title has.
    lower = text.lower()
    return (
        key
        for key, row in rows.items()
        if any(fnmatchcase(name.lower(), lower) for name in (key, path_of(key), row.states.title))
    )


def _by_title(text: str, rows: Mapping[Key, Listed]) -> Iterable[Key]:
    lower = text.casefold()
    return (key for key, row in rows.items() if row.states.title.casefold() == lower)


def _by_path(text: str, rows: Mapping[Key, Listed]) -> Iterable[Key]:
    lower = text.casefold()
    return (key for key in rows if lower in (path_of(key).casefold(), name_of(key).casefold()))


def _look(where: str) -> NextStep:
    """How to see what is there: in an environment, or in a package (`NAME VERSION`)."""
    name, _, version = where.partition(" ")
    if not version:
        return to_type("survey", name)
    return (
        to_type("peek", f"{name}-{version}")
        if version[0].isdigit()
        else advice("Name one of the items that are there.")
    )


def _unknown(name: str, rows: Mapping[Key, Listed], where: str) -> Unknown:
    words = {row.states.title.casefold(): key for key, row in rows.items()}
    words |= {name_of(key).casefold(): key for key in rows} | {readable(key).casefold(): key for key in rows}
    # Five words may be two names of one item; three items are told.
    found = dict.fromkeys(words[word] for word in near(name, words, 5))
    return Unknown(
        f"{where} has no item called {name!r}.",
        subject=name,
        details=[f"near: {readable(key)}  ({rows[key].states.title})" for key in list(found)[:3]],
        next_step=_look(where),
    )
