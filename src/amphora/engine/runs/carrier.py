"""Carrying out steps: intent committed, call, outcome committed; nothing else between intent and call can fail."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from amphora.core.plan.states import ABSENT, is_same, mark_of
from amphora.core.plan.steps import Create, Drawn, LoadRows, RetireSet, Step
from amphora.core.values.errors import (
    AmphoraError,
    EnvironmentRefused,
    LedgerTrouble,
    RevisionMoved,
    Unavailable,
    Uncertain,
)
from amphora.core.values.keys import Key
from amphora.core.values.model import Json
from amphora.engine.runs.attention import Attention
from amphora.engine.runs.lost import find_made
from amphora.engine.runs.stage import Stage
from amphora.engine.steps import DOINGS, WRITING, Bench
from amphora.ledger.records import BACKWARDS, Run

LONGEST_TOKEN = 200
"""Beyond this a token is hashed: environments limit the length."""

NOTHING_HAPPENED = (EnvironmentRefused, RevisionMoved, Unavailable)
"""What an adapter raises only if a call took no effect."""


class Stopped(AmphoraError):
    """Somebody asked for the run to stop; nothing is under way."""


@dataclass
class Carrier:
    """Carries out steps one after the other. `is_journalled` is false where the ledger can't be written and all
    that is left to do is to put back what it still tells of."""

    stage: Stage
    run: Run
    bench: Bench
    attention: Attention
    ledger_uid: str
    number: int = 0
    is_journalled: bool = True
    _marks: dict[Key, str] = field(default_factory=dict)
    _waiting: tuple[int, Json] | None = None

    def carry_out(self, steps: Sequence[Step], words: str) -> None:
        """All of them; raises what the first one raises that fails."""
        for position, step in enumerate(steps, 1):
            if self.attention.is_wanted:
                self._flush()
                raise Stopped("It was interrupted.")
            self.stage.listener(f"{words}: {step.do}", position, len(steps))
            self._one(step)
        self._flush()

    def _one(self, step: Step) -> None:
        """One step. Everything that can fail by itself (rendering, keeping rows) is done before the intent."""
        # Counted here and not by the ledger: the token has to be known before the intent is written.
        self.number += 1
        token = self._token()
        is_writing = isinstance(step, WRITING)
        drawn = {k: self.bench.material.draw(step, k, self.bench.now.get(k)) for k in step.keys if is_writing}
        before = {key: self._mark(key) for key in step.keys}
        meant = {key: self._meant(step, key, drawn.get(key)) for key in step.keys}
        if isinstance(step, RetireSet):
            for key in step.keys:
                image = self.bench.now.get(key)
                # What a run made itself, and is taken back, is in the package: only rows are worth a file.
                if image and (image.rows or self.run.kind not in BACKWARDS):
                    self.stage.keep(self.run.name, key, image)
        intent: dict[str, Json] = {"token": token, "ids": self._ids(step), "meant": meant, "before": before}
        if isinstance(step, Create):
            wanted = drawn[step.key]
            intent["places"] = {step.key: [wanted.kind, wanted.states.folder, wanted.segments[-1]]}
        self._begin(step, intent)
        try:
            made = dict(DOINGS[type(step)](step, self.bench, drawn, token))
        # An adapter raises these only where it knows: everything else, whatever its type, is asked about.
        except NOTHING_HAPPENED as error:
            self._end("failed", {"error": error.message})
            raise
        except Exception as error:
            made = self._asked(step, intent, before, meant, error)
        except BaseException:
            self._end("uncertain", {"error": "interrupted"}, is_forgiving=True)
            raise
        self._settle(step, made)

    def _asked(
        self, step: Step, intent: Json, before: Mapping[Key, str], meant: Mapping[Key, str], error: Exception
    ) -> dict[Key, str]:
        """No answer came, or none that could be read: the target says what became of the call."""
        words = error.message if isinstance(error, AmphoraError) else f"{type(error).__name__}"
        self._end("uncertain", {"error": words}, is_forgiving=True)
        made: dict[Key, str] = {}
        now: dict[Key, str] = {}
        account = self.run.account
        for key in step.keys:
            image = self.bench.now.get(key)
            if image is not None:
                image = self.stage.environment.look([image.native_id]).get(image.native_id)
            else:
                search = find_made(self.stage.environment, self.bench.habits, key, intent, self._known(), account)
                image = search.image
                made |= {key: image.native_id} if image else {}
            now[key] = mark_of(image, self.bench.habits.sheets)
        # Elsewhere rows may come and go while we look: people work with the tables.
        counts = isinstance(step, LoadRows | RetireSet)
        if all(is_same(now[key], meant[key], counts) for key in step.keys):
            return made
        if all(is_same(now[key], before[key], counts) for key in step.keys):
            self._end("failed", {"error": words}, is_forgiving=True)
            if isinstance(error, Uncertain):
                raise Unavailable(f"{words} It took no effect.", subject=error.subject) from error
        raise error

    def _settle(self, step: Step, made: Mapping[Key, str]) -> None:
        """Learns what the step made, looks at what it left, and journals both."""
        there = {key: image.native_id for key in step.keys if (image := self.bench.now.get(key))}
        ids = {**there, **made}
        for key, native_id in made.items():
            self.bench.material.learn(key, native_id)
        outcome: dict[str, Json] = {"ids": dict(made), "created": list(made.values())}
        try:
            found = self.stage.environment.look(list(ids.values()))
        except BaseException:
            # The call took effect; that nobody could look afterwards is another trouble.
            self._end("done", outcome, is_forgiving=True)
            raise
        for key in step.keys:
            self.bench.now[key] = found.get(ids.get(key, ""))
            self._marks.pop(key, None)
        outcome["left"] = {key: self._mark(key) for key in step.keys}
        self._waiting = (self.number, outcome)

    def _meant(self, step: Step, key: Key, drawn: Drawn | None) -> str:
        now = self.bench.now.get(key)
        if now is None and not isinstance(step, Create | RetireSet) and drawn is None:
            return ABSENT
        return mark_of(step.meant(key, now, drawn, self.bench.habits), self.bench.habits.sheets)

    def _ids(self, step: Step) -> dict[Key, str | None]:
        """The ids of what is there, and those that we chose for what isn't yet."""
        now = self.bench.now
        return {k: image.native_id if (image := now.get(k)) else self.bench.material.chosen_id(k) for k in step.keys}

    def _known(self) -> set[str]:
        """The native ids of what was there before the run, and of what it has made."""
        mine = {image.native_id for image in self.bench.now.values() if image}
        return mine | set(self.stage.ledger.journal.outside(self.run))

    def _token(self) -> str:
        # Two ledgers both begin at run 1: without the ledger's uid one administrator's creation would be
        # taken for another's.
        token = f"{self.ledger_uid}/{self.run.name}/{self.number}"
        return hashlib.sha256(token.encode()).hexdigest() if len(token) > LONGEST_TOKEN else token

    def _mark(self, key: Key) -> str:
        """The mark of an item as it was last seen."""
        if key not in self._marks:
            self._marks[key] = mark_of(self.bench.now.get(key), self.bench.habits.sheets)
        return self._marks[key]

    def _begin(self, step: Step, intent: Json) -> None:
        """Journals an intent, and with it, in one commit, the outcome of the step before: it is only needed
        once something else is going to happen, and a commit waits for the disk."""
        if self.is_journalled:
            waiting, self._waiting = self._waiting, None
            self.stage.ledger.journal.begin_step(self.run, self.number, step.do, step.keys, intent, waiting)

    def _flush(self) -> None:
        """Journals the outcome that is still waiting."""
        waiting, self._waiting = self._waiting, None
        if waiting and self.is_journalled:
            self.stage.ledger.journal.end_step(self.run, waiting[0], "done", waiting[1])

    def _end(self, state: str, outcome: Json, is_forgiving: bool = False) -> None:
        """Journals an outcome. Forgiving where another error is on its way already, which counts more."""
        if not self.is_journalled:
            return
        try:
            self.stage.ledger.journal.end_step(self.run, self.number, state, outcome)
        except LedgerTrouble:
            if not is_forgiving:
                raise
