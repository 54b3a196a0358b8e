"""What `check` calls importable imports without an error, and what the target refuses had been reported.

Each fault is put into a good package (or beside it, into the target); then the import is forced, past every
finding, and the two verdicts are compared.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable
from contextlib import closing
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import pytest

from amphora.core.needs.needs import needs_of, types_of
from amphora.core.values.errors import AmphoraError
from amphora.core.values.keys import kind_of
from amphora.core.values.model import Contents, Finding, Item, States
from amphora.engine.docket import prepare
from amphora.engine.export import ExportRequest, export
from amphora.engine.map import map_package
from amphora.engine.runs.forwards import carry_out
from amphora.engine.runs.stage import stage_of
from amphora.engine.session import Session
from amphora.files.crosswalk_file import Cell, write_cells
from amphora.files.workspace import read_workspace
from amphora.practice.platform import Platform
from tests.contract.conftest import nodered_ground

FLOW, TABLE, REPORT = "flow:intake/weigh-ticket", "table:intake/deliveries", "report:intake/deliveries-by-variety"
FEED, LOG, APP, LETTER = (
    "integration:intake/weighbridge-feed",
    "table:mill/press-log",
    "app:intake/harvest-intake",
    "letter-template:office/weigh-slip",
)


@dataclass
class Trial:
    """A package on its way into an environment, to be spoilt."""

    session: Session
    contents: Contents
    target: str

    def edit(self, key: str, **members: Any) -> None:
        """Sets members of an item's form; None takes one out."""
        item = self.contents.items[key]
        form = {name: part for name, part in {**item.form, **members}.items() if part is not None}
        self.put(replace(item, _form=form))

    def restate(self, key: str, **states: Any) -> None:
        item = self.contents.items[key]
        self.put(replace(item, states=replace(item.states, **states)))

    def put(self, item: Item) -> None:
        items = {**self.contents.items, item.key: item}
        needs = tuple(needs_of(items, types_of(self.contents.needs)))
        self.contents = replace(self.contents, items=items, needs=needs)

    def drop(self, key: str) -> None:
        items = {k: item for k, item in self.contents.items.items() if k != key}
        needs = tuple(needs_of(items, types_of(self.contents.needs)))
        self.contents = replace(self.contents, items=items, needs=needs)

    def cell(self, section: str, row: str, value: Any) -> None:
        write_cells(self.session.workspace.crosswalk, [Cell(section, row, self.target, value)])
        self.session.renew_crosswalk()

    def platform(self, account: str = "keeper@halcyon.example") -> Platform:
        path = self.session.workspace.folder / f"{self.target}.practice"
        return Platform(path, account, lambda: "2026-05-01T00:00:00Z")

    def sql(self, statement: str, *values: Any) -> None:
        with closing(sqlite3.connect(self.session.workspace.folder / f"{self.target}.practice")) as db:
            db.execute(statement, values)
            db.commit()

    def sign_in(self, account: str) -> None:
        entry = self.session.workspace.environments[self.target]
        entries = {**self.session.workspace.environments, self.target: replace(entry, user=account)}
        self.session.workspace = replace(self.session.workspace, environments=entries)

    def judged(self) -> tuple[list[Finding], AmphoraError | None]:
        """What check says, and what the target says when the import is forced."""
        prepared = prepare(self.session, self.contents, self.target)
        try:
            outcome = carry_out(prepared.docket, stage_of(self.session, self.target))
        except AmphoraError as error:
            return list(prepared.docket.findings), error
        return list(prepared.docket.findings), outcome.failure


def taken(trial: Trial, folder: str) -> None:
    """Somebody else's flow has the name, under another key, as it was moved there."""
    with closing(trial.platform()) as there:
        id_ = there.create("flow", "elsewhere", "weigh-ticket", "Other", {"steps": []}, None, "t")
        there.update(id_, "Other", folder, {"steps": []}, (), 1)


def delivered_before(trial: Trial) -> None:
    prepared = prepare(trial.session, trial.contents, trial.target)
    assert carry_out(prepared.docket, stage_of(trial.session, trial.target)).failure is None


def moved_twin(trial: Trial) -> None:
    item = trial.contents.items[FLOW]
    trial.put(replace(item, key="flow:other/weigh-ticket", native_id="fl-zzzzzzzz"))


def robot(trial: Trial) -> None:
    trial.put(Item("robot:one", 1, {"arm": 1}, States("One")))


Fault = Callable[[Trial], None]


def both(*faults: Fault) -> Fault:
    def all_of_them(trial: Trial) -> None:
        for fault in faults:
            fault(trial)

    return all_of_them


def only_lists(trial: Trial) -> None:
    for key in list(trial.contents.items):
        if kind_of(key) not in ("theme", "value-list"):
            trial.drop(key)


LIVE: dict[str, Fault] = {
    "nothing": lambda t: None,
    "a list left out": lambda t: t.drop("value-list:intake/olive-varieties"),
    "a table left out": lambda t: t.drop("table:growers/growers"),
    "a theme left out that is there": lambda t: t.drop("theme:house/olive"),
    "a letter left out": lambda t: t.drop(LETTER),
    "a column that isn't there": lambda t: t.edit(REPORT, columns=[f"amphora:{TABLE}#litres"]),
    "a column that is there": lambda t: t.edit(REPORT, columns=[f"amphora:{TABLE}#kilos"]),
    "an id of nothing": lambda t: t.edit(REPORT, table="amphora:unbound:ta-99999999"),
    "no table for a report": lambda t: t.edit(REPORT, table=""),
    "no member for the table": lambda t: t.edit(REPORT, table=None),
    "an unused reference is empty": lambda t: t.edit(APP, theme=""),
    "a theme for a table": lambda t: t.edit(REPORT, table="amphora:theme:house/olive"),
    "an id in a note": lambda t: t.edit(APP, note="amphora:unbound:ta-99999999"),
    "a connection open": lambda t: t.cell("connections", "mill-db", "?"),
    "a connection that isn't there": lambda t: t.cell("connections", "mill-db", "mill-none"),
    "a connection of another type": lambda t: t.cell("connections", "mill-db", "weighbridge"),
    "two needs on one connection": lambda t: t.cell("connections", "mill-db", "office-main"),
    "a person that isn't there": lambda t: t.cell("people", "intake-desk", "nobody@halcyon.example"),
    "a setting in words": lambda t: t.cell("settings", "weigh-ticket-batch", "forty"),
    "a setting yes": lambda t: t.cell("settings", "weigh-ticket-batch", True),
    "a setting in another number": lambda t: t.cell("settings", "weigh-ticket-batch", 41.5),
    "an author": lambda t: t.sign_in("author@halcyon.example"),
    "a reader": lambda t: t.sign_in("reader@halcyon.example"),
    "an author, nothing to switch or publish": both(lambda t: t.sign_in("author@halcyon.example"), lambda t: only_lists(t)),
    "the name taken in the folder": lambda t: taken(t, "intake"),
    "the name taken in another folder": lambda t: taken(t, "office"),
    "two of one name": moved_twin,
    "a kind of its own": robot,
    "broken, for what is switched on": both(
        lambda t: t.edit(FLOW, steps=[{"id": "s", "do": "query", "connection": "amphora:connection:mill-db"}]),
        lambda t: t.sql("update supplies set works = 0 where name = 'mill-main'"),
    ),
    "broken, for what stays off": both(
        lambda t: t.edit(FLOW, steps=[{"id": "s", "do": "query", "connection": "amphora:connection:mill-db"}]),
        lambda t: t.restate(FLOW, is_on=False),
        lambda t: t.sql("update supplies set works = 0 where name = 'mill-main'"),
    ),
    "an object that isn't there": both(
        lambda t: t.edit(TABLE, stored_as="deliveries"),
        lambda t: t.sql("update supplies set objects = '[\"x\"]' where name = 'mill-main'"),
    ),
    "an object that is there": both(
        lambda t: t.edit(TABLE, stored_as="deliveries"),
        lambda t: t.sql("update supplies set objects = '[\"deliveries\"]' where name = 'mill-main'"),
    ),
    "no room for tables": lambda t: t.sql('update meta set value = \'{"items": {"table": 2}, "item_bytes": null}\' where name = \'limits\''),
    "room for just so many": lambda t: t.sql('update meta set value = \'{"items": {"table": 3}, "item_bytes": null}\' where name = \'limits\''),
    "a letter too long": both(
        lambda t: t.edit(LETTER, body="x" * 5000),
        lambda t: t.sql("update meta set value = '{\"items\": {}, \"item_bytes\": 5000}' where name = 'limits'"),
    ),
    "bound to another region": lambda t: t.put(
        Item(
            FEED,
            1,
            {"connection": "", "into": f"amphora:{TABLE}", "region": "south"},
            States("Feed", "intake", False),
        )
    ),
    "bound to this region": lambda t: t.put(
        Item(
            FEED,
            1,
            {"connection": "", "into": f"amphora:{TABLE}", "region": "north"},
            States("Feed", "intake", False),
        )
    ),
    "over what was delivered": delivered_before,
    "over what was delivered, a column gone": both(lambda t: delivered_before(t), lambda t: t.edit(TABLE, columns=[])),
    "over what was delivered, by a reader": both(
        lambda t: delivered_before(t), lambda t: t.edit(APP, note="n"), lambda t: t.sign_in("reader@halcyon.example")
    ),
}  # fmt: skip


def compared(trial: Trial) -> tuple[bool, AmphoraError | None]:
    """The two verdicts; they have to agree in what matters."""
    findings, failure = trial.judged()
    stopping = [f for f in findings if f.level == "error" or f.rule in ("need-open", "need-later")]
    if not stopping:
        assert failure is None, failure
    if failure is not None:
        assert stopping
    return bool(stopping), failure


@pytest.fixture
def trial(halcyon: Path) -> Any:
    session = Session(read_workspace(halcyon))
    contents = export(session, ExportRequest("grove-dev", ["Harvest Intake"], "olive-intake")).contents
    yield Trial(session, replace(contents, package_digest="x"), "grove-live")
    session.close()


@pytest.mark.parametrize("fault", LIVE)
def test_check_and_the_practice_platform_agree(trial: Trial, fault: str) -> None:
    LIVE[fault](trial)
    is_stopped, failure = compared(trial)
    if fault in SURE:
        assert is_stopped is SURE[fault]
    if is_stopped and fault not in ONLY_CHECK:
        assert failure is not None, "check stops what the target would take"


SURE = {
    "nothing": False,
    "a theme left out that is there": False,
    "a column that is there": False,
    "the name taken in another folder": False,
    "room for just so many": False,
    "broken, for what stays off": False,
    "an object that is there": False,
    "bound to this region": False,
    "over what was delivered": False,
    "an author, nothing to switch or publish": False,
    "a theme for a table": True,
    "two of one name": True,
}
"""Faults of which it is certain what both have to say."""
ONLY_CHECK = ("an id in a note", "over what was delivered, a column gone")
"""What the target takes, though it is broken: check is the stricter one here."""

REPORTS = ["Deliveries by variety", "Press yield", "Acidity by grove"]


@pytest.mark.parametrize("wanted", [REPORTS, REPORTS[:1], ["Weighbridge feed"], ["Press log"], ["Olive varieties"]])
def test_check_and_the_other_region_agree(halcyon: Path, wanted: list[str]) -> None:
    with closing(Session(read_workspace(halcyon))) as session:
        contents = export(session, ExportRequest("grove-dev", wanted, "some", access=True)).contents
        trial = Trial(session, replace(contents, package_digest="x"), "grove-south")
        map_package(session, contents, ["grove-south"], [], accept=True)
        assert compared(trial)[0] == (wanted not in (["Olive varieties"], REPORTS[:1]))


NODES: dict[str, Fault] = {
    "nothing": lambda t: None,
    "a subflow left out": lambda t: t.drop("flow:Stamp"),
    "a tab left out": lambda t: t.drop("flow:Press"),
    "a broker open": lambda t: t.cell("connections", "Mill broker", "?"),
    "a broker that isn't there": lambda t: t.cell("connections", "Mill broker", "None"),
    "a setting as a number": lambda t: t.cell("settings", "Weigh ticket-env-REGION", 7),
    "a node type nobody has": lambda t: t.put(
        replace(
            t.contents.items["flow:Press"],
            _form=json.loads(json.dumps(t.contents.items["flow:Press"].form).replace("http request", "fax out")),
        )
    ),
    "over what was delivered": delivered_before,
}


@pytest.mark.parametrize("fault", NODES)
def test_check_and_node_red_agree(
    tmp_path: Path, runtimes: tuple[str, str], monkeypatch: pytest.MonkeyPatch, fault: str
) -> None:
    monkeypatch.setenv("TWO_TOKEN", "made-up-token")
    with closing(nodered_ground(tmp_path, runtimes)) as ground:
        trial = Trial(ground.session(), replace(ground.export().contents, package_digest="x"), "two")
        NODES[fault](trial)
        is_stopped, _ = compared(trial)
        assert is_stopped == (fault not in ("nothing", "over what was delivered"))
