"""Faults at every step of every kind, on every adapter: the target ends as it was, or as was promised; nothing is
doubled; what is said of it is so. Whole states are compared, whatever a command says."""

from __future__ import annotations

import json
from contextlib import closing
from functools import partial
from pathlib import Path
from typing import Any

import pytest

from amphora.core.form.settled import settled
from amphora.core.plan.aftercare import Care
from amphora.core.plan.decisions import Decisions, ItemDecision
from amphora.core.plan.steps import KINDS, EnterSecret
from amphora.core.values.errors import (
    AmphoraError,
    BrokenOff,
    EnvironmentRefused,
    FaultInRun,
    LedgerTrouble,
    NotReady,
)
from amphora.engine.aftercare import Cared, do_care, open_care
from amphora.engine.docket import prepare
from amphora.engine.imports import import_prepared
from amphora.engine.runs.backwards import Back
from amphora.engine.runs.outcome import Outcome
from amphora.engine.sides import own_side
from amphora.engine.undo import foreseen, run_to_undo, undo
from amphora.files.package import read_package
from amphora.ledger.records import Run
from amphora.practice.platform import Platform
from tests.contract.conftest import nodered_ground
from tests.contract.grounds import Ground
from tests.faults.trouble import FAULTS, Fault, Killed, Locked, failing


def whole(ground: Ground, name: str = "") -> dict[str, str]:
    """The whole state of an environment by key, ids replaced by keys."""
    session = ground.session()
    opened = session.open(name or ground.target)
    side = own_side(opened, session.ledger, session.crosswalk)
    images = opened.environment.look(list(side.keys))
    found = {}
    for native_id, image in images.items():
        # Without what is never compared: where a node stands among others changes with these.
        sheet = opened.description.sheets[image.kind]
        live, draft = (None if one is None else settled(one, sheet) for one in (image.live, image.draft))
        text = json.dumps([image.kind, image.states.to_json(), live, draft, image.rows], sort_keys=True)
        for other, key in side.keys.items():
            text = text.replace(other, key)
        found[side.keys[native_id]] = text
    return found


def bring(ground: Ground, path: Path, at: int = 0, fault: Fault | None = None, **said: Any) -> Outcome:
    """Imports a package, with trouble at the nth changing call."""
    session = ground.session()
    if fault:
        failing(session, ground.target, at, fault)
    prepared = prepare(session, read_package(path), ground.target, Decisions(**said))
    outcome, verified = import_prepared(session, prepared)
    assert outcome.failure or all(one.is_as_promised for one in verified)
    return outcome


def back(ground: Ground, at: int = 0, fault: Fault | None = None) -> Back:
    """Undoes the latest run in force, with trouble likewise."""
    session = ground.session()
    run = run_to_undo(session, "last")
    if fault:
        failing(session, ground.target, at, fault)
    return undo(session, run)


def tried(ground: Ground, path: Path, at: int, fault: Fault, **said: Any) -> str:
    """What an import in trouble came to: `done`, `put back` or `killed`."""
    try:
        outcome = bring(ground, path, at, fault, **said)
    except Killed:
        return "killed"
    assert outcome.failure is None or not isinstance(outcome.failure, BrokenOff), outcome.failure.details
    return outcome.run.state


@pytest.mark.parametrize("fault", FAULTS)
def test_a_fault_at_any_step_of_an_import_leaves_nothing_in_between(ground: Ground, fault: Fault) -> None:
    flows = [key for key in ground.export().contents.items if key.startswith(f"{ground.kind}:")]
    ids = {key: item.native_id for key, item in ground.export().contents.items.items()}
    for one, other in zip(flows, (*flows[1:], flows[0]), strict=True):
        ground.change(ground.source, one, partial(ground.with_partner, native_id=ids[other]))
    report = ground.export()
    count = len(ground.prepare(report).docket.steps)
    before = whole(ground)
    for at in sorted({1, count, *range(2, count, 3)}):
        state = tried(ground, report.path, at, fault)
        if state == "killed":
            assert back(ground).is_as_before
        if state != "done":
            assert whole(ground) == before
        else:
            assert back(ground).is_as_before
            assert whole(ground) == before
    bring(ground, report.path)
    assert len(whole(ground)) == len(before.keys() | report.contents.items.keys())


@pytest.mark.parametrize("fault", FAULTS)
def test_a_fault_while_putting_back_is_finished_by_doing_it_again(ground: Ground, fault: Fault) -> None:
    bring(ground, ground.export().path)
    before = whole(ground)
    ground.change(ground.source, ground.renamed, partial(ground.laid, remark="changed"), title="Another")
    report = ground.export()
    for at in (1, 2, 3):
        bring(ground, report.path)
        assert whole(ground) != before
        try:
            done = back(ground, at, fault)
        except (Killed, AmphoraError):
            done = None
        if done is None or done.of_state != "undone":
            done = back(ground)
        assert (done.is_as_before, done.of_state) == (True, "undone")
        assert whole(ground) == before
    session = ground.session()
    last = next(run.name for run in session.ledger.journal.runs() if run.kind == "import")
    with pytest.raises(NotReady, match="put back already"):
        run_to_undo(session, last)


def test_two_runs_are_undone_in_turn_and_a_third_brings_all_again(ground: Ground) -> None:
    first = whole(ground)
    bring(ground, ground.export().path)
    second = whole(ground)
    ground.change(ground.source, ground.renamed, partial(ground.laid, remark="changed"), title="Another")
    report = ground.export()
    bring(ground, report.path)
    third = whole(ground)
    assert back(ground).is_as_before
    assert whole(ground) == second
    assert back(ground).is_as_before
    assert whole(ground) == first
    bring(ground, report.path)
    assert whole(ground) == third


def test_somebody_elses_change_stays_whole_with_what_it_needs_and_is_named(ground: Ground) -> None:
    bring(ground, ground.export().path)
    ground.change(ground.target, ground.renamed, partial(ground.laid, fix="on the far side"))
    mended = whole(ground)
    session = ground.session()
    side = own_side(session.open(ground.target), session.ledger, session.crosswalk)
    title = side.by_key[ground.renamed].states.title
    done = back(ground)
    assert (done.of_state, done.is_as_before) == ("undone", False)
    assert any(title in line and "changed it meanwhile" in line for line in done.left)
    now = whole(ground)
    assert now[ground.renamed] == mended[ground.renamed]
    assert all(mended[key] == text for key, text in now.items())
    kept = {key for key in now if f'"{key}' in now[ground.renamed]}
    assert kept <= now.keys()
    claims = {claim.key for claim in ground.session().ledger.claims(side.uid)}
    assert claims & mended.keys() == claims
    assert ground.renamed in claims


def test_a_listener_that_raises_and_an_odd_exception_break_nothing(ground: Ground) -> None:
    report = ground.export()
    before = whole(ground)
    session = ground.session()

    def broken(what: str, done: int, total: int) -> None:
        raise BrokenPipeError("nobody listens")

    prepared = prepare(session, read_package(report.path), ground.target)
    session.listener = broken
    with pytest.raises(BrokenPipeError):
        import_prepared(session, prepared)  # verifying speaks to it directly; the run itself is done
    assert ground.session().ledger.journal.run("last").state == "done"
    assert back(ground).is_as_before
    assert whole(ground) == before


@pytest.mark.parametrize("at", [1, 2, 3, 5, 8, 13, 21, 34])
def test_a_ledger_that_can_not_be_written_ends_in_as_it_was_or_says_so(ground: Ground, at: int) -> None:
    report = ground.export()
    before = whole(ground)
    session = ground.session()
    prepared = prepare(session, read_package(report.path), ground.target)
    Locked(session, at)
    try:
        outcome, _ = import_prepared(session, prepared)
    except LedgerTrouble:
        assert whole(ground) == before
        return
    if outcome.failure is None:
        return
    if isinstance(outcome.failure, EnvironmentRefused | FaultInRun):
        assert whole(ground) == before
    else:
        assert isinstance(outcome.failure, BrokenOff)
        assert "could not be written" in str(outcome.failure.details) or "Putting back failed" in str(
            outcome.failure.details
        )
    assert ground.session().ledger.journal.open_runs(prepared.side.uid)
    assert back(ground).is_as_before
    assert whole(ground) == before


def grown(
    folder: Path, name: str, uses: dict[str, list[str]], account: str = "ines@halcyon.example", note: str = ""
) -> None:
    """Makes or changes flows of a practice environment that start each other as told."""
    with closing(Platform(folder / f"{name}.practice", account, lambda: "2026-06-01T00:00:00Z")) as there:
        ids = {item.name: item.id for item in there.index() if item.folder == "ring"}
        for flow in uses:
            if flow not in ids:
                ids[flow] = there.create("flow", "ring", flow, flow.upper(), {"steps": []}, None, f"ring/{flow}")
        for flow, used in uses.items():
            item = there.read([ids[flow]])[0]
            steps = [{"id": f"to-{other}", "flow": ids[other]} for other in used if other in ids]
            there.update(ids[flow], flow.upper() + note, "ring", {"steps": steps, "note": note}, (), item.revision)
            there.publish(ids[flow])


@pytest.mark.parametrize("at", [1, 2, 3, 4, 5])
def test_who_edits_what_a_run_just_made_keeps_the_edit(halcyon: Path, at: int) -> None:
    """Between a creation and the next call on the same item, whatever the run does in between."""
    ground = Ground(halcyon, "grove-dev", "grove-live", "", "flow:ring/a", "", lambda: None)
    grown(halcyon, "grove-dev", {"a": [], "b": [], "c": []})
    path = ground.export(["flow:ring/*"], name="ring").path

    def edited(call: Any) -> Any:
        done = call()
        with closing(
            Platform(halcyon / "grove-live.practice", "ines@halcyon.example", lambda: "2026-06-01T00:00:00Z")
        ) as there:
            [item] = [item for item in there.index() if item.name == "a"]
            there.update(item.id, "A", "ring", {"steps": [], "note": "hers"}, (), item.revision)
        return done

    outcome = bring(ground, path, at, edited)
    mine = {key: json.loads(text) for key, text in whole(ground).items() if key.startswith("flow:ring/")}
    if at < 4:
        # Her draft is not published by us, and not taken away: the rest is put back around it.
        assert (outcome.run.state, "a" in str(outcome.failure)) == ("put back", True), outcome
        assert {key: [live, draft["note"]] for key, (_, _, live, draft, _) in mine.items()} == {
            "flow:ring/a": [None, "hers"]
        }
    else:
        # The run had done with it: it is a local edit, as any other.
        assert [outcome.run.state, mine["flow:ring/a"][3]["note"]] == ["done", "hers"]
    ground.close()


def test_a_first_publication_is_taken_back_or_asked_about_beforehand(halcyon: Path) -> None:
    ground = Ground(
        halcyon, "grove-dev", "grove-live", "Weigh slip", "letter-template:office/weigh-slip", "", lambda: None
    )
    drafted(halcyon, "grove-live")
    before = whole(ground)
    report = ground.export(["Weigh slip"])
    session = ground.session()
    said = Decisions({ground.renamed: ItemDecision("package")})
    prepared = prepare(session, read_package(report.path), "grove-live", said)
    assert [step.do for step in prepared.docket.steps] == ["update", "publish"]
    assert import_prepared(session, prepared)[0].failure is None
    assert whole(ground) != before
    assert back(ground).is_as_before
    assert whole(ground) == before
    drafted(halcyon, "grove-south")
    (halcyon / "crosswalk.yaml").write_text("people:\n  intake: {grove-south: intake@south.halcyon.example}\n")
    south = prepare(ground.session(), read_package(report.path), "grove-south", said).docket
    assert [c.place for a in south.actions for c in (a.comparison.changes if a.comparison else ()) if not c.is_open][
        -1
    ] == "state:first publication"
    asked = prepare(ground.session(), read_package(report.path), "grove-south").docket
    places = [change.place for action in asked.undecided if action.comparison for change in action.comparison.open]
    assert "state:first publication" in places
    ground.close()


def drafted(folder: Path, name: str) -> None:
    """Somebody has begun a letter there and never published it."""
    who = "keeper@halcyon.example"
    with closing(Platform(folder / f"{name}.practice", who, lambda: "2026-06-01T00:00:00Z")) as there:
        there.create("letter-template", "office", "weigh-slip", "Weigh slip", {"body": "begun"}, None, "d")


def test_rows_that_a_broken_run_owes_are_loaded_or_missed(halcyon: Path) -> None:
    ground = Ground(halcyon, "grove-dev", "grove-live", "Growers", "table:growers/growers", "", lambda: None)
    (halcyon / "crosswalk.yaml").write_text("connections:\n  office-db-dev: {grove-live: office-main}\n")
    report = ground.export(["Growers"], records=True)
    with closing(
        Platform(halcyon / "grove-live.practice", "keeper@halcyon.example", lambda: "2026-06-01T00:00:00Z")
    ) as there:
        [office] = [row["id"] for row in there.supplies() if row["name"] == "office-main"]
        live = ground.export(["Growers"]).contents.items[ground.renamed].form
        there.create("table", "growers", "growers", "Growers", {**live, "stored_in": office}, None, "g")
    outcome = bring(ground, report.path, records=True)
    assert outcome.loaded == {ground.renamed: 412}
    done = back(ground)
    assert (done.is_as_before, done.differing) == (False, ())
    assert done.left == (
        "'Growers' stays as it is: nothing takes 412 loaded rows out of a table that was there before",
    )
    ground.close()


Scene = tuple[Ground, Path, dict[str, Any]]


def _arrival(folder: Path, request: pytest.FixtureRequest) -> Scene:
    """Flows that start each other and themselves, one of them on, and a table with rows, none of them there yet."""
    ground = Ground(folder, "grove-dev", "grove-live", "", "", "", lambda: None)
    (folder / "crosswalk.yaml").write_text("connections:\n  office-db-dev: {grove-live: office-main}\n")
    grown(folder, "grove-dev", {"a": ["b", "a"], "b": ["a"], "c": []})
    with closing(Platform(folder / "grove-dev.practice", "ines@halcyon.example", lambda: "t")) as there:
        there.switch(next(item.id for item in there.index() if (item.folder, item.name) == ("ring", "c")), True)
    return ground, ground.export(["flow:ring/*", "Growers"], records=True).path, {"records": True}


def _next_version(folder: Path, request: pytest.FixtureRequest) -> Scene:
    """One of the flows changed, two that swap folders under one name, and the table no longer packed."""
    ground, _, said = _arrival(folder, request)
    with closing(Platform(folder / "grove-dev.practice", "ines@halcyon.example", lambda: "t")) as there:
        ids = [there.create("flow", place, "twin", f"In {place}", {"steps": []}, None, place) for place in ("x", "y")]
        for id_ in ids:
            there.publish(id_)
    wanted = ["flow:ring/*", "flow:x/twin", "flow:y/twin"]
    bring(ground, ground.export([*wanted, "Growers"], records=True).path, **said)
    grown(folder, "grove-dev", {"c": ["a"]}, note="!")
    with closing(Platform(folder / "grove-dev.practice", "ines@halcyon.example", lambda: "t")) as there:
        for id_, place in zip(ids, ("aside", "x", "y"), strict=False):
            item = there.read([id_])[0]
            there.update(id_, item.title, place, item.live, (), item.revision)
        item = there.read([ids[0]])[0]
        there.update(ids[0], item.title, "y", item.live, (), item.revision)
        for id_ in ids:
            there.publish(id_)
    return ground, ground.export(wanted).path, {"fates": {"Growers": "retire"}}


def _runtime(folder: Path, request: pytest.FixtureRequest) -> Scene:
    request.getfixturevalue("monkeypatch").setenv("TWO_TOKEN", "made-up-token")
    (folder / "line").mkdir()
    ground = nodered_ground(folder / "line", request.getfixturevalue("runtimes"))
    return ground, ground.export().path, {}


def _never_published(folder: Path, request: pytest.FixtureRequest) -> Scene:
    """A letter that lies in the target as a draft: publishing it is taken back."""
    key = "letter-template:office/weigh-slip"
    ground = Ground(folder, "grove-dev", "grove-live", "Weigh slip", key, "", lambda: None)
    drafted(folder, "grove-live")
    return ground, ground.export().path, {"items": {key: ItemDecision("package")}}


def _let_in(folder: Path, request: pytest.FixtureRequest) -> Scene:
    """A rule that lets people into what is there, and one that lets more of them in."""
    ground = Ground(folder, "grove-dev", "grove-live", "", "", "", lambda: None)
    who = "ines@halcyon.example"
    (folder / "crosswalk.yaml").write_text("people:\n  intake: {grove-dev: dev, grove-live: live}\n")
    with closing(Platform(folder / "grove-dev.practice", who, lambda: "t")) as there:
        app = there.create("app", "gate", "board", "Board", {"pages": []}, None, "a")
        there.publish(app)
        for name in ("one", "two"):
            there.create(
                "access-rule", "gate", name, name, {"app": app, "people": [], "rights": ["open"]}, None, name
            )
    bring(ground, ground.export(["app:gate/board", "access-rule:gate/one"]).path)
    with closing(Platform(folder / "grove-dev.practice", who, lambda: "t")) as there:
        [one] = [item for item in there.everything() if item.name == "one"]
        there.update(one.id, "one", "gate", {**one.live, "rights": ["open", "enter"]}, (), one.revision)
    return ground, ground.export(["app:gate/board", "access-rule:gate/*"]).path, {}


SCENES = {
    "create": _arrival,
    "create bare": _arrival,
    "complete": _arrival,
    "publish": _arrival,
    "switch": _arrival,
    "load rows": _arrival,
    "update": _next_version,
    "move": _next_version,
    "retire": _next_version,
    "grant": _let_in,
    "write all": _runtime,
    "take back": _never_published,
}
"""A scene for each kind of step in which it is done: forwards, or (taking back) on the way back."""


def test_every_kind_of_step_has_its_scene() -> None:
    assert {*SCENES, EnterSecret.do} == {kind.do for kind in KINDS}


@pytest.mark.parametrize("at", [1, 2])
@pytest.mark.parametrize("fault", FAULTS)
def test_a_fault_at_entering_a_secret(at: int, fault: Fault, halcyon: Path) -> None:
    ground = Ground(halcyon, "grove-dev", "grove-live", "Weigh ticket", "flow:intake/weigh-ticket", "", lambda: None)
    bring(ground, ground.export().path)
    before = whole(ground)

    def cared(at: int = 0, fault: Fault | None = None) -> Cared:
        session = ground.session()
        if fault:
            failing(session, ground.target, at, fault)
        return do_care(session, open_care(session, ground.target), lambda entry: "s3cret-of-the-gate")

    try:
        done = cared(at, fault)
        in_trouble = "done" if done.failure is None else done.runs[0].state
    except Killed:
        in_trouble = "killed"
    if in_trouble not in ("done", "put back"):
        assert back(ground).is_as_before
    if in_trouble != "done":
        assert whole(ground) == before
        assert [entry.task.kind for entry in open_care(ground.session(), ground.target)] == [Care.SECRET]
        done = cared()
    assert [entry.task.kind for entry in done.done] == [Care.SECRET]
    assert not open_care(ground.session(), ground.target)
    # Undone, the target lacks it again, and nowhere does it stand in the ledger.
    assert back(ground).is_as_before
    assert whole(ground) == before
    assert [entry.task.kind for entry in open_care(ground.session(), ground.target)] == [Care.SECRET]
    assert b"s3cret-of-the-gate" not in (halcyon / "ledger.sqlite").read_bytes()


@pytest.mark.parametrize("fault", FAULTS)
@pytest.mark.parametrize("do", SCENES)
def test_a_fault_at_each_kind_of_step(do: str, fault: Fault, halcyon: Path, request: pytest.FixtureRequest) -> None:
    ground, path, said = SCENES[do](halcyon, request)
    before = whole(ground)
    docket = prepare(ground.session(), read_package(path), ground.target, Decisions(**said)).docket
    kinds = [step.do for step in docket.steps]
    if do in kinds:
        state = tried(ground, path, kinds.index(do) + 1, fault, **said)
    else:
        bring(ground, path, **said)
        session = ground.session()
        steps = [step.do for step in foreseen(session, run_to_undo(session, "last")).steps]
        state = "killed"
        try:
            back(ground, steps.index(do) + 1, fault)
        except (Killed, AmphoraError):
            state = "cut"
    if state != "put back" and whole(ground) != before:
        assert back(ground).is_as_before
    assert whole(ground) == before
    if do in kinds:
        bring(ground, path, **said)
        assert back(ground).is_as_before
        assert whole(ground) == before
    assert any(step.do == do for run in _runs(ground) for step in ground.session().ledger.journal.steps(run))
    ground.close()


def _runs(ground: Ground) -> list[Run]:
    return ground.session().ledger.journal.runs()
