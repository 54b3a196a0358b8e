"""Backwards: putting a run back. What has to be decided is decided by looking, so that doing it again, after
whatever cut it off, is the same thing (plan, section 3)."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from dataclasses import field, replace
from functools import partial

from amphora.core.form.kinds import KindSheet
from amphora.core.form.settled import settled
from amphora.core.merge.merge import differences
from amphora.core.merge.phrase import place_phrase
from amphora.core.needs.matches import Link
from amphora.core.plan.fates import Fate
from amphora.core.plan.restoration import Restoration, decide
from amphora.core.plan.states import Image, is_same, mark_of
from amphora.core.plan.steps import LoadRows, Step
from amphora.core.values.errors import (
    AmphoraError,
    BrokenOff,
    EnvironmentRefused,
    Interrupted,
    LedgerTrouble,
    NotReady,
    RevisionMoved,
)
from amphora.core.values.keys import Key, kind_of
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.core.values.next_step import advice, to_type
from amphora.core.values.words import ended, few
from amphora.engine.leaks import sealed_image
from amphora.engine.runs.attention import Attention
from amphora.engine.runs.carrier import Carrier
from amphora.engine.runs.evidence import evidence_of, usage_of
from amphora.engine.runs.losses import care_for, gone_secrets, lacks_secrets_only
from amphora.engine.runs.material import ImageMaterial
from amphora.engine.runs.outside import moved_outside, untold
from amphora.engine.runs.remains import finish_creations, is_removed_now
from amphora.engine.runs.remedies import before_going_on
from amphora.engine.runs.stage import Stage, looked_up
from amphora.engine.steps import Bench
from amphora.ledger.records import (
    BROKEN_OFF,
    DONE,
    OPEN,
    PAUSED,
    PUT_BACK,
    UNDO,
    UNDONE,
    Beginning,
    Entry,
    Run,
)

ROUNDS = 6
"""How often it is decided anew because somebody changed something, or the environment refused."""


@dataclass(frozen=True)
class Back:
    """What the look after putting back showed: the only ground for saying anything about the target.

    `left` names what stays as it is now, with reasons; `differing` what was put back and is not as it was all
    the same (an id or a secret that is gone for good); `outside` what else changed meanwhile, by somebody;
    `renewed` gives the new ids and addresses of what was made again, `care` what is left to do because of that.
    """

    run: Run | None
    of: Run
    restored: tuple[Key, ...] = ()
    left: tuple[str, ...] = ()
    differing: tuple[str, ...] = ()
    outside: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    renewed: Mapping[Key, str] = field(default_factory=dict)
    care: tuple[Entry, ...] = ()
    is_recorded: bool = True
    of_state: str = UNDONE

    @property
    def is_as_before(self) -> bool:
        """Whether everything that the run touched is as it was before it."""
        return not self.left and not self.differing

    @property
    def is_open(self) -> bool:
        """Whether another attempt may settle what this one did not."""
        return self.of_state == BROKEN_OFF or not self.is_recorded

    @property
    def is_idle(self) -> bool:
        """Whether all that could have been put back was left."""
        return bool(self.left) and not (self.restored or self.differing or self.is_open)

    def sentence(self, environment: str) -> str:
        """What can be said of the target."""
        then = "at the pause" if self.of_state == PAUSED else "before"
        if self.is_as_before and not self.outside:
            return f"{environment} is as it was {then}."
        if self.is_as_before:
            return (
                f"{environment} is as it was {then} but for {len(self.outside)}"
                f" item{'s' if len(self.outside) > 1 else ''} that somebody else changed since."
            )
        count = len(self.left) + len(self.differing)
        return f"{environment} is as it was {then} but for {count} item{'s' if count > 1 else ''}."

    def told(self) -> list[str]:
        """What has to be named, line by line."""
        ledger = [] if self.is_recorded else ["The ledger could not be written: there the run is still open."]
        return [*self.left, *self.differing, *self.notes, *self.outside, *ledger]


def foresee(stage: Stage, run: Run, since: int = 1) -> Restoration:
    """What putting back would do now; changes nothing."""
    return _decided(stage, run, {}, since)[0]


def put_back(stage: Stage, run: Run, kind: str, note: str = "", since: int = 1) -> Back:
    """Puts a run back to where one of its legs began, as a run of its own. Raises what stopped it; then both are
    broken off, and doing it again finishes it. The caller holds the lock."""
    # Images of drafts and rows were not kept then: half a state put back is worse than none.
    if run.format < 2:
        raise NotReady(
            f"{run.name} was journalled by an earlier build, which kept too little to put it back safely.",
            subject=run.name,
            next_step=to_type("compare", f"{run.package}-{run.version}", run.environment),
        )
    excluded: dict[Key, str] = {}
    finish_creations(stage, run, since)
    restoration, now = _decided(stage, run, excluded, since)
    # A run of its own, begun only now: what can't be decided has left no trace.
    mine, is_journalled = _begun(stage, run, kind, restoration, now)
    # Rows that an attempt at putting back removed lie in the folder of that attempt.
    earlier = [run.name, *(other.name for other in stage.ledger.journal.backwards_of(run))]
    before = {key: one.before for key, one in restoration.evidence.items()}
    kept = stage.kept_rows(earlier, before)
    description, renewed = stage.opened.description, _renewed(restoration)
    material = ImageMaterial(before, description, kept, renewed, partial(stage.kept_file, earlier))
    carrier = Carrier(
        stage,
        mine or run,
        Bench(stage.environment, stage.habits, material),
        Attention(),  # whoever interrupts a second time is heard at once; the first time this goes on
        stage.ledger.uid(),
        is_journalled=is_journalled,
    )
    try:
        restoration, now = _in_rounds(stage, run, carrier, restoration, now, excluded, since)
        ids = _ids_by_now(now, carrier.bench.now)
        return _looked(stage, run, mine, restoration, material.renamed, ids, note, kind, since)
    except BaseException as error:
        words = error.message if isinstance(error, AmphoraError) else type(error).__name__
        with contextlib.suppress(AmphoraError):
            if mine:
                stage.ledger.journal.end(mine, BROKEN_OFF, words)
            stage.ledger.journal.end(run, BROKEN_OFF, note or words)
        # By itself it would say "try later", which is for whoever has touched nothing.
        if kind == UNDO and mine and isinstance(error, AmphoraError) and not isinstance(error, Interrupted):
            raise _stopped(run, error) from error
        raise


def _stopped(run: Run, error: AmphoraError) -> BrokenOff:
    return BrokenOff(
        f"Undoing {run.name} broke off: {ended(error.message)} Some of it may be put back.",
        subject=error.subject,
        place=error.place,
        details=error.details,
        next_step=advice(before_going_on(error), to_type("undo", run.name)),
    )


def _in_rounds(
    stage: Stage,
    run: Run,
    carrier: Carrier,
    restoration: Restoration,
    now: dict[Key, Image | None],
    excluded: dict[Key, str],
    since: int,
) -> tuple[Restoration, dict[Key, Image | None]]:
    """Carries the plan out; where the environment refuses a step, or somebody changed something, it is looked
    and decided again. An item that is refused is left, and named."""
    material = carrier.bench.material
    assert isinstance(material, ImageMaterial)
    finished = set[Key]()
    # Each refusal takes one, too.
    for number in range(ROUNDS + 2 * len(restoration.evidence)):
        carrier.bench.now = dict(now)
        step: Step | None = None
        try:
            steps = _doable(restoration, material)
            for before, step in enumerate(steps):
                carrier.carry_out([step], f"putting {run.name} back", before, len(steps))
            break
        # Not a failure: somebody was quicker, and the decision is made anew from what is there now.
        except RevisionMoved as error:
            if number >= ROUNDS // 2 and step is not None:
                # Somebody who keeps changing an item wins after a few rounds: it is left and named.
                excluded |= dict.fromkeys(step.keys, error.message)
        except EnvironmentRefused as error:
            assert step is not None
            # The whole item, not the step: half of an item put back would be a state that nobody ever had.
            if not is_removed_now(stage, restoration, step, finished):
                excluded |= dict.fromkeys(step.keys, f"it could not be put back: {error.message}")
        restoration, now = _decided(stage, run, excluded, since)
        material.follow(_renewed(restoration))
    return restoration, now


def _doable(restoration: Restoration, material: ImageMaterial) -> list[Step]:
    """The steps, without the loading of rows that nobody kept: that shows in the look afterwards."""
    return [s for s in restoration.steps if not isinstance(s, LoadRows) or s.key in material.kept_rows]


def _begun(
    stage: Stage, run: Run, kind: str, restoration: Restoration, now: Mapping[Key, Image | None]
) -> tuple[Run | None, bool]:
    """The run that puts back. Where the ledger can't be written it is done all the same: what was before, and what
    was meant, is in it already, and that is all that putting back needs."""
    account = stage.environment.whoami().account
    # The first plan; later rounds show in the steps.
    docket = {"steps": [[step.do, list(step.keys)] for step in restoration.steps]}
    outside = stage.revisions(image.native_id for image in now.values() if image)
    # Remembered for people only: nothing is ever put back to the state in which putting back began.
    sheets, guard = stage.opened.description.sheets, stage.opened.guard
    images = {key: image and sealed_image(key, image, sheets, guard) for key, image in now.items()}
    package = (run.package, run.version, "", "", run.id, docket, images, outside)
    beginning = Beginning(kind, run.environment, run.uid, account, *package, sheets=stage.sheets)
    try:
        return stage.ledger.journal.begin(beginning), True
    except LedgerTrouble:
        return None, False


def _decided(
    stage: Stage, run: Run, excluded: Mapping[Key, str], since: int = 1
) -> tuple[Restoration, dict[Key, Image | None]]:
    """The evidence as it is now, and what follows from it."""
    evidence = evidence_of(stage, run, since)
    now = {one.key: one.now for one in evidence}
    usage = usage_of(stage, evidence)
    users = (usage.now, usage.before, usage.titles)
    return decide(evidence, *users, stage.habits, excluded, usage.naming, usage.parted, usage.held), now


def _renewed(restoration: Restoration) -> dict[Key, str]:
    """The ids of items that an earlier attempt made again."""
    return {
        key: one.now.native_id
        for key, one in restoration.evidence.items()
        if one.now and one.before and one.now.native_id != one.before.native_id
    }


def _ids_by_now(before: Mapping[Key, Image | None], after: Mapping[Key, Image | None]) -> dict[Key, str]:
    """The ids under which items are looked for: those that they have now, or had when it was decided. What was
    removed is looked for as well."""
    return {key: image.native_id for images in (before, after) for key, image in images.items() if image}


def _looked(
    stage: Stage,
    run: Run,
    mine: Run | None,
    restoration: Restoration,
    renamed: Mapping[Key, str],
    ids: Mapping[Key, str],
    note: str,
    kind: str,
    since: int,
) -> Back:
    """Looks once more, at what was touched and at everything else; records and says what is so."""
    sheets = stage.habits.sheets
    was = {key: one.now.native_id for key, one in restoration.evidence.items() if one.now}
    has_moved = {key: native_id for key, native_id in ids.items() if was.get(key, native_id) != native_id}
    ids = {**ids, **renamed}
    # What was retired and could not be made again is looked for under its old id, so as to be missed.
    ids |= {key: one.before.native_id for key, one in restoration.evidence.items() if one.before and key not in ids}
    after = looked_up(stage.environment, ids)
    material = ImageMaterial(
        {key: one.before for key, one in restoration.evidence.items()}, stage.opened.description, {}, dict(renamed)
    )
    differing, kept = [], list(restoration.by(Fate.LEFT))
    wished = {
        key: material_image(material, key)
        for key in restoration.evidence
        if restoration.verdicts[key].fate is not Fate.LEFT
    }
    for key, one in restoration.evidence.items():
        # Named already, with its reason.
        if restoration.verdicts[key].fate is Fate.LEFT:
            continue
        wanted, is_there = wished[key], after.get(key)
        if not is_same(mark_of(wanted, sheets), mark_of(is_there, sheets), one.counts_rows):
            # What was there before, and is there again, is what was known of it then, but for what is named here.
            kept += [] if wanted else [key]
            words = _unlike(wanted, is_there, sheets.get(kind_of(key)))
            if wanted and is_there and lacks_secrets_only(wanted, is_there, sheets):
                words = "it lacks its secret, which nobody kept"
            elif wanted and is_there and lacks_secrets_only(is_there, wanted, sheets):
                words = "a secret that it lacked then is still there"
            differing.append(f"{one.title!r} is not as it was: {words}")
        elif wanted and is_there and key in renamed and gone_secrets(wanted, is_there, sheets):
            # It looks as it did, for nobody is shown what stands there.
            differing.append(f"{one.title!r} is not as it was: it lacks its secret, which nobody kept")
    # Everything else by revision only: reading all of it would make every undo as slow as an export of the whole
    # environment.
    ids_now = {image.native_id for image in after.values() if image}
    moved = moved_outside(stage, run, ids_now | set(ids.values()), since)
    left = tuple(restoration.left)
    # What stays there still lacks what it lacked, although the run that asked for it is out of force by now.
    stays = set(restoration.by(Fate.LEFT))
    asked = stage.ledger.aftercare.of_run(run)
    staying = [entry.task for entry in asked if entry.state == OPEN and entry.task.key in stays]
    # What somebody changed, or can't be put back at all, is decided: trying again would show the same. What the
    # environment refused, or nobody can tell, stays open.
    of_state = PAUSED if since > 1 else UNDONE if kind == UNDO else PUT_BACK
    if not restoration.is_settled:
        of_state = BROKEN_OFF
    found = Back(
        mine,
        run,
        tuple(restoration.by(Fate.RESTORE)),
        left,
        tuple(differing),
        tuple(moved),
        (*restoration.notes, *untold(stage)),
        {key: image.link for key in renamed if (image := after.get(key))},
        of_state=of_state,
    )
    # Only what is really there gets a link: one to nothing would make the next import look for it in vain.
    known = {**has_moved, **renamed}
    there = {key: image for key in known if (image := after.get(key))}
    links = [Link(key, run.uid, known[key]) for key in there]
    # Told with the undo itself: from now on that is where people were told.
    addresses = {known[key]: image.link for key, image in there.items()}
    if mine is None:
        return replace(found, is_recorded=False)
    try:
        if of_state == PAUSED:
            stage.ledger.finish_leg_backwards(mine, run, links, addresses, note)
        else:
            counts = (len(left) + len(differing), len(found.restored))
            stage.ledger.finish_backwards(mine, run, kept, links, addresses, DONE, of_state, note, *counts)
        stage.ledger.aftercare.move(run.uid, found.renewed)
        if care := [*staying, *care_for(stage, run.uid, wished, after, found.renewed)]:
            stage.ledger.aftercare.add(mine, care)
            found = replace(found, care=tuple(stage.ledger.aftercare.of_run(mine)))
    except LedgerTrouble:
        return replace(found, is_recorded=False)
    return found


def material_image(material: ImageMaterial, key: Key) -> Image | None:
    """The state before, with the new ids of what had to be made again."""
    image = material.before[key]
    if image is None or not material.renamed:
        return image
    sheet = material.description.sheets[image.kind]
    live, draft = (
        None if version is None else material.following(version, key, sheet) for version in (image.live, image.draft)
    )
    return replace(image, live=live, draft=draft)


def _unlike(wanted: Image | None, found: Image | None, sheet: KindSheet | None = None) -> str:
    """In a few words, how a state differs from the one that was to be restored; by its sheet with the places."""
    if found is None:
        return "it is gone"
    if wanted is None:
        return "it is still there"
    whole = "its definition" if found.states.is_published is None else "its live version"
    live, draft = (_where(wanted.live, found.live, sheet), _where(wanted.draft, found.draft, sheet))
    parts = [
        (f"{whole}{live}", wanted.live != found.live),
        (f"its draft{draft}", wanted.draft != found.draft),
        ("its title or folder", wanted.place != found.place or wanted.states.title != found.states.title),
        ("on or off", wanted.states.is_on != found.states.is_on),
        ("published or not", wanted.states.is_published != found.states.is_published),
        ("its rows", (wanted.rows or 0) != (found.rows or 0)),
    ]
    # Places that only the mark sees (an order, a member that a platform fills in) have no words of their own.
    return ", ".join(words for words, differs in parts if differs) or "something in it"


def _where(wanted: Json, found: Json, sheet: KindSheet | None) -> str:
    """Where two definitions differ that are both there, as far as that counts."""
    if sheet is None or wanted is None or found is None or wanted == found:
        return ""
    sides = settled(wanted, sheet), settled(found, sheet)
    places = [place_phrase(change.place) for change in differences(*sides, sheet.places.walk(sides[0]))]
    return f" at {few(places)}" if places else ""
