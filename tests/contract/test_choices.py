"""Choices on arrival, on every adapter: a copy beside, another title, other ids; and all of it taken back."""

from __future__ import annotations

from amphora.core.form.copies import copied
from amphora.core.plan.actions import Do
from amphora.core.plan.arrivals import Arrival
from amphora.core.plan.decisions import Decisions
from amphora.core.values.model import Contents
from amphora.engine.docket import prepare
from amphora.engine.imports import import_prepared
from amphora.engine.undo import run_to_undo, undo
from amphora.files.package import read_package
from tests.contract.grounds import Ground


def brought(ground: Ground, contents: Contents, said: Decisions | None = None) -> int:
    """Imports, expects all to be as promised, and tells how many items were created."""
    session = ground.session()
    prepared = prepare(session, contents, ground.target, said)
    outcome, verified = import_prepared(session, prepared)
    assert outcome.failure is None
    assert all(one.is_as_promised for one in verified), verified
    return len(prepared.docket.by(Do.CREATE))


def taken_back(ground: Ground) -> None:
    session = ground.session()
    assert undo(session, run_to_undo(session, "last")).is_as_before


def test_a_copy_stands_beside_and_what_it_uses_of_the_package_are_copies(ground: Ground) -> None:
    report = ground.export()
    ground.bring(report)
    once = ground.state(ground.target)
    package = read_package(report.path)
    copy = copied(package, "north")
    if ground.kind == "chart":
        # What is called like a table can't have another name: found before anything is touched.
        found = prepare(ground.session(), copy, ground.target).docket.errors
        assert [(one.rule, one.item) for one in found] == [("object-missing", "dataset:deliveries%20%28north%29")]
        return
    assert brought(ground, copy) == len(copy.items)
    after = ground.state(ground.target)
    # The originals are as they were, to the field; the copies are what the package holds, among themselves.
    assert {key: after[key] for key in once} == once
    for key, item in copy.items.items():
        assert after[key][1].title == item.states.title
        inside = {used for used in item.uses() if used in package.items or used in copy.items}
        assert inside <= set(copy.items)
    session = ground.session()
    assert prepare(session, copy, ground.target).docket.is_idle
    assert prepare(session, package, ground.target).docket.is_idle
    # A change of the source reaches the copies when they are asked for, and them alone.
    key = ground.renamed
    ground.change(ground.source, key, title="Another title")
    newer = ground.export()
    twin = copied(read_package(newer.path), "north")
    docket = prepare(ground.session(), twin, ground.target).docket
    assert [action.item.states.title for action in docket.by(Do.UPDATE)] == ["Another title (north)"]
    brought(ground, twin)
    assert {k: ground.state(ground.target)[k] for k in once} == once
    taken_back(ground)
    taken_back(ground)
    assert ground.state(ground.target) == once


def test_another_title_is_no_edit_and_is_remembered(ground: Ground) -> None:
    before = ground.state(ground.target)
    report = ground.export()
    package = read_package(report.path)
    key = ground.renamed
    said = Decisions(arrivals={key: Arrival(title="Called otherwise")})
    brought(ground, package, said)
    assert ground.state(ground.target)[key][1].title == "Called otherwise"
    again = prepare(ground.session(), package, ground.target).docket
    assert (again.is_idle, again.undecided, again.edited) == (True, [], [])
    taken_back(ground)
    assert ground.state(ground.target) == before


def test_ids_are_new_where_they_are_asked_to_be_and_can_be_chosen(ground: Ground) -> None:
    session = ground.session()
    if not session.open(ground.target).description.capabilities.keeps_ids:
        return
    report = ground.export()
    package = read_package(report.path)
    brought(ground, package, Decisions(ids="new"))
    session = ground.session()
    links = {link.key: link.native_id for link in session.ledger.links(session.open(ground.target).description.uid)}
    assert all(links[key] != item.native_id for key, item in package.items.items() if key in links)
    assert set(package.items) <= set(ground.state(ground.target))
    taken_back(ground)
