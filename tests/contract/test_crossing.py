"""Moving things from a source to a target, on every adapter."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from functools import partial
from pathlib import Path

import pytest

from amphora.core.merge.merge import By
from amphora.core.needs.crosswalk import row_name
from amphora.core.plan.actions import Do
from amphora.core.plan.decisions import Decisions
from amphora.core.values.errors import NotReady, Unavailable
from amphora.core.values.model import Listed
from amphora.engine.docket import prepare
from amphora.engine.export import ExportRequest, export
from amphora.engine.gate import ImportRequest
from amphora.engine.imports import import_prepared, question_for
from amphora.engine.runs.backwards import Back
from amphora.engine.undo import run_to_undo, undo
from amphora.files.crosswalk_file import Cell, write_cells
from amphora.files.package import read_package
from amphora.ledger.locks import Locks
from tests.conftest import SECRETS
from tests.contract.grounds import Ground


def test_everything_that_is_used_arrives_and_a_second_import_changes_nothing(ground: Ground) -> None:
    others = set(ground.state(ground.target))
    report = ground.export()
    prepared, outcome = ground.bring(report)
    assert outcome.new == {action.key for action in prepared.docket.by(Do.CREATE)}
    after = ground.state(ground.target)
    assert set(report.contents.items) | others == set(after)
    for key, item in report.contents.items.items():
        assert "amphora:secret:" in str(item.form) or after[key] == (item.form, item.states)
    again = ground.prepare(report).docket
    assert again.is_idle
    assert not again.undecided
    assert ground.export().is_unchanged


def test_a_package_exported_twice_is_the_same_to_the_byte(ground: Ground, tmp_path: Path) -> None:
    one, two = ground.export(out=tmp_path / "one.amphora"), ground.export(out=tmp_path / "two.amphora")
    assert one.package_digest == two.package_digest
    assert one.path.read_bytes() == two.path.read_bytes()
    assert read_package(one.path).package_digest == one.package_digest


def test_no_secret_travels_or_is_kept_anywhere(ground: Ground) -> None:
    report = ground.export()
    ground.bring(report)
    for session in ground.sessions:
        session.close()
    ours = [path for path in ground.folder.rglob("*") if path.is_file() and path.suffix != ".practice"]
    ours = [path for path in ours if "shelf" not in path.parts]
    assert {"ledger.sqlite", "crosswalk.yaml", "moved-1.0.0.amphora"} <= {path.name for path in ours}
    with sqlite3.connect(ground.folder / "ledger.sqlite") as ledger:
        dump = "\n".join(ledger.iterdump())
    package = read_package(report.path)
    everything = dump + str(package) + "".join(path.read_bytes().decode("latin-1") for path in ours)
    assert not [piece for piece in SECRETS if piece in everything]
    assert ground.kind != "flow" or [need for need in package.needs if need.kind == "secret"]


def test_renamed_and_moved_in_the_source_it_stays_the_same_item(ground: Ground) -> None:
    ground.bring(ground.export())
    key = ground.renamed
    before = _native_ids(ground)
    ground.change(ground.source, key, title="Quite another name", folder="attic" if "/" in key else "")
    report = ground.export()
    assert report.contents.version == "1.0.1"
    assert report.contents.items[key].states.title == "Quite another name"
    prepared, _ = ground.bring(report)
    assert [action.key for action in prepared.docket.by(Do.UPDATE)] == [key]
    assert _native_ids(ground) == before
    assert ground.state(ground.target)[key][1].title == "Quite another name"


def _native_ids(ground: Ground) -> list[str]:
    return [row.native_id for row in ground.session().open(ground.target).environment.index()]


def test_a_changed_crosswalk_value_reaches_the_target(ground: Ground) -> None:
    report = ground.export()
    ground.bring(report)
    if not ground.setting:
        return
    value = "77" if ground.target == "two" else 77  # the runtime has it as text
    write_cells(ground.folder / "crosswalk.yaml", [Cell("settings", ground.setting, ground.target, value)])
    prepared, _ = ground.bring(report)
    [action] = prepared.docket.by(Do.UPDATE)
    assert action.reason == "changed in the crosswalk"
    assert action.comparison is not None
    assert [change.by for change in action.comparison.changes] == [By.CROSSWALK]
    [found] = (
        ground.session()
        .open(ground.target)
        .environment.read([str(action.present.native_id if action.present else "")])
    )
    assert "77" in json.dumps(found.definition)
    assert ground.prepare(report).docket.is_idle


def test_a_local_edit_is_kept_and_a_clash_stops_everything(ground: Ground) -> None:
    ground.bring(ground.export())
    ground.change(ground.target, ground.renamed, partial(ground.laid, fix="on the far side"))
    ground.change(ground.source, ground.renamed, partial(ground.laid, remark="changed in the source"))
    report = ground.export()
    prepared = ground.prepare(report)
    assert [action.key for action in prepared.docket.edited] == [ground.renamed]
    with pytest.raises(NotReady, match="local edits"):
        question_for(ground.session(), prepared, ImportRequest(Decisions(), yes=True))
    ground.bring(report)
    form = ground.told(ground.target, ground.renamed)
    assert (form["fix"], form["remark"]) == ("on the far side", "changed in the source")
    ground.change(ground.target, ground.renamed, partial(ground.laid, remark="mended in the target"))
    ground.change(ground.source, ground.renamed, partial(ground.laid, remark="changed again"))
    clashing = ground.prepare(ground.export())
    with pytest.raises(NotReady, match="has to decide"):
        question_for(ground.session(), clashing, ImportRequest(Decisions(), yes=True))
    assert ground.told(ground.target, ground.renamed)["remark"] == "mended in the target"


def test_what_moved_since_the_docket_was_made_stops_the_import(
    ground: Ground, monkeypatch: pytest.MonkeyPatch
) -> None:
    report = ground.export()
    ground.bring(report)
    ground.change(ground.source, ground.renamed, partial(ground.laid, remark="changed in the source"))
    report = ground.export()
    session = ground.session()
    prepared = ground.prepare(report, session)
    ground.change(ground.target, ground.renamed, partial(ground.laid, fix=1))
    with pytest.raises(NotReady, match="moved"):
        import_prepared(session, prepared)
    # And if it was between that look and the last one before the first call: then it is known which item it is.
    monkeypatch.setattr("amphora.engine.imports.is_current", lambda *_: True)
    with pytest.raises(NotReady, match="nothing was touched") as told:
        import_prepared(session, prepared)
    assert told.value.subject == ground.renamed
    assert "remark" not in ground.told(ground.target, ground.renamed)


def test_an_undo_that_had_to_wait_looks_whether_somebody_has_done_it(
    ground: Ground, monkeypatch: pytest.MonkeyPatch
) -> None:
    ground.bring(ground.export())
    session, held = ground.session(), Locks.held
    run = run_to_undo(session, "last")

    @contextmanager
    def late(locks: Locks, *words: str) -> Iterator[None]:
        monkeypatch.setattr(Locks, "held", held)
        other = ground.session()
        assert undo(other, run_to_undo(other, "last")).is_as_before
        with held(locks, *words):
            yield

    monkeypatch.setattr(Locks, "held", late)
    with pytest.raises(NotReady, match="was put back already"):
        undo(session, run)


def test_it_can_go_on_and_come_back_to_its_source(ground: Ground) -> None:
    first = ground.export()
    ground.bring(first)
    ground.change(ground.target, ground.renamed, partial(ground.laid, remark="mended in the target"))
    session = ground.session()
    back = export(session, ExportRequest(ground.target, [ground.renamed], "mended"))
    assert ground.renamed in back.contents.items
    docket = prepare(ground.session(), read_package(back.path), ground.source).docket
    assert not docket.by(Do.CREATE)
    [action] = docket.by(Do.UPDATE)
    assert action.key == ground.renamed
    assert action.comparison is not None
    assert [(change.place, change.by) for change in action.comparison.changes] == [
        (ground.place("remark"), By.PACKAGE)
    ]


def undo_last(ground: Ground) -> Back:
    """Undoes the latest run that is in force."""
    session = ground.session()
    return undo(session, run_to_undo(session, "last"))


def test_undo_gives_back_what_was_there_but_not_what_others_changed(ground: Ground) -> None:
    ground.bring(ground.export())
    before = ground.state(ground.target)
    ground.change(
        ground.source, ground.renamed, partial(ground.laid, remark="changed in the source"), title="New title"
    )
    ground.bring(ground.export())
    assert undo_last(ground).is_as_before
    assert ground.state(ground.target) == before
    assert ground.prepare(ground.export()).docket.by(Do.UPDATE)
    ground.bring(ground.export())
    ground.change(ground.target, ground.renamed, partial(ground.laid, remark="mended in the target"))
    back = undo_last(ground)
    assert (back.of_state, len(back.left)) == ("undone", 1)
    assert ground.told(ground.target, ground.renamed)["remark"] == "mended in the target"


def test_what_was_mended_between_two_imports_stays_when_both_are_undone(ground: Ground) -> None:
    ground.bring(ground.export())
    ground.change(ground.target, ground.renamed, partial(ground.laid, fix="on the far side"))
    ground.change(ground.source, ground.renamed, partial(ground.laid, remark="changed in the source"))
    ground.bring(ground.export())
    assert undo_last(ground).is_as_before
    assert undo_last(ground).left
    assert ground.told(ground.target, ground.renamed)["fix"] == "on the far side"


def test_a_whole_environment_goes_into_an_empty_one_and_has_the_same_contents(
    ground: Ground, monkeypatch: pytest.MonkeyPatch
) -> None:
    report = ground.export(wanted=["*"])
    secrets = [need.key for need in report.contents.needs if need.kind == "secret"]
    monkeypatch.setenv("A_SECRET", "entered-by-the-crosswalk")
    cells = [Cell("secrets", row_name(key), "any", "env:A_SECRET") for key in secrets]
    source = {cell.row: cell for cell in ground.cells(report)}
    cells += [Cell(cell.section, cell.row, ground.target, cell.value) for cell in source.values()]
    write_cells(ground.folder / "crosswalk.yaml", cells)
    ground.empty_target()
    ground.bring(report)
    back = ground.export(wanted=["*"], source=ground.target, name="backup")
    assert back.contents.digest() == report.contents.digest()
    assert "entered-by-the-crosswalk" not in str(back.contents)


def test_items_that_use_each_other_arrive(ground: Ground) -> None:
    flows = [key for key in ground.export().contents.items if key.startswith(f"{ground.kind}:")]
    ids = {key: item.native_id for key, item in ground.export().contents.items.items()}
    one, two = flows[:2]
    ground.change(ground.source, one, partial(ground.with_partner, native_id=ids[two]))
    ground.change(ground.source, two, partial(ground.with_partner, native_id=ids[one]))
    report = ground.export()
    ground.bring(report)
    for key, other in ((one, two), (two, one)):
        assert f"amphora:{other}" in ground.told(ground.target, key)[ground.partners]
    assert ground.prepare(report).docket.is_idle


def test_an_item_that_will_not_stand_still_stops_the_export_and_is_named(
    ground: Ground, monkeypatch: pytest.MonkeyPatch
) -> None:
    session = ground.session()
    environment = session.open(ground.source).environment
    index, calls = environment.index, iter(range(100))

    def restless() -> list[Listed]:
        number = next(calls)
        wanted = next(row for row in index() if row.kind == ground.kind).native_id
        return [
            replace(row, revision=f"{row.revision}-{number}") if row.native_id == wanted else row for row in index()
        ]

    monkeypatch.setattr(environment, "index", restless)
    with pytest.raises(Unavailable, match="keeps changing"):
        export(session, ExportRequest(ground.source, [f"{ground.kind}:*"], "moved"))
    assert not list(ground.folder.glob("packages/*"))
