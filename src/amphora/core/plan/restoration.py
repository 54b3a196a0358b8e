"""Putting back is a comparison, not a replay: what was, what is, and which states are our own decide, item by
item, whether it is put back whole or left whole and named (plan, sections 2 and 3)."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import field, replace

from amphora.core.plan.fates import Evidence, Fate, Verdict, judged
from amphora.core.plan.places import moves_first
from amphora.core.plan.rests import at_rest
from amphora.core.plan.states import Habits, Image, is_same
from amphora.core.plan.steps import (
    Complete,
    Create,
    CreateBare,
    Grant,
    LoadRows,
    Publish,
    RetireSet,
    Step,
    Switch,
    TakeBack,
    Update,
    Version,
    WriteAll,
)
from amphora.core.values.graph import in_order
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import States


@dataclass(frozen=True)
class Restoration:
    """What putting a run back will do."""

    evidence: Mapping[Key, Evidence]
    verdicts: Mapping[Key, Verdict]
    steps: tuple[Step, ...] = field(default=())

    def by(self, fate: Fate) -> list[Key]:
        """The items with this fate."""
        return [key for key, verdict in self.verdicts.items() if verdict.fate is fate]

    @property
    def left(self) -> list[str]:
        """What stays as it is now, each with its reason."""
        return [
            f"{self.evidence[key].title!r} stays as it is: {verdict.reason}"
            for key, verdict in self.verdicts.items()
            if verdict.fate is Fate.LEFT
        ]

    @property
    def is_settled(self) -> bool:
        """Whether another attempt would find nothing else to do."""
        return not any(verdict.is_unsettled for verdict in self.verdicts.values())

    @property
    def notes(self) -> list[str]:
        """What is worth knowing and asks for nothing."""
        return [verdict.note for verdict in self.verdicts.values() if verdict.note]


def decide(
    evidence: Iterable[Evidence],
    uses: Mapping[Key, Collection[Key]],
    used: Mapping[Key, Collection[Key]],
    titles: Mapping[Key, str],
    habits: Habits,
    excluded: Mapping[Key, str] | None = None,
    naming: Mapping[Key, Collection[Key]] | None = None,
    parted: Mapping[Key, Collection[Key]] | None = None,
    held: Mapping[Key, Collection[Key]] | None = None,
) -> Restoration:
    """The fate of every touched item. `uses` says what each item of the target uses now, `used` what each touched
    one used before; `excluded` what can't be put back, with the reason (the environment refused); `naming` what each
    item names by its title, `parted` of what it uses parts that putting back would take away; `held` what stands
    inside of what.

    What the run made and somebody needs stays: a changed item keeps working, whole, with all that it uses.
    """
    found = {one.key: one for one in evidence}
    verdicts = {key: judged(one, habits) for key, one in found.items()}
    verdicts |= {
        key: Verdict(Fate.LEFT, why, is_unsettled=True) for key, why in (excluded or {}).items() if key in verdicts
    }
    # Only what the run made can go, and so only that can be missed by somebody.
    made = {k for k, one in found.items() if one.before is None and one.now and verdicts[k].fate is Fate.RESTORE}
    users: dict[Key, list[Key]] = {}
    for user, keys in uses.items():
        for key in keys:
            if key in made and key != user:
                users.setdefault(key, []).append(user)
    naming = naming or {}
    renamed = {key for key, one in found.items() if one.is_renamed}
    # A table that somebody works on is none without its columns. One that only stays because it is used is.
    changed = [key for key in sorted(held or {}) if key in verdicts and verdicts[key].fate is Fate.LEFT]
    for holder in changed:
        why = f"{titles.get(holder, holder)!r}, which stays, holds it"
        inside = sorted(made.intersection((held or {}).get(holder, ())))
        verdicts |= {key: Verdict(Fate.LEFT, why) for key in inside if verdicts[key].fate is Fate.RESTORE}
        changed += [key for key in inside if key not in changed]
    # To a fixed point: an item that stays keeps what it uses, which keeps in turn what that one uses, and the titles
    # by which it names others. Each round leaves at least one more item, so that there are never more rounds than
    # items.
    while True:
        keeping = {
            key: (keeper, "uses it")
            for key in sorted(made)
            if verdicts[key].fate is Fate.RESTORE
            and (keeper := next((u for u in users.get(key, ()) if _stays(u, found, verdicts)), None))
        }
        keeping |= {
            key: (user, "names it by its title")
            for user, keys in sorted(naming.items())
            for key in sorted(renamed & set(keys) - {user})
            if verdicts[key].fate is Fate.RESTORE and _is_left(user, verdicts)
        }
        keeping |= {
            key: (user, "uses a part of it that was not there before")
            for user, keys in sorted((parted or {}).items())
            for key in sorted(set(keys) - {user})
            if verdicts[key].fate is Fate.RESTORE and _is_left(user, verdicts)
        }
        if not keeping:
            break
        for key, (keeper, how) in keeping.items():
            why = ", which stays," if keeper in verdicts else ""
            verdicts[key] = Verdict(Fate.LEFT, f"{titles.get(keeper, keeper)!r}{why} {how}")
    # What the run wrote only because of such a title is written back with it.
    back = {key for key in renamed if verdicts[key].fate is Fate.RESTORE}
    for user, keys in naming.items():
        if not back.isdisjoint(set(keys) - {user}) and user in verdicts and verdicts[user].fate is Fate.NOTHING:
            verdicts[user] = Verdict(Fate.RESTORE)
    # What is made again has another id, and whatever still names the old one leads nowhere.
    again = {key for key, one in found.items() if one.now is None and verdicts[key].fate is Fate.RESTORE}
    for key, verdict in list(verdicts.items()):
        if verdict.fate is Fate.NOTHING and found[key].now and not again.isdisjoint(set(used.get(key, ())) - {key}):
            verdicts[key] = replace(verdict, fate=Fate.RESTORE)
    restoration = Restoration(found, verdicts)
    return replace(restoration, steps=tuple(steps_of(restoration, used, habits)))


def _is_left(user: Key, verdicts: Mapping[Key, Verdict]) -> bool:
    """Whether nobody writes an item: no run touched it, or it stays as it is."""
    return user not in verdicts or verdicts[user].fate is Fate.LEFT


def _stays(user: Key, found: Mapping[Key, Evidence], verdicts: Mapping[Key, Verdict]) -> bool:
    """Whether a user goes on using what it uses now: nobody's run touched it, or it is left."""
    if user not in verdicts:
        return True
    # As it was before the run, when it can't have used what the run made, unless it was written back in between by
    # somebody: the look decides.
    if verdicts[user].fate is Fate.NOTHING:
        return found[user].now is not None
    return verdicts[user].fate is Fate.LEFT


def steps_of(restoration: Restoration, used: Mapping[Key, Collection[Key]], habits: Habits) -> list[Step]:
    """The plan, used before user as it was before: places freed, what was retired made again, definitions and
    states restored, what was made retired as one set. What can't be put back, an id, comes with it: new ids are
    recorded as links."""
    # Only what is put back has steps. What has "nothing to do" is not written again: a write would move its revision,
    # and name us as the last person who changed it.
    todo = [restoration.evidence[key] for key in restoration.by(Fate.RESTORE)]
    makes = {one.key: one.before for one in todo if one.now is None and one.before}
    pairs = {one.key: (one.before, one.now) for one in todo if one.now and one.before}
    going = tuple(one.key for one in todo if one.before is None and one.now)
    held = {one.key: one.now.place for one in restoration.evidence.values() if one.now}
    wanted = {one.key: one.before.place for one in todo if one.before}
    steps: list[Step] = [] if habits.is_atomic else list(moves_first(held, wanted, going))
    order = [k for group in in_order({k: used.get(k, ()) for k in {**makes, **pairs}}) for k in group]
    if habits.is_atomic:
        written = [k for k in order if k in makes or _differs(*pairs[k], habits)]
        steps += [WriteAll(tuple(written), "live")] if written else []
    else:
        steps += _made_again({k: image for k, image in makes.items() if image}, used, habits)
        for key in order:
            if key in pairs:
                # The same as before, it is there for what it names: another title, or another id, is written into it.
                names_again = not makes.keys().isdisjoint(used.get(key, ()))
                steps += _restored(key, *pairs[key], habits) or _again(key, *pairs[key], habits, names_again)
        # An attempt that was cut off may have made a table again without its rows. Only into empty tables: rows
        # beside those that people have typed since would be doubled.
        emptied = [key for key in pairs if restoration.evidence[key].counts_rows and not pairs[key][1].rows]
        steps += [LoadRows((key,), pairs[key][0].rows) for key in emptied if pairs[key][0].rows]
        for key in order:
            steps += _states(key, makes.get(key) or pairs[key][0], pairs.get(key, (None, None))[1], habits)
    # Retired last, as in an import: until then everything that was made is there, and a failure before this step
    # leaves nothing that refers to nothing.
    kinds = {one.key: image.kind for one in todo if (image := one.before or one.now)}
    on = {one.key for one in todo if one.now and one.now.states.is_on}
    steps = [_granting(step, kinds, habits) for step in steps]
    return at_rest([*steps, *([RetireSet(going)] if going else [])], on, habits)


def _granting(step: Step, kinds: Mapping[Key, str], habits: Habits) -> Step:
    """The step, as giving access where it writes what does. In its place: on the way back nobody is let in to
    anything that was not there for them before."""
    if type(step) not in (Create, Update) or not habits.sheets[kinds[step.key]].is_access:
        return step
    assert isinstance(step, Create | Update)
    return Grant(step.keys, (), step.version)


def _made_again(images: Mapping[Key, Image], uses: Mapping[Key, Collection[Key]], habits: Habits) -> list[Step]:
    steps: list[Step] = []
    groups = in_order({key: uses.get(key, ()) for key in images})
    for group in groups:
        is_circle = len(group) > 1 or group[0] in uses.get(group[0], ())
        for position, key in enumerate(group):
            version: Version = "live" if images[key].live is not None else "draft"
            # As in an import: without the references to what comes after, and completed once all are there.
            if is_circle:
                steps.append(CreateBare((key,), tuple(group[position:]), version))
            else:
                steps.append(Create((key,), (), version))
        if is_circle:
            steps += [Complete((key,), "live" if images[key].live is not None else "draft") for key in group]
    # Used before user again: rows may name rows of what is used, and these have to be there by then.
    for key in (key for group in groups for key in group):
        image = images[key]
        if habits.drafts(image.kind) and image.live is not None:
            steps.append(Publish((key,)))
            steps += [Update((key,), "draft")] if image.draft is not None else []
        # Kinds without drafts are published in place.
        elif image.states.is_published:
            steps.append(Publish((key,)))
        if image.rows:
            steps.append(LoadRows((key,), image.rows))
    return steps


def _restored(key: Key, before: Image, now: Image, habits: Habits) -> list[Step]:
    """An item that is there, given back what differs, whatever it is."""
    if not habits.drafts(before.kind):
        steps: list[Step] = [Update((key,), "live")] if _differs(before, now, habits) else []
        if bool(before.states.is_published) != bool(now.states.is_published):
            steps.append(Publish((key,)) if before.states.is_published else TakeBack((key,)))
        return steps
    if before.live is None:
        # Taken back before anything is written, for publishing a draft is one click of anybody's away. That turns the
        # live version into the draft: what is left to write is compared with it.
        first: list[Step] = [TakeBack((key,))] if now.live is not None else []
        after = replace(now, live=None, draft=now.newest)
        return [*first, *([Update((key,), "draft")] if _differs(before, after, habits) else [])]
    is_live_same = _one(before, before.live, habits) == _one(now, now.live, habits)
    # Where only the draft differs the live version isn't touched at all: people are working with it, and publishing
    # starts flows anew.
    if is_live_same and before.draft is not None:
        return [Update((key,), "draft")] if _differs(before, now, habits) else []
    if is_live_same and now.draft is None and not _differs(before, now, habits):
        return []
    # Without a draft of its own, title and folder are written with the live definition, which publishing
    # then takes out of the draft again.
    tail: list[Step] = [Update((key,), "draft")] if before.draft is not None else []
    return [Update((key,), "live"), Publish((key,)), *tail]


def _states(key: Key, before: Image, now: Image | None, habits: Habits) -> list[Step]:
    # Where a write sets the switch it has been set already.
    if habits.writes_states or before.states.is_on is None:
        return []
    # What is made again begins switched off, whatever it was before.
    is_on_now = bool(now.states.is_on) if now else False
    return [Switch((key,), bool(before.states.is_on))] if is_on_now != bool(before.states.is_on) else []


def _again(key: Key, before: Image, now: Image, habits: Habits, names_again: bool) -> list[Step]:
    if not names_again and not is_same(habits.mark(before), habits.mark(now)):
        return []
    if not habits.drafts(before.kind) or before.live is None:
        return [Update((key,), "draft" if habits.drafts(before.kind) else "live")]
    return [Update((key,), "live"), Publish((key,))]


def _differs(before: Image, now: Image, habits: Habits) -> bool:
    """Whether definition, draft, title or folder differ; the switch too where a write sets it."""
    states = now.states
    if not habits.writes_states:
        states = replace(states, is_on=before.states.is_on)
    # Publishing has steps of its own: whether it differs must not make the definition be written again.
    alike = replace(now, states=replace(states, is_published=before.states.is_published))
    return not is_same(habits.mark(alike), habits.mark(before))


def _one(image: Image, definition: object, habits: Habits) -> str:
    return habits.mark(Image("", image.kind, (), States(""), definition))
