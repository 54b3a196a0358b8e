"""Adapter to the simulated platform in process: `practice:FILE`."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path

from amphora.core.form.bindings import IdStyle
from amphora.core.form.spots import mask_secrets, masked_places
from amphora.core.plan.states import Image
from amphora.core.values.digits import is_number
from amphora.core.values.errors import AmphoraError, EnvironmentRefused, RevisionMoved, Unavailable
from amphora.core.values.model import Found, Json, Limits, Listed, States, Supply
from amphora.core.values.next_step import NOTHING, advice, to_type
from amphora.core.values.raw import Raw
from amphora.environments.contract import (
    NEXT,
    Capabilities,
    Description,
    Identity,
    Probe,
    Seen,
    Take,
    Write,
    Written,
)
from amphora.practice.items import ID_PATTERN, JOINER, PERMISSIONS, PlatformRefusal, PracticeItem
from amphora.practice.platform import Platform

DEFAULT_ACCOUNT = "keeper@halcyon.example"


def connect(location: str, folder: Path, user: str, secret: str) -> PracticeEnvironment:
    """Opens `practice:FILE`; relative files lie in the workspace's folder."""
    path = folder / location.partition(":")[2]
    if not path.is_file():
        raise Unavailable(
            f"There is no practice environment at {path}.",
            subject=location,
            next_step=to_type("practice", "new", str(path.parent)),
        )
    with _translated(location):
        return PracticeEnvironment(Platform(path, user or DEFAULT_ACCOUNT, _now))


class PracticeEnvironment:
    """The Environment protocol over a Platform: item by item, new ids, drafts, switches."""

    def __init__(self, platform: Platform) -> None:
        self.platform = platform
        self.name = platform.meta("name")
        self._base_url = platform.meta("base_url")

    def describe(self) -> Description:
        return Description(
            uid=self.platform.meta("uid"),
            release=self.platform.meta("release"),
            region=self.platform.meta("region"),
            base_url=self._base_url,
            # The harder half of what platforms do (new ids, one item a call, drafts): what works here works on easier
            # ones.
            capabilities=Capabilities(
                is_atomic=False,
                keeps_ids=False,
                has_drafts=True,
                writes_states=False,
                has_rows=True,
                takes_back=self.platform.takes_back,
                has_unique_names=True,
            ),
            id_style=IdStyle(ID_PATTERN, JOINER, mark="-"),
            sheets=self.platform.sheets,
            limits=Limits(self.platform.limits["items"], self.platform.limits["item_bytes"]),
        )

    def whoami(self) -> Identity:
        roles = {role: frozenset(may) for role, may in PERMISSIONS.items()}
        return Identity(self.platform.account, self.platform.role, frozenset(self.platform.permissions), roles)

    def index(self) -> list[Listed]:
        with _translated(self.name):
            return [self._listed(item) for item in self.platform.index()]

    def read(self, native_ids: Sequence[str], take: Take = "live") -> list[Found]:
        with _translated(self.name):
            items = self.platform.read(native_ids)
        return [
            Found(
                self._listed(item),
                mask_secrets(item.newest if take == "draft" else item.live, self.platform.sheets[item.kind]),
            )
            for item in items
        ]

    def supplies(self) -> list[Supply]:
        with _translated(self.name):
            rows = self.platform.supplies()
        return [Supply(r["kind"], r["id"], r["name"], r["type"], r["owner"], bool(r["works"])) for r in rows]

    def probe(self, connection: str, objects: Sequence[str]) -> Probe:
        with _translated(self.name):
            is_working, held = self.platform.probe(connection)
        # Where nobody says what is there, nothing is missing: a warning for everything would hide the real one.
        missing = () if held is None else tuple(name for name in objects if name not in held)
        return Probe(is_working, missing, "" if is_working else "it does not answer")

    def write(self, writes: Sequence[Write]) -> list[Written]:
        return [self._write(write) for write in writes]

    def answered(self, token: str) -> Written | None:
        with _translated(self.name):
            id_ = self.platform.answered(token)
            # A token is remembered longer than what it made: somebody may have deleted that since.
            is_there = id_ is not None and bool(self.platform.read([id_], is_strict=False))
            return self._written(id_) if id_ and is_there else None

    def makers(self, native_ids: Sequence[str]) -> dict[str, str]:
        with _translated(self.name):
            return self.platform.makers(native_ids)

    def look(self, native_ids: Sequence[str]) -> dict[str, Image]:
        with _translated(self.name):
            items = self.platform.read(native_ids, is_strict=False)
        # Gone is an answer here, and no refusal: whoever looks wants to know just that.
        return {item.id: self._image(item) for item in items}

    def publish(self, item: Seen) -> None:
        with _translated(self.name):
            self.platform.publish(item.native_id, _number(item.revision))

    def take_back(self, item: Seen) -> None:
        with _translated(self.name):
            self.platform.take_back(item.native_id, _number(item.revision))

    def switch(self, item: Seen, is_on: bool) -> None:
        with _translated(self.name):
            self.platform.switch(item.native_id, is_on, _number(item.revision))

    def retire(self, items: Sequence[Seen]) -> None:
        with _translated(self.name):
            self.platform.delete({item.native_id: _number(item.revision) for item in items})

    def records(self, native_id: str) -> Iterator[Json]:
        with _translated(self.name):
            yield from self.platform.records(native_id)

    def load(self, native_id: str, rows: Iterator[Json], comes_back: bool = False) -> int:
        with _translated(self.name):
            return self.platform.add_records(native_id, rows)

    def held_files(self, names: Sequence[str]) -> dict[str, int]:
        with _translated(self.name):
            return self.platform.files.held(names)

    def file(self, name: str) -> Iterator[bytes]:
        with _translated(self.name):
            yield from self.platform.files.read(name)

    def keep_file(self, name: str, content: Raw) -> None:
        with _translated(self.name):
            self.platform.keep_file(name, content)

    def close(self) -> None:
        self.platform.close()

    def _write(self, write: Write) -> Written:
        with _translated(self.name):
            if write.native_id is None or write.is_new:
                id_ = self.platform.create(
                    write.kind,
                    write.states.folder,
                    write.segments[-1],
                    write.states.title,
                    write.definition,
                    False,
                    write.token,
                )
                return self._written(id_)
            # Told by place and not by value: the platform never sees the mask.
            keep = list(masked_places(write.definition, self.platform.sheets[write.kind]))
            self.platform.update(
                write.native_id,
                write.states.title,
                write.states.folder,
                write.definition,
                keep,
                _number(write.revision or ""),
            )
            return self._written(write.native_id)

    def _written(self, id_: str) -> Written:
        [item] = self.platform.read([id_])
        return Written(id_, str(item.revision), self._listed(item).link)

    def _image(self, item: PracticeItem) -> Image:
        row = self._listed(item)
        return Image.of(row, self._masked(item, item.live), self._masked(item, item.draft))

    def _masked(self, item: PracticeItem, definition: Json) -> Json:
        return None if definition is None else mask_secrets(definition, self.platform.sheets[item.kind])

    def _listed(self, item: PracticeItem) -> Listed:
        sheet = self.platform.sheets[item.kind]
        # Only of kinds that are published at all: elsewhere it would be a state that nobody can change.
        is_published = (item.live is not None) if sheet.is_published else None
        return Listed(
            native_id=item.id,
            kind=item.kind,
            segments=(*(part for part in item.folder.split("/") if part), item.name),
            states=States(item.title, item.folder, item.is_on, is_published),
            revision=str(item.revision),
            link=f"{self._base_url}/open/{item.id}",
            modified_at=item.modified_at,
            modified_by=item.modified_by,
            has_draft=item.draft is not None,
            is_drafted_only=item.live is None,
            rows=item.row_count,
        )


def _now() -> str:
    return datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


_ERRORS: dict[str, Callable[..., AmphoraError]] = {"moved": RevisionMoved}


@contextmanager
def _translated(name: str) -> Iterator[None]:
    try:
        yield
    except PlatformRefusal as error:
        # By code: the words of a refusal are for people, and change.
        kind = _ERRORS.get(error.code, EnvironmentRefused)
        raise kind(
            f"{name} refused: {error.message}.", subject=name, next_step=NEXT.get(error.code, NOTHING)
        ) from error
    except sqlite3.Error as error:
        after = advice("Try again when nobody else works in that file; a damaged one comes back from a backup.")
        raise Unavailable(f"{name} can't be read: {error}.", subject=name, next_step=after) from error


def _number(revision: str) -> int:
    """A revision as the platform counts; one that is no number of ours is nobody's, and so has moved."""
    return int(revision) if is_number(revision) else -1
