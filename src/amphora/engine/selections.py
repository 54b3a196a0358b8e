"""Selections: an export that is named once can be repeated."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from amphora.core.values.errors import UsageFault
from amphora.core.values.late import dataclass
from amphora.core.values.next_step import NextStep, blank, to_type
from amphora.engine.export import ExportReport, ExportRequest, export
from amphora.engine.session import Session
from amphora.files.names import name_for
from amphora.files.workspace import Selection
from amphora.files.workspace_writer import save_selection

WITH = ("access", "records")
WITHOUT = ("attachments",)


@dataclass(frozen=True)
class Wish:
    """What stands on the command line: an environment with items and a name, or a selection's name."""

    first: str
    items: tuple[str, ...]
    name: str | None
    leave_out: tuple[str, ...]
    take: str
    with_: tuple[str, ...]
    without: tuple[str, ...] = ()
    afterwards: tuple[str, ...] = ()


def export_wish(
    session: Session,
    wish: Wish,
    *,
    version: str | None,
    out: Path | None,
    note: str,
    preview: bool,
    notes: tuple[tuple[str, str], ...] = (),
) -> ExportReport:
    """Exports what is wished for, and keeps the selection under the package's name."""
    name, selection = _selected(session, wish)
    if selection.take not in ("live", "draft"):
        raise UsageFault(f"--take is live or draft, not {selection.take!r}.", next_step=to_type("export", "--help"))
    if unknown := sorted(set(selection.with_) - set(WITH)):
        raise UsageFault(
            f"--with takes {', '.join(WITH)}, not {unknown[0]!r}.", next_step=to_type("export", "--help")
        )
    if unknown := sorted(set(selection.without) - set(WITHOUT)):
        raise UsageFault(f"--without takes attachments, not {unknown[0]!r}.", next_step=to_type("export", "--help"))
    request = ExportRequest(
        selection.environment,
        selection.items,
        name,
        selection.leave_out,
        "draft" if selection.take == "draft" else "live",
        version,
        out,
        note,
        notes,
        selection.afterwards,
        "access" in selection.with_,
        "records" in selection.with_,
        "attachments" not in selection.without,
        preview,
        not wish.items,
    )
    report = export(session, request)
    if not preview:
        # As they are named for good: a title that was asked for may change, a key doesn't.
        kept = replace(selection, items=report.asked, leave_out=report.leave_out)
        save_selection(session.workspace, name, kept)
    return report


def _selected(session: Session, wish: Wish) -> tuple[str, Selection]:
    saved = session.workspace.selections.get(wish.first)
    # An environment of that name counts more: its name was there first, and means one thing.
    if saved and not wish.items and wish.first not in session.workspace.environments:
        changed = Selection(
            saved.environment,
            saved.items,
            wish.leave_out or saved.leave_out,
            # What stands on the command line replaces what was saved, for this time and from then on.
            wish.take if wish.take != "live" else saved.take,
            wish.with_ or saved.with_,
            wish.without or saved.without,
            wish.afterwards or saved.afterwards,
        )
        return wish.name or wish.first, changed
    if not wish.items and wish.first not in session.workspace.environments:
        raise UsageFault(
            f"The workspace has no selection {wish.first!r}, and no environment called so.",
            subject=wish.first,
            details=[
                f"selections: {', '.join(sorted(session.workspace.selections)) or 'none yet'}",
                f"environments: {', '.join(sorted(session.workspace.environments)) or 'none yet'}",
            ],
            next_step=to_type("export", blank("ENVIRONMENT"), blank("ITEM"), "--as", blank("NAME")),
        )
    session.workspace.environment(wish.first)
    if not wish.items or not wish.name:
        missing = "which items" if not wish.items else "what to call the package"
        raise UsageFault(
            f"It isn't said {missing}.",
            subject=wish.first,
            details=[f"saved selections: {', '.join(session.workspace.selections) or 'none'}"],
            next_step=_whole(wish),
        )
    rest = (wish.leave_out, wish.take, wish.with_, wish.without, wish.afterwards)
    return wish.name, Selection(wish.first, wish.items, *rest)


def _whole(wish: Wish) -> NextStep:
    """What was meant, with a name for it: that of the first item, as in every other advice."""
    name = wish.name or (name_for(wish.items[0]) if wish.items else blank("NAME"))
    return to_type("export", wish.first, *(wish.items or [blank("ITEM")]), "--as", name)
