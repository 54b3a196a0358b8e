"""The portable form, both ways (design, section 3).

`to_portable` replaces every environment-specific value by a token; `to_native` lays a portable form over
what the target has at present. Laws, property-tested: `to_portable(to_native(p)) == p`, and
`to_native(to_portable(x), x) == x`.
"""

from __future__ import annotations

import base64
import hashlib
import json
import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field

from amphora.core.bindings import MISSING, Bindings
from amphora.core.keys import Key, encode_segment, name_of, path_of
from amphora.core.kinds import KindSheet
from amphora.core.model import Json
from amphora.core.places import Refer, Spot, Walk
from amphora.core.pointers import Pointer, write_pointer
from amphora.core.tokens import MASK, PREFIX, escape, parse_token, render_text, token_for, unbound

_DATA_URL = re.compile(r"data:([^;,]*);base64,([A-Za-z0-9+/=]*)")


@dataclass(frozen=True)
class Portable:
    """A portable form with what was noticed while making it.

    `layout` is a sparse tree of the values at layout places (elements of named arrays under their
    names), None if there are none. `is_on` is the switch where it stands inside the definition.
    `undeclared` lists references that the kind sheet doesn't know: (pointer, token).
    """

    form: Json
    layout: Json = None
    is_on: bool | None = None
    undeclared: tuple[tuple[str, str], ...] = ()
    files: Mapping[str, bytes] = field(default_factory=dict)


@dataclass(frozen=True)
class Native:
    """A native definition to write. `missing` lists tokens without a value here: (pointer, token);
    `to_enter` the secrets that neither the target nor the crosswalk holds: (pointer, token)."""

    definition: Json
    missing: tuple[tuple[str, str], ...] = ()
    to_enter: tuple[tuple[str, str], ...] = ()


def mask_secrets(definition: Json, sheet: KindSheet) -> Json:
    """A copy of a native definition in which every declared secret that is set is masked."""
    return _masked(definition, sheet.places.walk(definition))


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
    reader = _Reader(names, key, {there: here for here, there in (inner or {}).items()}, binds_new)
    form = reader.read(native, sheet.places.walk(native), (), guide)
    return Portable(form, reader.layout or None, reader.is_on, tuple(reader.undeclared), reader.files)


def to_native(
    form: Json,
    sheet: KindSheet,
    names: Bindings,
    *,
    inner: Mapping[str, str] | None = None,
    layout: Json = None,
    present: Json = None,
    files: Mapping[str, bytes] | None = None,
) -> Native:
    """A portable form in the words of an environment, laid over `present`: its volatile and secret
    places stay as they are, and so does its layout where `layout` says nothing. `files` are the
    attachments by SHA-256."""
    writer = _Writer(names, inner or {}, files or {})
    walk = sheet.places.walk(form)
    definition = writer.write(form, walk, ())
    if layout is not None:
        _apply_layout(definition, layout, walk, inner or {})
    if present is not None:
        definition = _laid_over(definition, present, sheet.places.walk(present))
    to_enter = _drop_unset_secrets(definition, ())
    return Native(definition, tuple(writer.missing), tuple(to_enter))


def named_elements(elements: list[Json], member: str) -> dict[str, int] | None:
    """Positions by name where every element has its own; None where that can't be said."""
    names = [element.get(member) if isinstance(element, dict) else None for element in elements]
    index = {name: position for position, name in enumerate(names) if isinstance(name, str)}
    return index if len(index) == len(elements) else None


def sort_unordered(elements: list[Json], member: str | None) -> list[Json]:
    """The fixed order of an array whose order means nothing: by name, else by content."""
    if member and named_elements(elements, member) is not None:
        return sorted(elements, key=lambda element: str(element[member]))
    return sorted(elements, key=lambda element: json.dumps(element, sort_keys=True))


class _Secret(str):
    """A secret token on its way into a native definition."""


class _Reader:
    def __init__(self, names: Bindings, key: Key, inward: Mapping[str, str], binds_new: bool) -> None:
        self.names = names
        self.key = key
        self.inward = inward
        self.binds_new = binds_new
        self.layout: dict[str, Json] = {}
        self.is_on: bool | None = None
        self.undeclared: list[tuple[str, str]] = []
        self.files: dict[str, bytes] = {}

    def read(self, value: Json, walk: Walk, at: Pointer, guide: Json) -> Json:
        spot = walk.spot
        if spot.is_secret and value not in (None, "", [], {}):
            return self._secret(at, guide)
        if isinstance(value, dict):
            return self._object(value, walk, at, guide)
        if isinstance(value, list):
            return self._array(value, walk, at, guide)
        if spot.setting and not (spot.refer and isinstance(value, str)):
            return self._setting(value, at, guide)
        return self._string(value, spot, at, guide) if isinstance(value, str) else value

    def _object(self, value: dict[str, Json], walk: Walk, at: Pointer, guide: Json) -> Json:
        guides = guide if isinstance(guide, dict) else {}
        result = {}
        for name, part in value.items():
            child = walk.step(name)
            if not child.spot.is_outside:
                result[name] = self.read(part, child, (*at, name), guides.get(name))
            elif child.spot.is_layout:
                _put(self.layout, (*at, name), part)
            elif child.spot.is_switch:
                self.is_on = bool(part)
        return result

    def _array(self, value: list[Json], walk: Walk, at: Pointer, guide: Json) -> Json:
        member = walk.spot.named_by
        index = named_elements(value, member) if member else None
        guides = guide if isinstance(guide, list) else []
        by_name = (
            {g[member]: g for g in guides if isinstance(g, dict) and isinstance(g.get(member), str)} if member else {}
        )
        result = []
        for position, part in enumerate(value):
            if index is None or member is None:
                name, beside = str(position), guides[position] if position < len(guides) else None
            else:
                name = self.inward.get(part[member], part[member])
                beside = by_name.get(name)
            result.append(self.read(part, walk.step(str(position)), (*at, name), beside))
        return sort_unordered(result, member) if walk.spot.is_unordered else result

    def _secret(self, at: Pointer, guide: Json) -> str:
        token = parse_token(guide)
        if token and token.kind == "secret":
            return str(token)
        return token_for(self._own_name("secret", at))

    def _setting(self, value: Json, at: Pointer, guide: Json) -> Json:
        token = parse_token(guide)
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
        tail = [part for part in at if not part.isdigit() and part != "value"]
        spot = f"{self.key}{write_pointer(at)}"
        short = "-".join([name_of(self.key), *tail])
        long = ".".join([self.key.replace(":", ".").replace("/", "."), *at])
        for name in (short, long):
            key = f"{kind}:{encode_segment(name)}"
            if self.names.held.setdefault(key, spot) == spot:
                return key
        return f"{kind}:{encode_segment(long + '-' + path_of(self.key))}"

    def _string(self, text: str, spot: Spot, at: Pointer, guide: Json) -> str:
        if spot.is_file and (token := self._file(text)):
            return token
        if text in self.inward and not spot.is_text:
            return self.inward[text]
        if isinstance(guide, str) and (guide == escape(text) or self._renders(guide, text)):
            return guide
        if spot.refer and (token := self._reference(text, spot.refer)):
            return token
        if spot.is_text:
            return self._text(text)
        if not spot.refer and (token := self._token_of(text)):
            self.undeclared.append((write_pointer(at), token))
            return token
        return escape(text)

    def _file(self, text: str) -> str | None:
        """The token of an attachment that stands inline as a data URL (RFC 2397)."""
        found = _DATA_URL.fullmatch(text)
        if found is None:
            return None
        try:
            content = base64.b64decode(found[2], validate=True)
        except ValueError:
            return None
        name = hashlib.sha256(content).hexdigest()
        self.files[name] = content
        return token_for(f"file:{name}", found[1])

    def _token_of(self, text: str) -> str | None:
        """The token of a native id; the item's own parts travel as they are where they stand alone."""
        token = self.names.token_of(text)
        if token is None or self.names.style.joiner or self.names.part_owner.get(text) != self.key:
            return token
        return None

    def _renders(self, guide: str, text: str) -> bool:
        if PREFIX not in guide:
            return False
        if parse_token(guide):
            return _is_value(self.names.value_of(guide), text)
        return render_text(guide, self.names.value_of) == text

    def _reference(self, text: str, refer: Refer) -> str | None:
        token = self._token_of(text)
        if token is not None or refer.is_known_only or text == "":
            return token
        if not refer.may_name("person"):
            return unbound(text)
        key = base = f"person:{encode_segment(text.partition('@')[0])}"
        while key in self.names.values:
            key = f"{base}~{int(key.rpartition('~')[2]) + 1 if '~' in key else 2}"
        self.names.bind(key, text)
        return token_for(key)

    def _text(self, text: str) -> str:
        urls = self.names.url_tokens()
        pieces: list[str] = []
        position = 0
        for found in self.names.text_pattern().finditer(text):
            native = found[0]
            token = urls.get(native) or self._token_of(native)
            inner = self.inward.get(native)
            if token is None and inner is None:
                continue
            pieces.append(escape_inside(text[position : found.start()]))
            pieces.append(inner if inner is not None else "${" + str(token) + "}")
            position = found.end()
        pieces.append(escape_inside(text[position:]))
        joined = "".join(pieces)
        return "amphora:literal:" + joined[len(PREFIX) :] if joined.startswith(PREFIX) else joined


def escape_inside(text: str) -> str:
    """The user's own text between two tokens, escaped."""
    return text.replace("${amphora:", "${amphora:literal:")


class _Writer:
    def __init__(self, names: Bindings, inner: Mapping[str, str], files: Mapping[str, bytes]) -> None:
        self.names = names
        self.inner = inner
        self.files = files
        self.missing: list[tuple[str, str]] = []
        found = "|".join(re.escape(part) for part in sorted(inner, key=len, reverse=True))
        self.inner_text = re.compile(rf"(?<![A-Za-z0-9_])(?:{found})(?![A-Za-z0-9_])") if found else None

    def write(self, value: Json, walk: Walk, at: Pointer) -> Json:
        if isinstance(value, dict):
            return {name: self.write(part, walk.step(name), (*at, name)) for name, part in value.items()}
        if isinstance(value, list):
            return [self.write(part, walk.step(str(n)), (*at, str(n))) for n, part in enumerate(value)]
        return self._string(value, walk.spot, at) if isinstance(value, str) else value

    def _string(self, text: str, spot: Spot, at: Pointer) -> Json:
        if text in self.inner and not spot.is_text:
            return self.inner[text]
        token = parse_token(text)
        if token is None:
            return self._text(text, spot, at)
        if token.kind == "secret" and token.key not in self.names.values:
            return _Secret(token)
        if token.kind == "unbound":
            return name_of(token.key)
        if token.kind == "file" and token.path in self.files:
            return f"data:{token.part};base64,{base64.b64encode(self.files[token.path]).decode()}"
        value = self.names.value_of_token(token)
        if value is MISSING:
            self.missing.append((write_pointer(at), text))
            return None
        return value

    def _text(self, text: str, spot: Spot, at: Pointer) -> str:
        if self.inner_text and spot.is_text:
            text = self.inner_text.sub(lambda found: self.inner[found[0]], text)

        def value_of(token: str) -> object:
            value = self.names.value_of(token)
            if value is MISSING:
                self.missing.append((write_pointer(at), token))
                return ""
            return value

        return render_text(text, value_of)


def _is_value(bound: Json, value: Json) -> bool:
    return bound is not MISSING and type(bound) is type(value) and bool(bound == value)


def _masked(value: Json, walk: Walk) -> Json:
    if walk.spot.is_secret:
        return value if value in (None, "", [], {}) else MASK
    if isinstance(value, dict):
        return {name: _masked(part, walk.step(name)) for name, part in value.items()}
    if isinstance(value, list):
        return [_masked(part, walk.step(str(n))) for n, part in enumerate(value)]
    return value


def _put(tree: dict[str, Json], at: Pointer, value: Json) -> None:
    for name in at[:-1]:
        tree = tree.setdefault(name, {})
    tree[at[-1]] = value


def _apply_layout(definition: Json, layout: Json, walk: Walk, inner: Mapping[str, str]) -> None:
    """Puts each value of a layout tree into the definition where its container is still there."""
    if not isinstance(layout, dict):
        return
    index: Mapping[str, int] | None = None
    if isinstance(definition, list):
        by_name = named_elements(definition, walk.spot.named_by) if walk.spot.named_by else None
        index = by_name if by_name is not None else {str(n): n for n in range(len(definition))}
    for name, part in layout.items():
        if index is not None:
            position = index.get(inner.get(name, name))
            if position is not None:
                _apply_layout(definition[position], part, walk.step(str(position)), inner)
        elif isinstance(definition, dict):
            child = walk.step(name)
            if child.spot.is_layout:
                definition[name] = part
            else:
                _apply_layout(definition.get(name), part, child, inner)


def _laid_over(new: Json, present: Json, walk: Walk) -> Json:
    if isinstance(new, dict) and isinstance(present, dict):
        return _object_over(new, present, walk)
    if isinstance(new, list) and isinstance(present, list):
        return _array_over(new, present, walk)
    return new


def _object_over(new: dict[str, Json], present: dict[str, Json], walk: Walk) -> Json:
    result = dict(new)
    for name, kept in present.items():
        spot = walk.step(name).spot
        is_kept_secret = spot.is_secret and (kept == MASK or name not in new)
        if spot.is_volatile or spot.is_switch or is_kept_secret or (spot.is_layout and name not in new):
            result[name] = kept
        elif name in new:
            result[name] = _laid_over(new[name], kept, walk.step(name))
    return result


def _array_over(new: list[Json], present: list[Json], walk: Walk) -> Json:
    member = walk.spot.named_by
    places = named_elements(present, member) if member else None
    if member and places is not None and named_elements(new, member) is not None:
        result = [
            _laid_over(part, present[places[part[member]]], walk.step(str(places[part[member]])))
            if part[member] in places
            else part
            for part in new
        ]
        if walk.spot.is_unordered:
            result.sort(key=lambda part: places.get(part[member], len(present)))
        return result
    if walk.spot.is_unordered:
        rest = list(new)
        first = [part for part in present if part in rest and not rest.remove(part)]  # type: ignore[func-returns-value]
        return first + rest
    kept = [_laid_over(a, b, walk.step(str(n))) for n, (a, b) in enumerate(zip(new, present, strict=False))]
    return kept + new[len(present) :]


def _drop_unset_secrets(value: Json, at: Pointer) -> Iterable[tuple[str, str]]:
    """Takes out the secret tokens that nothing stands for yet, and tells where they were."""
    found: list[tuple[str, str]] = []
    members = list(value.items()) if isinstance(value, dict) else []
    for name, part in members:
        if isinstance(part, _Secret):
            found.append((write_pointer((*at, name)), str(part)))
            del value[name]
        else:
            found += _drop_unset_secrets(part, (*at, name))
    if isinstance(value, list):
        for position, part in enumerate(value):
            found += _drop_unset_secrets(part, (*at, str(position)))
    return found


def part_ids(form: Json, sheet: KindSheet) -> set[str]:
    """The ids of all parts of a form that others may refer to."""
    found: set[str] = set()
    _collect(form, sheet.places.walk(form), lambda spot: spot.part is not None, found)
    return found


def masked_places(definition: Json, sheet: KindSheet) -> dict[str, str]:
    """Where secrets are masked in a native definition: JSON Pointer, and the same place with elements of
    named arrays under their names."""
    found: dict[str, str] = {}
    _find_masked(definition, sheet.places.walk(definition), (), (), found)
    return found


def _find_masked(value: Json, walk: Walk, at: Pointer, named: Pointer, found: dict[str, str]) -> None:
    if walk.spot.is_secret and value == MASK:
        found[write_pointer(at)] = write_pointer(named)
    elif isinstance(value, dict):
        for name, part in value.items():
            _find_masked(part, walk.step(name), (*at, name), (*named, name), found)
    elif isinstance(value, list):
        member = walk.spot.named_by
        by_position = {n: name for name, n in ((named_elements(value, member) if member else None) or {}).items()}
        for position, part in enumerate(value):
            step = str(position)
            _find_masked(part, walk.step(step), (*at, step), (*named, by_position.get(position, step)), found)


def reference_values(definition: Json, sheet: KindSheet) -> Iterator[tuple[str, str, Refer]]:
    """Every text at a declared reference position: (pointer, value, what may stand there)."""
    yield from _references(definition, sheet.places.walk(definition), ())


def _references(value: Json, walk: Walk, at: Pointer) -> Iterator[tuple[str, str, Refer]]:
    if isinstance(value, dict):
        for name, part in value.items():
            yield from _references(part, walk.step(name), (*at, name))
    elif isinstance(value, list):
        for position, part in enumerate(value):
            yield from _references(part, walk.step(str(position)), (*at, str(position)))
    elif isinstance(value, str) and walk.spot.refer:
        yield write_pointer(at), value, walk.spot.refer


def feature_values(form: Json, sheet: KindSheet) -> set[str]:
    """The features of the platform that a form asks for; references among them don't count."""
    found: set[str] = set()
    _collect(form, sheet.places.walk(form), lambda spot: spot.is_feature, found)
    return {feature for feature in found if PREFIX not in feature}


def _collect(value: Json, walk: Walk, is_wanted: Callable[[Spot], bool], found: set[str]) -> None:
    if isinstance(value, dict):
        for name, part in value.items():
            _collect(part, walk.step(name), is_wanted, found)
    elif isinstance(value, list):
        for position, part in enumerate(value):
            _collect(part, walk.step(str(position)), is_wanted, found)
    elif isinstance(value, str) and is_wanted(walk.spot):
        found.add(value)
