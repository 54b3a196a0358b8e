"""Fixing: what `check` found and Amphora can mend in the source's package and in the crosswalk, never in a target."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from amphora.core.form.attachments import LEFT_OUT
from amphora.core.form.copies import taken_apart
from amphora.core.form.routes import keys_there
from amphora.core.needs.crosswalk import MapState
from amphora.core.values.errors import UsageFault
from amphora.core.values.keys import Key, readable
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents, Level
from amphora.core.values.next_step import blank, to_type
from amphora.core.values.words import counted, few
from amphora.engine.check import sheets_packed
from amphora.engine.docket import check_package
from amphora.engine.export import ExportReport, ExportRequest, export
from amphora.engine.map import map_package
from amphora.engine.session import Session
from amphora.files.workspace import EnvironmentEntry
from amphora.files.workspace_writer import save_selection


@dataclass(frozen=True)
class Fixed:
    """The package as it is now, and lines on what was done."""

    contents: Contents
    lines: tuple[str, ...]


def fix_findings(session: Session, contents: Contents, targets: Sequence[str]) -> Fixed:
    """Packs what is missing in any target, as the next version, and adds open rows to the crosswalk."""
    _refuse_copy(contents, targets)
    # For all targets before anything is packed: one package has to serve them all.
    lines = []
    missing = sorted({key for target in targets for key in _missing(session, contents, target)})
    if missing:
        report = _packed_again(session, contents, missing)
        added = [key for key in report.contents.items if key not in contents.items]
        lines.append(f"Packed {report.contents.title}, in {report.shown_path}, with:")
        lines += [f"  {readable(key)}: {_reason(report, contents, key)}" for key in added]
        contents = replace(report.contents, package_digest=report.package_digest)
    mapped, written = map_package(session, contents, targets, (), accept=False)
    if written:
        open_ones = [
            one for rows in mapped.values() for one in rows if one.state in (MapState.OPEN, MapState.GUESSED)
        ]
        number = sum(one.need.kind != "secret" for one in open_ones)
        lines.append(
            f"Added to {session.workspace.crosswalk.name}: {counted(number, 'cell')} to be filled in or accepted."
        )
    return Fixed(contents, tuple(lines) or ("There was nothing that Amphora can mend by itself.",))


def _missing(session: Session, contents: Contents, target: str) -> set[Key]:
    """The needed items that a target lacks, by the keys that the source has for them."""
    prepared = check_package(session, contents, target)
    # What was found is told by the keys of the target, which may call a kind otherwise.
    there = keys_there(contents, prepared.opened.description.sheets, sheets_packed(contents))
    at_home = {there(key): key for item in contents.items.values() for key in item.uses() - contents.items.keys()}
    found = (one for one in prepared.docket.findings if one.rule == "item-missing" and one.level is Level.ERROR)
    # What is packed and left out of this import needs no packing.
    return {at_home[one.lacks] for one in found if one.lacks in at_home}


def _packed_again(session: Session, contents: Contents, missing: Sequence[Key]) -> ExportReport:
    source = _source(session, contents)
    # What was left out on purpose stays out: only what is missing is added.
    at_home = [n.key for n in contents.needs if n.key not in missing and _is_item(n.key)]
    has_attachments = not any(p.token == LEFT_OUT for item in contents.items.values() for p in item.places)
    request = ExportRequest(
        source.name,
        [*contents.items, *missing],
        contents.name,
        leave_out=at_home,
        note=contents.note,
        records=bool(contents.records),
        attachments=has_attachments,
    )
    report = export(session, request)
    saved = session.workspace.selections.get(contents.name)
    if saved:
        kept = tuple(name for name in saved.leave_out if name in at_home)
        save_selection(session.workspace, contents.name, replace(saved, leave_out=kept))
    return report


def _refuse_copy(contents: Contents, targets: Sequence[str]) -> None:
    base, copy = taken_apart(contents.name)
    if copy:
        raise UsageFault(
            f"{contents.name} is a copy: what is packed anew is {base}.",
            subject=contents.name,
            next_step=to_type("check", base, *targets, "--fix"),
        )


def _source(session: Session, contents: Contents) -> EnvironmentEntry:
    entry = session.workspace.environments.get(contents.source)
    # Name and uid: another environment may bear the name by now, and packing from it would mix two sources.
    if entry and session.open(entry.name).description.uid == contents.source_uid:
        return entry
    raise UsageFault(
        f"{contents.title} can't be packed again: its source {contents.source!r} is not in this workspace.",
        subject=contents.source,
        next_step=to_type("env", "add", contents.source, blank("LOCATION"), "--role", "build"),
    )


def _is_item(key: Key) -> bool:
    return key.partition(":")[0] not in ("connection", "setting", "person", "url", "secret")


def _reason(report: ExportReport, before: Contents, key: Key) -> str:
    users = sorted(item.states.title for item in before.items.values() if key in item.uses())
    return f"used by {few(users)}" if users else report.why[key]
