"""The gate: what has to be true before a docket may be carried out. One pure function for everybody who asks:
`check`, `compare`, `--preview` and `import` show and obey the same reasons, with the same exit code.

Reasons come from needs, steps, decisions and policies, never from findings that somebody may have silenced.
"""

from __future__ import annotations

from collections.abc import Sequence

from amphora.core.form.secrets import to_silence, told
from amphora.core.merge.merge import FieldChange
from amphora.core.merge.phrase import place_phrase
from amphora.core.needs.crosswalk import Mapped, MapState, row_name
from amphora.core.needs.pauses import WORD
from amphora.core.plan.actions import Action, Do, moves
from amphora.core.plan.commands import COMPARED, to_ask_again, to_compare, to_import, to_withdraw
from amphora.core.plan.consents import lacking_consents, to_choose
from amphora.core.plan.decisions import DRAFT, PUBLICATION, SECRETS, THERE
from amphora.core.plan.docket import Docket, Parting
from amphora.core.plan.reasons import Consent, Reason, Standing, Why
from amphora.core.plan.steps import GRANT, Update, permissions_of
from amphora.core.values.keys import Key, kind_of, readable
from amphora.core.values.model import Finding, Level
from amphora.core.values.next_step import advice, blank, to_type
from amphora.core.values.rights import not_permitted
from amphora.core.values.words import counted

MANY_PLACES = 4
"""From so many on the open places of an item are told in one line."""
MOST_NAMED = 8
"""So many items are named one by one in a command that is shown."""
_OWN = frozenset({"permission-missing", "name-taken", "kind-unknown", "schema-other", "conversion-unfit"})
"""Rules that find what the gate knows by itself: said once."""


def reasons_of(docket: Docket, standing: Standing, consent: Consent) -> list[Reason]:
    """Everything that is in the way, what has to be settled first before the rest. Empty: it can be
    carried out. `docket.file` is named wherever the docket was read from a file."""
    if standing.open_run:
        # Half of our own work is there: whatever else one could ask about would be about that.
        return _open_run(docket, standing)
    if standing.paused_run:
        words = f"{docket.package} is on its way into {docket.target} already: {standing.paused_run} is paused."
        return [Reason(Why.OPEN_RUN, words, (), to_type("resume", standing.paused_run), standing.paused_run)]
    # A missing permission or mapping does not matter to an import that has nothing to do; a package that is not
    # trusted always does.
    if docket.is_settled:
        return _policy(standing)  # nothing will be done that could go wrong
    decisions = _decisions(docket, consent)
    return [
        *_policy(standing),
        *_upstream(standing, consent),
        *_agreement(docket, standing, consent),
        *_regions(docket, standing),
        *_unknown_kinds(docket, standing),
        *_fixed(docket, standing),
        *_permissions(docket, standing),
        *_taken(docket),
        *_ids(docket),
        *_needs(docket),
        *_pauses(docket, consent),
        *_blocked(docket),
        *_stranded(docket),
        *_leaks(docket),
        *decisions,
        *_findings(docket),
        # The docket in which somebody decides is shown to somebody, and covers what has to be agreed to.
        *([] if decisions else lacking_consents(docket, consent)),
    ]


def _open_run(docket: Docket, standing: Standing) -> list[Reason]:
    undo = to_type("undo", standing.open_run, "--yes")
    words = f"{standing.open_run} into {docket.target} is {standing.open_state}: some of it may be there."
    if standing.can_go_on:
        words += f" Go on with it, or put it back with amphora undo {standing.open_run}."
        return [Reason(Why.OPEN_RUN, words, (), to_type("resume", standing.open_run), standing.open_run)]
    whole = "; what it was to bring can then be imported as a whole" if docket.actions else ""
    return [
        Reason(
            Why.OPEN_RUN,
            f"{words} Put it back first{whole}.",
            next_step=undo.then(to_ask_again(docket)),
            subject=standing.open_run,
        )
    ]


def _policy(standing: Standing) -> list[Reason]:
    return [Reason(Why.POLICY, standing.policy)] if standing.policy else []


def _upstream(standing: Standing, consent: Consent) -> list[Reason]:
    # A run that goes on was let in when it began.
    if not standing.upstream or consent.run:
        return []
    return [Reason(Why.UPSTREAM, standing.upstream, (), standing.upstream_step)]


def _agreement(docket: Docket, standing: Standing, consent: Consent) -> list[Reason]:
    lacking = standing.approvals - len(standing.agreed)
    # A run that goes on was agreed to when it began; a withdrawal has no docket file that could be signed.
    if lacking <= 0 or consent.run or not docket.actions:
        return []
    words = f"An import into {docket.target} needs the agreement of {standing.approvals}"
    words += f" trusted {'person' if standing.approvals == 1 else 'people'} beside you; there "
    words += f"{'is' if len(standing.agreed) == 1 else 'are'} {len(standing.agreed) or 'none'}."
    details = (
        *(f"agreed: {one}" for one in standing.agreed),
        *(f"does not count: {one}" for one in standing.not_counted),
    )
    if docket.file:
        sign = to_type("sign", docket.file, "--key", blank("NAME"))
        return [Reason(Why.AGREEMENT, words, details, advice("Have others look at it, and sign it", sign))]
    make = to_compare(docket, "--docket", docket.usual_file)
    return [Reason(Why.AGREEMENT, words, details, make)]


def _regions(docket: Docket, standing: Standing) -> list[Reason]:
    if not standing.bound:
        return []
    where = standing.region or "unknown"
    words = f"{docket.target} is in region {where}: data that stays elsewhere would go there."
    details = tuple(f"{readable(key)}: stays in {region}" for key, region in standing.bound.items())
    how = advice("Leave them out, or change policies.stay in amphora.toml.")
    if not standing.bound.keys() - docket.records.keys():
        # Only their rows stay at home: what they are may go.
        how = advice("Leave their rows out (without --with records), or change policies.stay in amphora.toml.")
    return [Reason(Why.REGION, words, details, how)]


def _unknown_kinds(docket: Docket, standing: Standing) -> list[Reason]:
    unfit = [one for one in docket.converted if one.unfit]
    # By the keys of the package: whoever leaves them out names them as they are packed.
    lost = tuple(
        f"{readable(one.packed_key)} at {place_phrase(place)}: {why}" for one in unfit for place, why in one.unfit
    )
    keys = {one.key for one in unfit}
    written = [a for a in docket.actions if a.do in (Do.CREATE, Do.UPDATE) and a.key not in keys]
    # Kinds that are not carried, such as connections, have nothing to do with what can be written.
    schemas = {kind: sheet.schema for kind, sheet in standing.sheets.items() if sheet.is_carried}
    unknown = [readable(a.key) for a in written if a.item.kind not in schemas]
    other = [
        f"{readable(a.key)} has schema {a.item.schema}, {docket.target} has {schemas[a.item.kind]}"
        for a in written
        if schemas.get(a.item.kind, a.item.schema) != a.item.schema
    ]
    found = []
    if lost:
        words = f"{docket.target} has another shape, which can't hold all of what these are."
        step = advice(
            "Mend them in the source, or leave them out with",
            to_import(docket, "--leave", blank("ITEM")),
        )
        found.append(Reason(Why.UNKNOWN, words, lost, step))
    if unknown:
        found.append(Reason(Why.UNKNOWN, f"{docket.target} knows no items of this kind.", tuple(unknown)))
    if other:
        found.append(Reason(Why.UNKNOWN, f"{docket.target} has this kind in another shape.", tuple(other)))
    return found


def _fixed(docket: Docket, standing: Standing) -> list[Reason]:
    """What a target never changes: items of a kind, or their titles, folders, members."""
    sheets = standing.sheets
    fixed = {kind for kind, sheet in sheets.items() if sheet.is_fixed}
    changed = [step.key for step in docket.steps if isinstance(step, Update) and kind_of(step.key) in fixed]
    kinds = " or ".join(sorted({sheets[kind_of(key)].singular for key in changed}))
    kept = {
        action.key: f"{readable(action.key)}: another {' and '.join(map(place_phrase, places))}"
        for action in docket.actions
        if action.item.kind in sheets and (places := sorted(_places_of(action) & sheets[action.item.kind].fixed))
    }
    keys = sorted({*changed, *kept})
    # So many that nobody would read the command are for whoever asks to name.
    asked = [f"--choose={key}=target" for key in keys] if len(keys) <= MOST_NAMED else [blank("--choose ITEM=target")]
    keep = to_compare(docket, *asked, "--docket", docket.usual_file)
    how = advice("Bring a copy beside it (import --copy NAME), or keep what is there", keep)
    words = {
        f"In {docket.target} a {kinds} is made and removed, and never changed.": list(map(readable, changed)),
        f"{docket.target} never changes this of what is there.": list(kept.values()),
    }
    return [Reason(Why.UNKNOWN, told, tuple(lines), how) for told, lines in words.items() if lines]


def _places_of(action: Action) -> set[str]:
    """What an update changes: its title, its folder, members of its definition."""
    if action.do is not Do.UPDATE or action.present is None:
        return set()
    was, wanted = action.present.states, action.states
    states = {"state:title": was.title != wanted.title, "state:folder": was.folder != wanted.folder}
    changes = action.comparison.changes if action.comparison else ()
    # By the first step of a place in the definition: `/kind` of `/kind/of`.
    members = {f"/{change.place.split('/')[1]}" for change in changes if moves(change) and change.place[0] == "/"}
    return members | {place for place, is_another in states.items() if is_another}


def _permissions(docket: Docket, standing: Standing) -> list[Reason]:
    # Reading is no step, and without it nothing here could be known.
    wanted = {"read": [], **permissions_of(docket.steps, standing.sheets)}
    missing = not_permitted(wanted, standing.permissions, standing.lacks)
    if not missing:
        return []
    details = tuple(
        f"{name}: {', '.join(map(readable, keys[:3]))}{f' and {len(keys) - 3} more' if len(keys) > 3 else ''}"
        if keys
        else name
        for name, keys in sorted(missing.items())
    )
    # The least role: nobody should ask for more than it takes.
    enough = [(len(may), role) for role, may in standing.roles.items() if wanted.keys() <= may]
    role = f" The least role that would do is {min(enough)[1]!r}." if enough else ""
    words = f"{standing.account} may not {', '.join(sorted(missing))} in {docket.target}.{role}"
    how = advice("Sign in with another account, or ask for the permission.")
    if set(missing) == {GRANT} and docket.actions:
        # Everything else may go in, and whoever may do it gives access afterwards.
        without = to_import(docket, "--without", "access")
        how = advice("Sign in with another account, or leave the access rules out", without)
    return [Reason(Why.PERMISSION, words, details, how)]


def _ids(docket: Docket) -> list[Reason]:
    if not docket.id_taken:
        return []
    words = f"{docket.target} has other items with the ids of these, which are to be kept."
    details = tuple(readable(key) for key in docket.id_taken)
    return [Reason(Why.TAKEN, words, details, advice("Import them without --ids keep: they get others."))]


def _taken(docket: Docket) -> list[Reason]:
    details = tuple(f"{readable(key)} would get the place of {readable(other)}" for key, other in docket.taken)
    if not details:
        return []
    where = "an item" if len(details) == 1 else f"{len(details)} items"
    words = f"{docket.target} has another item where {where} would go."
    same = to_import(docket, "--same", docket.taken[0][0])
    return [Reason(Why.TAKEN, words, details, advice("Rename one of them, or say that they are one", same))]


def _needs(docket: Docket) -> list[Reason]:
    # Only what is written needs anything: an item that stays as it is gets along with what it has.
    used = {key for a in docket.actions if a.do in (Do.CREATE, Do.UPDATE) for key in a.needs}
    # Secrets are entered afterwards, and named in the list of what is left to do: nothing waits for them.
    mine = [one for one in docket.mapped if one.need.kind != "secret" and one.need.key in used]
    open_ = [one for one in mine if one.state in (MapState.OPEN, MapState.GUESSED)]
    found = []
    if open_:
        count = "A need" if len(open_) == 1 else f"{len(open_)} needs"
        words = f"{count} that {docket.target} does not know how to serve yet."
        details = tuple(_need_words(one) for one in open_)
        found.append(Reason(Why.NEED, words, details, to_type("map", docket.name, docket.target)))
    return found


def _pauses(docket: Docket, consent: Consent) -> list[Reason]:
    """What can't be there without what is made from it; and pauses, where nobody is to come back."""
    found = []
    for need in dict.fromkeys(need for _, need in docket.stuck):
        users = tuple(f"{readable(key)} needs it" for key, other in docket.stuck if other == need)
        words = f"{row_name(need)!r} is made from {readable(docket.makers[need])}, which can't be there without it."
        row = advice("Say in the crosswalk what serves instead, then", to_type("map", docket.name, docket.target))
        found.append(Reason(Why.PAUSE, words, users, row, docket.makers[need]))
    if docket.pauses and not consent.may_pause:
        details = tuple(
            f"once {readable(docket.makers[need])} is there, for {_awaited(docket, need)}"
            for leg in docket.pauses
            for need in leg.waits
        )
        count = "once" if len(docket.pauses) == 1 else f"{len(docket.pauses)} times"
        found.append(Reason(Why.PAUSE, f"It would have to pause {count}.", details, advice("Leave --no-pause out.")))
    return found


def _awaited(docket: Docket, need: Key) -> str:
    """What a pause is for."""
    if need.startswith(WORD):
        about = docket.pause_after.get(docket.makers[need], "")
        return f"somebody's word{f' ({about})' if about else ''}"
    return f"{row_name(need)!r} to be made"


def _need_words(one: Mapped) -> str:
    guess = f" (perhaps {one.value!r}: {one.reason})" if one.state is MapState.GUESSED else ""
    why = f": {one.reason}" if one.state is MapState.OPEN and one.reason else ""
    return f"{one.need.kind} {row_name(one.need.key)!r} is not mapped{guess}{why}"


def _stranded(docket: Docket) -> list[Reason]:
    if not docket.stranded:
        return []
    titles = {action.key: action.present.states.title for action in docket.actions if action.present}
    first = docket.stranded[0][1]
    keep = to_import(docket, "--title", f"{readable(first)}={titles[first]}")
    return [
        Reason(
            Why.BLOCKED,
            f"What gets another title is named by it in {docket.target}, by what is no part of this.",
            tuple(f"{readable(key)} is named by {readable(user)}" for user, key in docket.stranded),
            advice("Bring along what names it, or keep its title there", keep),
        )
    ]


def _blocked(docket: Docket) -> list[Reason]:
    # Users that go in the same set do not block: they are not among these.
    blocked = [one for one in docket.fated(Parting.RETIRE) if one.users]
    if not blocked:
        return []
    along = {one.key: one.along for one in docket.retirements if one.along}
    taken = [user for one in blocked for user in one.users if along.get(user) == one.key]
    details = [
        f"{readable(one.key)} would take {readable(user)} along"
        if along.get(user) == one.key
        else f"{readable(one.key)} is used by {readable(user)}"
        for one in blocked
        for user in one.users
    ]
    # Letting go always helps: it takes nothing from anybody.
    let_go = [word for one in blocked for word in ("--let-go", readable(one.key))]
    after = to_withdraw(docket, *let_go)
    if docket.actions:
        after = advice("Leave it there, let it go with --let-go, or change what uses it first.")
    words = f"What is still used in {docket.target} can't be retired."
    if taken:
        # Somebody has to say so of each: what goes along may be another package's, or nobody's.
        words = f"What takes others along in {docket.target} can't be retired without them."
        gone = [one.key for one in docket.fated(Parting.RETIRE)] + taken
        named = [word for key in dict.fromkeys(gone) for word in ("--retire", readable(key))]
        after = to_import(docket, *named, but="--retire") if docket.actions else after
    return [Reason(Why.BLOCKED, words, tuple(details), after, blocked[0].key)]


def _leaks(docket: Docket) -> list[Reason]:
    if not docket.leaks:
        return []
    # As much as may be shown, and the place: whoever mends it has to find it.
    details = tuple(told(*one) for one in docket.leaks)
    words = f"What would be written to {docket.target}, or kept of it, holds what looks like a secret in clear."
    return [Reason(Why.SECRET, words, details, to_silence(*docket.leaks[0]), docket.leaks[0][0])]


def _decisions(docket: Docket, consent: Consent) -> list[Reason]:
    details = tuple(line for action in docket.undecided if action.comparison for line in _open(action))
    if not details:
        return []
    count = "one item" if len(docket.undecided) == 1 else f"{len(docket.undecided)} items"
    after = advice(f"Answer the questions in {docket.file}, then", to_type("import", docket.file))
    if not docket.file:
        after = to_choose(docket, consent.run, [action.key for action in docket.undecided])
    return [Reason(Why.DECISION, f"Somebody has to decide on {count}.", details, after)]


def _open(action: Action) -> list[str]:
    """Where somebody has to decide on an item: each place, or all of them in one line where they are many."""
    changes = action.comparison.open if action.comparison else ()
    if len(changes) < MANY_PLACES:
        return [f"{readable(action.key)}{_at(change.place)}: {_why_asked(change)}" for change in changes]
    first = ", ".join(place_phrase(change.place) for change in changes[: MANY_PLACES - 1])
    by = " and ".join(dict.fromkeys(str(change.by) for change in changes))
    left = len(changes) - MANY_PLACES + 1
    return [f"{readable(action.key)} at {first} and {counted(left, 'more place')}: {by}"]


def _at(place: str) -> str:
    return "" if place == THERE else f" at {place_phrase(place)}"


def _why_asked(change: FieldChange) -> str:
    # What would happen to the item as a whole is said in words already.
    if change.place in (DRAFT, SECRETS, PUBLICATION, THERE):
        return f"{change.target}; with the package {change.package}"
    return str(change.by)


def _findings(docket: Docket) -> list[Reason]:
    errors: Sequence[Finding] = [
        finding for finding in docket.findings if finding.level is Level.ERROR and finding.rule not in _OWN
    ]
    if not errors:
        return []
    count = "one error" if len(errors) == 1 else f"{len(errors)} errors"
    # Check knows nothing of what was chosen for this import, and might find nothing at all.
    after = to_type("check", docket.name, docket.target)
    otherwise = f"Choose otherwise, or see to it in {docket.target}"
    if docket.file and (docket.left_out or docket.arrivals or docket.is_decided):
        after = advice(otherwise, to_type("compare", "--refresh", docket.file))
    elif not docket.file and any(words[0] in COMPARED for words in docket.words):
        after = advice(otherwise, to_compare(docket))
    # What many items lack is told once; `check` says of each where.
    details = tuple(dict.fromkeys(f.message for f in errors))
    return [Reason(Why.FINDING, f"Check found {count}.", details, after, errors[0].item)]
