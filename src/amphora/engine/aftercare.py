"""Aftercare at work: what a look at the target adds and settles, what Amphora does itself, what somebody ticks
off."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

from amphora.core.needs.crosswalk import MapState, row_name
from amphora.core.plan.aftercare import Care, Task, connection_task, placed, state_task, text_task
from amphora.core.plan.states import Image
from amphora.core.plan.steps import EnterSecret, Publish, Step, Switch, permissions_of
from amphora.core.values.errors import AmphoraError, NotReady
from amphora.core.values.keys import Key
from amphora.core.values.model import Item
from amphora.core.values.next_step import advice, to_type
from amphora.core.values.tokens import PREFIX
from amphora.engine.docket import Prepared
from amphora.engine.old_links import OldLink
from amphora.engine.runs.caring import Caring, carry_out_care
from amphora.engine.runs.stage import looked_up, stage_of
from amphora.engine.session import Opened, Session
from amphora.engine.sides import own_side, read_items
from amphora.engine.verify import Verified
from amphora.environments.contract import Probes
from amphora.environments.locations import kept_secret
from amphora.ledger.records import DONE, OPEN, Entry, Run

Asker = Callable[[Entry], str]
"""Asked for a secret; an empty answer leaves it open."""


@dataclass(frozen=True)
class Looked:
    """Tasks of one environment with what a look showed: the images of their items, and those that are settled."""

    images: Mapping[Key, Image | None] = field(default_factory=dict)
    settled: tuple[Entry, ...] = ()


@dataclass(frozen=True)
class Cared:
    """What came of doing aftercare: the runs that did it, what was done, what was left, each with the reason."""

    runs: tuple[Run, ...] = ()
    done: tuple[Entry, ...] = ()
    left: tuple[tuple[Entry, str], ...] = ()
    failure: AmphoraError | None = None


def cared_for(
    session: Session, prepared: Prepared, run: Run, verified: Sequence[Verified], held: Sequence[OldLink]
) -> list[Entry]:
    """The aftercare of a run that has just ended, with what only a look can tell: states that the target did not take
    on, old addresses that still stand there, connections that do not answer."""
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
        session.ledger.aftercare.add(run, placed(tasks, {}))
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
    """What is open of a run, of an import into many targets, of an environment, or of everything, as the ledger has
    it."""
    ledger = session.ledger
    if not what:
        return ledger.aftercare.open()
    if what in session.workspace.environments:
        return [entry for entry in ledger.aftercare.open() if entry.environment == what]
    if campaign := ledger.campaigns.named(what):
        runs = {run.name for run in ledger.journal.of_campaign(campaign.name)}
        return [entry for entry in ledger.aftercare.open() if entry.run in runs]
    run = ledger.journal.run(what)
    return [entry for entry in ledger.aftercare.of_run(run) if entry.state == OPEN]


def settled_by_looking(
    session: Session, entries: Sequence[Entry], run: Run | None = None
) -> tuple[list[Entry], list[str]]:
    """Looks at the targets, and closes what is done there already, whoever did it; `run`, if it is known. Gives what
    is still open, and which targets could not be looked at."""
    still, blind = [], []
    for name, mine in _by_environment(entries).items():
        try:
            opened = session.open(name)
            if opened.description.uid != mine[0].uid:
                raise NotReady(
                    f"{name} is another environment by now.", subject=name, next_step=to_type("env", "list")
                )
            looked = _looked(session, opened, mine)
        except AmphoraError as error:
            blind.append(f"{name}: {error.message}")
            still += mine
            continue
        if looked.settled:
            by = run.account if run else "seen by looking"
            session.ledger.aftercare.settle([one.number for one in looked.settled], DONE, by, run=run)
        gone = {one.number for one in looked.settled}
        still += [one for one in mine if one.number not in gone]
    return sorted(still, key=lambda entry: entry.number), blind


def _by_environment(entries: Sequence[Entry]) -> dict[str, list[Entry]]:
    found: dict[str, list[Entry]] = {}
    for entry in entries:
        found.setdefault(entry.environment, []).append(entry)
    return found


def _looked(session: Session, opened: Opened, entries: Sequence[Entry]) -> Looked:
    """What a look at one environment shows of its tasks."""
    side = own_side(opened, session.ledger, session.crosswalk)
    # Of people's tasks, too: what is about an item that is gone is moot.
    keys = {entry.task.key for entry in entries if entry.task.kind is not Care.CONNECTION} - {""}
    there = [key for key in sorted(keys) if key in side.by_key]
    images = looked_up(opened.environment, {key: side.by_key[key].native_id for key in there})
    settled = []
    wanted = [e.task.key for e in entries if e.task.kind in (Care.SECRET, Care.TEXT) and e.task.key in side.by_key]
    readable = [key for key in dict.fromkeys(wanted) if not side.by_key[key].is_drafted_only]
    items, _, _ = read_items(side, readable)
    for entry in entries:
        task = entry.task
        if task.kind is Care.CONNECTION:
            is_settled = _answers(opened, task)
        elif task.key and task.key not in side.by_key:
            is_settled = True
        else:
            is_settled = _is_settled(task, images.get(task.key), items.get(task.key))
        if is_settled:
            settled.append(entry)
    return Looked(images, tuple(settled))


def _answers(opened: Opened, task: Task) -> bool:
    environment = opened.environment
    # A connection that was removed meanwhile answers nobody: it is for `check` to name it.
    return isinstance(environment, Probes) and bool(environment.probe(task.name, ()).is_working)


def _is_settled(task: Task, image: Image | None, item: Item | None) -> bool:
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
    left: list[tuple[Entry, str]] = []
    for name, mine in _by_environment(entries).items():
        secrets, doable = _secrets(session, mine, ask, left), []
        for entry in mine:
            if entry.task.kind in (Care.PUBLISH, Care.SWITCH_ON, Care.SWITCH_OFF) or entry.number in secrets:
                doable.append(entry)
            elif entry.task.kind is not Care.SECRET:
                left.append((entry, "only a person can do that"))
        if not doable:
            continue
        run, failure = _done_in(session, name, doable, secrets, left)
        if run:
            runs.append(run)
        if failure:
            return Cared(tuple(runs), tuple(done), tuple(left), failure)
        still, _ = settled_by_looking(session, doable, run)
        open_ones = {entry.number for entry in still}
        done += [entry for entry in doable if entry.number not in open_ones]
        named = {entry.number for entry, _ in left}
        left += [(entry, "it did not take effect") for entry in still if entry.number not in named]
    return Cared(tuple(runs), tuple(done), tuple(left))


def _secrets(session: Session, entries: Sequence[Entry], ask: Asker, left: list[tuple[Entry, str]]) -> dict[int, str]:
    """The secrets that are known now, by the number of their task: from where the crosswalk says, or as told."""
    found: dict[int, str] = {}
    rows = session.crosswalk.rows.get("secrets", {})
    for entry in entries:
        if entry.task.kind is not Care.SECRET:
            continue
        cells = rows.get(row_name(entry.task.name.removeprefix(PREFIX)), {})
        place = cells.get(entry.environment, cells.get("any"))
        value = kept_secret(place, entry.environment) if isinstance(place, str) else ""
        if value or (value := ask(entry)):
            found[entry.number] = value
        else:
            left.append((entry, "nobody has said it; write where it is kept into the crosswalk, or enter it there"))
    return found


def _done_in(
    session: Session,
    name: str,
    entries: Sequence[Entry],
    secrets: Mapping[int, str],
    left: list[tuple[Entry, str]],
) -> tuple[Run | None, AmphoraError | None]:
    """One run that does these tasks in one environment."""
    opened = session.open(name)
    side = own_side(opened, session.ledger, session.crosswalk)
    keys = list(dict.fromkeys(entry.task.key for entry in entries if entry.task.key in side.by_key))
    images = looked_up(opened.environment, {key: side.by_key[key].native_id for key in keys})
    delivered = session.ledger.last_deliveries(opened.description.uid, keys)
    steps: list[Step] = []
    tokens: dict[Key, dict[str, str]] = {}
    for entry in sorted(entries, key=lambda one: list(Care).index(one.task.kind)):
        key, image = entry.task.key, images.get(entry.task.key)
        if image is None:
            continue
        if image.draft is not None and image.live is not None and entry.task.kind in (Care.SECRET, Care.PUBLISH):
            # Publishing would make somebody's unfinished edits live.
            left.append((entry, "it has edits that nobody has published; finish them there first"))
        elif entry.task.kind is Care.SECRET:
            tokens.setdefault(key, {})[entry.task.name] = secrets[entry.number]
        elif entry.task.kind is Care.PUBLISH:
            steps.append(Publish((key,)))
        else:
            steps.append(Switch((key,), entry.task.kind is Care.SWITCH_ON))
    habits = stage_of(session, name).habits
    first: list[Step] = []
    for key in tokens:
        image = images[key]
        assert image is not None
        first.append(EnterSecret((key,)))
        if habits.drafts(image.kind) and image.states.is_published:
            first.append(Publish((key,)))
    steps = [*first, *(step for step in steps if step not in first)]
    if not steps:
        return None, None
    _refuse_not_permitted(opened, steps)
    forms = {key: delivered[key].merged for key in tokens if key in delivered}
    caring = Caring(opened.description, forms, tokens)
    latest = max(entries, key=lambda one: one.number)
    return carry_out_care(stage_of(session, name), steps, images, caring, latest.package, latest.version)


def _refuse_not_permitted(opened: Opened, steps: Sequence[Step]) -> None:
    identity = opened.environment.whoami()
    if missing := sorted(permissions_of(list(steps)).keys() - identity.permissions):
        raise NotReady(
            f"{identity.account} may not {', '.join(missing)} in {opened.name}; nothing was touched.",
            subject=opened.name,
            next_step=advice("Sign in with another account, or ask for the permission."),
        )


def tick(session: Session, numbers: Sequence[int], state: str, by: str, note: str) -> list[Entry]:
    """Closes tasks in somebody's name. NotReady for one that is closed already."""
    entries = [session.ledger.aftercare.entry(number) for number in numbers]
    for entry in entries:
        if entry.state != OPEN:
            raise NotReady(
                f"Aftercare {entry.number} is {entry.state} already, by {entry.by}, {entry.at}.",
                subject=str(entry.number),
                next_step=to_type("aftercare"),
            )
    session.ledger.aftercare.settle(numbers, state, by, note)
    return [session.ledger.aftercare.entry(number) for number in numbers]
