"""Edits: what somebody changed in an environment since it was delivered; carried back, or put back."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from contextlib import suppress
from dataclasses import replace

from amphora.core.form.bindings import MISSING
from amphora.core.form.routes import with_sheets
from amphora.core.merge.merge import FieldChange
from amphora.core.needs.needs import needs_of
from amphora.core.plan.claims import Claims
from amphora.core.plan.decisions import Decisions, ItemDecision
from amphora.core.plan.docket import Docket
from amphora.core.values.errors import AmphoraError, NotReady
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents, Json, Listed
from amphora.core.values.next_step import to_type
from amphora.engine.docket import prepare
from amphora.engine.leaks import leaks_in, refuse_to_pack
from amphora.engine.mender import Menders
from amphora.engine.session import Session
from amphora.engine.shapes import Shapes
from amphora.engine.sides import Side, own_side, read_items
from amphora.engine.verify import Verified, verify
from amphora.engine.versions import stored
from amphora.files.sources import stored_package
from amphora.ledger.records import Delivery

CARRIED_BACK = "edits"


@dataclass(frozen=True)
class Edited:
    """One item that was changed in an environment since its last delivery, or is gone."""

    key: Key
    delivery: Delivery
    listed: Listed | None
    changes: tuple[FieldChange, ...]
    who: str = ""
    at: str = ""
    """Who edited it, and when, as far as anybody knows."""
    is_handed_over: bool = False
    """In the custody of the target: whoever works there may go on with it."""

    @property
    def title(self) -> str:
        return self.listed.states.title if self.listed else self.delivery.merged_states.title


def edits_of(session: Session, environment: str) -> list[Edited]:
    """Everything in an environment that isn't as the packages in force delivered it: edited since, or edited
    before and kept by an import. What was carried back and delivered again is no longer among it."""
    side = own_side(session.open(environment), session.ledger, session.crosswalk)
    shapes = Shapes(side)
    latest = {key: shapes.delivery(one) for key, one in session.ledger.last_deliveries(side.uid).items()}
    claims = Claims(session.ledger.claims(side.uid))
    claimed, handed_over = claims.claimed(latest), claims.handed_over(latest)
    wanted = [as_packed(delivery) for key, delivery in sorted(latest.items()) if key in claimed]
    found, menders = [], Menders(session.ledger, side.uid)
    for one in verify(session, environment, wanted):
        # A draft is somebody's work, even while the live version is what was delivered.
        if not one.is_as_promised or _has_draft(side, one):
            row = side.by_key.get(one.key)
            who, at = menders.of(one.key, row)
            found.append(Edited(one.key, latest[one.key], row, one.differences, who, at, one.key in handed_over))
    return found


def holds_ours(session: Session, environment: str) -> bool:
    """Whether anything that a package brought is in force in an environment: else nothing there counts as edited."""
    return bool(session.ledger.claims(session.open(environment).description.uid))


def still_ours(edits: Sequence[Edited]) -> list[Edited]:
    """Those of items that were not handed over: somebody has to say what becomes of them."""
    return [one for one in edits if not one.is_handed_over]


def origin_of(session: Session, edits: Sequence[Edited]) -> str:
    """The environment in which what was edited is built, by the name that it has here; empty where nobody knows."""
    for name in dict.fromkeys(f"{one.delivery.package}-{one.delivery.version}" for one in edits):
        with suppress(AmphoraError):
            source = stored_package(name, session.workspace.packages).source
            if source in session.workspace.environments:
                return source
    return ""


def edited_keys(session: Session, environment: str, keys: Collection[Key]) -> list[Key]:
    """Of these items those that were edited there since they were delivered."""
    wanted = set(keys)
    return [one.key for one in edits_of(session, environment) if one.key in wanted and one.listed]


def carry_back(session: Session, environment: str, edits: list[Edited]) -> tuple[Contents, str]:
    """Makes a package of what was edited, with the delivered forms inside as its base; gives it and its file."""
    # What is gone can't be carried, and what is not live any more isn't what people use.
    there = [one for one in edits if one.listed and (not one.listed.is_drafted_only or _was_draft(one.delivery))]
    if not there:
        raise NotReady(f"Nothing was edited in {environment}.", next_step=to_type("survey", environment))
    opened = session.open(environment)
    # What it has not taken is nobody's edit, and must not be taken away at home.
    side = own_side(opened, session.ledger, session.crosswalk).as_asked
    deliveries = {one.key: one.delivery for one in there}
    # Inside the package, because the ledger of whoever imports it may not know them.
    bases = {key: delivery.base for key, delivery in deliveries.items()}
    items, _, noticed = read_items(side, list(deliveries), bases=bases, binds_new=True)
    files = {name: raw for portable in noticed.values() for name, raw in portable.files.items()}
    types = {key: type(value).__name__ for key, value in side.names.values.items() if key.startswith("setting:")}
    contents = Contents(
        f"{environment}-{CARRIED_BACK}",
        "0.0.0",
        environment,
        side.uid,
        dict(sorted(items.items())),
        tuple(needs_of(items, types)),
        f"Edits made in {environment}, to be carried back.",
        files=files,
        source_release=opened.description.release,
        bases={key: (base.form, base.states) for key, base in bases.items()},
    )
    contents = with_sheets(contents, opened.description.sheets)
    refuse_to_pack(leaks_in(contents, opened.description.sheets, session.guard))
    contents, path, _ = stored(session, contents)
    return contents, str(path.relative_to(session.workspace.folder))


def put_back_dockets(session: Session, environment: str, edits: list[Edited]) -> list[Docket]:
    """For each package whose items were edited, a docket that restores what it delivered."""
    dockets = []
    by_package: dict[tuple[str, str], list[Edited]] = {}
    # What was handed over is theirs to edit.
    mine = still_ours(edits)
    if edits and not mine:
        raise NotReady(
            f"All that was edited in {environment} was handed over before: there is nothing to put back.",
            next_step=to_type("import", edits[0].delivery.package, environment, "--custody", "package"),
        )
    for one in mine:
        if one.changes:
            by_package.setdefault((one.delivery.package, one.delivery.version), []).append(one)
    for (package, version), some in by_package.items():
        contents = session.as_known(stored_package(f"{package}-{version}", session.workspace.packages))
        said = Decisions({one.key: ItemDecision(places=_restoring(one)) for one in some})
        dockets.append(prepare(session, contents, environment, said).docket)
    return dockets


def as_packed(delivery: Delivery) -> Delivery:
    """A delivery as if nothing of the target had been kept: what the package itself held."""
    return replace(delivery, merged=delivery.base.form, merged_states=delivery.base.states)


def _has_draft(side: Side, one: Verified) -> bool:
    row = side.by_key.get(one.key)
    return row is not None and row.has_draft and not row.is_drafted_only


def _was_draft(delivery: Delivery) -> bool:
    return delivery.base.states.is_published is False


def _restoring(one: Edited) -> dict[str, Json]:
    """For each edited place the choice that brings the delivered value back."""
    choices: dict[str, Json] = {}
    for change in one.changes:
        # Seen from the verification: its target side is what was delivered.
        delivered = change.target
        choices[change.place] = "package" if delivered is MISSING else {"value": delivered}
    return choices
