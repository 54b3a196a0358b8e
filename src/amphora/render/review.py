"""The page for whoever approves an import: what will happen, what is at stake, and a place to agree."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from amphora.core.form.routes import told as conversions_told
from amphora.core.merge.compare import is_given_up
from amphora.core.merge.merge import LAST_DELIVERED, PACKAGE, TARGET, By, FieldChange
from amphora.core.merge.phrase import place_phrase
from amphora.core.needs.crosswalk import Mapped, MapState, row_name
from amphora.core.plan.actions import Action, Do
from amphora.core.plan.aftercare import told as care_told
from amphora.core.plan.consents import EDITS, consents_of
from amphora.core.plan.docket import Docket, Parting
from amphora.core.plan.reasons import Reason
from amphora.core.values.keys import kind_of, readable
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents, Level
from amphora.core.values.next_step import blank, to_type
from amphora.core.values.words import counted, few, of_release
from amphora.render.beside import differing, is_long, line_rows
from amphora.render.changes import by_words, rearranged
from amphora.render.page import page
from amphora.render.plain_values import PlainValues
from amphora.render.withdraw import along_words

MOST_TITLES = 40
"""Of the items of one kind, so many are named in the list of what will be there."""

MOST_ITEMS = 400
"""Of items that change, so many are shown field by field: a page with more is read by nobody."""


@dataclass(frozen=True)
class Shown:
    """What the page tells beside the docket: the target as people know it, the account, what the package's signature
    is worth, who agreed and how many have to, and when the page was made."""

    role: str
    region: str
    customer: str
    release: str
    account: str
    signature: str
    agreed: Sequence[str]
    needed: int
    made_at: str


def review_page(docket: Docket, contents: Contents, reasons: Sequence[Reason], shown: Shown, only: str = "") -> str:
    """One self-contained page; `only` narrows the changes down to what changed, clashes or was edited."""
    values = PlainValues.of(docket)
    actions = {action.key: action for action in docket.actions}
    items = [
        {
            "key": readable(one.key),
            "title": one.title,
            "do": _DO[one.do],
            "reason": one.reason,
            "marks": _marks(actions[one.key]),
            "changes": [_change(change, values) for change in one.changes],
        }
        for one in differing(docket, only)
    ]
    # Counted and not listed: whoever approves wants to know what changes.
    same = [a for a in docket.actions if a.do is Do.LEAVE and not (a.comparison and a.comparison.changes)]
    return page(
        "review",
        {
            "docket": docket,
            "shown": shown,
            "sentences": sentences(docket, reasons),
            # By the reasons of the gate: the page must not say that it can go in where the import would refuse.
            "closed": bool(reasons),
            "facts": _facts(docket, contents, shown),
            "reasons": [
                {"message": one.message, "details": list(one.details), "next": str(one.next_step)} for one in reasons
            ],
            "items": items[:MOST_ITEMS],
            "more": max(0, len(items) - MOST_ITEMS),
            "same": len(same),
            "mended": [_mended(action, values) for action in docket.edited],
            "gone": [_gone(docket, number) for number in range(len(docket.retirements))],
            # What was mended there has a chapter of its own.
            "agreed_to": [one for one in consents_of(docket) if one.whose != EDITS],
            "afterwards": _afterwards(docket),
            "needs": [_need(one) for one in docket.mapped if one.need.kind != "url"],
            "findings": [
                {
                    "level": one.level.value,
                    "item": actions[one.item].states.title
                    if one.item in actions
                    else readable(one.item)
                    if one.item
                    else "",
                    "message": one.message,
                }
                for one in docket.findings
                # Notes are counted below: an approver has nothing to decide on them.
                if one.level is not Level.NOTE
            ],
            "notes": sum(one.level is Level.NOTE for one in docket.findings),
            "pauses": [_pause(docket, number) for number in range(len(docket.pauses))],
            "care": [task.words for task in docket.care],
            "conversions": list(conversions_told(docket.converted)),
            "sign": str(to_type("sign", docket.file or docket.usual_file, "--key", blank("NAME"))),
        },
    )


_DO = {"create": "new", "update": "changed", "leave": "stays", "retire": "removed"}


def sentences(docket: Docket, reasons: Sequence[Reason]) -> list[str]:
    """What will happen, in three sentences: what goes where, what of the target's own is at stake, what follows."""
    new, changed = len(docket.by(Do.CREATE)), len(docket.by(Do.UPDATE))
    gone = docket.fated(Parting.RETIRE)
    counts = ((new, "will be new"), (changed, "will change"), (len(gone), "will be removed"))
    parts = [f"{number:,} {words}" for number, words in counts if number]
    if parts:
        # What is counted is said once, with the first number.
        number, _, words = parts[0].partition(" ")
        parts[0] = f"{number} item{'' if number == '1' else 's'} {words}"
    loaded = docket.loading
    idle = "no item there will change" if loaded else "nothing there will change"
    first = f"{docket.title} goes into {docket.target}: {', '.join(parts) or idle}."
    if loaded:
        # People's data: whoever agrees to the rest may not agree to these.
        first += f" {counted(sum(loaded.values()), 'row')} of data go along, into {counted(len(loaded), 'table')}."
        there = [action.states.title for action in docket.actions if action.present and action.key in loaded]
        first += f" Those in {few(there)} stay there, even if it is undone." if there else ""
    rows = sum(one.present.rows or 0 for one in gone)
    edited = docket.edited
    # Told before anything else of the target: it is somebody's work.
    if edited:
        lost = docket.given_up
        undecided = [action for action in edited if action in docket.undecided]
        second = f"Somebody changed {counted(len(edited), 'item')} there directly since the last delivery: "
        second += ", ".join(
            part
            for part in (
                f"on {len(undecided)} of them somebody still has to decide" if undecided else "",
                f"on {len(lost)} of them that is given up" if lost else "",
                ("all of it stays" if not lost and not undecided else "")
                or ("the rest stays" if len({a.key for a in (*lost, *undecided)}) < len(edited) else ""),
            )
            if part
        )
        second += "."
    else:
        second = "Nothing that is to change was changed there directly since the last delivery."
    second += f" With what is removed go {counted(rows, 'row')} of data." if rows else ""
    cut = len({user for user, _, _ in docket.severed})
    if cut:
        uses = "it uses" if cut == 1 else "they use"
        second += f" {counted(cut, 'other item')} there would no longer find what {uses}."
    if docket.shared:
        second += f" Of {counted(len(docket.shared), 'item')} another package's version is in force there."
    if reasons:
        # Each cause once: ten open needs are one reason.
        third = f"It can't go in as it stands ({few(list(dict.fromkeys(r.why.value for r in reasons)), 6)})."
    else:
        third = "It can go in as it stands."
    if docket.pauses:
        third += f" It will stop {counted(len(docket.pauses), 'time')} for something to be set up by hand."
    if docket.care:
        third += f" Afterwards there is something to do: {care_told(docket.care)}."
    return [first, second, third]


def _facts(docket: Docket, contents: Contents, shown: Shown) -> list[tuple[str, str]]:
    there = [shown.role, f"region {shown.region}" if shown.region else "", shown.customer]
    found = [("into", f"{docket.target} ({', '.join(filter(None, there))}){of_release(shown.release)}")]
    found += [("by the account", shown.account)]
    release = of_release(contents.source_release)
    found += [("comes from", f"{contents.source}{release}")]
    # In the exporter's own words, however they are written.
    found += [("the exporter's note", contents.note)] if contents.note else []
    found += [("arrives otherwise than packed", "; ".join(otherwise))] if (otherwise := rearranged(docket)) else []
    found += [("the package is", shown.signature), ("package digest", docket.package_digest)]
    found += [
        ("if it fails", "put back as it was" if docket.if_it_fails.value == "put-back" else "kept as far as it got")
    ]
    agreed = few(list(shown.agreed), 8) or "nobody yet"
    return [*found, ("agreed", f"{agreed}{f' ({shown.needed} needed)' if shown.needed else ''}")]


def _marks(action: Action) -> list[tuple[str, str]]:
    """What an approver has to see at once: tone and words."""
    comparison = action.comparison
    marks = []
    # The gravest first: only the first marks are seen in a long list.
    if comparison and comparison.open:
        marks.append(("bad", f"{counted(len(comparison.open), 'question')} open"))
    if comparison and comparison.local_edits:
        marks.append(("warn", "changed there directly"))
    if comparison and any(c.by is By.CLASH for c in comparison.changes):
        marks.append(("bad", "both sides changed it"))
    if comparison and not comparison.has_base and comparison.changes:
        marks.append(("warn", "nobody knows what was there before"))
    return marks


def _change(change: FieldChange, values: PlainValues) -> dict[str, Any]:
    sides = [values.told(side) for side in (change.last_delivered, change.target, change.package)]
    # Line by line only where both are long: a long text against nothing is shown as new.
    long = is_long(change.target) and is_long(change.package)
    return {
        "where": place_phrase(change.place),
        "sides": sides,
        "by": by_words(change.by),
        "fate": fate_of(change, values),
        "is_open": change.is_open,
        "lines": line_rows(values.lines(change.target), values.lines(change.package)) if long else [],
    }


def fate_of(change: FieldChange, values: PlainValues) -> str:
    """What will stand there afterwards."""
    if change.is_open:
        return "to be decided"
    if isinstance(change.choice, dict):
        return f"as decided: {values.told(change.choice.get('value'))}"
    words = {PACKAGE: "as in the package", TARGET: "stays as it is there", LAST_DELIVERED: "as last delivered"}
    if isinstance(change.choice, str):
        return f"{words.get(change.choice, change.choice)}, as decided"
    if change.by is By.LINES:
        return "both changes, joined line by line"
    return "stays as it is there" if change.by in (By.TARGET, By.BOTH) else "as in the package"


def _mended(action: Action, values: PlainValues) -> dict[str, Any]:
    comparison, row = action.comparison, action.present
    assert comparison is not None
    return {
        "title": action.states.title,
        "key": readable(action.key),
        "who": (row.modified_by if row else "") or "somebody",
        "at": (row.modified_at if row else "") or "",
        "edits": [
            {
                "where": place_phrase(c.place),
                "was": values.told(c.last_delivered),
                "now": values.told(c.target),
                "fate": fate_of(c, values),
                "is_open": c.is_open,
                "is_lost": is_given_up(c),
            }
            for c in comparison.local_edits
        ],
    }


def _gone(docket: Docket, number: int) -> dict[str, Any]:
    one = docket.retirements[number]
    words = {Parting.RETIRE: "removed", Parting.LET_GO: "stays, and nobody's any more", Parting.STAY: "stays"}
    # Told here, for it decides whether somebody agrees: a removal can be taken back.
    kept = "; definition and rows are kept with the run" if one.fate is Parting.RETIRE else ""
    kept += ", its secret is not" if kept and one.has_secret else ""
    return {
        "title": one.present.states.title + along_words(one),
        "key": readable(one.key),
        "fate": words[one.fate] + kept,
        "is_removed": one.fate is Parting.RETIRE,
        "rows": one.present.rows or 0,
        "users": list(one.users),
    }


def _afterwards(docket: Docket) -> list[dict[str, Any]]:
    """What of the package will be there, by kind: titles, with how each stands."""
    kinds: dict[str, list[str]] = {}
    for action in docket.actions:
        states = action.states
        notes = [
            {True: "on", False: "off"}.get(states.is_on, "") if states.is_on is not None else "",
            "not published" if states.is_published is False else "",
        ]
        said = ", ".join(note for note in notes if note)
        kinds.setdefault(kind_of(action.key), []).append(f"{states.title} ({said})" if said else states.title)
    return [
        {"kind": kind, "count": len(titles), "titles": few(sorted(titles), MOST_TITLES)}
        for kind, titles in sorted(kinds.items())
    ]


def _need(mapped: Mapped) -> dict[str, Any]:
    served = {
        MapState.MAPPED: str(mapped.value),
        MapState.GUESSED: f"{mapped.value} (guessed)",
        MapState.LATER: "made during the import, in a pause",
    }
    # Never shown, not even where it is kept: the page goes round by mail.
    is_secret = mapped.need.kind == "secret"
    return {
        "kind": mapped.need.kind,
        "name": row_name(mapped.need.key),
        "value": "entered there by hand, never carried" if is_secret else served.get(mapped.state, "open"),
        "is_open": not is_secret and mapped.state not in (MapState.MAPPED, MapState.LATER),
        "users": len(mapped.need.used_by),
    }


def _pause(docket: Docket, number: int) -> dict[str, Any]:
    leg = docket.pauses[number]
    titles = {action.key: action.states.title for action in docket.actions}
    names = [row_name(key) if key not in titles else titles[key] for key in leg.waits]
    return {
        "after": few([titles[key] for key in leg.keys if key in titles], 8),
        "waits": few(names, 8),
        "who": few(leg.who),
    }
