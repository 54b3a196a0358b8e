"""What was said of an import: kept with its run and read again, and said of items that go by other keys now."""

from __future__ import annotations

from dataclasses import replace

from amphora.core.plan.arrivals import Arrival
from amphora.core.plan.decisions import LEAVE, Decisions, ItemDecision
from amphora.core.plan.docket import Custody, IfItFails

SAID = Decisions(
    items={"flow:a": ItemDecision("package", {"/limit": {"value": 4}}), "flow:b": ItemDecision(LEAVE)},
    fates={"flow:old": "retire"},
    custody=Custody.TARGET,
    without=("attachments",),
    records=True,
    if_it_fails=IfItFails.KEEP,
    arrivals={"flow:a": Arrival("Other", "mill")},
    ids="new",
    pause_after={"flow:a": "the laboratory"},
    bring=("flow:c",),
    same=("flow:a", "flow:b"),
)


def test_what_was_said_is_kept_whole() -> None:
    assert Decisions.from_json(SAID.to_json()) == SAID


def test_what_was_said_of_an_item_is_said_of_it_under_another_key() -> None:
    there, back = {"flow:a": "flow:x", "flow:c": "flow:z"}, {"flow:x": "flow:a", "flow:z": "flow:c"}
    moved = SAID.under(there)
    assert moved == replace(
        SAID,
        items={"flow:x": SAID.items["flow:a"], "flow:b": SAID.items["flow:b"]},
        arrivals={"flow:x": Arrival("Other", "mill")},
        pause_after={"flow:x": "the laboratory"},
        bring=("flow:z",),
        same=("flow:x", "flow:b"),
    )
    assert moved.under(back) == SAID
