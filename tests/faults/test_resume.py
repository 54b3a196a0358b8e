"""Going on with a run that stopped in its middle, whatever stopped it: it ends as promised, nothing is done twice, and
an undo still goes back to the beginning."""

from __future__ import annotations

import re
from contextlib import closing
from functools import partial
from pathlib import Path

import pytest

from amphora.core.needs.crosswalk import row_name
from amphora.core.plan.docket import IfItFails
from amphora.core.values.errors import NotReady
from amphora.engine.imports import import_prepared
from amphora.engine.map import map_package
from amphora.engine.proof import prove_run
from amphora.engine.resume import next_leg, picked_up, run_to_resume
from amphora.engine.runs.forwards import go_on
from amphora.engine.runs.outcome import Outcome
from amphora.engine.runs.stage import stage_of
from amphora.engine.session import Session
from amphora.files.crosswalk_file import Cell, write_cells
from amphora.files.package import read_package
from amphora.files.workspace import read_workspace
from amphora.practice.platform import Platform
from tests.conftest import Program
from tests.contract.grounds import Ground
from tests.faults.test_faults import back, bring, grown, whole
from tests.faults.trouble import FAULTS, Fault, Killed, failing, refused

KEEP = {"if_it_fails": IfItFails.KEEP}


def onwards(ground: Ground, at: int = 0, fault: Fault | None = None) -> Outcome:
    """Goes on with the run that waits, with trouble at the nth changing call."""
    session = ground.session()
    if fault:
        failing(session, ground.target, at, fault)
    with picked_up(session, run_to_resume(session, "")) as picked:
        outcome, verified = import_prepared(session, next_leg(session, picked), picked.run)
    assert outcome.failure or all(one.is_as_promised for one in verified)
    return outcome


def alike(found: dict[str, str]) -> dict[str, list[str]]:
    """States without the ids that a runtime's parts get by chance, and without their order, which follows from these."""
    return {key: sorted(re.split("[{}]", re.sub("[0-9a-f]{16}", "", text))) for key, text in found.items()}


def stopped(ground: Ground, path: Path, at: int, fault: Fault) -> str:
    """The state of an import that is kept where trouble meets it."""
    try:
        run = bring(ground, path, at, fault, **KEEP).run
    except Killed:
        return "running"
    # What was not begun must never be taken for what was.
    assert {one.state for one in ground.session().ledger.journal.steps(run)} <= {"done", "failed", "uncertain"}
    return run.state


@pytest.mark.parametrize("fault", FAULTS)
def test_it_ends_as_promised_wherever_it_stopped(ground: Ground, fault: Fault) -> None:
    flows = [key for key in ground.export().contents.items if key.startswith(f"{ground.kind}:")]
    ids = {key: item.native_id for key, item in ground.export().contents.items.items()}
    for one, other in zip(flows, (*flows[1:], flows[0]), strict=True):
        ground.change(ground.source, one, partial(ground.with_partner, native_id=ids[other]))
    report = ground.export()
    before = whole(ground)
    count = len(ground.prepare(report).docket.steps)
    bring(ground, report.path)
    promised = whole(ground)
    assert back(ground).is_as_before
    for at in sorted({1, count, *range(2, count, 3)}):
        state = stopped(ground, report.path, at, fault)
        if state != "done":
            assert state in ("kept", "running")
            outcome = onwards(ground)
            assert outcome.failure is None, outcome.failure.details
            assert outcome.run.state == "done"
        assert alike(whole(ground)) == alike(promised)
        assert back(ground).is_as_before
        assert whole(ground) == before


@pytest.mark.parametrize("fault", FAULTS)
def test_what_was_there_before_is_updated_to_the_end(ground: Ground, fault: Fault) -> None:
    bring(ground, ground.export().path)
    before = whole(ground)
    ground.change(ground.source, ground.renamed, partial(ground.laid, remark="changed"), title="Another")
    report = ground.export()
    bring(ground, report.path)
    promised = whole(ground)
    assert back(ground).is_as_before
    for at in (1, 2):
        if stopped(ground, report.path, at, fault) != "done":
            assert onwards(ground).run.state == "done"
        assert alike(whole(ground)) == alike(promised)
        assert back(ground).is_as_before
        assert whole(ground) == before


def test_it_may_stop_again_and_again(ground: Ground) -> None:
    report = ground.export()
    before = whole(ground)
    # What a platform filled in is learned at the end of a run: until then it is written once more.
    at = 3 if ground.session().open(ground.target).description.capabilities.fills_in else 2
    assert stopped(ground, report.path, at, refused) in ("kept", "done")
    for _ in range(20):
        if ground.session().ledger.journal.runs()[0].state == "done":
            break
        outcome = onwards(ground, at, refused)
        assert outcome.run.state in ("kept", "done")
    assert len(whole(ground)) == len(before.keys() | report.contents.items.keys())
    assert back(ground).is_as_before
    assert whole(ground) == before


def test_what_somebody_did_meanwhile_is_kept(halcyon: Path) -> None:
    """What a run has made is mended while it waits: that is a question, and nothing is made once more."""
    ground = Ground(halcyon, "grove-dev", "grove-live", "", "flow:ring/a", "", lambda: None)
    grown(halcyon, "grove-dev", {"a": [], "b": ["a"]})
    report = ground.export(["flow:ring/*"], name="ring")
    assert stopped(ground, report.path, 3, refused) == "kept"
    with closing(
        Platform(halcyon / "grove-live.practice", "tomas@halcyon.example", lambda: "2026-07-01T00:00:00Z")
    ) as live:
        [item] = live.read([item.id for item in live.index() if item.name == "a"])
        live.update(item.id, item.title, item.folder, {**item.newest, "fix": "theirs"}, (), item.revision)
    session = ground.session()
    with picked_up(session, run_to_resume(session, "")) as picked:
        prepared = next_leg(session, picked)
    assert {action.key: action.do.value for action in prepared.docket.actions} == {
        "flow:ring/a": "update",
        "flow:ring/b": "update",
    }
    assert [step.do for step in prepared.docket.steps if step.do == "create"] == []
    [asked] = prepared.docket.undecided
    assert (asked.key, "/fix" in {change.place for change in asked.comparison.open}) == ("flow:ring/a", True)  # type: ignore[union-attr]
    ground.close()


def test_a_pause_on_every_adapter(ground: Ground) -> None:
    """A connection that is said to be made from an item of the package: what that is goes in first, the users of the
    connection after it is mapped, and all ends as it does in one go."""
    report = ground.export()
    prepared = ground.prepare(report)
    before = whole(ground)
    bring(ground, report.path)
    promised = whole(ground)
    assert back(ground).is_as_before
    items = report.contents.items
    mapped = next(
        one
        for one in prepared.docket.mapped
        if one.need.kind == "connection" and any(one.need.key in action.needs for action in prepared.docket.actions)
    )
    users = {key for key, item in items.items() if any(token.key == mapped.need.key for _, token in item.tokens)}
    new = [action.key for action in prepared.docket.actions if action.do.value == "create"]
    maker = next(key for key in new if key not in users and not items[key].uses() & items.keys())
    row = ("connections", row_name(mapped.need.key))
    crosswalk = ground.folder / "crosswalk.yaml"
    write_cells(crosswalk, [Cell(*row, ground.target, "?"), Cell(*row, "made_from", maker)])
    outcome = bring(ground, report.path)
    assert outcome.run.state == "paused"
    assert set(whole(ground)) - set(before) == {maker}
    assert prove_run(ground.session(), outcome.run).is_whole
    write_cells(crosswalk, [Cell(*row, ground.target, mapped.value)])
    assert onwards(ground).run.state == "done"
    assert alike(whole(ground)) == alike(promised)
    assert back(ground).is_as_before
    assert whole(ground) == before


def test_two_who_go_on_at_once_do_it_once_and_the_package_is_kept_no_longer_than_needed(
    amphora: Program, halcyon: Path
) -> None:
    amphora("export", "grove-dev", "Lab exchange", "Lab result intake", "--as", "lab")
    given = ("--set", "lab-exchange-every_minutes=5", "--set", "lab-result-intake-batch=20")
    amphora("map", "lab", "grove-live", "--accept", "--made-from", "lab-exchange-dev=Lab exchange", *given)
    assert amphora("import", "lab", "grove-live", "--yes").code == 5
    amphora("practice", "connect", "grove-live.practice", "lab-exchange-live", "--type", "exchange")
    with closing(Session(read_workspace(halcyon))) as one, closing(Session(read_workspace(halcyon))) as two:
        contents = read_package(halcyon / "packages" / "lab-1.0.0.amphora")
        map_package(one, contents, ["grove-live"], ["lab-exchange-dev=lab-exchange-live"], False)
        assert len(one.ledger._db.rows("select 1 from parcels")) == 1
        with picked_up(one, run_to_resume(one, "")) as mine, picked_up(two, run_to_resume(two, "")) as theirs:
            first, second = next_leg(one, mine), next_leg(two, theirs)
            assert import_prepared(one, first, mine.run)[0].run.state == "done"
            with pytest.raises(NotReady, match=r"moved|quicker"):
                import_prepared(two, second, theirs.run)
            with pytest.raises(NotReady, match="done by now: somebody was quicker"):
                go_on(second.docket, stage_of(two, "grove-live"), theirs.run)
        assert one.ledger._db.rows("select 1 from parcels") == []
