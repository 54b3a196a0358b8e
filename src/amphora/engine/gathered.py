"""What an export takes: what is asked for and all that it uses, read until nothing moves meanwhile."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from amphora.core.form.attachments import without_attachments
from amphora.core.form.places import values_at
from amphora.core.values.canon import NotCanonical
from amphora.core.values.errors import NotReady, Unavailable
from amphora.core.values.keys import Key, kind_of, readable
from amphora.core.values.late import dataclass
from amphora.core.values.model import Item
from amphora.core.values.next_step import advice
from amphora.core.values.pace import uncollected
from amphora.core.values.raw import Raw
from amphora.core.values.tokens import parse_token
from amphora.engine.session import Session
from amphora.engine.sides import Side, read_items
from amphora.environments.contract import Take

if TYPE_CHECKING:
    from amphora.engine.export import ExportRequest

ATTEMPTS = 5
AT_ONCE = 500


@dataclass(frozen=True)
class Gathered:
    """Items read consistently, with the reason why each is in."""

    items: dict[Key, Item]
    why: dict[Key, str]
    files: dict[str, Raw]
    dead: dict[Key, tuple[str, ...]]
    """The places of ids that led nowhere in the source, and were left out."""


def gather(
    session: Session, side: Side, asked: Sequence[Key], request: ExportRequest, left: Collection[Key]
) -> Gathered:
    """Index, read, index again, until the revisions agree."""
    environment = side.opened.environment
    # No environment gives a snapshot of many items. Reading between two sweeps of the index that agree is one.
    for _ in range(ATTEMPTS):
        before = {row.native_id: row.revision for row in environment.index()}
        with uncollected():
            found = gather_once(session, side, asked, request, left)
        after = {row.native_id: row.revision for row in environment.index()}
        # Only of what was packed: in a busy environment something else always moves.
        moved = [k for k, item in found.items.items() if before.get(item.native_id) != after.get(item.native_id)]
        if not moved:
            return found
    raise Unavailable(
        f"{readable(moved[0])} keeps changing in {side.name} while it is read.",
        subject=moved[0],
        next_step=advice("Ask whoever is working on it to pause, then export again."),
    )


def gather_once(
    session: Session, side: Side, asked: Sequence[Key], request: ExportRequest, left: Collection[Key]
) -> Gathered:
    """What is asked for with all that it uses, in one reading."""
    items: dict[Key, Item] = {}
    files: dict[str, Raw] = {}
    dead: dict[Key, tuple[str, ...]] = {}
    why = dict.fromkeys(asked, "asked for")
    waiting, held = list(asked), _Held(side, request.take, left)
    held.whole.update(asked)
    while waiting:
        _refuse_never_published(waiting, side, request.take)
        read: dict[Key, Item] = {}
        for some in _batches(waiting):
            guides = session.ledger.last_forms(side.uid, some)
            batch, _, noticed = read_items(side, some, request.take, guides, binds_new=True)
            for key, item in batch.items():
                row = side.by_key[key]
                # Told in the package and not only on the screen: whoever imports it wants to know what did not come
                # along.
                if row.has_draft and request.take == "live":
                    item = replace(item, unpublished=f"by {row.modified_by or 'somebody'}, {row.modified_at or ''}")
                read[key] = _exact(item if request.attachments else without_attachments(item))
                files |= noticed[key].files if request.attachments else {}
                # Told with the export and not kept: the package has no place for what is not in it.
                dead |= {key: noticed[key].dead} if noticed[key].dead else {}
            session.listener(f"reading {side.name}", len(items) + len(read), len(items) + len(waiting))
        items |= read
        waiting = []
        for key, item in read.items():
            held.note(item)
            for used in sorted(item.uses()):
                # Breadth first, so that the reason that is told is the nearest one.
                if used in side.by_key and used not in why and used not in left:
                    why[used] = f"used by {readable(key)}"
                    waiting.append(used)
        if not waiting:
            found = held.found(items.keys())
            why |= {key: f"held by {readable(holder)}" for key, holder in found.items()}
            waiting += found
        waiting.sort()
    return Gathered(dict(sorted(items.items())), why, dict(sorted(files.items())), dead)


class _Held:
    """What comes along because something that is packed holds it: the pages of an app. `whole` are those that are
    packed for their own sake: what is there only to hold something doesn't bring the rest of what it holds."""

    def __init__(self, side: Side, take: Take, left: Collection[Key]) -> None:
        self._side, self._take = side, take
        sheets = side.opened.description.sheets
        self._sheets = {kind: sheet for kind, sheet in sheets.items() if sheet.held_by}
        self._holders: dict[Key, set[Key]] | None = None
        self._left = left
        self.whole = set[Key]()

    def note(self, item: Item) -> None:
        """What an item uses is packed for its own sake, but for what only holds it."""
        self.whole |= item.uses() - self._of(item)

    def _of(self, item: Item) -> set[Key]:
        """What holds an item."""
        sheet = self._sheets.get(item.kind)
        named = [value for path in sheet.held_by for value in values_at(item.form, path)] if sheet else []
        tokens = [parse_token(value) for value in named if isinstance(value, str)]
        return {token.key for token in tokens if token}

    def found(self, packed: Collection[Key]) -> dict[Key, Key]:
        """What is held by something of this that is whole, each with what holds it; it is whole, then, too."""
        if not self._sheets or self.whole.isdisjoint(packed):
            return {}
        if self._holders is None:
            rows = self._side.by_key
            keys = [key for key, row in rows.items() if row.kind in self._sheets and key not in self._left]
            # One that was never published isn't asked for by anybody: it stays, where what is live is taken.
            keys = [key for key in keys if self._take == "draft" or not rows[key].is_drafted_only]
            # Without giving new names: those are for what is packed.
            read, _, _ = read_items(self._side, sorted(keys), self._take)
            self._holders = {key: self._of(item) for key, item in read.items()}
        new = {
            key: min(mine)
            for key, holders in self._holders.items()
            if key not in packed and (mine := holders & self.whole & set(packed))
        }
        self.whole |= new.keys()
        return new


def _batches(keys: Sequence[Key]) -> Iterable[Sequence[Key]]:
    return (keys[start : start + AT_ONCE] for start in range(0, len(keys), AT_ONCE))


def access_rules(side: Side, items: Mapping[Key, Item], take: Take) -> dict[Key, str]:
    """The items of the source that give access to some of these, as their kind sheet says, each with why it comes."""
    sheets = side.opened.description.sheets
    rules = [key for key, row in side.by_key.items() if sheets[row.kind].is_access and not row.is_drafted_only]
    read, _, _ = read_items(side, sorted(rules), take)
    found: dict[Key, str] = {}
    for key, rule in read.items():
        given = [used for used in sorted(rule.uses()) if kind_of(used) in sheets[rule.kind].access and used in items]
        if given:
            more = f" and {len(given) - 1} more" if given[1:] else ""
            found[key] = f"gives access to {readable(given[0])}{more}"
    return found


def _refuse_never_published(keys: Iterable[Key], side: Side, take: Take) -> None:
    unborn = [key for key in keys if side.by_key[key].is_drafted_only] if take == "live" else []
    if unborn:
        raise NotReady(
            f"{side.by_key[unborn[0]].states.title!r} was never published in {side.name}: it has no live version.",
            subject=unborn[0],
            details=[f"nor was {readable(key)}" for key in unborn[1:]],
            next_step=advice("Publish it there, or take the drafts with --take draft."),
        )


def _exact(item: Item) -> Item:
    """The item in the form in which many are held at once; what RFC 8785 can't hold is refused."""
    try:
        # Its digest is worked out here, which is where a number shows that can't be written.
        return item.folded()
    except NotCanonical as error:
        raise NotReady(
            f"{readable(item.key)} can't be packed. {error.message}",
            subject=item.key,
            place=error.place,
            next_step=error.next_step,
        ) from error
