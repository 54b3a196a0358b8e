"""What is sent to a platform: a definition in its words, with title, folder and whatever else it wants to be told."""

from __future__ import annotations

import itertools
import uuid
from collections.abc import Collection, Mapping
from dataclasses import replace
from functools import partial
from typing import Any

from amphora.core.form.blanks import with_missing
from amphora.core.form.hollow import without_new
from amphora.core.form.kinds import Ids
from amphora.core.form.native_ids import closed_id, plain_id
from amphora.core.form.opened import Elsewhere, PartMissing, closed, opened
from amphora.core.form.spots import masked_places, secret_places
from amphora.core.merge.patch import patch_of
from amphora.core.values.errors import EnvironmentRefused
from amphora.core.values.model import Json
from amphora.core.values.next_step import advice
from amphora.core.values.pointers import holds, parse_pointer, with_value, without_value
from amphora.environments.bridge.folders import Folders
from amphora.environments.bridge.items import Items
from amphora.environments.bridge.parts import BridgeSheet, Call, ItemPart
from amphora.environments.bridge.paths import (
    dropped,
    filled,
    member_name,
    member_path,
    put,
    written_at,
)
from amphora.environments.bridge.single import Single
from amphora.environments.contract import Write


def _any_id() -> str:
    return str(uuid.uuid4())


class Bodies:
    """Makes what calls send."""

    def __init__(self, sheet: BridgeSheet, ids: Mapping[str, Ids], folders: Folders, items: Items) -> None:
        self._sheet, self._ids, self._folders, self._items = sheet, ids, folders, items

    def of(
        self,
        part: ItemPart,
        write: Write,
        call: Call,
        there: Single | None = None,
        uid: str = "",
        is_on: bool | None = None,
    ) -> dict[str, Any]:
        """The body of a creation, or of a change of what is `there`; `uid` is what a creation is to be known by.
        `is_on` switches it, where a change does that; what is new is off, and else it stays as it is."""
        # What it refers to by title may be called otherwise since it was read.
        self._items.names.forget()
        if (unset := call.said("secrets", "left out")) != "left out":
            empty = "" if unset == "empty" else None
            write = replace(write, definition=with_missing(write.definition, part.kind.secrets, lambda: empty))
        native = _in_body(part, self._native(part, write, there), call.said("along", []))
        fixed = frozenset[str]()
        if there:
            self._refuse_fixed(part, call, native, there, write)
            fixed = part.kind.fixed
        # The path says what holds it.
        held = part.within.member if part.within else None
        native = {name: value for name, value in native.items() if name != held and f"/{name}" not in fixed}
        # First what only comes back, then what is meant: the later counts.
        body = self._kept(part, call, there)
        shapes = part.write.get("as", {})
        only, names = call.said("only", []), {**part.write.get("members", {}), **call.said("members", {})}

        def lay(path: str, value: Json) -> None:
            # Under another name than it is read, if the sheet says so.
            member = member_name(path := written_at(path))
            put(body, member_path(names[member]) if member in names else path, _said(shapes.get(member), value))

        for name, value in native.items():
            is_left_out = value is None and call.said("nulls") == "left out"
            if (not only or name in only) and not is_left_out:
                lay(part.definition.get(name, member_path(name)), value)
        # What isn't named stays (RFC 7396): to take something away it has to be named.
        if (how := call.said("how")) in ("merge patch", "by member") and there is not None:
            # What is there now, not what was read for the comparison: somebody may have added a member since.
            there_now = _in_body(part, self._without_kept(part, write, there))
            for name, value in _vanished(there_now, native, how == "merge patch").items():
                if f"/{name}" not in fixed:
                    lay(part.definition.get(name, member_path(name)), _laid(native.get(name), value))
        # After the definition: where a title stands in it too, this one is meant.
        if _is_said(part, call, "title", "titled", fixed):
            lay(part.paths["title"], write.states.title)
        # Last, for a folder is made where there is none yet.
        if _is_said(part, call, "folder", "moved", fixed):
            lay(part.paths["folder"], self.folder(write))
        if part.switched:
            was_on = bool(there and there.row.states.is_on)
            lay(part.flags["on"].at, part.switched[was_on if is_on is None else is_on])
        if uid:
            lay(call.said("uid"), uid)
        values = self._values(part, write, there)
        for name, value in {**part.write.get("with", {}), **call.said("with", {})}.items():
            more: dict[str, Any] = {}
            put(more, member_path(name), filled(value, values))
            body = _laid(body, more)
        body = self._items.hook.sent(part.kind.kind, body)
        wrapped = part.write.get("wrapped", "")
        return {wrapped: body} if wrapped else body

    def changing(self, part: ItemPart, write: Write, call: Call, there: Single) -> Json:
        """What a change sends: all of it, or the operations that lead there (RFC 6902)."""
        body = self.of(part, write, call, there)
        if call.said("how") != "json patch":
            return body
        was = replace(write, definition=there.newest, states=there.row.states)
        return patch_of(self.of(part, was, call, there), body)

    def lacks(self, part: ItemPart, write: Write, there: Single | None) -> bool:
        """Whether what would be sent lacks what names parts that get their ids only when they are there."""
        return bool(_without_new(part, write, there) != write.definition)

    def apart(self, part: ItemPart, write: Write, there: Single) -> dict[str, Json]:
        """The members that are written by calls of their own, as the platform writes them."""
        native = self._native(part, write, there)
        whole = {name: native[name] for name, how in part.apart.items() if name in native and how.write}
        # An attachment that is left out is taken away, where there is a call for it.
        whole |= {name: None for name, how in part.apart.items() if how.file and how.remove and not native.get(name)}
        # Without the member there are no entries, as with any that is left out.
        return whole | {name: native.get(name, []) for name, how in part.apart.items() if how.add}

    def _native(self, part: ItemPart, write: Write, there: Single | None) -> dict[str, Json]:
        """The definition as the platform writes it, members where it takes them."""
        definition = self._unmasked(part, _without_new(part, write, there))
        for name, target in part.write.get("inside", {}).items():
            # Read apart, and taken only inside of another member.
            if (value := definition.get(name)) is not None:
                first = target.partition(".")[0]
                outer = definition.get(first)
                definition = {other: part for other, part in definition.items() if other != name}
                definition[first] = dict(outer) if isinstance(outer, dict) else {}
                put(definition, member_path(target), value)
        present = there.native if there else None
        try:
            native = closed(definition, part.kind, self._ids, present, self._sheet.is_spaced, self._items.looks)
        except PartMissing as error:
            owner, name = error.args
            raise EnvironmentRefused(
                f"{write.states.title!r} uses {name!r} of {owner}, which has no part called so.",
                subject=write.states.title,
                next_step=advice(f"Look at {owner} there: what was it called before?"),
            ) from error
        except Elsewhere as error:
            raise EnvironmentRefused(
                f"{write.states.title!r} uses {error.args[0]}, which is held by something else than it says.",
                subject=write.states.title,
                next_step=advice("Move that one back to where it was, or let this one name another."),
            ) from error
        # What is there by now has its number laid under it; some platforms want one of what is new, too.
        for path, first in part.write.get("new", {}).items():
            numbers = itertools.count(first, -1) if isinstance(first, int) else iter(_any_id, None)
            native = with_missing(native, [path], partial(next, numbers))
        # Last: places are named as the platform shows them, and so they stand only now.
        return self._sent(part, native)

    def _kept(self, part: ItemPart, call: Call, there: Single | None) -> dict[str, Any]:
        """What is sent back as it is. Where what isn't sent returns to its default, that is all but for what only the
        platform writes, and but for the definition, of which what is meant to be there follows."""
        if call.said("absent") != "default" or there is None or not isinstance(there.whole, dict):
            return {}
        ours = [written_at(path) for path in part.definition.values()]
        ours += [member_path(name) for name in call.said("read_only", [])]
        whole: dict[str, Any] = there.whole
        for path in ours:
            whole = dropped(whole, path)
        return whole

    def _refuse_fixed(
        self, part: ItemPart, call: Call, native: Mapping[str, Json], there: Single, write: Write
    ) -> None:
        """Refuses a change of what no change says: it would not be sent, and nobody would be told."""
        fixed = part.kind.fixed
        if not fixed:
            return
        was, wanted, present = there.row.states, write.states, self._without_kept(part, write, there)
        # Left out is another value, too.
        moved = [name for name in part.definition if f"/{name}" in fixed and native.get(name) != present.get(name)]
        moved += ["title"] if "state:title" in fixed and was.title != wanted.title else []
        moved += ["folder"] if "state:folder" in fixed and was.folder != wanted.folder else []
        if moved:
            raise EnvironmentRefused(
                f"{was.title!r} can't get another {' and '.join(moved)}: "
                f"that of a {part.kind.singular} is never changed there.",
                subject=was.title,
                place=f"{self._sheet.file}, {call.name}",
                next_step=advice("Leave it as it is there, or bring a copy beside it (--copy)."),
            )

    def folder(self, write: Write) -> Json:
        """The folder of an item as the platform writes it."""
        return self._folders.written(write.states.folder)

    def holder(self, part: ItemPart, write: Write) -> dict[str, Json]:
        """What holds an item that is to be made, and what holds that."""
        if part.within is None:
            return {}
        member, kind = part.within.member, part.within.kind
        named = write.definition.get(member) if isinstance(write.definition, dict) else None
        if not isinstance(named, str) or not named:
            raise EnvironmentRefused(
                f"{write.states.title!r} names nothing that holds it, and is a {part.kind.singular}.",
                subject=write.states.title,
                place=f"{self._sheet.file}, item.{part.kind.kind}.within",
                next_step=advice(f"Say required = true of $.{member} in its kind sheet."),
            )
        return self._items.holders.values_in(part, closed_id(named, self._ids[kind]))

    def _values(self, part: ItemPart, write: Write, there: Single | None) -> dict[str, Json]:
        """What stands for placeholders in what is always sent."""
        # Where it is content we made it up ourselves, and no platform wants it back.
        seen = there.stamp if there else None
        ids = part.kind.ids
        native_id = plain_id(closed_id(write.native_id, ids), ids) if write.native_id else None
        values: dict[str, Json] = {"id": native_id, "revision": write.revision if seen is None else seen}
        return {**values, "title": write.states.title, "folder": write.states.folder, **self.holder(part, write)}

    def _without_kept(self, part: ItemPart, write: Write, there: Single) -> dict[str, Json]:
        """What is there but for the secrets that stay, set or not, and for what is never sent: that has not
        vanished."""
        shown = opened(there.native, part.kind, self._ids, self._items.looks)
        kept = [*map(parse_pointer, masked_places(write.definition, part.kind))]
        kept += [at for at in secret_places(shown, part.kind) if not holds(write.definition, at)]
        for place in kept:
            shown = without_value(shown, place)
        native = closed(shown, part.kind, self._ids, there.native, self._sheet.is_spaced, self._items.looks)
        return self._sent(part, native)

    @staticmethod
    def _sent(part: ItemPart, native: Json) -> dict[str, Json]:
        for path in part.write.get("without", []):
            native = dropped(native, path)
        return dict(native)

    def _unmasked(self, part: ItemPart, definition: Json) -> dict[str, Json]:
        """The definition with what platforms take for "as it is" at the places of secrets that are to be kept: a mask
        sent back would become the secret."""
        for place in map(parse_pointer, masked_places(definition, part.kind)):
            if self._sheet.secrets == "left out":
                definition = without_value(definition, place)
            else:
                definition = with_value(definition, place, None)
        return dict(definition)


def uid_of(token: str) -> str:
    """The uid of what a creation with this token makes: the same every time it is asked for."""
    return str(uuid.uuid5(uuid.NAMESPACE_URL, f"amphora:{token}"))


def _without_new(part: ItemPart, write: Write, there: Single | None) -> Json:
    """A definition without what names parts that have no ids yet: it is written once more when they are there."""
    return without_new(write.definition, there.newest if there else None, part.kind)


def _in_body(part: ItemPart, form: Mapping[str, Json], along: Collection[str] = ()) -> dict[str, Json]:
    """The members that have no calls of their own, and those that go `along` all the same."""
    some = {name: value for name, value in form.items() if name not in part.apart or name in along}
    return {name: part.apart[name].bare(value) if name in part.apart else value for name, value in some.items()}


def _is_said(part: ItemPart, call: Call, name: str, how: str, fixed: Collection[str]) -> bool:
    """Whether a body says a title or a folder: not where it never changes, or has a call of its own."""
    path = part.paths.get(name)
    is_sent = path is not None and path not in part.write.get("without", [])
    return is_sent and f"state:{name}" not in fixed and not call.said(how)


def _laid(body: Any, more: Any) -> Any:
    """One document over another: objects member by member."""
    if not isinstance(body, dict) or not isinstance(more, dict):
        return more
    return {**body, **{name: _laid(body[name], part) if name in body else part for name, part in more.items()}}


def _said(shape: Json, value: Json) -> Json:
    """A value as it is written, where that is another way than it is read; of a list each entry."""
    if shape is None or value is None:
        return value
    return (
        [filled(shape, {"value": one}) for one in value]
        if isinstance(value, list)
        else filled(shape, {"value": value})
    )


def _vanished(present: dict[str, Json], new: dict[str, Json], is_deep: bool) -> dict[str, Json]:
    """What a change has to name to take it away: null for each member that is there and no longer meant; also inside
    of objects, where these are laid over each other (RFC 7396)."""
    gone: dict[str, Json] = {}
    for name, value in present.items():
        if name not in new:
            gone[name] = None
        elif is_deep and isinstance(value, dict) and isinstance(new[name], dict):
            inner = _vanished(value, new[name], True)
            gone |= {name: inner} if inner else {}
    return gone
