"""Runs and their journal: what was meant before each step, and what became of it."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from typing import Any

from amphora.core.plan.states import Image
from amphora.core.values.digits import is_number
from amphora.core.values.errors import UsageFault
from amphora.core.values.keys import Key
from amphora.core.values.model import Json
from amphora.core.values.near import near
from amphora.core.values.next_step import NextStep, blank, to_type
from amphora.ledger.database import Database, dumped
from amphora.ledger.records import (
    BACKWARDS,
    BROKEN_OFF,
    PAUSED,
    PUT_BACK,
    RUN_FORMAT,
    RUNNING,
    UNDO,
    UNDONE,
    Beginning,
    JournalStep,
    LegOf,
    Marking,
    Run,
)


class Journal:
    """The runs of a ledger. A step's intent is committed before its call, its outcome after."""

    def __init__(self, db: Database, clock: Callable[[], str]) -> None:
        self._db = db
        self._clock = clock

    def begin(self, beginning: Beginning) -> Run:
        """A new run, named `ENVIRONMENT-N`, with the states of all that it will touch."""
        with self._db.transaction():
            query = "select name from runs where environment = ?"
            names = [row["name"] for row in self._db.rows(query, (beginning.environment,))]
            # The highest number and one more, not a count: names of runs are used in scripts and never come twice.
            tails = [name.removeprefix(f"{beginning.environment}-") for name in names]
            numbers = [int(tail) for tail in tails if is_number(tail)]
            name = beginning.name or f"{beginning.environment}-{max(numbers, default=0) + 1}"
            row: tuple[Any, ...] = (name, beginning.environment, beginning.uid, beginning.package, beginning.version)
            row += (beginning.source_uid, beginning.package_digest, beginning.account, RUNNING, self._clock())
            row += (beginning.kind, beginning.of_run, dumped(beginning.docket), dumped(dict(beginning.outside)))
            row += (RUN_FORMAT, beginning.campaign, beginning.why, dumped(dict(beginning.marks)))
            run_id = self._db.insert(
                "insert into runs (name, environment, uid, package, version, source_uid, package_digest, account,"
                " state, started_at, kind, of_run, docket, outside, format, campaign, why, marks, sheets)"
                " values (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                (*row, dumped(self._kept_sheets(beginning.sheets))),
            )
            self._begin_leg(run_id, 1, beginning.account, beginning.before)
            if beginning.of_run is not None:
                self._cut_off(beginning.of_run, run_id)
        return self.run(name)

    def go_on(self, run: Run, account: str, before: Mapping[Key, Image | None], docket: Json) -> Run:
        """The next leg of a run that is paused, with the states of all that it will touch, and its docket as it is
        kept from now on."""
        with self._db.transaction():
            query = "update runs set state = ?, leg = ?, ended_at = null, docket = ? where id = ?"
            self._db.do(query, (RUNNING, run.leg + 1, dumped(docket), run.id))
            self._begin_leg(run.id, run.leg + 1, account, before)
            self._cut_off(run.id)
        return self.run(run.name)

    def _cut_off(self, of_run: int, but: int = 0) -> None:
        """Attempts at putting a run back that still count as running ended without a word: who begins here holds the
        lock."""
        row = (BROKEN_OFF, self._clock(), "It was cut off.", of_run, RUNNING, but)
        query = "update runs set state = ?, ended_at = ?, note = ? where of_run = ? and state = ? and id <> ?"
        self._db.do(query, row)

    def _begin_leg(self, run_id: int, leg: int, account: str, before: Mapping[Key, Image | None]) -> None:
        # A leg that was put back begins once more: what was before it then is out of date.
        for table in ("touched", "legs"):
            self._db.do(f"delete from {table} where run_id = ? and leg = ?", (run_id, leg))
        query = "insert into legs (run_id, leg, account, began) values (?, ?, ?, ?)"
        self._db.do(query, (run_id, leg, account, self._clock()))
        self._db.do_many(
            "insert into touched (run_id, key, leg, before) values (?, ?, ?, ?)",
            [(run_id, key, leg, dumped(image.to_json() if image else None)) for key, image in before.items()],
        )

    def since_pause(self, run: Run) -> int:
        """The first leg of a run of which nothing is recorded yet: the one after the last that ended in a pause."""
        query = "select max(leg) from legs where run_id = ? and state = ?"
        return int(self._db.rows(query, (run.id, PAUSED))[0][0] or 0) + 1

    def legs(self, run: Run) -> list[LegOf]:
        """The legs of a run so far, in order."""
        rows = self._db.rows("select * from legs where run_id = ? order by leg", (run.id,))
        return [LegOf(row["leg"], row["account"], row["began"], row["ended"] or "", row["state"]) for row in rows]

    def back_to_pause(self, run: Run, note: str) -> None:
        """What came after the last pause was put back. Inside the caller's transaction."""
        last = self.since_pause(run) - 1
        self._db.do("delete from legs where run_id = ? and leg > ?", (run.id, last))
        query = "update runs set state = ?, ended_at = ?, note = ?, leg = ? where id = ?"
        self._db.do(query, (PAUSED, self._clock(), note, last, run.id))

    def write_end(self, run: Run, state: str, note: str) -> None:
        """Closes a run, inside the caller's transaction."""
        now = self._clock()
        self._db.do("update runs set state = ?, ended_at = ?, note = ? where id = ?", (state, now, note, run.id))
        # That a run was undone says nothing of how its last leg ended.
        if state != UNDONE:
            query = "update legs set ended = ?, state = ? where run_id = ? and leg = ?"
            self._db.do(query, (now, state, run.id, run.leg))

    def end(self, run: Run, state: str, note: str = "") -> Run:
        """Closes a run with its state."""
        with self._db.transaction():
            self.write_end(run, state, note)
        return self.run(run.name)

    def runs(self) -> list[Run]:
        """All runs, the latest first."""
        return [_run(row) for row in self._db.rows(f"select {_COLUMNS} from runs order by id desc")]

    def run(self, name: str) -> Run:
        """A run by name, `last` for the latest; UsageFault where there is none."""
        query = f"select {_COLUMNS} from runs where name = ? or ? = 'last' order by name = ? desc, id desc limit 1"
        if rows := self._db.rows(query, (name, name, name)):
            return _run(rows[0])
        runs = self.runs()
        # Whoever names what a run is about gets its runs.
        about = [run.name for run in runs if name == run.environment or run.is_of(name)]
        details = [f"of {name}: {', '.join(about[:5])}"] if about else []
        details = details or [f"near: {one}" for one in near(name, [run.name for run in runs])]
        latest = [f"latest: {', '.join(run.name for run in runs[:5])}"] if runs else []
        raise UsageFault(
            f"There is no run {name!r}." if runs or name != "last" else "There is no run yet.",
            subject=name,
            details=details or latest,
            next_step=_like(name, runs) if runs else to_type("import", blank("PACKAGE"), blank("ENVIRONMENT")),
        )

    def of_campaign(self, name: str) -> list[Run]:
        """The runs of a campaign, the latest first."""
        query = f"select {_COLUMNS} from runs where campaign = ? order by id desc"
        return [_run(row) for row in self._db.rows(query, (name,))]

    def backwards_of(self, run: Run) -> list[Run]:
        """The runs that put this one back, or tried to, the first one first."""
        rows = self._db.rows(f"select {_COLUMNS} from runs where of_run = ? order by id", (run.id,))
        return [_run(row) for row in rows]

    def backwards_in(self, uid: str) -> list[Run]:
        """The runs that put others back in an environment, the latest first."""
        marks = ", ".join("?" for _ in BACKWARDS)
        query = f"select {_COLUMNS} from runs where uid = ? and kind in ({marks}) order by id desc"
        return [_run(row) for row in self._db.rows(query, (uid, *BACKWARDS))]

    def image_before(self, back: Run, key: Key) -> Image | None:
        """One item as a run gave it back; None where it was not there, or the run had nothing to do with it."""
        # A failed leg is put back to where it began, an undo goes to the beginning of all.
        order = "asc" if back.kind == UNDO else "desc"
        query = f"select before from touched where run_id = ? and key = ? order by leg {order} limit 1"
        rows = self._db.rows(query, (back.of_run, key))
        table = json.loads(rows[0]["before"]) if rows else None
        return Image.from_json(table) if table else None

    def open_runs(self, uid: str) -> list[Run]:
        """Runs into an environment that are neither done, paused nor put back, the latest first."""
        runs = [run for run in self.runs() if run.uid == uid and run.is_open]
        return [run for run in runs if run.state != PAUSED or run.is_being_put_back]

    def later(self, run: Run) -> list[Run]:
        """Runs into the same environment that came after this one and are in force, the latest first."""
        # By uid and not by name: an environment may have been renamed in the workspace between two runs.
        others = [other for other in self.runs() if other.uid == run.uid and other.id > run.id]
        return [o for o in others if o.kind not in BACKWARDS and o.state not in (PUT_BACK, UNDONE)]

    def touched(self, run: Run, since: int = 1) -> dict[Key, Image | None]:
        """The state of every item that a run was to touch, when it began, or when the leg `since` did."""
        query = "select key, before from touched where run_id = ? and leg >= ? order by leg desc"
        # The earliest leg comes last, and counts.
        rows = self._db.rows(query, (run.id, since))
        images = ((row["key"], json.loads(row["before"])) for row in rows)
        return {key: Image.from_json(table) if table else None for key, table in images}

    def left(self, run: Run) -> dict[Key, str]:
        """The marks of the states in which a run left its items: those of its last step on each."""
        outcomes = [step.outcome or {} for step in self.steps(run)]
        return {key: mark for outcome in outcomes for key, mark in (outcome.get("left") or {}).items()}

    def paused_runs(self, uid: str | None = None) -> list[Run]:
        """Runs that wait for something to be set up by hand, the latest first."""
        return [run for run in self.runs() if run.state == PAUSED and uid in (None, run.uid)]

    def docket(self, run: Run) -> Json:
        """The docket of a run as it was kept."""
        return json.loads(self._db.rows("select docket from runs where id = ?", (run.id,))[0][0])

    def package_digest(self, run: Run) -> str:
        """The digest of the package that a run brought."""
        return str(self._db.rows("select package_digest from runs where id = ?", (run.id,))[0][0])

    def outside(self, run: Run) -> dict[str, str]:
        """The revisions of everything else in the environment when a run began, by native id."""
        found: dict[str, str] = json.loads(self._db.rows("select outside from runs where id = ?", (run.id,))[0][0])
        return found

    def marks(self, run: Run) -> dict[str, str]:
        """The marks of the states of everything else when a run began, by native id, as far as they are known."""
        found: dict[str, str] = json.loads(self._db.rows("select marks from runs where id = ?", (run.id,))[0][0])
        return found

    def sheets(self, run: Run) -> dict[str, Marking]:
        """With what a run made the marks of each kind; empty for runs of earlier builds."""
        kept = json.loads(self._db.rows("select sheets from runs where id = ?", (run.id,))[0][0])
        query = "select source from kind_sheets where digest = ?"
        texts = {digest: self._db.rows(query, (digest,))[0][0] for digest in {one[0] for one in kept.values()}}
        return {kind: Marking(texts[digest], _reads(names)) for kind, (digest, names) in kept.items()}

    def reads(self, run_ids: Collection[int]) -> dict[int, dict[str, frozenset[str] | None]]:
        """What of a definition these runs read, by kind, as far as that is known."""
        query = "select id, sheets from runs where id = ?"
        rows = [row for id_ in run_ids for row in self._db.rows(query, (id_,))]
        return {r["id"]: {k: _reads(names) for k, (_, names) in json.loads(r["sheets"]).items()} for r in rows}

    def _kept_sheets(self, sheets: Mapping[str, Marking]) -> dict[str, Json]:
        """Digests and members by kind. Each text is kept once: thousands of runs have the same."""
        digests = {kind: hashlib.sha256(one.text.encode()).hexdigest() for kind, one in sheets.items()}
        query = "insert into kind_sheets (digest, source) values (?, ?) on conflict do nothing"
        self._db.do_many(query, [(digest, sheets[kind].text) for kind, digest in digests.items()])
        return {k: [digests[k], None if one.reads is None else sorted(one.reads)] for k, one in sheets.items()}

    def begin_steps(
        self,
        run: Run,
        intents: Sequence[tuple[int, str, Iterable[Key], Json]],
        before: Sequence[tuple[int, Json]] = (),
        begun: int = 1,
    ) -> None:
        """Journals what is about to be done: number, kind, keys and intent of the next steps. So many are `begun`,
        those after them are `planned` until it is their turn. And what the steps `before` came to: numbers and
        outcomes."""
        rows = [
            (run.id, number, do, dumped(list(keys)), dumped(intent), "planned", "null", self._clock())
            for number, do, keys, intent in intents
        ]
        # One commit for all of it: a crash in between finds the earlier ones uncertain, which looking settles.
        with self._db.transaction():
            self._done(run, before)
            self._db.do_many("insert into steps values (?, ?, ?, ?, ?, ?, ?, ?)", rows)
            self._begin(run, [number for number, *_ in intents[:begun]])

    def begin_next(self, run: Run, numbers: Sequence[int], before: Sequence[tuple[int, Json]]) -> None:
        """Planned steps are next. Their plan is on the disk already: that their turn has come, and what those
        `before` came to, needs to survive a killed process, not a power cut."""
        with self._db.transaction(is_awaited=False):
            self._done(run, before)
            self._begin(run, numbers)

    def _begin(self, run: Run, numbers: Sequence[int]) -> None:
        # The time of the call and not of the plan: whose change was last is told by it.
        query = "update steps set state = 'intended', at = ? where run_id = ? and number between ? and ?"
        self._db.do(query, (self._clock(), run.id, numbers[0], numbers[-1]))

    def forgo_steps(self, run: Run, number: int) -> None:
        """What was to come from this step on will not be begun."""
        query = "update steps set state = 'failed', outcome = ? where run_id = ? and number >= ?"
        self._db.do(query, (dumped({"error": "It was not begun."}), run.id, number))

    def end_step(self, run: Run, number: int, state: str, outcome: Json) -> None:
        """Journals what became of it: `done`, `failed` (nothing happened) or `uncertain`."""
        row = (state, dumped(outcome), run.id, number)
        self._db.do("update steps set state = ?, outcome = ? where run_id = ? and number = ?", row)

    def end_steps(self, run: Run, outcomes: Sequence[tuple[int, Json]]) -> None:
        """Journals what became of several that are done, all at once."""
        with self._db.transaction():
            self._done(run, outcomes)

    def _done(self, run: Run, outcomes: Sequence[tuple[int, Json]]) -> None:
        for number, outcome in outcomes:
            self.end_step(run, number, "done", outcome)

    def steps(self, run: Run) -> list[JournalStep]:
        """The steps of a run, in order."""
        return [
            JournalStep(
                r["number"],
                r["do"],
                tuple(json.loads(r["keys"])),
                json.loads(r["intent"]),
                r["state"],
                json.loads(r["outcome"]),
                r["at"],
            )
            for r in self._db.rows("select * from steps where run_id = ? order by number", (run.id,))
        ]

    def found(self, run: Run, marks: Mapping[Key, str], made: Mapping[Key, str]) -> None:
        """Journals in which states steps without an answer turned out to have left items, half-way or whole, and the
        ids of what they have created: it is ours from now on."""
        with self._db.transaction():
            for step in self.steps(run):
                outcome, mine = step.outcome or {}, [key for key in step.keys if key in marks]
                if step.state == "done" or not mine:
                    continue
                # Apart from what an answered step left: half of a change is ours, and nothing that one would keep.
                outcome["found"] = {**outcome.get("found", {}), **{key: marks[key] for key in mine}}
                if ids := {key: made[key] for key in mine if key in made}:
                    outcome["ids"] = {**outcome.get("ids", {}), **ids}
                    outcome["left"] = {**outcome.get("left", {}), **{key: marks[key] for key in ids}}
                    outcome["created"] = sorted({*outcome.get("created", ()), *ids.values()})
                row = (dumped(outcome), run.id, step.number)
                self._db.do("update steps set outcome = ? where run_id = ? and number = ?", row)

    def created(self, uid: str) -> set[str]:
        """The native ids of what runs into an environment created; all else was there before."""
        query = "select s.outcome from steps s join runs r on r.id = s.run_id where r.uid = ?"
        outcomes = [json.loads(row["outcome"]) or {} for row in self._db.rows(query, (uid,))]
        return {native_id for outcome in outcomes for native_id in outcome.get("created", ())}


_COLUMNS = (
    "id, name, environment, uid, package, version, account, state, started_at, ended_at, note, kind, of_run, format,"
    " leg, campaign, cared, why, stays, returned,"
    " coalesce((select a.state from runs a where a.of_run = runs.id order by a.id desc limit 1), '') as attempt"
)


def _like(name: str, runs: Iterable[Run]) -> NextStep:
    """How to see the runs that are about a name; all, where none is."""
    if any(run.environment == name for run in runs):
        return to_type("history", "--env", name)
    return to_type("history", *(("--package", name) if any(run.is_of(name) for run in runs) else ()))


def _run(row: Any) -> Run:
    return Run(**dict(row))


def _reads(names: Sequence[str] | None) -> frozenset[str] | None:
    return None if names is None else frozenset(names)
