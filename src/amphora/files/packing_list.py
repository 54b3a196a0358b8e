"""The packing list, looked at before anything in it is believed: every member of the type that it has to have."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from amphora.core.values.errors import PackageDamaged
from amphora.core.values.keys import is_key
from amphora.core.values.versions import is_version
from amphora.files.names import NAME

PACKING_LIST = "data/packing-list.json"

_STATES = {"title": str, "folder?": str, "on?": bool, "published?": bool}
_SHAPE: dict[str, Any] = {
    "amphora": {"format": str},
    "name": str,
    "version": str,
    "note": str,
    "source": {"name": str, "uid": str, "release?": str},
    "contents": [
        {
            "key": str,
            "kind": str,
            "schema": int,
            "digest": str,
            "states": _STATES,
            "source": {"id": str, "link": str, "unpublished?": str},
            "tokens": {"whole": [str], "text": [str]},
        }
    ],
    "needs": [{"key": str, "type": str, "seen?": str, "used_by": [str]}],
}
"""Names to types; a question mark behind a name that may be missing. What is not named here is not looked at: a newer
minor format may add it."""

_FOLDER_MAY_LACK = ("digest", "tokens")
"""What is computed anew for a folder that people edit."""


def check_listing(listing: Any, is_edited: bool = False) -> None:
    """PackageDamaged for the first member of a packing list that is missing or of another type, and for names that no
    package of ours has."""
    for place, words in _faults(listing, _SHAPE, "", is_edited):
        raise PackageDamaged(f"Its packing list is malformed: {place or 'it'} {words}.", place=PACKING_LIST)
    # In a folder it is computed anew; in a package its absence would mean that nobody compares.
    if not is_edited and not isinstance(listing.get("contents_digest"), str):
        raise PackageDamaged("Its packing list is malformed: contents_digest is missing.", place=PACKING_LIST)
    if not NAME.fullmatch(listing["name"]):
        raise PackageDamaged(f"It calls itself {listing['name'][:60]!r}, which can't be a name.", place=PACKING_LIST)
    if not is_version(listing["version"]):
        raise PackageDamaged(f"Its version {listing['version'][:60]!r} is none as SemVer has it.", place=PACKING_LIST)
    for said in (listing["source"]["name"], listing["source"]["uid"]):
        if not said or not said.isprintable():
            raise PackageDamaged(f"Its source is called {said[:60]!r}, which can't be a name.", place=PACKING_LIST)
    notes = listing.get("notes", {})
    keys = {row["key"] for row in listing["contents"]}
    if not isinstance(notes, dict) or not all(key in keys and isinstance(text, str) for key, text in notes.items()):
        raise PackageDamaged(
            "Its packing list is malformed: notes have to be texts on its items.", place=PACKING_LIST
        )
    words = listing.get("afterwards", [])
    if not isinstance(words, list) or not all(isinstance(text, str) and text.strip() for text in words):
        raise PackageDamaged("Its packing list is malformed: afterwards is no list of texts.", place=PACKING_LIST)
    for need in listing["needs"]:
        if not is_key(need["key"]) or not all(map(is_key, need["used_by"])):
            raise PackageDamaged(
                f"It lists the need {need['key'][:60]!r}, which is no proper key.", place=PACKING_LIST
            )


def check_states(states: Any, name: str) -> None:
    """PackageDamaged for states that are none."""
    for place, words in _faults(states, _STATES, "states", False):
        raise PackageDamaged(f"{name} is malformed: {place} {words}.", place=name)


def _faults(value: Any, shape: Any, place: str, is_edited: bool) -> Iterator[tuple[str, str]]:
    if isinstance(shape, dict):
        if not isinstance(value, dict):
            yield place, "has to be an object"
            return
        for name, inner in shape.items():
            plain = name.removesuffix("?")
            # Nearly always: a hundred thousand items have two million members.
            if type(value.get(plain)) is inner:
                continue
            here = f"{place}.{plain}" if place else plain
            if plain in value and not (value[plain] is None and name != plain):
                yield from _faults(value[plain], inner, here, is_edited)
            elif name == plain and not (is_edited and plain in _FOLDER_MAY_LACK):
                yield here, "is missing"
    elif isinstance(shape, list):
        if not isinstance(value, list):
            yield place, "has to be a list"
            return
        for number, part in enumerate(value):
            if type(part) is not shape[0]:
                yield from _faults(part, shape[0], f"{place}[{number}]", is_edited)
    # In Python True is an int; a schema of `true` is a slip all the same.
    elif not isinstance(value, shape) or (shape is int and isinstance(value, bool)):
        yield place, f"is no {'text' if shape is str else 'whole number' if shape is int else 'yes or no'}"
