"""The stage of a run: the open environment, the ledger that remembers, the folder that keeps what is removed."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from pathlib import Path

from amphora.core.form.kinds import KindSheet, parse_sheet
from amphora.core.plan.states import Habits, Image
from amphora.core.values.errors import AmphoraError
from amphora.core.values.keys import Key, encode_segment
from amphora.core.values.late import dataclass
from amphora.core.values.raw import Raw
from amphora.core.values.strict_json import pretty_bytes
from amphora.engine.runs.attention import forgiving
from amphora.engine.session import Listener, Opened, Session
from amphora.environments.contract import Environment, HoldsRows, KeepsFiles, habits_of
from amphora.environments.sheeted import Sheeted
from amphora.files.folder import OnDisk
from amphora.files.rows import write_rows
from amphora.ledger.ledger import Ledger
from amphora.ledger.records import Marking, Run

MOST_MARKED = 2000
"""So many items are looked at beside a run, before it begins."""

MOST_READ = 100
"""The same where each of them takes a call, or several."""


@dataclass(frozen=True)
class Stage:
    """What carrying out and putting back both need. `kept` is the folder of all runs, `marked_with` the kind sheets
    by which a run that was begun earlier told one state from another, where they are others than today's."""

    opened: Opened
    ledger: Ledger
    listener: Listener
    kept: Path
    marked_with: Mapping[str, KindSheet] | None = None

    @property
    def environment(self) -> Environment:
        return self.opened.environment

    @cached_property
    def habits(self) -> Habits:
        return replace(habits_of(self.opened.description), marked_with=self.marked_with)

    @cached_property
    def read_otherwise(self) -> frozenset[str]:
        """The kinds of whose definitions other members are read than when the run began, or that are seen otherwise:
        where revisions are those of contents all of them have moved, and where ids are others all are new."""
        habits = self.habits
        return frozenset(
            kind
            for kind in habits.sheets
            if habits.unknown_then(kind)
            or habits.no_longer_read(kind)
            # Where a platform keeps its own definitions whole, it says itself what has moved.
            or (habits.sheets[kind].reads is not None and habits.is_seen_otherwise(kind))
        )

    @property
    def sheets(self) -> dict[str, Marking]:
        """The text of each kind sheet by which states are told from each other, and what is read of a definition."""
        sheets = self.marked_with or self.opened.description.sheets
        return {kind: Marking(one.source, one.reads) for kind, one in sheets.items()}

    @property
    def uid(self) -> str:
        return self.opened.description.uid

    def keep(self, run: str, key: Key, image: Image) -> None:
        """Writes what is going to be removed into the run's folder: its image as JSON, its rows as JSON Lines.
        The ledger has the image too; the file is for people, and for the day when there is no ledger."""
        path = self._file(run, key)
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(pretty_bytes(image.to_json()))
        # Written row by row: a table may be larger than the memory.
        if image.rows and isinstance(self.environment, HoldsRows):
            write_rows(path.with_suffix(".jsonl"), self.environment.records(image.native_id))

    def kept_rows(self, runs: Iterable[str], keys: Iterable[Key]) -> dict[Key, Raw]:
        """The rows that these runs kept of items."""
        found: dict[Key, Raw] = {}
        wanted = list(keys)
        for run in runs:
            for key in wanted:
                path = self._file(run, key).with_suffix(".jsonl")
                if key not in found and path.is_file():
                    found[key] = OnDisk(path)
        return found

    def keep_files(self, environment: KeepsFiles, run: str, names: Sequence[str]) -> None:
        """Copies attachments that a run takes away into its folder: the environment may forget them."""
        held = environment.held_files(names)
        # Only those that are there: one that is gone already can't be kept, and is no reason to stop. And only those
        # that were asked for: a server's answer must not say which files are written here.
        for name in (name for name in names if name in held):
            path = self.kept / run / name
            path.parent.mkdir(parents=True, exist_ok=True)
            # Whole or not at all under its name: a run that is killed here is repeated.
            half = path.with_suffix(".part")
            with half.open("wb") as file:
                file.writelines(environment.file(name))
            half.replace(path)

    def kept_file(self, runs: Iterable[str], name: str) -> Raw | None:
        """An attachment that one of these runs kept."""
        return next((OnDisk(path) for run in runs if (path := self.kept / run / name).is_file()), None)

    def revisions(self, without: Iterable[str]) -> dict[str, str]:
        """The revisions of everything in the environment but some items, by native id."""
        # What the run touches is in its images; here is what tells afterwards whether anything else moved.
        left = set(without)
        return {r.native_id: r.revision for r in self.environment.index() if r.native_id not in left}

    def marks(self, native_ids: Collection[str]) -> dict[str, str]:
        """The marks of the states of these items: they tell what was changed from what was saved as it is. None where
        that would take too long, or can't be read: nothing of it is to be touched."""
        if len(native_ids) > (MOST_READ if self.habits.fills_in else MOST_MARKED):
            return {}
        try:
            return self.marks_now(native_ids)
        except AmphoraError:
            return {}

    def marks_now(self, native_ids: Collection[str]) -> dict[str, str]:
        """The same of whatever is there, however long it takes."""
        images = self.environment.look(sorted(native_ids)) if native_ids else {}
        # Rows come and go while people work; and half of the digest is enough for what decides nothing.
        return {one: self.habits.mark(image)[:32] for one, image in images.items()}

    def saved_as_before(self, run: Run, moved: Collection[str]) -> set[str]:
        """Of items with another revision those that are as they were when a run began."""
        before = {one: mark for one, mark in self.ledger.journal.marks(run).items() if one in moved}
        now = self.marks_now(before)
        return {one for one, mark in before.items() if now.get(one) == mark}

    def _file(self, run: str, key: Key) -> Path:
        return self.kept / run / (encode_segment(key) + ".json")


def stage_of(session: Session, environment: str, run: Run | None = None) -> Stage:
    """The stage for one environment of a workspace; for what is done with a run, the one on which that began."""
    opened = session.open(environment)
    then = session.ledger.journal.sheets(run) if run else {}
    sheets = opened.description.sheets
    other = {
        kind: one
        for kind, one in then.items()
        if kind not in sheets or Marking(sheets[kind].source, sheets[kind].reads) != one
    }
    marked_with = None
    if other:
        marked_with = {
            **sheets,
            **{k: replace(parse_sheet(one.text, k), reads=one.reads) for k, one in other.items()},
        }
        # What was no secret then counts in those marks with its value.
        seen: Environment = Sheeted.seen_with(opened.environment, sheets, marked_with)
        opened = replace(opened, environment=seen)
    return Stage(opened, session.ledger, forgiving(session.listener), session.workspace.runs, marked_with)


def looked_up(environment: Environment, ids: Mapping[Key, str]) -> dict[Key, Image | None]:
    """The present state of items, read together."""
    # One read for all of them: states that are compared with each other have to be of one moment.
    found = environment.look(list(dict.fromkeys(ids.values())))
    return {key: found.get(native_id) for key, native_id in ids.items()}
