"""Leaks: what looks like a secret in clear is refused before it is packed, stored or written, by whatever command."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace

from amphora.core.form.declared import secret_faults
from amphora.core.form.detector import NAME, is_secret
from amphora.core.form.kinds import KindSheet, parse_sheet
from amphora.core.form.secrets import (
    NOTE,
    Guard,
    hidden,
    leaks_in_file,
    leaks_in_row,
    leaks_in_text,
    mark_of_secret,
    sealed,
    to_silence,
    told,
    without_secrets,
)
from amphora.core.form.spots import mask_secrets
from amphora.core.needs.crosswalk import row_name
from amphora.core.plan.states import Image
from amphora.core.values.errors import NotReady, PackageDamaged
from amphora.core.values.keys import Key, kind_of, readable
from amphora.core.values.model import Contents, Json, Leak
from amphora.core.values.next_step import advice
from amphora.core.values.raw import whole
from amphora.core.values.tokens import parse_token
from amphora.core.values.words import counted
from amphora.files.rows import rows_of

Found = tuple[Key, Leak]
"""A leak with the item that holds it; the key is empty where no item does."""

LARGEST_TEXT_BYTES = 4 << 20
"""An attachment that is larger is not searched: it is no text that somebody typed."""

Sheets = Mapping[str, KindSheet]


def leaks_in(contents: Contents, sheets: Sheets, guard: Guard) -> list[Found]:
    """The leaks in everything that a package carries: forms, layouts, titles, keys, attachments that are text, rows,
    the note."""
    found: list[Found] = []
    for key, item in contents.items.items():
        # What was read from an environment has passed the gate, and remembers what was hidden there; what was read
        # from a file has not: somebody else's export, or a folder edited by hand.
        leaks = item.leaks or sealed(item, sheets.get(item.kind), guard).leaks
        found += [(key, leak) for leak in leaks]
    holders = {
        token.path: (key, place.pointer)
        for key, item in contents.items.items()
        for place in item.places
        if (token := parse_token(place.token)) and token.kind == "file"
    }
    for name, raw in contents.files.items():
        if isinstance(raw, bytes) or raw.size_bytes < LARGEST_TEXT_BYTES:
            key, where = holders.get(name, ("", ""))
            found += [(key, leak) for leak in leaks_in_file(key, where, whole(raw), guard)]
    for key, rows in contents.records.items():
        # Row by row, as they are written: a table is never in memory as a whole.
        for number, row in enumerate(rows_of(rows), 1):
            found += [(key, leak) for leak in leaks_in_row(key, number, row, guard)]
    beside = [("", text) for text in contents.afterwards]
    for key, text in (("", contents.note), *beside, *contents.notes.items()):
        found += [(key, leak) for leak in leaks_in_text(key, NOTE, text, guard)]
    return [one for one in found if one[1].is_sure]


def leaks_in_settings(contents: Contents, values: Mapping[Key, Json], guard: Guard) -> list[Found]:
    """Settings that look like secrets: their values have left the forms, and would stand in the crosswalk."""
    found = []
    for need in contents.needs:
        value, name = values.get(need.key), row_name(need.key)
        if need.kind == "setting" and is_secret(name, value):
            item = contents.items[need.used_by[0]]
            place = next(place.pointer for place, token in item.tokens if token.key == need.key)
            mark = mark_of_secret(item.key, place, str(value))
            if not guard.pardons(item.key, place, mark):
                found.append((item.key, Leak(place, NAME, mark, f"the setting {name!r}")))
    return found


def leaks_in_images(images: Mapping[Key, Image | None], sheets: Sheets, guard: Guard) -> list[Found]:
    """The leaks in what stands in an environment now, live and as drafts: it would be kept for an undo."""
    return [(key, leak) for key, image in images.items() if image for leak in _sealed(key, image, sheets, guard)[1]]


def sealed_image(key: Key, image: Image, sheets: Sheets, guard: Guard) -> Image:
    """The image with its secrets hidden: to be remembered, and never written anywhere."""
    if sheet := sheets.get(image.kind):
        # It may have been read as it was seen when a sheet did not call that a secret yet.
        live, draft = (None if one is None else mask_secrets(one, sheet) for one in (image.live, image.draft))
        image = replace(image, live=live, draft=draft)
    return _sealed(key, image, sheets, guard)[0]


def refuse_to_pack(found: Sequence[Found]) -> None:
    """NotReady where anything would leak into a package."""
    words = f"{counted(len(found), 'value')} would carry a secret in clear; nothing was written."
    refuse_leaks(found, words)


def refuse_leaks(found: Sequence[Found], words: str) -> None:
    """NotReady where anything leaks, with these words first."""
    if found:
        key, leak = found[0]
        raise NotReady(
            words,
            subject=without_secrets(key) or None,
            place=leak.place,
            details=[told(*one) for one in found],
            next_step=to_silence(key, leak),
        )


def refuse_faults(contents: Contents, faults: Iterable[tuple[Key, str, str]]) -> None:
    """PackageDamaged for the first fault as to declared secrets: item, place, words."""
    for key, place, words in faults:
        raise PackageDamaged(
            f"{contents.title} is refused: {readable(key)} {words}.",
            subject=key,
            place=place,
            next_step=advice(f"{_todo(contents, key)}; nothing was written."),
        )


def _todo(contents: Contents, key: Key) -> str:
    """What to do about an item that is not in order as to declared secrets."""
    kind = kind_of(key)
    own = parse_sheet(contents.sheets[kind], kind) if kind in contents.sheets else None
    if own is None or any(secret_faults(contents.items[key], own)):
        return "Ask whoever made the package"
    # By its own sheet it is in order: then nobody has tampered with it, and only the sheets differ.
    return f"Export it again: the kind sheet of a {kind} calls something else secret here"


def _sealed(key: Key, image: Image, sheets: Sheets, guard: Guard) -> tuple[Image, list[Leak]]:
    leaks: list[Leak] = []
    versions = []
    for definition in (image.live, image.draft):
        # Of a kind that nobody knows, nothing is kept either.
        if definition is not None and image.kind in sheets:
            definition, found = hidden(definition, sheets[image.kind].places.walk(definition), key, guard)
            leaks += [leak for leak in found if leak.is_sure]
        versions.append(definition)
    return replace(image, live=versions[0], draft=versions[1]), leaks
