"""Carrying out steps: intent committed, call, outcome committed; nothing else between intent and call can fail.

A commit that has to survive a power cut waits for the disk, as long as a call to a quick environment takes. So the
intents of some steps that come one after the other are committed at once, and what happens between them (this one is
begun, that one came to this) is written without waiting: a killed process loses none of it, and after a power cut
there is an intent without an outcome, which looking settles (docs/decisions.md). No two of them are on one item, so
that an environment which takes what is written to the letter is looked at once for all of them.
"""

from __future__ import annotations

import contextlib
import hashlib
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import field

from amphora.core.plan.states import Image, files_of, is_plainly, is_same
from amphora.core.plan.steps import Create, Drawn, RetireSet, Step
from amphora.core.values.errors import (
    AmphoraError,
    Busy,
    EnvironmentRefused,
    Failed,
    LedgerTrouble,
    RevisionMoved,
    Unavailable,
    Uncertain,
)
from amphora.core.values.keys import Key, readable
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.engine.runs.attention import Attention
from amphora.engine.runs.batch import ON_ONE_ITEM, Made, Ready, answers, pace_of, side_by_side
from amphora.engine.runs.lost import LATE_S, Looked, half_of, looked_at, loose_marks, only_saved
from amphora.engine.runs.stage import Stage
from amphora.engine.steps import DOINGS, WRITING, Bench
from amphora.ledger.records import BACKWARDS, Run

LONGEST_TOKEN = 200
"""Beyond this a token is hashed: environments limit the length."""

WAITS_S = (0.5, 2.0)
"""How long an environment that has too much to do is left alone, before a step that took no effect is tried again."""

PORTION = 32
"""How many intents are committed at once. More would save little: a commit costs some four calls."""

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
    _waiting: list[tuple[int, Json]] = field(default_factory=list)
    _unseen: list[Made] = field(default_factory=list)

    def carry_out(self, steps: Sequence[Step], words: str, before: int = 0, total: int = 0) -> None:
        """All of them; raises what the first one raises that fails. Told are as many as there were `before` these,
        of the `total`."""
        portion: list[Ready] = []
        done, begun, pace = 0, 0, pace_of(self.stage.environment, self.bench.habits)
        try:
            while done < len(steps):
                if self.attention.is_wanted:
                    # Between two steps: nothing is under way that somebody would have to ask about.
                    raise Stopped("It was interrupted.")
                if not portion:
                    # The first of a portion are begun with it, the others when it is their turn.
                    portion = self._intended(steps[done : done + PORTION], pace.ahead)
                    begun = pace.ahead
                count = side_by_side(portion, self.bench.material, self.bench.now, pace.width())
                if count > begun:
                    self._begin(portion[begun : max(count, pace.ahead)])
                    begun = max(count, pace.ahead)
                now, portion = portion[:count], portion[count:]
                for position, ready in enumerate(now, before + done + 1):
                    named = f"{words}: {ready.step.do} {self._named(ready.step)}"
                    self.stage.listener(named, position, total or len(steps))
                self._together(now)
                done, begun = done + count, begun - count
                if not portion:
                    self._look(steps[done:])
        except Stopped:
            # That it was asked to stop counts more than that nobody could look.
            with contextlib.suppress(AmphoraError):
                self._look()
            self._flush()
            raise
        except BaseException:
            # What was done beside the one that failed, or before it, is known to be done, and has to be known later:
            # not every environment can tell afterwards who made something. The other error counts more.
            with contextlib.suppress(LedgerTrouble):
                self._flush()
            raise
        finally:
            if portion:
                self._forgo(portion[0].number)
        self._flush()

    def _named(self, step: Step) -> str:
        """What a step is on, as people read it."""
        more = f" and {len(step.keys) - 1:,} more" if len(step.keys) > 1 else ""
        return f"{readable(step.keys[0])}{more}" if step.keys else ""

    def _intended(self, steps: Sequence[Step], begun: int) -> list[Ready]:
        """The first of some steps, and those after it whose intents can be told now already; journalled, and so many
        of them as begun."""
        portion: list[Ready] = []
        keys, unnamed = set[Key](), set[Key]()
        for step in steps:
            # The portion ends here; what comes after is told when this much is done.
            if portion and (step.stands_alone or self._has_to_wait(step, keys, unnamed)):
                break
            portion.append(self._ready(step))
            if step.stands_alone:
                break
            keys |= set(step.keys)
            new = {key for key in step.keys if self.bench.now.get(key) is None}
            unnamed |= {key for key in new if not self.bench.material.chosen_id(key)}
        if self.is_journalled:
            waiting, self._waiting = self._waiting, []
            intents = [(one.number, one.step.do, one.step.keys, one.intent) for one in portion]
            self.stage.ledger.journal.begin_steps(self.run, intents, waiting, begun)
            self.stage.ledger.locks.renew(self.stage.uid)
        return portion

    def _has_to_wait(self, step: Step, keys: set[Key], unnamed: set[Key]) -> bool:
        """Whether a step can be told only when those on the items `keys` have been done: it begins where they end,
        and a definition names what it uses by ids, which the environment has yet to choose for `unnamed`."""
        if not keys.isdisjoint(step.keys):
            return True
        if not isinstance(step, WRITING) or not unnamed:
            return False
        return not all(unnamed.isdisjoint(self.bench.material.uses(key)) for key in step.keys)

    def _ready(self, step: Step) -> Ready:
        """One step. Everything that can fail by itself (rendering, keeping rows) is done here, before the intent."""
        # Counted here and not by the ledger: the token has to be known before the intent is written.
        self.number += 1
        number, now = self.number, self.bench.now
        is_writing = isinstance(step, WRITING)
        drawn = {k: self.bench.material.draw(step, k, now.get(k)) for k in step.keys if is_writing}
        before = {key: self._mark(key, now.get(key)) for key in step.keys}
        leaves = {key: self._left(step, key, now.get(key), drawn.get(key)) for key in step.keys}
        meant = {key: self.bench.habits.mark(image) for key, image in leaves.items()}
        if isinstance(step, RetireSet):
            for key in step.keys:
                image = now.get(key)
                # What a run made itself, and is taken back, is in the package: only rows are worth a file.
                if image and (image.rows or self.run.kind not in BACKWARDS):
                    self.stage.keep(self.run.name, key, image)
        self._keep_files(now, leaves)
        intent: dict[str, Json] = {"token": self._token(number), "ids": self._ids(step), "meant": meant}
        intent["before"] = before
        if is_writing:
            halves = {key: half_of(now.get(key), leaves[key], self.bench.habits) for key in step.keys}
            intent["halves"] = {key: half for key, half in halves.items() if half}
        if isinstance(step, RetireSet) and len(step.keys) > 1 and self.bench.habits.fills_in:
            # Where items go one by one, those of a circle let go of each other first.
            intent["loose"] = loose_marks({key: now.get(key) for key in step.keys}, self.bench.habits)
        if isinstance(step, Create):
            wanted = drawn[step.key]
            intent["places"] = {step.key: [wanted.kind, wanted.states.folder, wanted.segments[-1]]}
            if wanted.kind in self.bench.habits.apart:
                # Killed between its calls, it is known by what the first of them makes.
                bare = self.bench.habits.bare(leaves[step.key])
                intent["bare"] = {step.key: self.bench.habits.mark(bare)}
        return Ready(number, step, drawn, before, meant, leaves, intent)

    def _keep_files(self, now: Mapping[Key, Image | None], leaves: Mapping[Key, Image | None]) -> None:
        """Keeps the attachments that a step takes away; those that a run brought itself are in the package."""
        if self.bench.files is None or self.run.kind in BACKWARDS:
            return
        sheets = self.bench.habits.sheets
        went = {name for key in leaves for name in files_of(now.get(key), sheets) - files_of(leaves[key], sheets)}
        if went:
            self.stage.keep_files(self.bench.files, self.run.name, sorted(went))

    def _begin(self, steps: Sequence[Ready]) -> None:
        """Steps whose intents were journalled with others: they are next, and those before them came to this."""
        if self.is_journalled:
            waiting, self._waiting = self._waiting, []
            self.stage.ledger.journal.begin_next(self.run, [ready.number for ready in steps], waiting)

    def _together(self, steps: Sequence[Ready]) -> None:
        """Does steps whose intents are journalled, side by side; raises what the first one raised that failed, when
        all of them have come to something."""
        calls = [self._call(ready) for ready in steps]
        made: list[tuple[Ready, Mapping[Key, str]]] = []
        trouble: BaseException | None = None
        for ready, answer in zip(steps, answers(calls), strict=True):
            try:
                made.append((ready, self._answered(ready, answer, is_beside=len(steps) > 1)))
            except BaseException as error:
                # The others have been called too, and what became of them has to be known.
                trouble = trouble or error
        self._settle(made)
        if trouble:
            raise trouble

    def _call(self, ready: Ready) -> Callable[[], Mapping[Key, str]]:
        return lambda: DOINGS[type(ready.step)](ready.step, self.bench, ready.drawn, ready.token)

    def _answered(
        self,
        ready: Ready,
        answer: Callable[[], Mapping[Key, str]],
        waits: tuple[float, ...] = WAITS_S,
        is_again: bool = False,
        is_beside: bool = False,
    ) -> Mapping[Key, str]:
        """What a call made, or has been found to have made. One that a busy environment turned away is made again,
        after so many waits, and one that failed beside others."""
        try:
            return dict(answer())
        # An adapter raises these only where it knows: everything else, whatever its type, is asked about.
        except NOTHING_HAPPENED as error:
            may_be_saved = isinstance(error, RevisionMoved) and not is_again
            if may_be_saved and (saved := only_saved(self.stage.environment, self.bench, ready)):
                self.bench.now.update(saved)
                return self._answered(ready, self._call(ready), waits, is_again=True)
            self._end(ready, "failed", {"error": error.message})
            raise
        except Exception as error:
            may_be_again = isinstance(error, Busy) or (is_beside and isinstance(error, Failed))
            return self._asked(ready, error, waits if may_be_again else ())
        except BaseException:
            self._end(ready, "uncertain", {"error": "interrupted"}, is_forgiving=True)
            raise

    def _asked(self, ready: Ready, error: Exception, waits: tuple[float, ...]) -> Mapping[Key, str]:
        """No answer came, or none that could be read: the target says what became of the call."""
        words = error.message if isinstance(error, AmphoraError) else f"{type(error).__name__}"
        outcome: dict[str, Json] = {"error": words}
        self._end(ready, "uncertain", outcome, is_forgiving=True)
        looked = self._looked(ready)
        # A platform of its own ways may show what it did only after a while: "no effect" would be said too soon.
        is_open = self.bench.habits.fills_in and isinstance(error, Uncertain) and not isinstance(error, Busy)
        for wait_s in LATE_S if is_open else ():
            if not looked.is_as_before:
                break
            time.sleep(wait_s)
            looked = self._looked(ready)
        if looked.is_as_meant:
            return looked.made
        if looked.is_as_before:
            # It has answered, so that nothing of it is still on its way; and we have looked.
            if waits:
                time.sleep(waits[0])
                # It may have been written to and back again: then it has another revision.
                self.bench.now.update(looked.found)
                return self._answered(ready, self._call(ready), waits[1:])
            self._end(ready, "failed", {"error": words}, is_forgiving=True)
            if isinstance(error, Uncertain):
                raise Unavailable(f"{words} It took no effect.", subject=error.subject) from error
        # Something else than what was written, and than what was there: a platform that fills in has taken it.
        elif looked.is_ours:
            return looked.made
        if looked.sure:
            # Half of what was meant, and ours: putting back has to know it again.
            ids, left = ({key: table[key] for key in looked.sure} for table in (looked.made, looked.now))
            self._end(ready, "uncertain", {**outcome, "ids": ids, "left": left}, is_forgiving=True)
        raise error

    def _looked(self, ready: Ready) -> Looked:
        """What became of a step that nobody has answered."""
        bench, known = self.bench, self._known()
        return looked_at(self.stage.environment, bench.habits, ready, bench.now, known, self.run.account)

    def _settle(self, made: Sequence[tuple[Ready, Mapping[Key, str]]]) -> None:
        """Learns what steps made; what they came to waits to be journalled until the next is begun."""
        for ready, ids in made:
            there = {key: image.native_id for key in ready.step.keys if (image := self.bench.now.get(key))}
            for key, native_id in ids.items():
                self.bench.material.learn(key, native_id)
            outcome: dict[str, Json] = {"ids": dict(ids), "created": self._created(ids)}
            is_to_the_letter = self._is_to_the_letter(ready.step)
            if is_to_the_letter:
                # Until somebody looks: a killed process leaves what it meant, and nothing else counts as ours.
                outcome["left"] = dict(ready.meant)
            self._unseen.append(Made(ready, {**there, **ids}, outcome, is_to_the_letter))
            self._waiting.append((ready.number, outcome))
        if not all(one.is_to_the_letter for one in self._unseen):
            self._look()

    def _created(self, ids: Mapping[Key, str]) -> list[str]:
        """Those of these ids that are of items of ours. What was there before Amphora stays so under another id."""
        was = {key: image.native_id for key in ids if (image := self.bench.now.get(key))}
        ours = self.stage.ledger.journal.created(self.stage.uid) if was else set[str]()
        return [native_id for key, native_id in ids.items() if key not in was or was[key] in ours]

    def _is_to_the_letter(self, step: Step) -> bool:
        """Whether what a step leaves is what it meant, so that a look can wait for the end of its portion. Rows are
        counted when they are there, and an environment of its own spelling is asked what it made of each."""
        return type(step) in ON_ONE_ITEM and not self.bench.habits.fills_in

    def _look(self, rest: Sequence[Step] = ()) -> None:
        """Looks at what the steps since the last look left; RevisionMoved where somebody has changed it already, and
        the `rest` would go on from there."""
        if not self._unseen:
            return
        found = self.stage.environment.look([id_ for made in self._unseen for id_ in made.ids.values()])
        unseen, self._unseen = self._unseen, []
        changed: dict[Key, str] = {}
        for made in unseen:
            changed |= self._learn(made, found)
        going_on = {key for step in rest for key in step.keys} if changed else set[Key]()
        if theirs := sorted(changed.keys() & going_on):
            key = theirs[0]
            raise RevisionMoved(f"It was changed by {changed[key]} while this run was at it.", subject=key)

    def _learn(self, made: Made, found: Mapping[str, Image]) -> dict[Key, str]:
        """Learns what one step left; gives the items that somebody else has changed since, with who it was."""
        ready, changed = made.ready, dict[Key, str]()
        for key in ready.step.keys:
            image = self.bench.now[key] = found.get(made.ids.get(key, ""))
            is_as_meant = is_plainly(image, ready.leaves[key])
            self._marks[key] = ready.meant[key] if is_as_meant else self.bench.habits.mark(image)
            is_other = made.is_to_the_letter and not is_same(self._marks[key], ready.meant[key])
            if is_other and image and image.modified_by not in (None, "", self.run.account):
                changed[key] = str(image.modified_by)
        left = {key: ready.meant[key] if key in changed else self._marks[key] for key in ready.step.keys}
        if made.outcome.get("left") != left:
            made.outcome["left"] = left
            # What still waits is journalled with it.
            if self.is_journalled and all(waiting is not made.outcome for _, waiting in self._waiting):
                self.stage.ledger.journal.end_step(self.run, ready.number, "done", made.outcome)
        return changed

    def _left(self, step: Step, key: Key, now: Image | None, drawn: Drawn | None) -> Image | None:
        """The state that a step will leave."""
        if now is None and not isinstance(step, Create | RetireSet) and drawn is None:
            return None
        return step.meant(key, now, drawn, self.bench.habits)

    def _ids(self, step: Step) -> dict[Key, str | None]:
        """The ids of what is there, and those that we chose for what isn't yet."""
        now = self.bench.now
        return {k: image.native_id if (image := now.get(k)) else self.bench.material.chosen_id(k) for k in step.keys}

    def _known(self) -> set[str]:
        """The native ids of what was there before the run, and of what it has made."""
        mine = {image.native_id for image in self.bench.now.values() if image}
        mine |= {native_id for made in self._unseen for native_id in made.ids.values()}
        return mine | set(self.stage.ledger.journal.outside(self.run))

    def _token(self, number: int) -> str:
        # Two ledgers both begin at run 1: without the ledger's uid one administrator's creation would be
        # taken for another's.
        token = f"{self.ledger_uid}/{self.run.name}/{number}"
        return hashlib.sha256(token.encode()).hexdigest() if len(token) > LONGEST_TOKEN else token

    def _mark(self, key: Key, image: Image | None) -> str:
        """The mark of an item's state; that of what was last seen is kept, for it is asked for again and again."""
        if image is not self.bench.now.get(key):
            return self.bench.habits.mark(image)
        if key not in self._marks:
            self._marks[key] = self.bench.habits.mark(image)
        return self._marks[key]

    def _flush(self) -> None:
        """Journals the outcomes that are still waiting."""
        waiting, self._waiting = self._waiting, []
        if waiting and self.is_journalled:
            self.stage.ledger.journal.end_steps(self.run, waiting)

    def _forgo(self, number: int) -> None:
        """Journals that what was meant from this step on will not be begun. Another error is on its way, which
        counts more: where it can't be written, looking shows that nothing happened."""
        with contextlib.suppress(LedgerTrouble):
            if self.is_journalled:
                self.stage.ledger.journal.forgo_steps(self.run, number)

    def _end(self, ready: Ready, state: str, outcome: Json, is_forgiving: bool = False) -> None:
        """Journals an outcome. Forgiving where another error is on its way already, which counts more."""
        if not self.is_journalled:
            return
        try:
            self.stage.ledger.journal.end_step(self.run, ready.number, state, outcome)
        except LedgerTrouble:
            if not is_forgiving:
                raise
