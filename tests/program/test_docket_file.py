"""Docket files: whatever a reviewer writes into one is honoured, or refused with its line; nothing is passed over."""

from __future__ import annotations

import random
from contextlib import closing
from pathlib import Path

from amphora.core.plan.arrivals import Arrival
from amphora.core.plan.decisions import LEAVE, Decisions, ItemDecision
from amphora.core.plan.docket import Custody, IfItFails, Parting
from amphora.engine.docket import prepare
from amphora.engine.gate import ImportRequest
from amphora.engine.imports import prepare_from_docket
from amphora.engine.refresh import refresh_docket
from amphora.engine.session import Session
from amphora.files.docket_file import CHOICES, document_of, write_docket
from amphora.files.package import read_package
from amphora.files.workspace import read_workspace
from tests.conftest import Program
from tests.program.test_deciding import edit


def test_whatever_is_chosen_stands_in_the_file_and_comes_back_from_it(amphora: Program, halcyon: Path) -> None:
    assert amphora("export", "grove-dev", "Harvest Intake", "Welcome to the co-operative", "--as", "oi").code == 0
    amphora("map", "oi", "grove-live", "--accept", "--set", "office=office@halcyon.example")
    assert amphora("import", "oi", "grove-live", "--yes").code == 0
    edit(amphora, "grove-dev", "Bruised fruit check", '/steps/0/note="dev"', '/starts_on/event="changed"')
    edit(amphora, "grove-live", "Bruised fruit check", '/steps/0/note="frost"')
    edit(amphora, "grove-live", "Weigh ticket", "/steps/1/copies=2")
    draft = ("Bruised fruit check", "--draft", "--set", "/steps/0/note=draft")
    assert amphora("practice", "edit", "grove-live.practice", *draft).code == 0
    edit(amphora, "grove-live", "Weigh slip", "title=Slip there")
    edit(amphora, "grove-dev", "Weigh slip", "title=Slip here", "/subject=B")
    edit(amphora, "grove-dev", "Weigh ticket", "/starts_on/event=weighed")
    assert amphora("export", "grove-dev", "Harvest Intake", "--as", "oi", "--version", "3.0.0").code == 0
    path, drawn = halcyon / "drawn.yaml", random.Random(11)
    contents = read_package(halcyon / "packages" / "oi-3.0.0.amphora")

    with closing(Session(read_workspace(halcyon))) as session:
        plain = prepare(session, contents, "grove-live").docket
        asked = {a.key: [c.place for c in a.comparison.changes] if a.comparison else [] for a in plain.actions}
        assert sum("state:draft" in places for places in asked.values()) == 1
        delivered = {key for key in asked if session.ledger.last_deliveries(plain.target_uid, [key])}
        for _ in range(25):
            items = {}
            for key, places in asked.items():
                whole = drawn.choice([*CHOICES, LEAVE]) if drawn.random() < 0.25 else ""
                whole = whole if whole != "last-delivered" or key in delivered else ""
                fields = {
                    place: drawn.choice(CHOICES) for place in places if whole != LEAVE and drawn.random() < 0.35
                }
                items[key] = ItemDecision(whole, fields)
            some = drawn.sample(sorted(asked), 3)
            said = Decisions(
                items,
                {one.key: drawn.choice(list(Parting)).value for one in plain.retirements if drawn.random() < 0.5},
                custody=drawn.choice([None, *Custody]),
                without=drawn.choice([(), ("access",), ("attachments",)]),
                if_it_fails=drawn.choice(list(IfItFails)),
                arrivals={
                    key: Arrival(drawn.choice(["", "Called"]), drawn.choice(["", "north"])) for key in some[:2]
                },
                pause_after={some[2]: "seen"} if drawn.random() < 0.2 else {},
                file=str(path),
            )
            made = prepare(session, contents, "grove-live", said).docket
            write_docket(path, made)
            read = prepare_from_docket(session, path, ImportRequest(Decisions())).docket
            assert (document_of(read), read.steps) == (document_of(made), made.steps), said
            assert document_of(refresh_docket(session, path).prepared.docket) == document_of(made), said
