"""From the portable form to a native definition, laid over what the target has at present."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Mapping

from amphora.core.form.bindings import MISSING, Bindings
from amphora.core.form.kinds import KindSheet
from amphora.core.form.places import Spot, Walk
from amphora.core.form.portable import data_url
from amphora.core.form.settled import without_secrets, without_volatile
from amphora.core.form.spots import named_elements
from amphora.core.form.visit import BELOW, GONE, rebuilt
from amphora.core.values.canon import same
from amphora.core.values.keys import name_of
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.core.values.pointers import Pointer, write_pointer
from amphora.core.values.raw import Raw, size_of, whole
from amphora.core.values.tokens import MASK, is_secret, parse_token, render_text

INLINE_BYTES = 1 << 16
"""Attachments up to this size are written into definitions, whatever an environment keeps apart."""

MOST_PAIRS = 40_000
"""So many pairs of entries are looked at to tell which of a list is which."""


@dataclass(frozen=True)
class Native:
    """A native definition to write. `missing` lists tokens without a value here: (pointer, token);
    `to_enter` the secrets that neither the target nor the crosswalk holds: (pointer, token)."""

    definition: Json
    missing: tuple[tuple[str, str], ...] = ()
    to_enter: tuple[tuple[str, str], ...] = ()


def to_native(
    form: Json,
    sheet: KindSheet,
    names: Bindings,
    *,
    inner: Mapping[str, str] | None = None,
    layout: Json = None,
    present: Json = None,
    files: Mapping[str, Raw] | None = None,
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
        # After the layout: positions that the package brings win over those there, and those that it lacks stay.
        definition = _laid_over(definition, present, walk, sheet.places.walk(present))
    to_enter = _drop_unset_secrets(definition, ())
    return Native(definition, tuple(writer.missing), tuple(to_enter))


class _Secret(str):
    """A secret token on its way into a native definition."""


class _Writer:
    def __init__(self, names: Bindings, inner: Mapping[str, str], files: Mapping[str, Raw]) -> None:
        self.names = names
        self.inner = inner
        self.files = files
        self.missing: list[tuple[str, str]] = []
        # The longest first: one id may be the beginning of another.
        found = "|".join(re.escape(part) for part in sorted(inner, key=len, reverse=True))
        self.inner_text = re.compile(rf"(?<![A-Za-z0-9_])(?:{found})(?![A-Za-z0-9_])") if found else None

    def write(self, value: Json, walk: Walk, at: Pointer) -> Json:
        if isinstance(value, dict):
            return {name: self.write(part, walk.step(name), (*at, name)) for name, part in value.items()}
        if isinstance(value, list):
            return [self.write(part, walk.step(str(n)), (*at, str(n))) for n, part in enumerate(value)]
        return self._string(value, walk.spot, at) if isinstance(value, str) else value

    def _string(self, text: str, spot: Spot, at: Pointer) -> Json:
        # Own parts first, as on the way in: a part's id is no token, and where this environment forced another one
        # nothing else would find it.
        if text in self.inner and not spot.is_text:
            return self.inner[text]
        token = parse_token(text)
        if token is None:
            return self._text(text, spot, at)
        # Left in for now: what the target has at that place is laid over it below, and only what is still there then
        # has to be entered by somebody.
        if token.kind == "secret" and spot.is_secret and token.key not in self.names.values:
            return _Secret(token)
        # Anywhere else it would fetch a secret from where it is kept into a note: whoever asks for that gets nothing.
        if token.kind == "secret" and not spot.is_secret:
            self.missing.append((write_pointer(at), text))
            return None
        # As it was in the source: `check` has named it, and whoever lets it pass gets what was there, not something
        # made up.
        if token.kind == "unbound":
            return name_of(token.key)
        if token.kind == "file" and token.path in self.files:
            raw = self.files[token.path]
            # Small ones stand inline everywhere: a call for each icon would take longer than to send it twice.
            is_apart = self.names.files_apart is not None and size_of(raw) > INLINE_BYTES
            return text if is_apart else data_url(whole(raw), token.part)
        value = self.names.value_of_token(token)
        if value is MISSING:
            # Gathered instead of raised: whoever maps wants to see all that is missing, not the first of it.
            self.missing.append((write_pointer(at), text))
            return None
        return value

    def _text(self, text: str, spot: Spot, at: Pointer) -> str:
        if self.inner_text and spot.is_text:
            text = self.inner_text.sub(lambda found: self.inner[found[0]], text)

        def value_of(token: str) -> object:
            value = self.names.value_of(token)
            if value is MISSING or is_secret(token):
                # Nothing in its place for now; what is missing stops the import before anything of this is written.
                self.missing.append((write_pointer(at), token))
                return ""
            return value

        return render_text(text, value_of)


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
            # A step that is gone takes its position on the canvas with it.
            if position is not None:
                _apply_layout(definition[position], part, walk.step(str(position)), inner)
        elif isinstance(definition, dict):
            child = walk.step(name)
            if child.spot.is_layout:
                definition[name] = part
            else:
                _apply_layout(definition.get(name), part, child, inner)


def laid_over(new: Json, present: Json, sheet: KindSheet) -> Json:
    """A native definition as it is to be written over what is there: with what the platform has written there by
    itself, ids of parts and the like, and with nothing of the sort that was there before. Its secrets are its own."""
    ours, theirs = without_volatile(new, sheet), without_secrets(present, sheet)
    return _laid_over(ours, theirs, sheet.places.walk(ours), sheet.places.walk(theirs))


def _laid_over(new: Json, present: Json, ours: Walk, walk: Walk) -> Json:
    """`ours` is where `new` stands, `walk` where `present` does: in lists these are two places."""
    if isinstance(new, dict) and isinstance(present, dict):
        return _object_over(new, present, ours, walk)
    if isinstance(new, list) and isinstance(present, list):
        return _array_over(new, present, ours, walk)
    return new


def _object_over(new: dict[str, Json], present: dict[str, Json], ours: Walk, walk: Walk) -> Json:
    result = dict(new)
    for name, kept in present.items():
        spot = walk.step(name).spot
        is_kept_secret = spot.is_secret and (kept == MASK or name not in new)
        # Keep, set and clear are three things: a masked secret is kept, one that the package leaves out is kept too,
        # and only an explicit empty value clears it.
        if spot.is_volatile or spot.is_switch or is_kept_secret or (spot.is_layout and name not in new):
            result[name] = kept
        elif name in new:
            result[name] = _laid_over(new[name], kept, ours.step(name), walk.step(name))
    return result


def _array_over(new: list[Json], present: list[Json], ours: Walk, walk: Walk) -> Json:
    def laid(mine: int, theirs: int) -> Json:
        return _laid_over(new[mine], present[theirs], ours.step(str(mine)), walk.step(str(theirs)))

    member = walk.spot.named_by
    places = named_elements(present, member) if member else None
    if member and places is not None and named_elements(new, member) is not None:
        result = [
            # By name: laid over by position, an inserted step would hand every secret to its neighbour.
            laid(position, places[part[member]]) if part[member] in places else part
            for position, part in enumerate(new)
        ]
        if walk.spot.is_unordered:
            result.sort(key=lambda part: places.get(part[member], len(present)))
        return result
    # Elements that are there keep their places: a platform that shows them in this order would otherwise change what
    # people see with every import.
    if walk.spot.is_unordered:
        waiting: dict[str, list[int]] = {}
        for position in reversed(range(len(new))):
            waiting.setdefault(_telling(new[position], ours.step(str(position))), []).append(position)
        told = enumerate(_telling(part, walk.step(str(position))) for position, part in enumerate(present))
        pairs = [(waiting[words].pop(), theirs) for theirs, words in told if waiting.get(words)]
        met, taken = {mine for mine, _ in pairs}, {theirs for _, theirs in pairs}
        left = [position for position in range(len(present)) if position not in taken]
        result, fresh = [laid(*pair) for pair in pairs], [n for n in range(len(new)) if n not in met]
        # Each is compared with each: where nearly all are others, they are others.
        left = left if len(left) * len(fresh) <= MOST_PAIRS else []
        for position in fresh:
            # What is another by now in part is the same one to the platform: its id and its place on the canvas stay.
            alike = max(left, key=lambda n: _likeness(new[position], present[n]), default=None)
            if alike is None or not _likeness(new[position], present[alike]):
                result.append(new[position])
                continue
            left.remove(alike)
            theirs = walk.step(str(alike))
            # But for its secrets, which are nobody else's.
            bare = rebuilt(present[alike], theirs, lambda _, at: GONE if at.spot.is_secret else BELOW)
            result.append(_laid_over(new[position], bare, ours.step(str(position)), theirs))
        return result
    # Nameless elements can only go by their positions: that is why secrets in arrays want a name in the sheet.
    kept = [laid(position, position) for position in range(min(len(new), len(present)))]
    return kept + new[len(present) :]


def _likeness(one: Json, other: Json) -> int:
    """How many members two entries have alike."""
    if not isinstance(one, dict) or not isinstance(other, dict):
        return 0
    return sum(name in other and same(value, other[name]) for name, value in one.items())


def _telling(part: Json, walk: Walk) -> str:
    """What tells an entry from the others of a list without an order: neither what only the platform writes nor a
    secret, which one side may show as a mask."""

    def change(value: Json, at: Walk) -> Json:
        return value if at.is_dull else GONE if at.is_outside or at.spot.is_secret else BELOW

    return json.dumps(rebuilt(part, walk, change), sort_keys=True, default=str)


def _drop_unset_secrets(value: Json, at: Pointer) -> Iterable[tuple[str, str]]:
    """Takes out the secret tokens that nothing stands for yet, and tells where they were."""
    found: list[tuple[str, str]] = []
    members = list(value.items()) if isinstance(value, dict) else []
    for name, part in members:
        if isinstance(part, _Secret):
            # Taken out and not set to null: many platforms read null as "clear it".
            found.append((write_pointer((*at, name)), str(part)))
            del value[name]
        else:
            found += _drop_unset_secrets(part, (*at, name))
    if isinstance(value, list):
        for position, part in enumerate(value):
            found += _drop_unset_secrets(part, (*at, str(position)))
    return found
