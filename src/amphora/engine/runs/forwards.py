"""Forwards: carrying out a docket, and what is recorded of it. Whatever goes wrong ends in put back or broken
off, never in nobody knows."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import field
from pathlib import Path

from amphora.core.form.bindings import MISSING
from amphora.core.form.hollow import hollowed
from amphora.core.form.kinds import Sheets
from amphora.core.merge.compare import Base
from amphora.core.needs.matches import Link
from amphora.core.plan.actions import Action, Do
from amphora.core.plan.aftercare import Care, Task, access_tasks, given_access, placed, tell_tasks
from amphora.core.plan.commands import to_compare
from amphora.core.plan.decisions import Decisions
from amphora.core.plan.docket import Docket, IfItFails, Parting
from amphora.core.plan.kept import kept_docket, with_leg
from amphora.core.plan.states import Image
from amphora.core.values.errors import (
    NotReady,
)
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.core.values.next_step import to_type
from amphora.core.values.tokens import parse_token
from amphora.engine.leaks import leaks_in_images, refuse_leaks
from amphora.engine.runs.attention import attended
from amphora.engine.runs.carrier import Carrier
from amphora.engine.runs.material import DocketMaterial
from amphora.engine.runs.outcome import Keeper, Outcome, attempted
from amphora.engine.runs.stage import Stage, looked_up
from amphora.engine.steps import Bench
from amphora.ledger.records import (
    DONE,
    IMPORT,
    PAUSED,
    WITHDRAWAL,
    Beginning,
    Delivery,
    Run,
)


@dataclass(frozen=True)
class Provision:
    """What a run keeps so that somebody can go on with it: what was asked for and agreed to, and the package; the
    campaign that it is part of, the name that it is to have, and why it is done."""

    request: Mapping[str, Json] = field(default_factory=dict)
    package: Path | None = None
    campaign: str = ""
    name: str = ""
    why: str = ""


NO_PROVISION = Provision()


def as_said(docket: Docket) -> Keeper:
    """Keeps or puts back as the docket says, whatever it was that failed."""
    return lambda error: docket.if_it_fails is IfItFails.KEEP


def carry_out(
    docket: Docket, stage: Stage, provision: Provision = NO_PROVISION, keeper: Keeper | None = None
) -> Outcome:
    """Carries out the first leg of a decided docket, which is all of it unless it has to pause. Raises where nothing
    was touched; a failure after that is in the outcome, with what it means for the target."""
    return _leg(docket, stage, None, provision, keeper or as_said(docket))


def go_on(
    docket: Docket, stage: Stage, run: Run, keeper: Keeper | None = None, said: Decisions | None = None
) -> Outcome:
    """Carries out the next leg of a run that waits, likewise. `said` is what was decided since it began."""
    return _leg(
        docket, stage, run, Provision({"decisions": said.to_json()} if said else {}), keeper or as_said(docket)
    )


def _leg(docket: Docket, stage: Stage, run: Run | None, provision: Provision, keeper: Keeper) -> Outcome:
    # Asked of the environment, not of the configuration: a token may belong to somebody else than it says there.
    account = stage.environment.whoami().account
    purpose = f"{docket.title} goes in" if docket.actions else f"{docket.package} is withdrawn"
    with stage.ledger.locks.held(stage.uid, stage.opened.name, account, purpose):
        # Under the lock, and before the run exists: whatever is refused here has touched nothing and left no trace.
        if run is not None:
            _refuse_another(stage, run)
        before = _before(docket, stage)
        if run is not None:
            kept = _kept_since(docket, stage, run, provision)
            return _carried(docket, stage, stage.ledger.journal.go_on(run, account, before, kept), before, keeper)
        if provision.package:
            stage.ledger.parcels.put(docket.package_digest, provision.package)
        outside = stage.revisions(image.native_id for image in before.values() if image)
        beginning = Beginning(
            IMPORT if docket.actions else WITHDRAWAL,
            stage.opened.name,
            docket.target_uid,
            account,
            docket.package,
            docket.version,
            docket.source_uid,
            docket.package_digest,
            None,
            {**kept_docket(docket), **provision.request},
            before,
            outside,
            provision.campaign,
            provision.name,
            provision.why,
            stage.marks(outside),
            stage.sheets,
        )
        return _carried(docket, stage, stage.ledger.journal.begin(beginning), before, keeper)


def _kept_since(docket: Docket, stage: Stage, run: Run, provision: Provision) -> Json:
    """The docket that the run kept, with what became known and was decided since."""
    steps = stage.ledger.journal.steps(run)
    done = {key for step in steps if step.state not in ("failed", "planned") for key in step.keys}
    kept = with_leg(stage.ledger.journal.docket(run), docket, done)
    # Of the decisions only those on items: what was said of the whole import was said when it began.
    earlier, since = kept.get("decisions", {}), provision.request.get("decisions", {})
    items = {**earlier.get("items", {}), **since.get("items", {})}
    return {**kept, "decisions": {**earlier, "items": items}} if items else kept


def _refuse_another(stage: Stage, run: Run) -> None:
    """NotReady where somebody has gone on with a run, or undone it, since it was looked at."""
    now = stage.ledger.journal.run(run.name)
    if (now.state, now.leg) != (run.state, run.leg):
        raise NotReady(
            f"{run.name} is {now.state} by now: somebody was quicker. Nothing was touched.",
            subject=run.name,
            next_step=to_type("history", run.name),
        )


def _carried(docket: Docket, stage: Stage, run: Run, before: Mapping[Key, Image | None], keeper: Keeper) -> Outcome:
    leg, titles = docket.legs[0], {action.key: action.states.title for action in docket.actions}
    material = DocketMaterial(docket, stage.opened.description)
    bench = Bench(stage.environment, stage.habits, material, dict(before))
    with attended() as attention:
        # Numbers go on where the leg before ended: tokens are made of them.
        earlier = stage.ledger.journal.steps(run) if run.leg > 1 else []
        last = earlier[-1].number if earlier else 0
        carrier = Carrier(stage, run, bench, attention, stage.ledger.uid(), last)

        def whole_leg() -> Run:
            carrier.carry_out(leg.steps, docket.target + _leg_words(docket, run))
            # Inside of what is put back: a run that can't be recorded must not stay in the target unrecorded.
            return _recorded(docket, stage, run, bench.now)

        ended = attempted(stage, run, whole_leg, keeper, titles)
    if isinstance(ended, Outcome):
        return ended
    run = ended
    # Counted from what was found by looking, not from what was meant.
    written = {key for step in leg.steps for key in step.keys if bench.now.get(key)}
    # As the environment has it now: a link may hold the title, which has just changed.
    links = _links(stage, run, {key: image.link for key in sorted(written) if (image := bench.now[key])})
    loaded = {key: image.rows or 0 for key in docket.records if (image := bench.now.get(key))}
    # Of all legs: what an earlier one made is as new to people as what the last one did.
    at_first = before if run.leg == 1 else stage.ledger.journal.touched(run)
    new = frozenset(key for key, image in at_first.items() if image is None)
    return Outcome(run, links, loaded=loaded, new=new)


def _leg_words(docket: Docket, run: Run) -> str:
    """Which of how many legs this is, where there are several."""
    legs = run.leg - 1 + len(docket.legs)
    return f", leg {run.leg} of {legs}" if legs > 1 else ""


def _links(stage: Stage, run: Run, mine: Mapping[Key, str]) -> Mapping[Key, str]:
    """The addresses of all that a run has brought: those of earlier legs too, once it is done."""
    if run.state != DONE or run.leg == 1:
        return mine
    touched = stage.ledger.journal.touched(run)
    images = looked_up(
        stage.environment, {d.key: d.native_id for d in stage.ledger.delivered(run) if d.key in touched}
    )
    return dict(sorted({key: image.link for key, image in images.items() if image}.items()))


def _before(docket: Docket, stage: Stage) -> dict[Key, Image | None]:
    """The state of everything that the run will touch; NotReady where something is not as the docket saw it."""
    seen = {a.key: a.present for a in docket.actions if a.present} | {r.key: r.present for r in docket.retirements}
    touched = dict.fromkeys(key for step in docket.legs[0].steps for key in step.keys)
    images = looked_up(stage.environment, {key: seen[key].native_id for key in touched if key in seen})
    for key, image in images.items():
        # Compared here once more, although every call is conditional: a run that is refused in its middle has to be
        # put back, one that is refused here has done nothing.
        if image is None or image.revision != seen[key].revision:
            raise NotReady(
                f"{seen[key].states.title!r} was changed in {docket.target} since the docket was made; nothing was"
                " touched.",
                subject=key,
                next_step=to_compare(docket),
            )
    # The last look before anything is stored: a draft that somebody saved a minute ago is in no docket.
    refuse_leaks(
        leaks_in_images(images, stage.opened.description.sheets, stage.opened.guard),
        f"What is to be kept of {docket.target} holds what looks like a secret in clear; nothing was touched.",
    )
    return {key: images.get(key) for key in touched}


def _recorded(docket: Docket, stage: Stage, run: Run, now: Mapping[Key, Image | None]) -> Run:
    """Deliveries, claims, links and the end of the leg, in one transaction."""
    is_last, mine = not docket.pauses, set(docket.legs[0].keys)
    # What is left as it is counts as delivered: it is what the package says, and the next comparison needs its base.
    done = [a for a in docket.actions if a.do in (Do.CREATE, Do.UPDATE, Do.LEAVE) and (is_last or a.key in mine)]
    ids, addresses = {}, {}
    for action in done:
        image = now.get(action.key)
        native_id = image.native_id if image else action.present.native_id if action.present else ""
        ids[action.key] = native_id
        addresses[native_id] = image.link if image else action.present.link if action.present else ""
    inner = docket.bindings.inner
    links = [Link(key, docket.target_uid, native_id, inner.get(key, {})) for key, native_id in ids.items()]
    rows = {key: image.rows for key in docket.records if (image := now.get(key))}
    sheets = stage.opened.description.sheets
    deliveries = [_delivery(action, ids[action.key], docket, rows.get(action.key), sheets) for action in done]
    ended = [
        (docket.package, source, one.key)
        for one in docket.retirements
        if one.fate is not Parting.STAY
        for source in docket.sources
    ]
    ended += [(docket.package, source, key) for key in docket.unclaimed for source in docket.sources]
    care = _care(docket, stage, run, addresses, mine, now, is_last)
    if not is_last:
        return stage.ledger.finish(
            run,
            PAUSED,
            deliveries,
            docket.custody,
            links,
            addresses,
            arrivals=docket.arrivals,
            omissions=docket.omissions,
            care=care,
        )
    retired = [one.key for one in docket.fated(Parting.RETIRE)]
    return stage.ledger.finish(
        run,
        DONE,
        deliveries,
        docket.custody,
        links,
        addresses,
        ended,
        docket.arrivals,
        docket.omissions,
        care,
        retired,
    )


def _care(
    docket: Docket,
    stage: Stage,
    run: Run,
    addresses: Mapping[str, str],
    mine: Collection[Key],
    now: Mapping[Key, Image | None],
    is_last: bool,
) -> list[Task]:
    """What has to follow this leg: secrets at once, whatever people are to be told when all of it is there."""
    # Of items that stay as they are, too: they may lack a secret all the same.
    links = {action.key: action.present.link for action in docket.actions if action.present}
    links |= {key: addresses.get(image.native_id, image.link) for key, image in now.items() if image}
    tasks = [task for task in docket.care if task.kind is Care.SECRET and task.key in mine]
    if is_last:
        # What an earlier leg made is new to people as well, although it was there when this leg began.
        touched = stage.ledger.journal.touched(run)
        titles = {a.key: a.states.title for a in docket.actions if touched.get(a.key, MISSING) is None}
        there = {d.key: d.native_id for d in stage.ledger.delivered(run)} if run.leg > 1 else {}
        earlier = looked_up(stage.environment, {key: there[key] for key in titles if key in there})
        links = {key: image.link for key, image in earlier.items() if image} | links
        tasks += [task for task in docket.care if task.kind is Care.WORDS]
        sheets = stage.opened.description.sheets
        covered = given_access([action.item for action in docket.actions], sheets)
        tasks += access_tasks(titles, covered, sheets)
        tasks += tell_tasks(titles, links, sheets)
    return placed(tasks, links)


def _delivery(action: Action, native_id: str, docket: Docket, rows: int | None, sheets: Sheets) -> Delivery:
    # Only the bindings that the item uses: the base has to stay readable when others are mapped anew.
    used = {parsed.key for place in action.item.places if (parsed := parse_token(place.token))}
    bindings = {
        one.need.key: one.native
        for one in docket.mapped
        # What waits for a pause has no value yet, and must not keep the one that it will have from being read.
        if one.need.key in used and one.need.kind != "secret" and one.native is not None
    }
    # As it went in, and not as the package has it: what is still lacking after a pause is the package's change, when
    # the next leg compares.
    form, merged = action.item.form, action.form
    if lacking := docket.bare.get(action.key):
        sheet = sheets[action.item.kind]
        form, merged = hollowed(form, lacking, sheet), hollowed(merged, lacking, sheet)
    base = Base(form, docket.at_first(action.item.states, action), bindings, action.item.schema, action.laid)
    package = (docket.package, docket.source_uid, docket.version)
    return Delivery(action.key, native_id, *package, base, merged, docket.at_first(action.states, action), rows)
