"""Definitions as platforms write them, and opened, as the portable form sees them.

Many platforms count each kind of item by itself: dataset 12 and chart 12 are two things. They write such numbers
alone (`"dataset_id": 12`), inside a longer text (`"12__table"`), as member names (`{"12": …}`), in scripts
(`{{ dataset(12) }}`), and all of that once more inside JSON that stands in a string. Opened, every id is one text
that means one thing (`dataset~12`), strings of JSON are what they hold, and an object whose member names are ids is
an array of pairs (`{"of": "chart~12", "is": …}`). The kind sheet says where (design, section 5).

Law: `closed(opened(x), present=x) == x`, byte for byte in every string.
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import field
from functools import partial

from amphora.core.form.kinds import Ids, KindSheet, Mention
from amphora.core.form.looks import BLIND, Looks
from amphora.core.form.native_ids import (
    HOLDER,
    MARK,
    NAME,
    NUMBER,
    OPENED,
    UID,
    IdsOf,
    around,
    closed_id,
    held_id,
    in_space,
    is_plain,
    opened_id,
    plain_id,
    written,
)
from amphora.core.form.places import IS, OF, PAIR, PART, REST, PartOf, Spot, Walk, is_part_alone
from amphora.core.form.refers import Refer
from amphora.core.values.canon import canonical_bytes
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.core.values.pointers import Pointer
from amphora.core.values.strict_json import JsonFault, parse_json
from amphora.core.values.tokens import PREFIX

MOST_LAYERS = 8
"""So often something may stand in a string that stands in a string."""


class PartMissing(Exception):
    """An item lacks a part that is named: the item, and the part."""


class Elsewhere(Exception):
    """An id that is unique only in what holds its item is to be written where something else is named: the id."""


@dataclass
class Manner:
    """How a platform wrote a definition, by the places of what was opened: the strings of JSON (None where something
    else stood), what stood where member names, values and parts are meant to be ids."""

    texts: dict[Pointer, str | None] = field(default_factory=dict)
    members: dict[Pointer, Json] = field(default_factory=dict)
    ids: dict[Pointer, Json] = field(default_factory=dict)
    parts: dict[Pointer, Json] = field(default_factory=dict)
    own: dict[PartOf, dict[str, Json]] = field(default_factory=dict)
    """The ids of the item's own parts by their names."""


def opened(definition: Json, sheet: KindSheet, ids: IdsOf, looks: Looks = BLIND) -> Json:
    """A definition in which everything can be seen."""
    return _all_opened(definition, sheet, ids, looks, Manner())


def opened_again(form: Json, sheet: KindSheet, ids: IdsOf) -> Json:
    """A portable form in which everything can be seen that its sheet shows by now. Tokens and texts stay."""
    return _all_opened(form, sheet, ids, BLIND, Manner(), is_portable=True)


def closed(
    definition: Json,
    sheet: KindSheet,
    ids: IdsOf,
    present: Json = None,
    is_spaced: bool = False,
    looks: Looks = BLIND,
) -> Json:
    """A definition as the platform writes it. Strings of JSON are those of `present` (as the platform wrote it) where
    nothing in them changed, and in its manner where something did; new ones have a space behind commas and colons if
    `is_spaced`."""
    manner = Manner()
    if present is not None:
        _all_opened(present, sheet, ids, looks, manner)
    closing = _Closing(sheet, ids, looks, manner, is_spaced)
    return closing.value((), definition, sheet.places.walk(definition))


def _all_opened(
    definition: Json, sheet: KindSheet, ids: IdsOf, looks: Looks, manner: Manner, is_portable: bool = False
) -> Json:
    value = definition
    for _ in range(MOST_LAYERS):
        for part in sheet.own_parts:
            # Found at the latest when the string that they stand in is open.
            manner.own[part] = manner.own.get(part) or part.ids_in(value)
        opening = _Opening(sheet, ids, looks, manner, is_portable)
        before, value = value, opening.value((), value, sheet.places.walk(value))
        # Where places are searched for (a filter), what stands in a string is found only once that is open.
        if (sheet.places.is_simple and not sheet.own_parts) or before == value:
            break
    return value


class _Opening:
    def __init__(self, sheet: KindSheet, ids: IdsOf, looks: Looks, manner: Manner, is_portable: bool) -> None:
        self._sheet, self._ids, self._looks, self._manner = sheet, ids, looks, manner
        self._is_portable = is_portable
        self._around: list[Mapping[str, Json]] = []

    def value(self, at: Pointer, value: Json, walk: Walk) -> Json:
        """A value with all below it; what is open already stays as it is."""
        spot = walk.spot
        if spot.is_json and at not in self._manner.texts and value is not None:
            # Remembered also where it is no string, or none of JSON: such a place is written as it was found.
            self._manner.texts[at] = None
            if isinstance(value, str):
                try:
                    value, self._manner.texts[at] = parse_json(value.encode()), value
                except (JsonFault, UnicodeEncodeError):
                    return value
        if spot.is_members:
            # At first sight: some languages write an object without members like an array, and what is an array all
            # the same stays one, whatever it looks like.
            self._manner.members.setdefault(at, value)
        if spot.is_members and isinstance(value, dict):
            # A name of another form is none of an item.
            pair, other = walk.step("0"), REST if spot.pieces else OF
            value = [{**(self._pieces(name, spot, pair) or {other: name}), IS: part} for name, part in value.items()]
        elif spot.pieces and isinstance(value, str | int) and not isinstance(value, bool):
            # A text of another form is no reference, and stays what it is.
            self._manner.ids.setdefault(at, value)
            value = self._pieces(value, spot, walk) or value
        if isinstance(value, dict):
            self._around.append(value)
            found = {name: self.value((*at, name), part, walk.step(name)) for name, part in value.items()}
            self._around.pop()
            # Last: which item it is a part of has to be open by then.
            return {name: self._part((*at, name), part, found, walk.step(name)) for name, part in found.items()}
        if isinstance(value, list):
            return [self.value((*at, str(n)), part, walk.step(str(n))) for n, part in enumerate(value)]
        if spot.refer:
            # At first sight only: what is open is a text, however it was written.
            self._manner.ids.setdefault(at, value)
            return self._reference(value, spot.refer)
        return self._text(value) if spot.is_text and isinstance(value, str) and not self._is_portable else value

    def _pieces(self, text: str | int, spot: Spot, walk: Walk) -> dict[str, Json]:
        """What a text is made of, where an id is one piece of it; nothing where it is of another form."""
        refer = walk.step(OF).spot.refer
        kinds = _kinds(refer, self._ids) if spot.pieces and refer else []
        if not kinds or refer is None:
            return {}
        if is_part_alone(spot.pieces):
            return self._by_part(str(text), spot.pieces, walk.step(PART).spot.part_of, refer)
        if not isinstance(text, str):
            return {}
        inside = written(self._ids[kinds[0]]) if refer.by == "id" else ".+?"
        found = around(self._looks.here(spot.pieces), inside).fullmatch(text)
        return (
            {OF: found["id"], **{name: part for name, part in found.groupdict().items() if name != "id"}}
            if found
            else {}
        )

    def _by_part(self, text: str, form: str, part: PartOf | None, refer: Refer) -> dict[str, Json]:
        """The item that has a part of this id, and the id; nothing where none of these kinds has one."""
        found = around(self._looks.here(form).replace(f"{{{PART}}}", "{id}"), ".+").fullmatch(text) if part else None
        if part is None or found is None:
            return {}
        holder = next((one for kind in refer.to if (one := self._looks.holder(kind, part, found["id"]))), "")
        return {OF: holder, PART: found["id"]} if holder else {}

    def _part(self, at: Pointer, value: Json, beside: Mapping[str, Json], walk: Walk) -> Json:
        """The name of a part, where its id stands. One that nobody has stays as it is."""
        part, named = walk.spot.part_of, self._manner.parts
        if part is None or at in named or self._is_portable or isinstance(value, bool | dict | list):
            return value
        owner = beside.get(part.of)
        known: Mapping[str, Json] = self._manner.own[part] if part.is_own else {}
        if not known and (part.is_own or not isinstance(owner, str)):
            return value
        named[at] = value
        known = known or self._looks.parts(str(owner), part)
        return next((name for name, id_ in known.items() if str(id_) == str(value)), value)

    def _reference(self, value: Json, refer: Refer) -> Json:
        if refer.ways:
            return next((new for way in refer.ways if (new := self._reference(value, way)) != value), value)
        kind = next(iter(_kinds(refer, self._ids)), None)
        # In Python True is an int, and no id.
        if kind is None or isinstance(value, bool) or not isinstance(value, str | int) or value == "":
            return value
        plain = str(value)
        if self._is_portable and plain.startswith(PREFIX):
            return value
        if refer.form:
            inside = written(self._ids[kind]) if refer.by == "id" else ".+"
            found = around(self._looks.here(refer.form), inside).fullmatch(plain)
            if not found:
                return value
            plain = found["id"]
            if HOLDER in refer.form:
                return opened_id(held_id(plain, found["holder"]), self._ids[kind])
        if refer.by != "id":
            # A name that nobody has, or several, stays the text that it is: it leads to nothing that can be told.
            kinds = [to.partition("#")[0] for to in refer.to]
            return next((id_ for one in kinds if (id_ := self._looks.called(one, refer.by).get(plain))), value)
        return self._opened(plain, kind, value)

    def _opened(self, plain: str, kind: str, value: Json) -> Json:
        ids = self._ids[kind]
        # Where strings of JSON stand in each other it may be open already.
        is_other = plain.startswith(f"{ids.space}{MARK}") or (ids.is_number and not NUMBER.fullmatch(plain))
        if is_other or not ids.within:
            return value if is_other else opened_id(plain, ids)
        holder = _named(self._around, ids)
        return value if holder is None else opened_id(held_id(plain, holder), ids)

    def _text(self, text: str) -> str:
        for mention in self._sheet.mentions:
            ids = self._ids.get(mention.kind)
            if ids is None or not ids.space:
                continue
            inside = {"id": written(ids), "uid": UID}.get(mention.by, ".+?")
            pattern = around(self._looks.here(mention.pattern), inside)
            text = pattern.sub(partial(self._mentioned if mention.by == "id" else self._called, mention), text)
        return text

    def _called(self, mention: Mention, found: re.Match[str]) -> str:
        new = self._looks.called(mention.kind, mention.by).get(found["id"])
        return _with_id(found, new) if new else found[0]

    def _mentioned(self, mention: Mention, found: re.Match[str]) -> str:
        kind = mention.kind
        new = str(self._opened(found["id"], kind, found["id"]))
        # What holds it is nothing that a text says, and between two quotation marks may stand anything: what is none
        # of those there stays as it is.
        is_sure = not self._ids[kind].within and is_plain(found["id"])
        is_one = is_sure or new in self._looks.ids(kind)
        return _with_id(found, new) if is_one else found[0]


class _Closing:
    def __init__(self, sheet: KindSheet, ids: IdsOf, looks: Looks, manner: Manner, is_spaced: bool) -> None:
        self._sheet, self._ids, self._looks = sheet, ids, looks
        self._manner, self._is_spaced = manner, is_spaced
        self._around: list[Mapping[str, Json]] = []

    def value(self, at: Pointer, value: Json, walk: Walk) -> Json:
        """A value with all below it, what it holds first."""
        spot = walk.spot
        if isinstance(value, dict):
            named = {name: self._part((*at, name), part, value, walk.step(name)) for name, part in value.items()}
            self._around.append(value)
            value = {name: self.value((*at, name), part, walk.step(name)) for name, part in named.items()}
            self._around.pop()
        elif isinstance(value, list):
            value = [self.value((*at, str(n)), part, walk.step(str(n))) for n, part in enumerate(value)]
        elif spot.refer and isinstance(value, str):
            there = self._manner.ids.get(at)
            # What looks open and was written so is somebody's own text.
            return value if there == value else self._reference(value, spot.refer, there)
        elif spot.is_text and isinstance(value, str):
            value = self._text(value)
        if spot.pieces and not spot.is_members and isinstance(value, dict) and OF in value:
            value = self._joined(value, spot.pieces, type(self._manner.ids.get(at)))
        there = self._manner.members.get(at)
        is_array = isinstance(there, list) and (bool(there) or value == [])
        if spot.is_members and _are_pairs(value) and not is_array:
            value = {str(self._joined(pair, spot.pieces)): pair[IS] for pair in value}
        if not spot.is_json:
            return value
        text = self._manner.texts.get(at)
        is_plain = value is None or isinstance(value, str) if text is None else False
        return value if is_plain or (text is None and at in self._manner.texts) else self._packed(value, text)

    def _part(self, at: Pointer, value: Json, beside: Mapping[str, Json], walk: Walk) -> Json:
        """The id that a part has in the item beside it. PartMissing where that item has none of this name; what was
        there without a name stays."""
        part = walk.spot.part_of
        owner = beside.get(part.of) if part else None
        if part is not None and part.is_own and isinstance(value, str):
            # What is no name of a part here leads nowhere, as it did at home.
            id_ = self._manner.own.get(part, {}).get(value)
            return value if id_ is None else id_
        if part is None or not isinstance(value, str) or not value or not isinstance(owner, str):
            return value
        known = self._looks.parts(owner, part)
        if value not in known and not part.is_none(value) and self._manner.parts.get(at) != value:
            raise PartMissing(owner, value)
        return known.get(value, value)

    def _reference(self, value: str, refer: Refer, there: Json) -> Json:
        if refer.ways:
            # Of one that can be written in two ways what is there stays; what is new is written by its id.
            ways = [new for way in reversed(refer.ways) if (new := self._reference(value, way, there)) != value]
            return there if there in ways else next(iter(ways), value)
        kinds, form = _kinds(refer, self._ids), self._looks.here(refer.form)
        if refer.by != "id":
            # By the titles of this moment: what was renamed is written as it is called now.
            called = (
                name for kind in kinds for name, id_ in self._looks.called(kind, refer.by).items() if id_ == value
            )
            name = next(called, None)
            return value if name is None else form.replace("{id}", name) if form else name
        space = value.partition(MARK)[0] if MARK in value else ""
        kind = next((kind for kind in kinds if self._ids[kind].space == space), None)
        if kind is None:
            return value
        ids = self._ids[kind]
        plain = plain_id(whole_id := closed_id(value, ids), ids)
        if HOLDER in form:
            return form.replace(HOLDER, str(whole_id).partition(MARK)[0]).replace("{id}", str(plain))
        if ids.within and (holder := _named(self._around, ids)) is not None and held_id(plain, holder) != whole_id:
            # The number alone would be that of something else.
            raise Elsewhere(value)
        whole = form.replace("{id}", str(plain)) if form else plain
        if type(there) is int and NUMBER.fullmatch(str(whole)):
            return int(whole)
        return str(whole) if isinstance(there, str) else whole

    def _joined(self, pieces: Mapping[str, Json], form: str, written: type = str) -> Json:
        """The text that is made of these, or the id alone; nothing where that is empty for the time being."""
        if not form or pieces.get(OF) is None:
            return pieces.get(OF, pieces.get(REST))
        if form == f"{{{PART}}}":
            # What is new is written as the part's own id is.
            return str(pieces.get(PART)) if written is str else pieces.get(PART)
        text = self._looks.here(form).replace("{id}", str(pieces[OF]))
        for name in (PART, REST):
            text = text.replace(f"{{{name}}}", str(pieces.get(name, "")))
        return text

    def _text(self, text: str) -> str:
        for mention in self._sheet.mentions:
            ids = self._ids.get(mention.kind)
            if ids is None or not ids.space:
                continue
            held = f"(?:{OPENED}{MARK})?" if ids.within else ""
            # A uid is looked up, and so are all the letters of the id that stands for it.
            inside = NAME if mention.by == "uid" else OPENED
            pattern = around(self._looks.here(mention.pattern), f"{re.escape(ids.space)}{MARK}{held}{inside}")
            text = pattern.sub(partial(self._mentioned, mention), text)
        return text

    def _mentioned(self, mention: Mention, found: re.Match[str]) -> str:
        if mention.by == "id":
            ids = self._ids[mention.kind]
            return _with_id(found, str(plain_id(closed_id(found["id"], ids), ids)))
        called = self._looks.called(mention.kind, mention.by).items()
        return _with_id(found, next((name for name, id_ in called if id_ == found["id"]), found["id"]))

    def _packed(self, value: Json, text: str | None) -> str:
        """JSON in a string: the one that was there if it says the same."""
        if text is not None and canonical_bytes(parse_json(text.encode())) == canonical_bytes(value):
            return text
        is_spaced = self._is_spaced if text is None else ('": ' if '":' in text else ", ") in text
        lines = re.search(r"\n( +)", text or "")
        return json.dumps(
            value,
            ensure_ascii=text is None or text.isascii(),
            indent=len(lines[1]) if lines else None,
            separators=(",", ": ") if lines else (", ", ": ") if is_spaced else (",", ":"),
        )


def _named(around: Sequence[Mapping[str, Json]], ids: Ids) -> str | int | None:
    """What holds the items of such ids. The nearest one counts: of a list of things elsewhere each says where."""
    nearest: Json = next((one[ids.within] for one in reversed(around) if ids.within in one), None)
    return nearest if isinstance(nearest, str | int) and nearest != "" else None


def _kinds(refer: Refer, ids: IdsOf) -> list[str]:
    """What may stand at a place, as far as anything is known of its ids."""
    return [kind for to in refer.to if (kind := in_space(to.partition("#")[0], refer.space)) in ids]


def _are_pairs(value: Json) -> bool:
    """Whether an array is an object whose member names are ids."""
    return isinstance(value, list) and all(
        isinstance(pair, dict) and IS in pair and len(pair) > 1 and pair.keys() <= PAIR for pair in value
    )


def _with_id(found: re.Match[str], new: str) -> str:
    start, end = found.start("id") - found.start(), found.end("id") - found.start()
    return f"{found[0][:start]}{new}{found[0][end:]}"
