"""The gate for secrets: every definition passes it when it becomes a form, whoever asks. What looks like a secret and
is not pardoned is hidden there, so that nothing behind the gate can show or store it, and told as a leak, so that
whoever would pack or write the form refuses to.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import hmac
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Final
from urllib.parse import unquote

from amphora.core.form.detector import NAME, Hit, hits_in, is_secret, kind_of_name, name_of_place
from amphora.core.form.glance import may_hold
from amphora.core.form.kinds import KindSheet
from amphora.core.form.places import Places, Walk
from amphora.core.form.visit import visited
from amphora.core.values.keys import Key, decode_segment, readable
from amphora.core.values.late import dataclass
from amphora.core.values.model import Item, Json, Leak
from amphora.core.values.next_step import NextStep, advice
from amphora.core.values.pointers import Pointer, write_pointer
from amphora.core.values.strict_json import pretty_bytes


@dataclass(frozen=True)
class Guard:
    """What the gate goes by: the values of which somebody has said, with a reason, that they are no secrets (item,
    place, mark), and a salt, new for each process: what is shown in place of a secret tells two of them apart, and
    lets nobody try out which they are."""

    pardoned: frozenset[tuple[Key, str, str]] = frozenset()
    salt: bytes = b""

    def pardons(self, key: Key, place: str, mark: str) -> bool:
        """Whether this very value was silenced at this place."""
        return (key, place, mark) in self.pardoned


STRICT: Final = Guard()
"""The gate where nothing has been silenced."""

LAYOUT: Final = "layout:"
TITLE, FOLDER, PATH, LINK, NOTE = "state:title", "state:folder", "key", "link", "note"
"""Places outside of a form at which a text travels too."""

_UNBOUND = "amphora:unbound:"
_NO_ROLES: Final = Places([])


def mark_of_secret(key: Key, place: str, value: str) -> str:
    """What a silenced value is remembered by: another one at the same place has another mark."""
    return "sha256:" + hashlib.sha256(f"{key}\0{place}\0{value}".encode()).hexdigest()[:32]


def masked_value(value: str) -> str:
    """A secret as it may be shown: enough to find it, not enough to use it."""
    shown = value[:2] if len(value) >= 12 else ""
    return f"{shown}… ({len(value)} characters)"


def sealed(item: Item, sheet: KindSheet | None, guard: Guard = STRICT, is_suspect: bool = False) -> Item:
    """The item with every secret hidden that is not pardoned, and the leaks that were found in form, layout, title,
    folder, key and link. Most items hold none and are given back as they are; one that `is_suspect` is looked
    through whatever its bytes say at first sight, for what is only random, too."""
    leaks: list[Leak] = []
    form, layout, states = item.form, item.layout, item.states
    if is_suspect or may_hold(item.form_bytes):
        walk = (sheet.places if sheet else _NO_ROLES).walk(form)
        form, found = hidden(form, walk, item.key, guard)
        leaks += found
    if (beside := item.layout_bytes) and may_hold(beside):
        layout, found = hidden(layout, _NO_ROLES.walk(layout), item.key, guard, LAYOUT)
        leaks += found
    # Names of places say nothing here: only what is a secret by its shape counts.
    texts = {TITLE: states.title, FOLDER: states.folder, PATH: readable(item.key), LINK: item.link}
    # One glance for all of them: they are short, and a quotation mark keeps them apart.
    if may_hold('"'.join(texts.values()).encode(errors="replace")):
        for place, text in texts.items():
            leaks += _leaks(item.key, place, text, hits_in(text), guard)
    if not leaks:
        return item
    # The title is shown everywhere; folder, key and link stop the export, and are shown with the secret left out.
    if any(leak.place == TITLE and leak.is_sure for leak in leaks):
        states = replace(states, title=hidden_text(states.title, hits_in(states.title), guard.salt))
    return replace(item, _form=form, _layout=layout, states=states, leaks=tuple(leaks))


def hidden(form: Json, walk: Walk, key: Key, guard: Guard = STRICT, before: str = "") -> tuple[Json, list[Leak]]:
    """A form, layout or native definition with its secrets hidden, and where they were; `before` stands in front of
    their places."""
    leaks: list[Leak] = []
    texts: dict[Pointer, Json] = {}
    found = list(_found_in(form, walk))
    # Asked for only where something is merely random: that is rare, and looking through all of it is not cheap.
    names = _names_in(form, walk) if any(not hit.is_sure for *_, hits in found for hit in hits) else frozenset()
    for at, value, said in found:
        hits = [hit for hit in said if hit.is_sure or value[hit.start : hit.end] not in names]
        # A place may pass a member whose name is a secret itself, and is shown everywhere.
        place = before + write_pointer(tuple(without_secrets(step) for step in at))
        mine = _leaks(key, place, value, hits, guard)
        leaks += mine
        if any(leak.is_sure for leak in mine):
            texts[at] = hidden_text(value, hits, guard.salt)
    return (_with(form, texts) if texts else form), leaks


def hidden_text(text: str, hits: Sequence[Hit], salt: bytes | None = None) -> str:
    """A text with its secrets left out; by a salt, what stands for them tells two of them apart and nothing else."""
    pieces, position = [], 0
    for hit in hits:
        if hit.is_sure:
            secret = text[hit.start : hit.end].encode()
            digest = "" if salt is None else " " + hmac.new(salt, secret, hashlib.sha256).hexdigest()[:6]
            pieces += [text[position : hit.start], f"‹hidden{digest}›"]
            position = hit.end
    return "".join([*pieces, text[position:]])


def without_secrets(text: str) -> str:
    """A name or a key as it may be shown in a message: what is a secret by its shape is left out."""
    return hidden_text(text, hits_in(text)) if may_hold(text.encode(errors="replace")) else text


def told(key: Key, leak: Leak) -> str:
    """A leak in one line, with as much of it as may be shown; `key` is empty where no item holds it."""
    name = without_secrets(readable(key)) if key else "the package"
    return f"{name} at {leak.place}: {leak.rule}, {leak.shown}"


def to_silence(key: Key, leak: Leak) -> NextStep:
    """What to do about a leak: mend it, or say that it is none."""
    where = f'item = "{without_secrets(key)}", place = "{leak.place}", value = "{leak.mark}"'
    return advice(
        "Keep it in a connection or a secret field there; if it is no secret, say so in amphora.toml under"
        f' [[silenced]] with rule = "secret-in-clear", {where} and the reason.'
    )


def leaks_in_text(key: Key, place: str, text: str, guard: Guard = STRICT) -> list[Leak]:
    """The leaks in a text that stands by itself: a note, an attachment."""
    return _leaks(key, place, text, hits_in(text), guard)


def leaks_in_file(key: Key, place: str, content: bytes, guard: Guard = STRICT) -> list[Leak]:
    """The leaks in an attachment, where it is text; `place` is where the item holds it."""
    text = _as_text(content)
    return leaks_in_text(key, place, text, guard) if text is not None and may_hold(content) else []


def leaks_in_row(key: Key, number: int, row: Json, guard: Guard = STRICT) -> list[Leak]:
    """The leaks in one row of a table, by its number from 1."""
    if not may_hold(pretty_bytes(row)):
        return []
    return hidden(row, _NO_ROLES.walk(row), key, guard, f"rows:{number}")[1]


def _found_in(form: Json, walk: Walk) -> Iterator[tuple[Pointer, str, list[Hit]]]:
    """Every text, number and member name in which there is a secret."""
    for here in visited(form, walk, is_thorough=True):
        value, spot = here.value, here.walk.spot
        if isinstance(value, dict):
            # The name of a member can be one: maps from tokens to whom they belong to are made so.
            for name in value:
                if hits := [hit for hit in hits_in(name) if hit.is_sure]:
                    yield (*here.at, name), name, hits
        if spot.is_secret:
            continue
        if isinstance(value, str) and value.startswith("data:"):
            # Inline, and perhaps a text file: searched as one, and told as a whole.
            text = _inline(value)
            # By shape only: a file has no name that says what stands in it.
            if text is not None and any(hit.is_sure for hit in hits_in(text)):
                yield here.at, value, [Hit(0, len(value), "a file that holds a secret")]
        elif isinstance(value, str):
            text = decode_segment(value[len(_UNBOUND) :]) if value.startswith(_UNBOUND) else value
            if hits := hits_in(text, _name(here.at, here.held)):
                yield here.at, text, hits
        elif isinstance(value, int) and is_secret(_name(here.at, here.held), value):
            text = str(value)
            yield here.at, text, [Hit(0, len(text), NAME)]


def _names_in(form: Json, walk: Walk) -> frozenset[str]:
    """What parts of a definition are called: its member names, and what tells the elements of named arrays apart.
    Many platforms draw such names by lot, and name them all over a definition; nobody uses a password for that."""
    found = set[str]()
    for here in visited(form, walk, is_thorough=True):
        value, member = here.value, here.walk.spot.named_by
        if isinstance(value, dict):
            found |= value.keys()
        elif isinstance(value, list) and member:
            found |= {name for one in value if isinstance(one, dict) and isinstance(name := one.get(member), str)}
    return frozenset(found)


def _name(at: Pointer, held: Json) -> str:
    """The name by which a place goes; in `{"name": "password", "value": …}` the name that stands beside it."""
    if at and at[-1].lower() in ("value", "val", "v", "content", "data", "default") and isinstance(held, dict):
        for member in ("name", "key", "header", "field", "variable", "id", "label", "n", "k", "type"):
            beside = held.get(member)
            if isinstance(beside, str) and kind_of_name(beside):
                return beside
    return name_of_place(at)


def _leaks(key: Key, place: str, value: str, hits: Sequence[Hit], guard: Guard) -> list[Leak]:
    found = []
    for hit in hits:
        text = value[hit.start : hit.end]
        # Over item and place as well: silencing one value nowhere silences it elsewhere.
        mark = mark_of_secret(key, place, text)
        if not guard.pardons(key, place, mark):
            found.append(Leak(place, hit.rule, mark, masked_value(text), hit.is_sure))
    return found


def _with(value: Json, texts: Mapping[Pointer, Json], at: Pointer = ()) -> Json:
    """The document with other texts at some places, and other names of some members."""
    if isinstance(value, dict):
        result = {}
        for name, part in value.items():
            here = (*at, name)
            is_renamed = here in texts and (not isinstance(part, str | int) or bool(hits_in(name)))
            result[texts[here] if is_renamed else name] = part if is_renamed else _with(part, texts, here)
        return result
    if isinstance(value, list):
        return [_with(part, texts, (*at, str(number))) for number, part in enumerate(value)]
    return texts.get(at, value)


def _inline(url: str) -> str | None:
    """The text that a data URL holds (RFC 2397); None where it holds something else."""
    head, _, body = url.partition(",")
    if not head.endswith(";base64"):
        return unquote(body)
    try:
        return _as_text(base64.b64decode(body, validate=True))
    except binascii.Error:
        return None


def _as_text(content: bytes) -> str | None:
    try:
        return content.decode()
    except UnicodeDecodeError:
        return None
