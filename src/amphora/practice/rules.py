"""What the platform takes: right references, settings and regions, no more than there may be, nothing that would not
run."""

from __future__ import annotations

import json
import sqlite3
from typing import TYPE_CHECKING, Any

from amphora.core.form.attachments import kept_apart
from amphora.core.form.kinds import KindSheet
from amphora.core.form.objects import objects_used
from amphora.core.form.settings import is_setting, setting_words
from amphora.core.form.spots import (
    empty_references,
    part_ids,
    reference_values,
    region_values,
    setting_values,
)
from amphora.practice.items import JOINER, PlatformRefusal, PracticeItem

if TYPE_CHECKING:
    from amphora.practice.platform import Platform


class Rules:
    """The rules of one platform; each refuses what breaks it."""

    def __init__(self, platform: Platform, db: sqlite3.Connection) -> None:
        self._platform, self._db = platform, db

    def check(self, definition: Any, sheet: KindSheet) -> None:
        """What the platform takes: the right region and size, settings of their type, and references to
        what exists here."""
        region = self._platform.meta("region")
        # Data that has to stay at home is refused by the platform itself, as real ones do.
        for bound in region_values(definition, sheet):
            if region and bound != region:
                raise PlatformRefusal("invalid", f"it belongs to region {bound!r}, and this is {region!r}")
        most = self._platform.limits["item_bytes"]
        size = len(json.dumps(definition, ensure_ascii=False).encode())
        if most is not None and size > most:
            raise PlatformRefusal("too-much", f"it takes {size} bytes, and {most} are the most")
        for pointer, value, wanted in setting_values(definition, sheet):
            if not is_setting(value, wanted):
                raise PlatformRefusal("invalid", f"{value!r} at {pointer} is not {setting_words(wanted)}")
        for pointer in empty_references(definition, sheet):
            raise PlatformRefusal("dangling", f"nothing stands at {pointer}, where a reference has to be")
        self._platform.files.check(kept_apart(definition, sheet))
        self._check_references(definition, sheet)
        for connection, name in objects_used(definition, sheet):
            _, held = self._platform.probe(connection)
            if held is not None and name not in held:
                raise PlatformRefusal("dangling", f"{name!r} is not on the other end of {connection}")

    def check_number(self, kind: str) -> None:
        """Refuses one more of a kind than there may be."""
        most = self._platform.limits["items"].get(kind)
        [count] = self._db.execute("select count(*) from items where kind = ?", (kind,)).fetchone()
        if most is not None and count >= most:
            raise PlatformRefusal("too-much", f"there are already {count} of kind {kind}, the most there may be")

    def check_connections(self, item: PracticeItem) -> None:
        """Refuses to switch on what would not run."""
        works = {row["id"]: row["works"] for row in self._db.execute("select id, works from supplies")}
        for _, value, _ in reference_values(item.newest, self._platform.sheets[item.kind]):
            if not works.get(value, True):
                raise PlatformRefusal("invalid", f"{item.title!r} can't be switched on: {value} does not work")

    def _check_references(self, definition: Any, sheet: KindSheet) -> None:
        known = {row["id"] for row in self._db.execute("select id from supplies")}
        for pointer, value, refer in reference_values(definition, sheet):
            if value in known or value == "":
                continue
            id_, joiner, part = value.partition(JOINER)
            row = self._db.execute("select kind from items where id = ?", (id_,)).fetchone()
            is_there = row is not None and refer.may_name(row["kind"])
            if (
                is_there
                and joiner
                and part not in part_ids(self._platform.read([id_])[0].newest, self._platform.sheets[row["kind"]])
            ):
                is_there = False
            if not is_there:
                raise PlatformRefusal("dangling", f"{value!r} at {pointer} is nothing that exists here")

    def used(self, item: PracticeItem) -> set[str]:
        """The ids of the items that an item refers to, live or as a draft."""
        sheet = self._platform.sheets[item.kind]
        # A draft counts: deleting what only it refers to would break it unseen, until somebody publishes it.
        definitions = [part for part in (item.live, item.draft) if part is not None]
        return {v.partition(JOINER)[0] for part in definitions for _, v, _ in reference_values(part, sheet)}
