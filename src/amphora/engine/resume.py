"""Going on with a run that paused or was cut off: what it kept, what it still waits for, and the docket of what is
left to be done."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import field, replace
from pathlib import Path

from amphora.core.form.copies import as_named, taken_apart
from amphora.core.form.kinds import PauseWords
from amphora.core.form.spots import shown_values
from amphora.core.needs.crosswalk import Mapped, MapState
from amphora.core.needs.matches import Link
from amphora.core.needs.supplies import Supplies
from amphora.core.plan.actions import Do
from amphora.core.plan.arrivals import said_over
from amphora.core.plan.decisions import LEAVE, Decisions
from amphora.core.plan.fates import Fate, is_half_way, judged
from amphora.core.plan.restoration import Restoration
from amphora.core.values.errors import NotReady, UsageFault
from amphora.core.values.keys import Key, kind_of, readable
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents, Json, Supply
from amphora.core.values.next_step import advice, to_type
from amphora.core.values.words import counted, few
from amphora.engine.docket import Prepared, map_needs, prepare
from amphora.engine.gate import ImportRequest
from amphora.engine.present import Adopted
from amphora.engine.runs.backwards import foresee
from amphora.engine.runs.remains import finish_creations, take_up
from amphora.engine.runs.stage import stage_of
from amphora.engine.session import Opened, Session
from amphora.environments.contract import Probes
from amphora.files.names import SUFFIX, checked_name
from amphora.files.package import is_package, read_package, write_package
from amphora.files.sources import stored_package
from amphora.ledger.campaigns import PREFIX, free_name
from amphora.ledger.records import PAUSED, Campaign, Run


@dataclass(frozen=True)
class PickedUp:
    """A run that waits with what it kept: the package, what was decided and agreed to, what each need is made from,
    and the items that were to come later."""

    run: Run
    contents: Contents
    since: Contents | None
    decisions: Decisions
    request: ImportRequest
    makers: Mapping[Key, Key]
    supplies: frozenset[str]
    later: tuple[Key, ...]
    words: Mapping[Key, str] = field(default_factory=dict)
    """The items after which somebody's word was to be awaited, those that are in as well, and what it is about."""


@dataclass(frozen=True)
class Made:
    """An item that went in, and from which something has to be made by hand: the values that this takes, what its
    kind sheet says of it, and what the package's maker does."""

    key: Key
    title: str
    values: tuple[tuple[str, str], ...]
    words: PauseWords
    note: str = ""


@dataclass(frozen=True)
class Standstill:
    """Where a paused run stands: what is in and what isn't yet, the needs that wait and what they are made from."""

    run: Run
    done: tuple[Key, ...]
    still: tuple[Key, ...]
    waiting: tuple[Mapped, ...]
    makers: Mapping[Key, Key]
    made: tuple[Made, ...]
    words: tuple[tuple[Key, str], ...] = ()
    """Items after which somebody's word is awaited, and what it is about."""
    gone: tuple[Key, ...] = ()
    """What was brought, and somebody removed since."""


def kept_request(prepared: Prepared) -> dict[str, Json]:
    """What the ledger keeps of an import, should it have to wait: decisions, what was agreed to, and what was on
    offer when it began."""
    docket = prepared.docket
    seen = [*(action.key for action in docket.edited), *(key for _, key, _ in docket.severed)]
    return {
        # With what was taken back: until the run is done, the ledger remembers it as it was before.
        "decisions": replace(prepared.said, arrivals=said_over(docket.arrivals, prepared.said.arrivals)).to_json(),
        # Shown to whoever started it as it was then, and agreed to; what comes up later is not.
        "edited": {key: prepared.present[key].fingerprint for key in seen if key in prepared.present},
        "agreed": [one.words for one in prepared.agreed if one.counts],
        "take_over": sorted({name.partition(" ")[0] for names in docket.shared.values() for name in names}),
        "since": docket.since,
        "makers": dict(docket.makers),
        "package": docket.package_digest,
        "later": [a.key for a in docket.actions if a.do is not Do.LEAVE and a.key not in docket.legs[0].keys],
        # What is there later and not in this list was made for this run.
        "supplies": [supply.native_id for supply in prepared.opened.environment.supplies()],
    }


@contextmanager
def packed_file(session: Session, contents: Contents) -> Iterator[Path]:
    """A package as a file: the one that it was read from, with its signature, or one written for the purpose."""
    stored = session.workspace.packages / f"{taken_apart(contents.name)[0]}-{contents.version}{SUFFIX}"
    # By digest and not by name: a package of that name may be another one by now.
    for path in (Path(contents.file), stored):
        if path.is_file() and is_package(path, contents.package_digest):
            yield path
            return
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "package"
        write_package(contents, path)
        yield path


def run_to_resume(session: Session, name: str) -> Run:
    """The run that is meant: the only one that waits, where none is named. NotReady where it can't go on."""
    journal = session.ledger.journal
    if name:
        run = journal.run(name)
        if run.can_go_on:
            return run
        # A withdrawal or an undo is finished by doing it again.
        after = to_type("undo", run.name) if run.is_open else to_type("history", run.name)
        raise NotReady(f"{run.name} can't go on: it is {run.standing}.", subject=run.name, next_step=after)
    waiting = [run for run in journal.runs() if run.can_go_on]
    # Where it is the only one there is nothing to choose, and nobody has to type a name.
    if len(waiting) == 1:
        return waiting[0]
    if not waiting:
        words, cut = "No run waits for anybody to go on", [run for run in journal.runs() if run.is_open][:1]
        words += "".join(f"; {run.name} is {run.standing}" for run in cut)
        raise NotReady(f"{words}.", next_step=to_type("undo", cut[0].name) if cut else to_type("history"))
    raise NotReady(
        f"{len(waiting)} runs wait for somebody to go on.",
        details=[f"{run.name}: {run.package} {run.version} into {run.environment}, {run.state}" for run in waiting],
        next_step=to_type("resume", waiting[0].name),
    )


def unfinished(session: Session, contents: Contents, targets: Sequence[str], name: str = "") -> Run | Campaign | None:
    """The run of this very version into the target that waits for somebody to go on with it (of that name, if one is
    given); of several targets the import into just these."""
    mine = (contents.name, contents.version, contents.source_uid)
    if len(targets) > 1:
        open_ = session.ledger.campaigns.open()
        found = [c for c in open_ if (c.package, c.version, c.source_uid) == mine and set(c.targets) == set(targets)]
        return found[0] if found else None
    # By uid: an environment may have been renamed since.
    uid = session.open(targets[0]).description.uid
    for run in session.ledger.journal.runs():
        is_mine = (run.package, run.version) == mine[:2] and run.uid == uid and run.can_go_on
        if is_mine and not run.campaign and (not name or is_named(run.name, name)):
            return run
    return None


def is_named(run: str, name: str) -> bool:
    """Whether a run bears a name, or is a later one of that name: `build-7`, `build-7.2`."""
    tail = run.removeprefix(name)
    return run == name or (tail != run and tail.startswith(".") and tail[1:].isdigit())


def run_names(session: Session, targets: Sequence[str], name: str, is_again: bool) -> dict[str, str]:
    """How the runs into some targets are to be called; empty where nothing was said. UsageFault where the name is
    taken, unless it is to be used again: then a number follows it."""
    if not name:
        return dict.fromkeys(targets, "")
    checked_name(name, "a run")
    if name == "last" or name.startswith(PREFIX):
        after = advice("Take another name.")
        raise UsageFault(f"{name!r} means something else already.", subject=name, next_step=after)
    known = {*(run.name for run in session.ledger.journal.runs()), *session.ledger.campaigns.names()}
    wanted = {target: name if len(targets) == 1 else f"{name}-{target}" for target in targets}
    # Of many the whole bears the name, and each its own.
    taken = [one for one in (name, *wanted.values()) if one in known]
    if taken and not is_again:
        raise UsageFault(
            f"There is a run {taken[0]} already.",
            subject=taken[0],
            next_step=advice("Choose another --run-name, or add --pick-up."),
        )
    return {target: free_name(one, known) for target, one in wanted.items()}


@contextmanager
def picked_up(session: Session, run: Run) -> Iterator[PickedUp]:
    """The run with what it kept, as long as this lasts: the package is unpacked beside it."""
    run = session.placed(run)
    kept = session.ledger.journal.docket(run)
    if "decisions" not in kept:
        raise NotReady(
            f"{run.name} was begun by an earlier build, which kept too little to go on with.",
            subject=run.name,
            next_step=to_type("undo", run.name),
        )
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"{run.package}-{run.version}{SUFFIX}"
        contents = _package_of(session, run, kept["package"], path)
        since = stored_package(kept["since"], session.workspace.packages) if kept["since"] else None
        said = Decisions.from_json(kept["decisions"])
        # What is in already was decided on; only what stays out altogether still has a say.
        there = {delivery.key for delivery in session.ledger.delivered(run)}
        items = {k: mine for k, mine in said.items.items() if k not in there or mine.whole == LEAVE}
        # Whoever goes on gives their word for what is in.
        awaited = {key: about for key, about in said.pause_after.items() if key not in there}
        words, said = said.pause_after, replace(said, items=items, pause_after=awaited)
        request = ImportRequest(
            said, tuple(kept["take_over"]), yes=True, edited=_agreed(kept["edited"]), run=run.name
        )
        yield PickedUp(
            run,
            contents,
            since,
            said,
            request,
            kept["makers"],
            frozenset(kept["supplies"]),
            tuple(kept["later"]),
            words,
        )


def _agreed(edited: Json) -> dict[Key, str]:
    """The edited items that were agreed to, with what they were like; earlier builds kept only which."""
    return dict(edited) if isinstance(edited, dict) else dict.fromkeys(edited, "")


def _package_of(session: Session, run: Run, digest: str, path: Path) -> Contents:
    """The package of a run: as the ledger keeps it, or, of a run that was not to wait, as it lies among packages."""
    # The ledger first: whoever goes on may sit at another machine than whoever began.
    if session.ledger.parcels.take(digest, path):
        return session.as_known(as_named(read_package(path), run.package))
    stored = session.workspace.packages / f"{taken_apart(run.package)[0]}-{run.version}{SUFFIX}"
    if stored.is_file() and (contents := read_package(stored)).package_digest == digest:
        return session.as_known(as_named(contents, run.package))
    raise NotReady(
        f"{run.name} can't go on: its package {run.package} {run.version} is neither in the ledger nor in"
        f" {session.workspace.packages}.",
        subject=run.name,
        next_step=to_type("undo", run.name),
    )


def adopted(session: Session, picked: PickedUp) -> Adopted:
    """What a run that stopped in its middle has done, found by looking, and remembered as its own; nothing for one
    that paused, of which all is recorded. NotReady where nobody can tell of an item."""
    run = picked.run
    # Everything of it was recorded at the pause; looking would find the same.
    stage = stage_of(session, run.environment, run)
    if run.state == PAUSED:
        finish_creations(stage, run)
        return Adopted(created=_created(session, run))
    # It may be at work at this very moment.
    stage.ledger.locks.refuse_held(stage.uid, run.environment)
    since = stage.ledger.journal.since_pause(run)
    finish_creations(stage, run)
    take_up(stage, run, since)
    restoration = foresee(stage, run, since)
    doubts = {key: one.doubt for key, one in restoration.evidence.items() if one.doubt}
    if doubts:
        raise NotReady(
            f"{run.name} can't go on: nobody can tell what became of {counted(len(doubts), 'item')}.",
            subject=run.name,
            details=[f"{readable(key)}: {doubt}" for key, doubt in sorted(doubts.items())],
            next_step=to_type("undo", run.name),
        )
    _refuse_half_loaded(run, restoration)
    mine = {key: one for key, one in restoration.evidence.items() if judged(one, stage.habits).fate is Fate.RESTORE}
    there = {key: image for key, one in mine.items() if (image := one.now)}
    links = [Link(key, run.uid, image.native_id) for key, image in there.items()]
    stage.ledger.adopt(run, links, {image.native_id: image.link for image in there.values()})
    made = frozenset(key for key in there if mine[key].before is None)
    marks = {key: stage.habits.mark(image) for key, image in there.items()}
    stage.ledger.journal.found(run, marks, {key: there[key].native_id for key in made})
    was_on = {key: before.states.is_on for key in there if (before := mine[key].before)}
    half = {
        key: before.newest for key, one in mine.items() if (before := one.before) and is_half_way(one, stage.habits)
    }
    return Adopted(frozenset(there), made | _created(session, run), was_on, half)


def _refuse_half_loaded(run: Run, restoration: Restoration) -> None:
    """NotReady where some of a table's rows are in: those that are there can't be told from those that would come,
    and the rest of a package's rows is none that anybody has seen."""
    loading = [
        f"{readable(key)} holds {held:,} of {one.rows_in_doubt:,} rows"
        for key, one in sorted(restoration.evidence.items())
        if one.now and 0 < (held := one.now.rows or 0) < one.rows_in_doubt
    ]
    if loading:
        raise NotReady(
            f"{run.name} can't go on: it broke off while rows were being loaded.",
            subject=run.name,
            details=loading,
            next_step=to_type("undo", run.name),
        )


def _created(session: Session, run: Run) -> frozenset[Key]:
    """The items that a run has made so far."""
    outcomes = [step.outcome or {} for step in session.ledger.journal.steps(run) if step.state == "done"]
    ids = [(key, id_) for one in outcomes for key, id_ in one.get("ids", {}).items() if id_ in one.get("created", ())]
    return frozenset(key for key, _ in ids)


def waiting_for(session: Session, picked: PickedUp) -> list[Mapped]:
    """The needs that aren't served yet and hold the run up: with the one new thing on offer as a guess,
    or why what the crosswalk says does not serve."""
    opened = session.open(picked.run.environment)
    supplies = opened.environment.supplies()
    there = _there(session, picked)
    found = []
    for one in map_needs(session, picked.contents, opened):
        # What is made in a later leg nobody can be asked for yet.
        if picked.makers.get(one.need.key) not in there:
            continue
        if one.state is not MapState.MAPPED:
            found.append(_with_offer(one, supplies, picked.supplies))
        elif trouble := _trouble(opened, one):
            found.append(replace(one, state=MapState.OPEN, native=None, reason=trouble))
    return found


def _there(session: Session, picked: PickedUp) -> dict[Key, str]:
    """What a run has brought so far, with its ids: what is recorded, and what it made since without getting to
    record it."""
    delivered = {one.key: one.native_id for one in session.ledger.delivered(picked.run)}
    mine = adopted(session, picked).keys
    if not mine:
        return delivered
    links = {link.key: link.native_id for link in session.ledger.links(picked.run.uid)}
    return {**{key: links[key] for key in sorted(mine) if key in links}, **delivered}


def _with_offer(mapped: Mapped, supplies: Sequence[Supply], before: frozenset[str]) -> Mapped:
    mine = [s for s in supplies if s.kind == mapped.need.kind and s.native_id not in before]
    typed = [s for s in mine if not mapped.need.type or s.type == mapped.need.type]
    offered = Supplies(supplies)
    names = tuple(offered.called(supply) for supply in mine)
    # Only if it is the one: a guess between two would be a coin.
    if len(typed) == 1:
        reason = "it is new there since the import began"
        return replace(mapped, state=MapState.GUESSED, value=offered.called(typed[0]), reason=reason, offers=names)
    reason = "nothing new is there yet"
    if mine:
        reason = f"several new ones are there: {few(names)}" if typed else f"new there, of another type: {few(names)}"
    return replace(mapped, state=MapState.OPEN, value=None, reason=reason, offers=names)


def _trouble(opened: Opened, mapped: Mapped) -> str:
    """Why what is mapped does not serve, as far as a look shows."""
    if mapped.need.kind != "connection" or not isinstance(opened.environment, Probes):
        return ""
    probe = opened.environment.probe(str(mapped.native), ())
    # False and not merely untrue: None means that nobody can tell without using it.
    return f"{mapped.value} does not work: {probe.reason}" if probe.is_working is False else ""


def standstill(session: Session, picked: PickedUp) -> Standstill:
    """Where a paused run stands, by a look at what is there."""
    opened = session.open(picked.run.environment)
    waiting = waiting_for(session, picked)
    delivered = _there(session, picked)
    makers = dict.fromkeys(picked.makers[one.need.key] for one in waiting)
    there = {row.native_id for row in opened.environment.index()}
    # What somebody gave a password may be a connection by now.
    there |= {supply.native_id for supply in opened.environment.supplies()}
    gone = tuple(key for key, native_id in delivered.items() if native_id not in there)
    images = opened.environment.look([delivered[key] for key in makers])
    made = []
    for key in makers:
        image = images.get(delivered[key])
        sheet = opened.description.sheets.get(kind_of(key))
        if image and sheet:
            values = [("id", image.native_id), ("link", image.link), *shown_values(image.newest, sheet)]
            note = picked.contents.notes.get(key, "")
            made.append(Made(key, image.states.title, tuple(v for v in values if v[1]), sheet.pause, note))
    still = [key for key in picked.later if key not in delivered]
    # Given with the leg that follows: only the one that this pause is for.
    recent = session.ledger.journal.touched(picked.run, picked.run.leg)
    words = tuple((key, about) for key, about in picked.words.items() if key in recent)
    done = tuple(key for key in delivered if key not in gone)
    return Standstill(picked.run, done, tuple(still), tuple(waiting), dict(picked.makers), tuple(made), words, gone)


def next_leg(session: Session, picked: PickedUp) -> Prepared:
    """The docket of what is still to be done, compared anew: somebody may have worked there since."""
    mine = adopted(session, picked)
    # With the decisions of then: what was answered once is not asked again.
    return prepare(session, picked.contents, picked.run.environment, picked.decisions, picked.since, mine)
