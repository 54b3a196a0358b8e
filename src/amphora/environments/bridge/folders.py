"""Folders of a platform: part of an item's answer, or objects with parents, climbed for the path and made on
demand."""

from __future__ import annotations

import threading

from amphora.core.values.errors import EnvironmentRefused, Uncertain
from amphora.core.values.model import Json
from amphora.core.values.next_step import advice
from amphora.environments.bridge.client import Client
from amphora.environments.bridge.parts import BridgeSheet
from amphora.environments.bridge.paths import text_at, value_at


class Folders:
    """Where items are. With `[folders]` in the sheet an item names the id of its folder, else the folder itself."""

    def __init__(self, client: Client, sheet: BridgeSheet) -> None:
        self._client, self._sheet = client, sheet
        self._paths: dict[str, str] | None = None
        self._numbers: dict[str, Json] = {}
        self._unknown: set[str] = set()
        self._lock = threading.Lock()

    @property
    def are_objects(self) -> bool:
        """Whether folders have ids of their own."""
        return bool(self._sheet.folders)

    def of(self, row: Json, path: str) -> str:
        """The folder of an item, from its answer: names with slashes in between."""
        if not path:
            return ""
        found = value_at(row, path)
        if not self.are_objects:
            return "/".join(map(str, found)) if isinstance(found, list) else text_at(row, path).strip("/")
        named = text_at(row, path)
        if not named:
            return ""
        with self._lock:
            # One that was made since we looked is looked for once more; once, or a folder that nobody shows would be
            # asked for with every item in it.
            if named not in self._known() and named not in self._unknown:
                self._known(anew=True)
                self._unknown |= {named} - self._known().keys()
            return self._known().get(named, "")

    def written(self, folder: str) -> Json:
        """What an item is sent with: the folder, or its id (None at the top), for which it is made where it isn't
        there. It stays there, also where the item is refused then."""
        if not self.are_objects or not folder:
            return None if self.are_objects else folder
        with self._lock:
            ids = {path: id_ for id_, path in self._known(anew=True).items()}
            parent: Json = None
            path = ""
            for name in folder.split("/"):
                path = f"{path}/{name}" if path else name
                known = ids.get(path)
                parent = self._numbers[known] if known is not None else self._make(name, path, parent)
            return parent

    def _make(self, name: str, path: str, parent: Json) -> Json:
        call = self._sheet.folder_calls.get("create")
        if call is None:
            raise EnvironmentRefused(
                f"There is no folder {path!r}, and the bridge sheet doesn't say how to make one.",
                subject=path,
                place=self._sheet.file,
                next_step=advice("Make it there by hand, or import into another folder with --folder."),
            )
        answer = self._client.change(call, {"title": name, "parent": parent})
        id_ = value_at(answer.body, call.said("id") or self._sheet.folders["id"])
        if id_ is None:
            raise Uncertain(f"The folder {path!r} was made, and its id isn't told.", subject=path)
        self._known()[str(id_)] = path
        return id_

    def _known(self, anew: bool = False) -> dict[str, str]:
        """The path of each folder by its id."""
        if self._paths is None or anew:
            table = self._sheet.folders
            rows = self._client.rows(self._sheet.folder_calls["index"])
            self._numbers = {text_at(row, table["id"]): value_at(row, table["id"]) for row in rows}
            names = {text_at(row, table["id"]): text_at(row, table["title"]) for row in rows}
            parents = {text_at(row, table["id"]): text_at(row, table["parent"]) for row in rows}
            self._paths = {id_: self._climbed(id_, names, parents) for id_ in names}
        return self._paths

    def _climbed(self, id_: str, names: dict[str, str], parents: dict[str, str]) -> str:
        way: list[str] = []
        seen: set[str] = set()
        # A folder that is its own parent's parent would be climbed for ever.
        while id_ in names and id_ not in seen:
            seen.add(id_)
            # A slash in a name would be read as a folder more.
            way.append(names[id_].replace("/", "∕"))
            id_ = parents.get(id_, "")
        return "/".join(reversed(way))
