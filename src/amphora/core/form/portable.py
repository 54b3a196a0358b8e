"""From a native definition to its portable form (design, section 3); `native` is the way back.

`to_portable` replaces every environment-specific value by a token; `to_native` lays a portable form over
what the target has at present. Laws, property-tested: `to_portable(to_native(p)) == p`, and
`to_native(to_portable(x), x) == x`.
"""

from __future__ import annotations

import base64
import hashlib
import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import field

from amphora.core.form.bindings import MISSING, Bindings
from amphora.core.form.kinds import KindSheet
from amphora.core.form.places import IS, OF, PAIR, Spot, Walk
from amphora.core.form.refers import Refer
from amphora.core.form.spots import named_elements, sort_unordered
from amphora.core.values.keys import Key, encode_segment, name_of, path_of
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.core.values.pointers import Pointer, write_pointer
from amphora.core.values.raw import Raw
from amphora.core.values.tokens import (
    PREFIX,
    attachment_of,
    escape,
    is_secret,
    parse_token,
    render_text,
    token_for,
    unbound,
)

_DATA_URL = re.compile(r"data:([^;,]*);base64,([A-Za-z0-9+/=]*)")


@dataclass(frozen=True)
class Portable:
    """A portable form with what was noticed while making it.

    `layout` is a sparse tree of the values at layout places (elements of named arrays under their
    names), None if there are none. `is_on` is the switch where it stands inside the definition.
    `dead` are the places of ids that led nowhere and were left out.
    """

    form: Json
    layout: Json = None
    is_on: bool | None = None
    files: Mapping[str, Raw] = field(default_factory=dict)
    dead: tuple[str, ...] = ()


def to_portable(
    native: Json,
    sheet: KindSheet,
    names: Bindings,
    *,
    key: Key,
    inner: Mapping[str, str] | None = None,
    guide: Json = None,
    binds_new: bool = False,
) -> Portable:
    """The portable form of a native definition.

    `names` are the bindings of the environment that it comes from; people met for the first time are
    added to them, and with `binds_new` (in an export) so are settings. `inner` maps portable part ids
    to native ones. A leaf keeps what stands in `guide`, the delivered form or else the package's, if
    that renders to the value found.
    """
    reader = Reader(names, key, {there: here for here, there in (inner or {}).items()}, binds_new)
    form = reader.read(native, sheet.places.walk(native), (), guide)
    return Portable(form, reader.layout or None, reader.is_on, reader.files, tuple(reader.dead))


class Reader:
    """One reading of one definition."""

    def __init__(self, names: Bindings, key: Key, inward: Mapping[str, str], binds_new: bool) -> None:
        self.names = names
        self.key = key
        self.inward = inward
        self.binds_new = binds_new
        self.layout: dict[str, Json] = {}
        self.is_on: bool | None = None
        self.files: dict[str, Raw] = {}
        self.dead: list[str] = []

    def read(self, value: Json, walk: Walk, at: Pointer, guide: Json) -> Json:
        spot = walk.spot
        # Before everything else: nothing may look at a secret's value, not even to compare it. What is empty holds
        # none, and "empty" is a thing that a target may need to be told.
        if spot.is_secret and value not in (None, "", [], {}):
            return self._secret(at, guide)
        if isinstance(value, dict):
            return self._object(value, walk, at, guide)
        if isinstance(value, list):
            return self._array(value, walk, at, guide)
        # A place may be declared both: an id is then a reference, anything else a setting.
        if spot.setting and not (spot.refer and isinstance(value, str) and self._names(value, spot.refer)):
            return self._setting(value, at, guide)
        if isinstance(value, str):
            return self._string(value, spot, at, guide)
        # A setting when it was delivered, by the sheet of that day.
        return guide if isinstance(guide, str) and self._is_meant(guide, value) else value

    def _object(self, value: dict[str, Json], walk: Walk, at: Pointer, guide: Json) -> Json:
        guides = guide if isinstance(guide, dict) else {}
        result = {}
        steps, other = walk.children()
        for name, part in value.items():
            child = steps.get(name, other)
            # The short way first: nine in ten members have no role and hold nothing of ours.
            if child.is_bare:
                kind, beside = type(part), guides.get(name)
                is_plain = self._is_own_text(part, beside) if kind is str else type(beside) is not str
                if kind is dict or kind is list or not is_plain:
                    result[name] = self.read(part, child, (*at, name), beside)
                else:
                    result[name] = part
            elif self._is_dead(part, child):
                self.dead.append(write_pointer((*at, name)))
            elif not child.is_outside:
                result[name] = self.read(part, child, (*at, name), guides.get(name))
            elif child.spot.is_layout:
                _put(self.layout, (*at, name), part)
            # On or off is a state, compared and asked about as such; inside the form it would be a second truth.
            elif child.spot.is_switch:
                self.is_on = bool(part)
        return result

    def _is_own_text(self, text: str, guide: Json) -> bool:
        """Whether a text at a place without a role surely stays as it is: the short way for most of them."""
        names = self.names
        return (
            text not in names.natives
            and text not in self.inward
            and text not in names.part_owner
            and PREFIX not in text
            and (not names.style.joiner or names.style.joiner not in text)
            and (guide is None or guide == text)
        )

    def _array(self, value: list[Json], walk: Walk, at: Pointer, guide: Json) -> Json:
        member = walk.spot.named_by
        index = named_elements(value, member) if member else None
        guides = guide if isinstance(guide, list) else []
        by_name = (
            {g[member]: g for g in guides if isinstance(g, dict) and isinstance(g.get(member), str)} if member else {}
        )
        result, stood = [], []
        for position, part in enumerate(value):
            if self._is_dead(part, walk.step(str(position))):
                self.dead.append(write_pointer((*at, str(position))))
                continue
            if index is None or member is None:
                name, beside = str(position), guides[position] if position < len(guides) else None
            else:
                # Under the name that the part had at its source: a target that gives parts ids of its own must not
                # look edited for it.
                name = self.inward.get(part[member], part[member])
                beside = by_name.get(name)
            result.append(self.read(part, walk.step(str(position)), (*at, name), beside))
            stood.append(name)
        if not walk.spot.is_unordered:
            return result
        return sort_unordered(result, member) if index is not None else self._sorted(result, stood, at)

    def _sorted(self, elements: list[Json], stood: Sequence[str], at: Pointer) -> list[Json]:
        """The elements of an array without an order or names, by what they are; the layout of what `stood` at each
        place goes with it."""
        tree: Json = self.layout
        for name in at:
            tree = tree.get(name, {})
        words = [json.dumps(one, sort_keys=True) for one in elements]
        laid = [json.dumps(tree.get(place), sort_keys=True) for place in stood]
        order = sorted(range(len(elements)), key=lambda n: (words[n], laid[n]))
        if tree:
            _put(self.layout, at, {str(n): tree[stood[was]] for n, was in enumerate(order) if stood[was] in tree})
        return [elements[n] for n in order]

    def _is_dead(self, value: Json, walk: Walk) -> bool:
        """Whether an id that leads nowhere stands here, of which the kind sheet says that nobody misses it: alone, or
        as the member name of a pair, or as a piece of a text."""
        # The usual case: no role here, so nothing to ask.
        if walk.is_dull:
            return False
        if isinstance(value, dict) and OF in value and (walk.spot.pieces or {OF, IS} <= value.keys() <= PAIR):
            return self._is_dead(value[OF], walk.step(OF))
        refer = walk.spot.refer
        if refer is None or not refer.leaves_dead or not isinstance(value, str) or not value:
            return False
        # A part of the item itself leads somewhere, whatever it is called here.
        return value not in self.inward and self._token_of(value) is None

    def _secret(self, at: Pointer, guide: Json) -> str:
        if is_secret(guide):
            return str(guide)
        return token_for(self._own_name("secret", at))

    def _setting(self, value: Json, at: Pointer, guide: Json) -> Json:
        token = parse_token(guide)
        # Only if the setting still has this value here: somebody may have typed another one, and that is an edit.
        if token and token.kind == "setting" and _is_value(self.names.value_of_token(token), value):
            return str(token)
        if not self.binds_new:
            return escape(value) if isinstance(value, str) else value
        if token and token.kind == "setting":
            key = token.key
            self.names.held.setdefault(key, f"{self.key}{write_pointer(at)}")
        else:
            key = self._own_name("setting", at)
        self.names.bind(key, value)
        return token_for(key)

    def _own_name(self, kind: str, at: Pointer) -> Key:
        """A name from key and pointer; the short one unless another place holds it already."""
        # Positions are left out of names: a step that is inserted above would rename the setting, and the crosswalk's
        # line would be lost.
        tail = [part for part in at if not part.isdigit() and part != "value"]
        spot = f"{self.key}{write_pointer(at)}"
        short = "-".join([name_of(self.key), *tail])
        long = ".".join([self.key.replace(":", ".").replace("/", "."), *at])
        # The short name is for people, who read it in the crosswalk; the long one cannot clash with another item's.
        for name in (short, long):
            # `held` tells by whom a name is taken, so that the same place gets the same name in the next export too.
            key = f"{kind}:{encode_segment(name)}"
            if self.names.held.setdefault(key, spot) == spot:
                return key
        return f"{kind}:{encode_segment(long + '-' + path_of(self.key))}"

    def _string(self, text: str, spot: Spot, at: Pointer, guide: Json) -> str:
        if spot.is_file and (token := self._file(text)):
            return token
        # The item's own parts go by the ids that they had at their source, before anything else is asked: an id
        # that the target forced on a part may well be somebody else's id elsewhere.
        if text in self.inward and not spot.is_text:
            return self.inward[text]
        # What renders to the value found is what was meant: two needs may share a value, and a plain text may
        # equal one.
        if isinstance(guide, str) and (guide == escape(text) or self._renders(guide, text)):
            return guide
        if spot.refer and (token := self._reference(text, spot.refer)):
            return token
        if spot.is_text:
            return self._text(text)
        # A reference that no sheet declares. It has to be rewritten all the same, or it would point into the source;
        # `check` reports it, so that somebody may mend the sheet.
        if not spot.refer and (token := self._token_of(text)) and self.names.style.tells(text):
            return token
        return escape(text)

    def _file(self, text: str) -> str | None:
        """The token of an attachment that stands inline as a data URL (RFC 2397), or is kept apart."""
        if self.names.files_apart and (name := attachment_of(text)):
            self.files[name] = self.names.files_apart(name)
            return text
        found = of_data_url(text)
        if found is None:
            return None
        media_type, content = found
        name = hashlib.sha256(content).hexdigest()
        self.files[name] = content
        return token_for(f"file:{name}", media_type or None)

    def _token_of(self, text: str) -> str | None:
        """The token of a native id; the item's own parts travel as they are where they stand alone."""
        token = self.names.token_of(text)
        if token is None or self.names.style.joiner or self.names.part_owner.get(text) != self.key:
            return token
        return None

    def _is_meant(self, guide: str, value: Json) -> bool:
        """Whether a delivered token stands for a value that is no text."""
        return parse_token(guide) is not None and _is_value(self.names.value_of(guide), value)

    def _renders(self, guide: str, text: str) -> bool:
        if PREFIX not in guide:
            return False
        if parse_token(guide):
            return _is_value(self.names.value_of(guide), text)
        return render_text(guide, self.names.value_of) == text

    def _names(self, text: str, refer: Refer) -> bool:
        """Whether a text is a reference at a place where a setting may stand, too: any one, unless only what is known
        counts."""
        return not refer.is_known_only or text in self.inward or self._token_of(text) is not None

    def _reference(self, text: str, refer: Refer) -> str | None:
        token = self._token_of(text)
        if token is not None or refer.is_known_only or text == "":
            return token
        if not refer.may_name("person"):
            return unbound(text)
        # People are met by their addresses, and called by what stands before the @: that survives a change of domain,
        # which is what differs between environments.
        key = base = f"person:{encode_segment(text.partition('@')[0])}"
        while key in self.names.values:
            key = f"{base}~{int(key.rpartition('~')[2]) + 1 if '~' in key else 2}"
        self.names.bind(key, text)
        return token_for(key)

    def _text(self, text: str) -> str:
        urls = self.names.url_tokens()
        pieces: list[str] = []
        # One pattern over the text instead of one search per id: a text of some size and 10,000 ids would take
        # minutes.
        position = 0
        for found in self.names.text_pattern().finditer(text) if self.names.may_hold_ids(text) else ():
            for native in self.names.readings(found[0]):
                token, inner = urls.get(native) or self._token_of(native), self.inward.get(native)
                if token is not None or inner is not None:
                    pieces.append(escape_inside(text[position : found.start()]))
                    pieces.append(inner if inner is not None else "${" + str(token) + "}")
                    position = found.start() + len(native)
                    break
            # A hit that is nobody's id is left as it stands: the pattern finds what looks like an id.
        pieces.append(escape_inside(text[position:]))
        joined = "".join(pieces)
        return "amphora:literal:" + joined[len(PREFIX) :] if joined.startswith(PREFIX) else joined


def data_url(content: bytes, media_type: str | None) -> str:
    """An attachment as it stands inline (RFC 2397)."""
    return f"data:{media_type or ''};base64,{base64.b64encode(content).decode()}"


def of_data_url(text: str) -> tuple[str, bytes] | None:
    """The media type and the bytes of an attachment that stands inline; None for anything else. Other data URLs
    (percent-encoded, with parameters) stay text: they come back as they are."""
    found = _DATA_URL.fullmatch(text)
    if found is None:
        return None
    try:
        content = base64.b64decode(found[2], validate=True)
    except ValueError:
        return None
    # Only what comes back to the byte is taken out: a library writes base64 in one way only, others wrap it or leave
    # bits standing (RFC 4648, sections 3.1 and 3.5).
    return (found[1], content) if data_url(content, found[1]) == text else None


def escape_inside(text: str) -> str:
    """The user's own text between two tokens, escaped."""
    return text.replace("${amphora:", "${amphora:literal:")


def _is_value(bound: Json, value: Json) -> bool:
    return bound is not MISSING and type(bound) is type(value) and bool(bound == value)


def _put(tree: dict[str, Json], at: Pointer, value: Json) -> None:
    for name in at[:-1]:
        tree = tree.setdefault(name, {})
    tree[at[-1]] = value
