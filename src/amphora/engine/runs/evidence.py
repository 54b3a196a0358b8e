"""The evidence before putting back: which ids an item has had, which states are our own, who uses what now."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import field, replace

from amphora.core.form.bindings import Bindings
from amphora.core.form.kinds import KindSheet, Sheets
from amphora.core.form.parts import parts_gone, parts_used
from amphora.core.form.places import PartOf, values_at
from amphora.core.form.references import natives_in, quick_references
from amphora.core.form.spots import titled_ids
from amphora.core.form.visit import with_texts
from amphora.core.plan.fates import Evidence
from amphora.core.plan.states import Habits, Image, is_same, rows_in
from amphora.core.plan.steps import Create, Grant, LoadRows, RetireSet, WriteAll
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.engine.runs.lost import find_made, is_half, loose_mark
from amphora.engine.runs.stage import Stage, looked_up
from amphora.environments.contract import ByDescription
from amphora.ledger.records import BACKWARDS, JournalStep, Run

MADE = (Create.do, "create bare", Grant.do, WriteAll.do)
COUNTED = (*MADE, LoadRows.do, RetireSet.do)
"""Kinds of steps after which it is known how many rows there are; any other finds as many as there happen to be."""

BEGUN = ("intended", "uncertain")
"""States of a journalled step that was begun, and nobody knows whether it took effect."""

UNKNOWN = (*BEGUN, "planned")
"""The same with those whose turn had not come: after a power cut that may be all that is left of a later word."""


def evidence_of(stage: Stage, run: Run, leg: int = 1) -> list[Evidence]:
    """What is known of every item that a run touched since one of its legs: what the journals say, and what a look
    shows."""
    journal = stage.ledger.journal
    touched = journal.touched(run, leg)
    outside = set(journal.outside(run)) | {image.native_id for image in touched.values() if image}
    # Everything that our runs have done since this one began: its own attempts at putting back, and later
    # runs that were put back themselves. These may have made an item again, under another id.
    since = [one for one in reversed(journal.runs()) if one.uid == run.uid and one.id >= run.id]
    steps = [(one, step) for one in since for step in journal.steps(one)]
    known = _known_ids(touched, steps)
    marks = _marks(steps)
    doubts, sure = _lost_ones(stage, steps, known, outside)
    wanted = {f"{key}\0{id_}": id_ for key, ids in known.items() for id_ in ids}
    images = looked_up(stage.environment, wanted)
    sure |= _half_way(stage, steps, known, images)
    by_key: dict[Key, list[tuple[Run, JournalStep]]] = {}
    for one, step in steps:
        for key in step.keys:
            by_key.setdefault(key, []).append((one, step))
    habits = stage.habits
    # Whoever goes back to a pause goes back to what somebody had changed by then, too.
    own = run.id if leg == 1 and len(journal.legs(run)) > 1 else 0
    theirs = {
        key: _theirs(key, habits.mark(before), by_key.get(key, []), run, own) for key, before in touched.items()
    }
    is_all_there = all(any(images[f"{key}\0{id_}"] for id_ in ids) for key, ids in known.items())
    offered = set[str]() if is_all_there else {one.native_id for one in stage.environment.supplies()}
    found = []
    for key, before in touched.items():
        # The latest id first: an item that was made again may stand beside its former self only in our records.
        there = [image for id_ in reversed(known[key]) if (image := images[f"{key}\0{id_}"])]
        now = there[0] if there else None
        before = _with_unknown(before, now, habits)
        mine = by_key.get(key, [])
        # A retirement without an answer counts: if it took no effect the item is there, and nobody asks. A
        # creation without one does not: if it took effect the item was found.
        took_effect = [
            step for _, step in mine if step.state == "done" or (step.do == RetireSet.do and step.state in UNKNOWN)
        ]
        found.append(
            Evidence(
                key,
                before,
                now,
                _without(marks.get(key, set()), theirs[key]),
                _without(_last_marks(key, mine), theirs[key]),
                run.account,
                bool(took_effect) and took_effect[-1].do == RetireSet.do,
                before is None and bool(known[key]),
                any(step.do in (LoadRows.do, RetireSet.do) for step in took_effect),
                frozenset(count for _, step in mine if step.do in COUNTED for count in _counts(step, key)),
                # Where all is taken to the letter, what is neither as before nor as meant is somebody's.
                (habits.fills_in and _is_surely_ours(now, mine)) or (now is not None and now.native_id in sure),
                max((_rows_meant(step, key) for _, step in mine if step.state in UNKNOWN), default=0),
                doubts.get(key, ""),
                now is None and not offered.isdisjoint(known[key]),
                _is_any(habits.mark(now), theirs[key]),
            )
        )
    return found


def _with_unknown(before: Image | None, now: Image | None, habits: Habits) -> Image | None:
    """A state of before with those members that nobody read then as they are now: to leave them out would be to take
    them away."""
    names = habits.unknown_then(before.kind) if before and now else frozenset[str]()
    if not before or not now or not names:
        return before
    there = now.newest if isinstance(now.newest, dict) else {}
    more = {name: there[name] for name in sorted(names) if name in there}
    live, draft = (one and {**one, **more} for one in (before.live, before.draft))
    return replace(before, live=live, draft=draft)


def _known_ids(touched: Mapping[Key, Image | None], steps: Sequence[tuple[Run, JournalStep]]) -> dict[Key, list[str]]:
    """The native ids that each item has had, the first one first."""
    known: dict[Key, list[str]] = {key: [image.native_id] if image else [] for key, image in touched.items()}
    for _, step in steps:
        for key, native_id in ((step.outcome or {}).get("ids") or {}).items():
            if key in known and native_id not in known[key]:
                known[key].append(native_id)
    return known


def _lost_ones(
    stage: Stage, steps: Sequence[tuple[Run, JournalStep]], known: dict[Key, list[str]], outside: set[str]
) -> tuple[dict[Key, str], set[str]]:
    """Looks for what creations without an answer made; adds their ids, gives the doubts, and the ids of what is as
    such a creation left it."""
    doubts: dict[Key, str] = {}
    sure: set[str] = set()
    for one, step in steps:
        if step.do not in MADE or step.state not in UNKNOWN:
            continue
        for key in step.keys:
            # An update has its id in the intent and needs no search.
            if step.intent["before"].get(key) != "absent" or key not in known:
                continue
            mine = outside | {id_ for ids in known.values() for id_ in ids}
            search = find_made(stage.environment, stage.habits, key, step.intent, mine, one.account)
            if search.doubt:
                doubts[key] = search.doubt
            elif search.image and search.image.native_id not in known[key]:
                known[key].append(search.image.native_id)
                sure |= {search.image.native_id} if search.is_as_meant else set()
    return doubts, sure


def _half_way(
    stage: Stage,
    steps: Sequence[tuple[Run, JournalStep]],
    known: Mapping[Key, Sequence[str]],
    images: Mapping[str, Image | None],
) -> set[str]:
    """The ids of what a step left half-way, and nobody else has touched: what is as it was but for what it named of
    others that were to go with it (a removal that broke off in a circle), and what a change began."""
    sure: set[str] = set()
    for _, step in steps:
        loose = step.intent.get("loose", {}) if step.state in UNKNOWN else {}
        ids = set(step.intent["ids"].values()) if loose else set()
        for key, mark in loose.items():
            now = images.get(f"{key}\0{step.intent['ids'].get(key)}") if key in known else None
            if now and loose_mark(now, ids, stage.habits) == mark:
                sure.add(now.native_id)
        for key, half in step.intent.get("halves", {}).items() if step.state in UNKNOWN else ():
            now = images.get(f"{key}\0{step.intent['ids'].get(key)}")
            if now and is_half(now, half, stage.habits):
                sure.add(now.native_id)
    return sure


def _marks(steps: Sequence[tuple[Run, JournalStep]]) -> dict[Key, set[str]]:
    """The states that our own steps produced, by item."""
    ours: dict[Key, set[str]] = {}
    for _, step in steps:
        for table in (step.intent.get("meant"), (step.outcome or {}).get("left")):
            for key, mark in (table or {}).items():
                ours.setdefault(key, set()).add(mark)
    return ours


def _theirs(key: Key, before: str, mine: Sequence[tuple[Run, JournalStep]], run: Run, own: int) -> set[str]:
    """The states in which a later import of ours found an item, and in which none of ours had left it: somebody was
    there in between. When that import is put back such a state is there again, written by us, and is theirs; and
    where it stays, what it left holds their work. Of the run itself, if it is `own`, so may a later leg."""
    ours, theirs, is_mixed = {before}, set[str](), False
    for one, step in mine:
        found = step.intent["before"].get(key)
        # What puts back touches only what it knows as ours.
        is_forwards = one.kind not in BACKWARDS and (one.id != run.id or one.id == own)
        if found and is_forwards and not _is_any(found, ours | theirs):
            theirs.add(found)
            is_mixed = True
        # Of a step without an answer whoever went on has written down what it left.
        left = [(step.outcome or {}).get(name, {}).get(key) for name in ("left", "found")]
        new = {mark for mark in (step.intent["meant"].get(key), *left) if mark}
        if is_mixed and is_forwards:
            theirs |= {mark for mark in new if not _is_any(mark, ours)}
        else:
            ours |= new
    return theirs


def _is_any(mark: str, marks: Iterable[str]) -> bool:
    return any(is_same(mark, other) for other in marks)


def _without(marks: Collection[str], theirs: Collection[str]) -> frozenset[str]:
    return frozenset(mark for mark in marks if not _is_any(mark, theirs))


def _last_marks(key: Key, mine: Sequence[tuple[Run, JournalStep]]) -> frozenset[str]:
    """The states in which the latest of our steps can have left an item: what the last one with an outcome left,
    and what those without one meant."""
    last: set[str] = set()
    for _, step in mine:
        left, meant = (step.outcome or {}).get("left", {}).get(key), step.intent["meant"].get(key)
        if step.state == "done":
            # An outcome replaces all doubts before it: our next step saw the item in that state.
            last = {left or meant}
        elif step.state in UNKNOWN:
            last |= {meant, left, step.intent["before"].get(key)}
    return frozenset(mark for mark in last if mark)


def _counts(step: JournalStep, key: Key) -> list[int]:
    """How many rows a step meant to leave in an item, and left."""
    marks = (step.intent["meant"].get(key), (step.outcome or {}).get("left", {}).get(key))
    return [rows_in(mark) for mark in marks if mark]


def _rows_meant(step: JournalStep, key: Key) -> int:
    """How many rows a step was to leave in an item that it was loading; none if it was doing something else."""
    return rows_in(str(step.intent["meant"].get(key, ""))) if step.do == LoadRows.do else 0


def _is_surely_ours(now: Image | None, mine: Sequence[tuple[Run, JournalStep]]) -> bool:
    """Whether the last change is that of a step which could not look at what it left: a platform may have made
    something else of what was written. Account and time tell: ours, since the intent."""
    # One that was only planned has no say here: its time is that of its portion, and whoever signed in with the
    # same account since would be taken for us.
    seen = ("failed", "planned")
    blind = [(one, step) for one, step in mine if not (step.outcome or {}).get("left") and step.state not in seen]
    if now is None or not now.modified_by or not now.modified_at or not blind:
        return False
    one, step = blind[-1]
    # The clock of the environment against ours: equal counts as ours, for both may count in whole seconds.
    return now.modified_by == one.account and now.modified_at >= step.at


@dataclass(frozen=True)
class Usage:
    """Who uses what of the items that a run touched: `now` everything in the target, `before` the touched ones;
    `naming` who names what by its title now, `parted` who uses parts of what that would lose them if it were put
    back. `held` is what stands inside of what, `titles` are those of the users."""

    before: Mapping[Key, set[Key]]
    now: Mapping[Key, set[Key]] = field(default_factory=dict)
    naming: Mapping[Key, set[Key]] = field(default_factory=dict)
    parted: Mapping[Key, set[Key]] = field(default_factory=dict)
    held: Mapping[Key, set[Key]] = field(default_factory=dict)
    titles: Mapping[Key, str] = field(default_factory=dict)


def usage_of(stage: Stage, evidence: Sequence[Evidence]) -> Usage:
    """Who uses what of the touched items. Everything in the target is read only where something may be retired, or
    called otherwise again while others name it by its title."""
    style, sheets = stage.opened.description.id_style, stage.habits.sheets
    names, was = Bindings(style), Bindings(style)
    keys: dict[str, Key] = {}
    for one in evidence:
        if one.now:
            names.bind(one.key, one.now.native_id)
            keys[one.now.native_id] = one.key
        if one.before:
            was.bind(one.key, one.before.native_id)
    used = {one.key: _used(one.before, was, one.key, sheets) for one in evidence if one.before}
    named = frozenset[str]().union(*(sheet.names_by_title for sheet in sheets.values()))
    gone = {one.key: parts for one in evidence if (parts := _parts_gone(one, sheets))}
    # Reading the whole target is what costs most here; where nobody has to be asked nobody is.
    if not gone and not any((one.before is None and one.now) or _is_renamed(one, named) for one in evidence):
        return Usage(used)
    uses: dict[Key, set[Key]] = {}
    naming: dict[Key, set[Key]] = {}
    parted: dict[Key, set[Key]] = {}
    held: dict[Key, set[Key]] = {}
    titles: dict[Key, str] = {}
    rows = stage.environment.index()
    for row in rows:
        # Where a part has an id of its own, whoever names it uses what holds it.
        names.part_owner |= {part: keys[row.native_id] for part in row.parts if row.native_id in keys}
    environment = stage.environment
    told = environment if isinstance(environment, ByDescription) else None
    for native_id, image in environment.look([row.native_id for row in rows]).items():
        key = keys.get(native_id, f"outside:{native_id}")
        uses.setdefault(key, set()).update(_used(image, names, key, sheets))
        titles[key] = image.states.title
        sheet = sheets.get(image.kind)
        found = [use for v in _versions(image) for use in parts_used(v, sheet, names, key)] if gone else []
        parted[key] = {use.key for use in found if (use.by, use.part) in gone.get(use.key, ())}
        named_ids = {one for version in _versions(image) for one in titled_ids(version, sheets[image.kind])}
        naming[key] = {keys[one] for one in named_ids if one in keys}
        goes_along = told is not None and told.goes_along(image.kind, image.newest)
        for holder in (one for path in sheet.held_by for one in values_at(image.newest, path)) if sheet else ():
            by = keys.get(holder, f"outside:{holder}")
            held.setdefault(by, set()).add(key)
            # What goes only with what holds it stays where that does, as if it were used by that; and if the run has
            # not brought it, it is a part of that, and no user.
            if goes_along:
                if native_id in keys:
                    uses.setdefault(by, set()).add(key)
                else:
                    uses[key].discard(by)
    return Usage(used, uses, naming, parted, held, titles)


def _parts_gone(one: Evidence, sheets: Mapping[str, KindSheet]) -> set[tuple[PartOf | None, str]]:
    """The parts of an item that is there which it did not have before."""
    if one.before is None or one.now is None or one.now.kind not in sheets:
        return set()
    ways = [way for sheet in sheets.values() for way in sheet.parts_by]
    return parts_gone(one.now.newest, one.before.newest, sheets[one.now.kind], ways)


def _is_renamed(one: Evidence, kinds: Collection[str]) -> bool:
    return one.is_renamed and one.now is not None and one.now.kind in kinds


def _versions(image: Image | None) -> list[Json]:
    return [version for version in (image.live, image.draft) if version is not None] if image else []


def _used(image: Image, names: Bindings, key: Key, sheets: Sheets) -> set[Key]:
    sheet, mine = sheets.get(image.kind), image.native_id
    found = {used for version in _versions(image) for used in quick_references(version, names, key, sheet)}
    # A reference to itself matters as well: such an item has to be made again bare.
    return found | ({key} if any(_holds_id(version, mine, names, sheet) for version in _versions(image)) else set())


def _holds_id(definition: Json, native_id: str, names: Bindings, sheet: KindSheet | None) -> bool:
    if not names.style.tells(native_id):
        return native_id in natives_in(definition, names, sheet)
    found: list[str] = []
    with_texts(definition, lambda text: found.append(text) if native_id in text else None)
    return bool(found)
