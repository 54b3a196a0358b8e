"""What is sent to a platform: a definition in its words, with title, folder and whatever else it wants to be told."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Mapping
from typing import Any

from amphora.core.form.kinds import Ids
from amphora.core.form.opened import closed, opened
from amphora.core.form.spots import masked_places
from amphora.core.values.errors import EnvironmentRefused, Uncertain
from amphora.core.values.model import Json
from amphora.core.values.pointers import parse_pointer
from amphora.environments.bridge.client import Answer, Client
from amphora.environments.bridge.folders import Folders
from amphora.environments.bridge.paths import dropped, filled, put, text_at, value_at
from amphora.environments.bridge.sheet import BridgeSheet, Call, ItemPart
from amphora.environments.contract import Write

LONGEST_JOB_S = 3600.0
"""After this long a job counts as one of which nobody knows."""

LONGEST_PAUSE_S = 30.0


class Bodies:
    """Makes what calls send."""

    def __init__(self, sheet: BridgeSheet, ids: Mapping[str, Ids], folders: Folders) -> None:
        self._sheet, self._ids, self._folders = sheet, ids, folders

    def of(
        self, part: ItemPart, write: Write, present: Json, call: Call, whole: Json = None, uid: str = ""
    ) -> dict[str, Any]:
        """The body of a creation or a change. `present` is the definition that is there, `whole` the answer that it
        stood in, `uid` what a creation is to be known by."""
        definition = self._unmasked(part, write.definition)
        for name, target in part.write.get("inside", {}).items():
            # Read apart, and taken only inside of another member.
            if isinstance(definition, dict) and definition.get(name) is not None:
                rest = {other: value for other, value in definition.items() if other != name}
                definition = {**rest}
                first = target.partition(".")[0]
                definition[first] = dict(definition[first]) if isinstance(definition.get(first), dict) else {}
                put(definition, f"$.{target}", write.definition[name])
        native = closed(definition, part.kind, self._ids, present, self._sheet.is_spaced)
        for path in part.write.get("without", []):
            native = dropped(native, path)
        body: dict[str, Any] = {}
        if call.said("absent") == "default" and isinstance(whole, dict):
            # What isn't sent returns to its default: so all of it is, but for what only the platform writes, and what
            # the definition holds, of which what is meant to be there follows.
            own = {path.removeprefix("$.") for path in part.definition.values()}
            body = {name: value for name, value in whole.items() if name not in {*call.said("read_only", []), *own}}
        only = call.said("only", [])
        for name, value in native.items():
            is_left_out = value is None and call.said("nulls") == "left out"
            if (not only or name in only) and not is_left_out:
                self.put(body, part, part.definition.get(name, f"$.{name}"), value, call)
        self.put(body, part, part.paths["title"], write.states.title, call)
        self._place(body, part, write)
        if call.said("how") == "merge patch" and isinstance(present, dict):
            for name, value in _vanished(self._without_kept(part, write, present), native).items():
                path = part.definition.get(name, f"$.{name}")
                self.put(body, part, path, _patched(native.get(name), value))
        values: dict[str, Json] = {"id": write.native_id, "title": write.states.title, "folder": write.states.folder}
        # As the platform has it, a number or a text: some want it back in the body.
        seen = value_at(whole, revision) if (revision := part.paths.get("revision", "")).startswith("$") else None
        values["revision"] = write.revision if seen is None else seen
        body = _laid(body, filled(part.write.get("with", {}), values))
        if uid:
            self.put(body, part, call.said("uid"), uid)
        wrapped = part.write.get("wrapped", "")
        return {wrapped: body} if wrapped else body

    def put(self, body: dict[str, Any], part: ItemPart, path: str, value: Json, call: Call | None = None) -> None:
        """Puts what is read at a path where a call takes it: under another name, if the sheet says so."""
        members = {**part.write.get("members", {}), **(call.said("members", {}) if call else {})}
        other = members.get(path.removeprefix("$."))
        put(body, f"$.{other}" if other else path, value)

    def _place(self, body: dict[str, Any], part: ItemPart, write: Write) -> None:
        if "folder" not in part.paths:
            return
        folder = write.states.folder
        value: Json = self._folders.id_of(folder) if self._folders.are_objects else folder
        self.put(body, part, part.paths["folder"], value)

    def _without_kept(self, part: ItemPart, write: Write, present: Json) -> Json:
        """What is there but for the secrets that stay: one that isn't sent has not vanished."""
        shown = opened(present, part.kind, self._ids)
        for place in masked_places(write.definition, part.kind):
            with contextlib.suppress(LookupError, AttributeError, KeyError):
                shown = _without(shown, parse_pointer(place))
        return closed(shown, part.kind, self._ids, present, self._sheet.is_spaced)

    def _unmasked(self, part: ItemPart, definition: Json) -> Json:
        """The definition with what platforms take for "as it is" at the places of secrets that are to be kept: a mask
        sent back would become the secret."""
        places = [parse_pointer(place) for place in masked_places(definition, part.kind)]
        how = self._sheet.secrets
        for place in places:
            definition = _without(definition, place) if how == "left out" else _with(definition, place, None)
        return definition

    def awaited(self, client: Client, job: Call, answer: Answer) -> Answer:
        """What a job came to that a creation began: asked after as often as the platform says."""
        values: dict[str, Json] = {"location": answer.location}
        values["job"] = text_at(answer.body, job.said("job", "$.id"))
        until = time.monotonic() + LONGEST_JOB_S
        pause = float(job.said("wait_s", 1.0))
        while time.monotonic() < until:
            now = client.ask(job, values)
            state = text_at(now.body, job.said("state") or "$.state")
            if state in job.said("done", []):
                return now
            if state in job.said("failed", []):
                words = text_at(now.body, job.said("words") or "$.message") or f"its job is {state}"
                raise EnvironmentRefused(f"{client.base_url} could not do it: {words}.", subject=client.base_url)
            time.sleep(min(now.wait_s or pause, LONGEST_PAUSE_S))
        raise Uncertain(f"{client.base_url} has been at it for an hour.", subject=client.base_url)


def _laid(body: Any, more: Any) -> Any:
    """One document over another: objects member by member."""
    if not isinstance(body, dict) or not isinstance(more, dict):
        return more
    return {**body, **{name: _laid(body[name], part) if name in body else part for name, part in more.items()}}


def _without(document: Json, place: tuple[str, ...]) -> Json:
    head, rest = place[0], place[1:]
    if isinstance(document, list):
        # Never left out of an array: what comes after it would move up.
        return [(_without(v, rest) if rest else None) if str(n) == head else v for n, v in enumerate(document)]
    if not rest:
        return {name: value for name, value in document.items() if name != head}
    return {**document, head: _without(document[head], rest)}


def _with(document: Json, place: tuple[str, ...], value: Json) -> Json:
    if not place:
        return value
    if isinstance(document, list):
        return [_with(v, place[1:], value) if str(n) == place[0] else v for n, v in enumerate(document)]
    return {**document, place[0]: _with(document.get(place[0]), place[1:], value)}


def _vanished(present: dict[str, Json], new: dict[str, Json]) -> dict[str, Json]:
    """What a merge patch has to name to take it away (RFC 7396): null for each member that is there and no longer
    meant."""
    gone: dict[str, Json] = {}
    for name, value in present.items():
        if name not in new:
            gone[name] = None
        elif isinstance(value, dict) and isinstance(new[name], dict) and (inner := _vanished(value, new[name])):
            gone[name] = inner
    return gone


def _patched(value: Json, patch: Json) -> Json:
    if not isinstance(patch, dict) or not isinstance(value, dict):
        return patch
    return {**value, **{name: _patched(value.get(name), part) for name, part in patch.items()}}
