"""Aftercare at work: what a look at the target adds and settles, what Amphora does itself, what somebody ticks
off."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import field, replace

from amphora.core.form.kinds import KindSheet
from amphora.core.needs.crosswalk import MapState, row_name
from amphora.core.plan.aftercare import DOABLE, Care, Task, connection_task, placed, state_task, text_task
from amphora.core.plan.rests import at_rest
from amphora.core.plan.states import Image
from amphora.core.plan.steps import EnterSecret, Publish, Step, Switch
from amphora.core.values.errors import AmphoraError, NotReady, UsageFault
from amphora.core.values.keys import Key, kind_of
from amphora.core.values.late import dataclass
from amphora.core.values.model import Item
from amphora.core.values.near import near
from amphora.core.values.next_step import to_type
from amphora.core.values.tokens import PREFIX
from amphora.engine.docket import Prepared
from amphora.engine.gate import refuse_not_permitted
from amphora.engine.old_links import OldLink
from amphora.engine.runs.aftercare import CareMaterial, carry_out_care
from amphora.engine.runs.stage import looked_up, stage_of
from amphora.engine.session import Opened, Session
from amphora.engine.sides import own_side, read_items
from amphora.engine.verify import Verified
from amphora.environments.contract import Probes
from amphora.environments.locations import kept_secret
from amphora.ledger.records import DONE, NO_LONGER_THERE, NOT_NEEDED, OPEN, Entry, Run

Asker = Callable[[Entry], str]
"""Asked for a secret; an empty answer leaves it open."""


@dataclass(frozen=True)
class Cared:
    """What came of doing aftercare: the runs that did it, what was done, what was left, each with the reason."""

    runs: tuple[Run, ...] = ()
    done: tuple[Entry, ...] = ()
    left: tuple[tuple[Entry, str], ...] = ()
    failure: AmphoraError | None = None
    unseen: tuple[Entry, ...] = ()
    """What was done of which nobody is shown whether it is there."""


def cared_for(
    session: Session, prepared: Prepared, run: Run, verified: Sequence[Verified], held: Sequence[OldLink]
) -> list[Entry]:
    """The aftercare of a run that has just ended, with what only a look can tell: states that the target did not take
    on, old addresses that still stand there, connections that do not answer."""
    # A paused run has tasks as well, and is looked at when it is done.
    if run.state != DONE:
        return session.ledger.aftercare.of_run(run)
    titles = {action.key: action.states.title for action in prepared.docket.actions}
    tasks = [
        state_task(one.key, one.title, kind)
        for one in verified
        for change in one.differences
        if (kind := _state_kind(change.place, change.target))
    ]
    tasks += [text_task(one.key, titles.get(one.key, one.key), one.address) for one in held]
    tasks += _broken(prepared)
    if tasks:
        side = own_side(prepared.opened, session.ledger, session.crosswalk)
        session.ledger.aftercare.add(run, placed(tasks, {key: row.link for key, row in side.by_key.items()}))
    return session.ledger.aftercare.of_run(run)


def _state_kind(place: str, promised: object) -> Care | None:
    if place == "state:published":
        return Care.PUBLISH if promised else None
    if place == "state:on":
        return Care.SWITCH_ON if promised else Care.SWITCH_OFF
    return None


def _broken(prepared: Prepared) -> list[Task]:
    """The connections that the import uses and that do not answer."""
    environment = prepared.opened.environment
    if not isinstance(environment, Probes):
        return []
    found = []
    for one in prepared.docket.mapped:
        if one.need.kind == "connection" and one.state is MapState.MAPPED:
            probe = environment.probe(str(one.native), ())
            if probe.is_working is False:
                found.append(connection_task(one.need.key, row_name(one.need.key), str(one.native), probe.reason))
    return found


def open_care(session: Session, what: str = "") -> list[Entry]:
    """What is open of a run, of an import into many targets, of an environment, a group or a package, or of
    everything, as the ledger has it."""
    ledger, workspace = session.ledger, session.workspace
    open_ = _open(session)
    if not what:
        return open_
    # An environment before a run of its name: it is what people type.
    if what in workspace.environments or what in workspace.groups:
        names = workspace.targets([what])
        _, trouble = session.known(names)
        if trouble and any(entry.environment not in workspace.environments for entry in open_):
            # What is open may be just that one's.
            raise trouble
        return [entry for entry in open_ if entry.environment in names]
    runs = ledger.journal.runs()
    if mine := {run.name for run in runs if run.is_of(what)}:
        # Perhaps nothing: that all of it is done is an answer.
        return [entry for entry in open_ if entry.run in mine]
    if campaign := ledger.campaigns.named(what):
        members = {run.name for run in ledger.journal.of_campaign(campaign.name)}
        return [entry for entry in open_ if entry.run in members]
    named = {run.name for run in runs}
    if runs and what not in ("last", *named):
        known = [*workspace.environments, *workspace.groups, *{run.package: 0 for run in runs}, *sorted(named)]
        raise UsageFault(
            f"Nothing here is called {what!r}: no run, environment, group or package.",
            subject=what,
            details=[f"there is: {', '.join(near(what, known, 3) or known[:8])}"],
            next_step=to_type("aftercare"),
        )
    name = ledger.journal.run(what).name
    return [entry for entry in open_ if entry.run == name]


def _open(session: Session) -> list[Entry]:
    """Everything that is open, with environments under the names that they have now."""
    entries = session.ledger.aftercare.open()
    here = session.workspace.environments
    if all(entry.environment in here for entry in entries):
        return entries
    known, _ = session.known(here)
    now = {uid: name for name, uid in known.items() if name in here}
    return [replace(entry, environment=now.get(entry.uid, entry.environment)) for entry in entries]


def open_after(session: Session, imports: Collection[tuple[str, str]]) -> list[Entry]:
    """What is open after imports of packages into environments, each given as (environment, package)."""
    return [entry for entry in _open(session) if (entry.environment, entry.package) in imports]


def settled_by_looking(
    session: Session, entries: Sequence[Entry], run: Run | None = None, entered: Collection[int] = ()
) -> tuple[list[Entry], list[str]]:
    """Looks at the targets, and closes what is done there already, whoever did it; `run`, if it is known, which
    `entered` the secrets of these tasks. Gives what is still open, and which targets could not be looked at."""
    still, blind = [], []
    for name, mine in _by_environment(entries).items():
        try:
            opened = session.open(name)
            # Of another environment under that name nothing is closed: what is done there is done elsewhere.
            if opened.description.uid != mine[0].uid:
                raise NotReady(
                    f"{name} is another environment by now.", subject=name, next_step=to_type("env", "list")
                )
            settled, moot = _settled(session, opened, mine, entered)
        # One that can't be reached keeps its tasks, and holds no other up.
        except AmphoraError as error:
            blind.append(f"{name}: {error.message}")
            still += mine
            continue
        if settled:
            by = run.account if run else "seen by looking"
            session.ledger.aftercare.settle(settled, DONE, by, run=run)
        if moot:
            session.ledger.aftercare.settle(moot, NOT_NEEDED, "seen by looking", NO_LONGER_THERE)
        still += [one for one in mine if one.number not in (*settled, *moot)]
    return sorted(still, key=lambda entry: entry.number), blind


def _by_environment(entries: Sequence[Entry]) -> dict[str, list[Entry]]:
    found: dict[str, list[Entry]] = {}
    for entry in entries:
        found.setdefault(entry.environment, []).append(entry)
    return found


def _settled(
    session: Session, opened: Opened, entries: Sequence[Entry], entered: Collection[int]
) -> tuple[list[int], list[int]]:
    """The numbers of the tasks in one environment that a look at it shows to be done, and of those that are moot: of
    an item that is gone nothing is left to do, and nobody did it."""
    side = own_side(opened, session.ledger, session.crosswalk)
    # Of people's tasks, too: what is about an item that is gone is moot.
    keys = {entry.task.key for entry in entries if entry.task.kind is not Care.CONNECTION} - {""}
    there = [key for key in sorted(keys) if key in side.by_key]
    images = looked_up(opened.environment, {key: side.by_key[key].native_id for key in there})
    wanted = dict.fromkeys(entry.task.key for entry in entries if entry.task.kind in (Care.SECRET, Care.TEXT))
    # As it stands there: with what the platform made of it taken back, what was asked for would seem to be there.
    items, _, _ = read_items(replace(side, filled={}), [key for key in wanted if key in side.by_key])

    sheets = opened.description.sheets

    def is_settled(number: int, task: Task) -> bool:
        if task.kind is Care.CONNECTION:
            return _answers(opened, task)
        # It was given a password, and is a connection of the environment's own by now.
        if task.key in side.turned:
            return task.kind is Care.SECRET
        # That it seems to be there says nothing where it is taken for granted: that somebody entered it does.
        if _is_hidden(task, sheets):
            return number in entered
        return _is_done(task, images.get(task.key), items.get(task.key))

    known = {*side.by_key, *side.turned, ""}
    moot = [one.number for one in entries if one.task.kind is not Care.CONNECTION and one.task.key not in known]
    done = [one.number for one in entries if one.number not in moot and is_settled(one.number, one.task)]
    return done, moot


def _is_hidden(task: Task, sheets: Mapping[str, KindSheet]) -> bool:
    """Whether nobody is shown that it is done."""
    return task.kind is Care.SECRET and sheets[kind_of(task.key)].hides_secrets


def _answers(opened: Opened, task: Task) -> bool:
    environment = opened.environment
    # A connection that was removed meanwhile answers nobody: it is for `check` to name it.
    return isinstance(environment, Probes) and bool(environment.probe(task.name, ()).is_working)


def _is_done(task: Task, image: Image | None, item: Item | None) -> bool:
    if task.kind is Care.SECRET:
        return item is not None and any(place.token == task.name for place in item.places)
    if task.kind is Care.TEXT:
        return item is not None and task.name not in item.form_bytes.decode()
    if image is None:
        return False
    if task.kind is Care.PUBLISH:
        return bool(image.states.is_published)
    if task.kind in (Care.SWITCH_ON, Care.SWITCH_OFF):
        return image.states.is_on is (task.kind is Care.SWITCH_ON)
    return False


def do_care(session: Session, entries: Sequence[Entry], ask: Asker) -> Cared:
    """Does what Amphora can: enters secrets from where the crosswalk says or as they are told, publishes, switches.
    One run for each target; everything else is left, with the reason."""
    runs: list[Run] = []
    done: list[Entry] = []
    unseen: list[Entry] = []
    left: list[tuple[Entry, str]] = []
    for name, mine in _by_environment(entries).items():
        left += [(entry, "only a person can do that") for entry in mine if entry.task.kind not in DOABLE]
        secrets, unknown = _secrets(session, mine, ask)
        left += [(entry, _UNSAID) for entry in unknown]
        doable = [entry for entry in mine if entry.task.kind in DOABLE and entry not in unknown]
        if not doable:
            continue
        work = _worked_out(session, name, doable, secrets)
        left += [(entry, _UNFINISHED) for entry in work.withheld]
        run = None
        if work.steps:
            refuse_not_permitted(session.open(name), work.steps, name)
            run, failure = _carried_out(session, name, doable, work)
            runs.append(run)
            if failure:
                return Cared(tuple(runs), tuple(done), tuple(left), failure, tuple(unseen))
        # By looking, also at what we did ourselves: a platform may take a write and not keep it.
        still, _ = settled_by_looking(session, doable, run, secrets if run else ())
        sheets = session.open(name).description.sheets
        mine_done = [entry for entry in doable if entry not in still]
        unseen += [entry for entry in mine_done if _is_hidden(entry.task, sheets)]
        done += [entry for entry in mine_done if entry not in unseen]
        left += [(entry, "it did not take effect") for entry in still if entry not in work.withheld]
    return Cared(tuple(runs), tuple(done), tuple(left), unseen=tuple(unseen))


_UNSAID = "nobody has said it; write where it is kept into the crosswalk, or enter it there"
_UNFINISHED = "it has edits that nobody has published; finish them there first"


def _secrets(session: Session, entries: Sequence[Entry], ask: Asker) -> tuple[dict[int, str], list[Entry]]:
    """The secrets that are known now, by the number of their task, from where the crosswalk says, or as told; and the
    tasks whose secret nobody says."""
    found: dict[int, str] = {}
    unknown = []
    rows = session.crosswalk.rows.get("secrets", {})
    for entry in (entry for entry in entries if entry.task.kind is Care.SECRET):
        cells = rows.get(row_name(entry.task.name.removeprefix(PREFIX)), {})
        place = cells.get(entry.environment, cells.get("any"))
        value = kept_secret(place, entry.environment) if isinstance(place, str) else ""
        # The crosswalk first: who has written it down is not asked again.
        if value or (value := ask(entry)):
            found[entry.number] = value
        else:
            unknown.append(entry)
    return found, unknown


@dataclass
class _Work:
    """What there is to do in one environment: steps, the items as they are, the secrets by item and token; and the
    tasks that can't be done as long as somebody's edits are unpublished."""

    images: Mapping[Key, Image | None]
    steps: list[Step] = field(default_factory=list)
    secrets: dict[Key, dict[str, str]] = field(default_factory=dict)
    withheld: list[Entry] = field(default_factory=list)


def _worked_out(session: Session, name: str, entries: Sequence[Entry], secrets: Mapping[int, str]) -> _Work:
    """The steps for these tasks: secrets first, so that nothing is published or switched on without them."""
    opened = session.open(name)
    side = own_side(opened, session.ledger, session.crosswalk)
    keys = list(dict.fromkeys(entry.task.key for entry in entries if entry.task.key in side.by_key))
    work = _Work(looked_up(opened.environment, {key: side.by_key[key].native_id for key in keys}))
    states: list[Step] = []
    for entry in sorted(entries, key=lambda one: list(Care).index(one.task.kind)):
        key, kind, image = entry.task.key, entry.task.kind, work.images.get(entry.task.key)
        if image is None:
            continue
        if image.draft is not None and image.live is not None and kind in (Care.SECRET, Care.PUBLISH):
            # Publishing would make somebody's unfinished edits live.
            work.withheld.append(entry)
        elif kind is Care.SECRET:
            work.secrets.setdefault(key, {})[entry.task.name] = secrets[entry.number]
        else:
            states.append(Publish((key,)) if kind is Care.PUBLISH else Switch((key,), kind is Care.SWITCH_ON))
    habits = stage_of(session, name).habits
    for key in work.secrets:
        work.steps.append(EnterSecret((key,)))
        if (image := work.images[key]) and habits.drafts(image.kind) and image.states.is_published:
            work.steps.append(Publish((key,)))
    work.steps += [step for step in states if step not in work.steps]
    on = {key for key, image in work.images.items() if image and image.states.is_on}
    work.steps = at_rest(work.steps, on, habits)
    return work


def _carried_out(
    session: Session, name: str, entries: Sequence[Entry], work: _Work
) -> tuple[Run, AmphoraError | None]:
    """One run that does it, under the name of the latest package that asked for any of it."""
    opened = session.open(name)
    delivered = session.ledger.last_deliveries(opened.description.uid, list(work.secrets))
    forms = {key: one.merged for key, one in delivered.items()}
    material = CareMaterial(opened.description, forms, work.secrets)
    # One run needs one name; the tasks themselves go on telling which run they are of.
    latest = max(entries, key=lambda one: one.number)
    return carry_out_care(stage_of(session, name), work.steps, work.images, material, latest.package, latest.version)


def tick(session: Session, states: Mapping[int, str], by: str, note: str) -> list[Entry]:
    """Closes tasks in somebody's name, each with the state that it is to have. NotReady for one that is closed
    already: then none of them is."""
    entries = [session.ledger.aftercare.entry(number) for number in states]
    for entry in entries:
        if entry.state != OPEN:
            raise NotReady(
                f"Aftercare {entry.number} is {entry.state} already, by {entry.by}, {entry.at}.",
                subject=str(entry.number),
                next_step=to_type("aftercare"),
            )
    for state in dict.fromkeys(states.values()):
        mine = [number for number, wanted in states.items() if wanted == state]
        session.ledger.aftercare.settle(mine, state, by, note)
    return [session.ledger.aftercare.entry(number) for number in states]
