"""Adapter to a plain folder: `folder:PATH`. One JSON file an item, the kind sheets beside them.

environment.json          uid, region, base URL, connections and people on offer
kinds/KIND.toml           the kinds that it takes
items/KIND/ID.json        id, name, folder, title, states, definition
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Collection, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, Final
from uuid import uuid4

from amphora.core.form.bindings import IdStyle
from amphora.core.form.kinds import KindSheet
from amphora.core.form.spots import mask_secrets, masked_places, reference_values
from amphora.core.plan.states import Image
from amphora.core.values.errors import EnvironmentRefused, PackageDamaged, RevisionMoved, Unavailable
from amphora.core.values.keys import encode_segment
from amphora.core.values.model import Found, Json, Listed, States, Supply
from amphora.core.values.next_step import advice, other_program
from amphora.core.values.pointers import parse_pointer, value_at, with_value
from amphora.core.values.strict_json import JsonFault, parse_json, pretty_bytes
from amphora.environments.contract import (
    NEXT,
    Capabilities,
    Description,
    Identity,
    Reserved,
    Seen,
    Take,
    Wanted,
    Write,
    Written,
)
from amphora.files.links import below
from amphora.files.sheets import read_sheet
from amphora.practice.sheets import practice_sheets

FILE = "environment.json"
ID_PATTERN = r"[0-9A-Za-z._-]{6,}"
JOINER = "#"
FEW: Final = 64
"""Up to so many items are looked for by the names of their files, more by going through all files: a run looks at
some thirty at once, again and again."""
Record = dict[str, Any]
Stamp = tuple[int, int, int, int]
"""What tells that a file is another one than it was: inode, size, and the times of contents and inode."""


def connect(location: str, folder: Path, user: str, secret: str) -> FolderEnvironment:
    """Opens `folder:PATH`; an empty folder is made an environment that takes the kinds we know."""
    path = folder / location.partition(":")[2]
    if not path.is_dir():
        raise Unavailable(
            f"There is no folder {path}.", subject=location, next_step=other_program("mkdir", "-p", str(path))
        )
    if not (path / FILE).is_file():
        # Somebody's folder is never made an environment by a slip of the hand.
        if any(path.iterdir()):
            raise Unavailable(
                f"{path} is no environment: it has no {FILE}.",
                subject=location,
                next_step=advice("Name an empty folder, or one that was an environment before."),
            )
        # A uid by chance, once: a copy of the folder keeps it and is the same environment, which is what a copy is
        # for.
        found_folder(path, f"folder-{uuid4()}", practice_sheets())
    return FolderEnvironment(path)


def found_folder(path: Path, uid: str, sheets: Mapping[str, KindSheet], supplies: Sequence[Supply] = ()) -> None:
    """Makes a folder an environment."""
    (path / "kinds").mkdir(parents=True, exist_ok=True)
    for kind, sheet in sheets.items():
        # Written into it: the folder goes on being read as it was, whatever a later build knows.
        (path / "kinds" / f"{kind}.toml").write_text(sheet.source, encoding="utf-8")
    offers = [{"kind": s.kind, "id": s.native_id, "name": s.name, "type": s.type} for s in supplies]
    # No region: whoever keeps a folder for one writes it down, and then it counts.
    described = {"uid": uid, "region": "", "base_url": path.resolve().as_uri(), "supplies": offers}
    (path / FILE).write_bytes(pretty_bytes(described))


class FolderEnvironment:
    """The Environment protocol over files: item by item, ids of our choice, no drafts."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._known: dict[Path, tuple[Stamp, Record]] = {}
        self._kinds: dict[str, str] = {}
        self.about: Record = self._parsed(self._inside(FILE))
        files = [self._inside(f"kinds/{file.name}") for file in sorted(self._inside("kinds").glob("*.toml"))]
        self.sheets = {file.stem: read_sheet(file) for file in files}

    def describe(self) -> Description:
        return Description(
            uid=str(self.about["uid"]),
            # Files have no release; the number is that of their form.
            release="1",
            region=str(self.about.get("region", "")),
            base_url=str(self.about.get("base_url", "")),
            capabilities=Capabilities(is_atomic=False, keeps_ids=True, has_drafts=False, writes_states=True),
            id_style=IdStyle(ID_PATTERN, JOINER),
            sheets=self.sheets,
        )

    def whoami(self) -> Identity:
        return Identity(
            "whoever owns the folder", "owner", frozenset({"read", "write", "publish", "switch", "retire", "grant"})
        )

    def index(self) -> list[Listed]:
        return sorted((self._listed(record) for record in self._records()), key=lambda row: row.native_id)

    def read(self, native_ids: Sequence[str], take: Take = "live") -> list[Found]:
        records = self._of(native_ids)
        return [self._found(self._one(records, id_)) for id_ in native_ids]

    def look(self, native_ids: Sequence[str]) -> dict[str, Image]:
        records = self._of(native_ids)
        return {id_: self._image(records[id_]) for id_ in native_ids if id_ in records}

    def supplies(self) -> list[Supply]:
        return [
            Supply(row["kind"], row["id"], row["name"], row.get("type", "")) for row in self.about.get("supplies", [])
        ]

    def reserve(self, wanted: Sequence[Wanted]) -> list[Reserved]:
        held = {record["id"] for record in self._records()}
        result = []
        for one in wanted:
            id_, number = one.native_id, 0
            while one.is_new and (not id_ or id_ in held or (one.is_anew and id_ == one.native_id)):
                number += 1
                # Made from the item and not from chance: the same import into a copy of the folder gives the same
                # ids.
                seed = f"{self.about['uid']}/{one.key}/{number}"
                id_ = f"{one.kind[:2]}-{hashlib.sha256(seed.encode()).hexdigest()[:8]}"
            held.add(id_)
            result.append(Reserved(id_, {}))
        return result

    def write(self, writes: Sequence[Write]) -> list[Written]:
        return [self._write(write) for write in writes]

    def answered(self, token: str) -> Written | None:
        found = [record for record in self._records() if record.get("token") == token]
        return self._written(found[0]) if found else None

    def makers(self, native_ids: Sequence[str]) -> dict[str, str]:
        wanted = set(native_ids)
        return {r["id"]: str(r["token"]) for r in self._records() if r["id"] in wanted and r.get("token")}

    def publish(self, item: Seen) -> None:
        self._change(item, published=True)

    def take_back(self, item: Seen) -> None:
        self._change(item, published=False)

    def switch(self, item: Seen, is_on: bool) -> None:
        self._change(item, on=is_on)

    def retire(self, items: Sequence[Seen]) -> None:
        records = self._by_id()
        # All are looked at before the first is removed: one that was changed keeps the whole set.
        files = [self._file(self._seen(records, item)) for item in items]
        self._refuse_used(records, {item.native_id for item in items})
        for file in files:
            file.unlink()

    def _refuse_used(self, records: Mapping[str, Any], leaving: Collection[str]) -> None:
        """A file can be deleted whoever needs what is in it."""
        for id_, record in records.items():
            sheet = self.sheets.get(record["kind"])
            if id_ in leaving or sheet is None:
                continue
            used = {v.partition(JOINER)[0] for _, v, _ in reference_values(record["definition"], sheet)}
            if dead := sorted(used & set(leaving)):
                raise EnvironmentRefused(
                    f"{records[dead[0]]['title']!r} is used by {record['title']!r}.",
                    subject=id_,
                    next_step=NEXT["in-use"],
                )

    def close(self) -> None:
        """Nothing is held open."""

    def _write(self, write: Write) -> Written:
        id_ = str(write.native_id)
        present = self._by_id([id_]).get(id_)
        # Absent for a creation, as it was seen for an update. Between this look and the rename below somebody may
        # still write: a plain folder has no better guard.
        if write.is_new == (present is not None) or (present and _revision(present) != write.revision):
            raise RevisionMoved(
                f"{write.states.title!r} was changed in {self.path} meanwhile.",
                subject=write.states.title,
                next_step=advice("Run the same command again."),
            )
        sheet = self.sheets[write.kind]
        definition = _unmasked(write.definition, present["definition"], sheet) if present else write.definition
        record = {
            "id": id_,
            "kind": write.kind,
            # The name is the item's address in the folder and is given once; what people call it is the title.
            "name": write.segments[-1] if present is None else present["name"],
            "folder": write.states.folder,
            "title": write.states.title,
            "on": bool(write.states.is_on) if sheet.is_switched else None,
            "published": (bool(present["published"]) if present else False) if sheet.is_published else None,
            "definition": definition,
            "token": write.token,
        }
        self._store(record)
        return self._written(record)

    def _written(self, record: Record) -> Written:
        row = self._listed(record)
        return Written(row.native_id, row.revision, row.link)

    def _change(self, item: Seen, **states: bool) -> None:
        self._store({**self._seen(self._by_id([item.native_id]), item), **states})

    def _seen(self, records: Mapping[str, Record], item: Seen) -> Record:
        """The record of an item, if it is as somebody saw it."""
        record = self._one(records, item.native_id)
        if _revision(record) != item.revision:
            raise RevisionMoved(
                f"{record['title']!r} was changed in {self.path} meanwhile.",
                subject=str(record["title"]),
                next_step=advice("Run the same command again."),
            )
        return record

    def _of(self, native_ids: Sequence[str]) -> dict[str, Record]:
        """The records of some ids at least, wherever they lie."""
        # A run looks at each item as it goes: with a glance at every file each time, it would cost their square.
        found = self._by_id(native_ids) if len(native_ids) <= FEW else {}
        # A file that somebody copied or renamed is found by what is in it.
        return found if found.keys() >= set(native_ids) else self._by_id()

    def _by_id(self, wanted: Sequence[str] | None = None) -> dict[str, Record]:
        """The records by id: all of them, or those of some ids, whose files are known by name."""
        if wanted is None:
            return {record["id"]: record for record in self._records()}
        # By name, for a write would otherwise cost a reading of the whole folder, and an import the square of it.
        paths = [path for id_ in wanted if (path := self._path(id_))]
        return {record["id"]: record for record in map(self._parsed, paths)}

    def _path(self, native_id: str) -> Path | None:
        """The file that is called like an item."""
        # First where it was: a look into the folder of each kind takes longer than all else.
        kinds = dict.fromkeys([*([self._kinds[native_id]] if native_id in self._kinds else []), *self.sheets])
        paths = (self._inside(f"items/{encode_segment(kind)}/{encode_segment(native_id)}.json") for kind in kinds)
        return next((path for path in paths if path.exists()), None)

    def _store(self, record: Record) -> None:
        path = self._file(record)
        # A kind of which there was nothing has no folder yet.
        path.parent.mkdir(parents=True, exist_ok=True)
        # Written beside and renamed: a reader finds the old record or the new one, never half of one.
        beside = path.with_name(f".{path.name}.writing")
        beside.write_bytes(pretty_bytes(record))
        beside.replace(path)

    def _file(self, record: Record) -> Path:
        return self._inside(f"items/{encode_segment(str(record['kind']))}/{encode_segment(str(record['id']))}.json")

    def _inside(self, name: str) -> Path:
        """A path below the folder; EnvironmentRefused where a link leads out of it."""
        try:
            return below(self.path, name)
        except PackageDamaged as error:
            raise EnvironmentRefused(error.message, subject=error.subject, next_step=error.next_step) from error

    def _records(self) -> Iterator[Record]:
        # Without what begins with a dot: records that somebody is writing just now.
        for path in sorted(self._inside("items").glob("*/[!.]*.json")):
            yield self._parsed(self._inside(path.relative_to(self.path).as_posix()))

    def _one(self, records: Mapping[str, Record], native_id: str) -> Record:
        if native_id not in records:
            raise EnvironmentRefused(f"{self.path} has no item {native_id!r}.", subject=native_id)
        return records[native_id]

    def _parsed(self, path: Path) -> Record:
        """A file's record, read anew only where the file is another one than it was."""
        try:
            about = path.stat()
            stamp = (about.st_ino, about.st_size, about.st_mtime_ns, about.st_ctime_ns)
            known = self._known.get(path)
            if known and known[0] == stamp:
                return dict(known[1])
            record = parse_json(path.read_bytes())
            is_fit = _is_about(record) if path.name == FILE else _is_record(record)
        except (OSError, JsonFault, AttributeError) as error:
            after = advice("Mend the file, or put it back from a backup or from git.")
            raise EnvironmentRefused(f"{path} can't be read: {error}.", subject=str(path), next_step=after) from error
        if not is_fit or (path.name != FILE and record["kind"] not in self.sheets):
            what = "no description of an environment" if path.name == FILE else "no item of a kind that is known here"
            raise EnvironmentRefused(
                f"{path} is {what}.",
                subject=str(path),
                next_step=advice("Mend or remove it."),
            )
        self._known[path] = (stamp, record)
        self._kinds[str(record.get("id"))] = str(record.get("kind"))
        return dict(record)

    def _found(self, record: Record) -> Found:
        return Found(self._listed(record), mask_secrets(record["definition"], self.sheets[record["kind"]]))

    def _image(self, record: Record) -> Image:
        found = self._found(record)
        return Image.of(found.listed, found.definition)

    def _listed(self, record: Record) -> Listed:
        folder = str(record.get("folder", ""))
        return Listed(
            native_id=str(record["id"]),
            kind=str(record["kind"]),
            segments=(*(part for part in folder.split("/") if part), str(record.get("name") or record["title"])),
            states=States(str(record["title"]), folder, record.get("on"), record.get("published")),
            revision=_revision(record),
            link=self._file(record).resolve().as_uri(),
        )


def _is_about(record: Record) -> bool:
    """Whether `environment.json` says what it has to; people write into it who and what is on offer."""
    offers = record.get("supplies", [])
    texts = [record.get("uid"), record.get("region", ""), record.get("base_url", "")]
    rows = offers if isinstance(offers, list) else [None]
    texts += [row.get(name) if isinstance(row, dict) else None for row in rows for name in ("kind", "id", "name")]
    texts += [row.get("type", "") for row in rows if isinstance(row, dict)]
    return all(isinstance(text, str) for text in texts)


def _is_record(record: Record) -> bool:
    """Whether a file says of an item what it has to."""
    texts = [record.get("id"), record.get("kind"), record.get("title")]
    texts += [record.get("name", ""), record.get("folder", "")]
    states = [record.get("on"), record.get("published")]
    is_told = all(isinstance(text, str) for text in texts) and all(state in (None, True, False) for state in states)
    return is_told and "definition" in record


def _revision(record: Record) -> str:
    return hashlib.sha256(json.dumps(record, sort_keys=True).encode()).hexdigest()[:16]


def _unmasked(definition: Json, present: Json, sheet: KindSheet) -> Json:
    """Masked secrets taken from what is there."""
    for pointer in masked_places(definition, sheet):
        parts = parse_pointer(pointer)
        definition = with_value(definition, parts, value_at(present, parts))
    return definition
