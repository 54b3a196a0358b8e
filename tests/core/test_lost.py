"""What is made of a creation whose answer was lost."""

from __future__ import annotations

from dataclasses import replace
from types import SimpleNamespace
from typing import Any, cast

import pytest

from amphora.core.form.kinds import parse_sheet
from amphora.core.plan.states import Habits, Image, mark_of
from amphora.core.plan.steps import Update
from amphora.core.values.errors import EnvironmentRefused
from amphora.core.values.model import Listed, States
from amphora.engine.apart import Apart
from amphora.engine.runs.batch import Ready
from amphora.engine.runs.evidence import _rows_meant
from amphora.engine.runs.lost import find_made, half_of, is_half, looked_at, loose_mark
from amphora.engine.steps.contract import Bench
from amphora.environments.contract import Written
from amphora.ledger.records import JournalStep

SHEET = parse_sheet('kind = "flow"')
HABITS = Habits(False, True, False, True, {"flow": SHEET})


def there(id_: str = "n1", text: str = "a", by: str | None = "keeper", name: str = "a") -> Image:
    return Image(id_, "flow", ("f", name), States("A", "f"), {"text": text}, None, None, "1", "t", by)


class Target:
    """An environment that keeps no tokens."""

    def __init__(self, *images: Image) -> None:
        self.images = {image.native_id: image for image in images}

    def index(self) -> list[Listed]:
        return [Listed(i.native_id, i.kind, i.segments, i.states, i.revision) for i in self.images.values()]

    def look(self, ids: list[str]) -> dict[str, Image]:
        return {id_: self.images[id_] for id_ in ids if id_ in self.images}


class Remembering(Target):
    """One that keeps them."""

    def answered(self, token: str) -> Written | None:
        return Written("n2", "1", "") if token == "tok/flow:f/a" else None


MEANT = mark_of(there(), HABITS.sheets)
LOST = [
    (Target(), {}, None, False),
    (Target(there()), {}, "n1", False),
    (Target(there(by=None)), {}, "n1", False),
    (Target(there(by="tomas")), {}, None, True),
    (Target(there(text="b")), {}, None, True),
    (Target(there(), there("n2")), {}, None, True),
    (Target(there(), there("n2", by="tomas")), {}, "n1", False),
    (Target(there(name="b")), {}, None, False),
    (Target(there("old")), {}, None, False),
    (Target(there(), there("n2")), {"flow:f/a": "n2"}, "n2", False),
    (Target(there()), {"flow:f/a": "n9"}, None, False),
    (Remembering(there(), there("n2", "b", "tomas")), {}, "n2", False),
]


@pytest.mark.parametrize(("target", "ids", "found", "is_doubtful"), LOST)
def test_what_a_creation_without_an_answer_made(
    target: Any, ids: dict[str, str], found: str | None, is_doubtful: bool
) -> None:
    intent = {"token": "tok", "ids": ids, "meant": {"flow:f/a": MEANT}, "places": {"flow:f/a": ["flow", "f", "a"]}}
    search = find_made(target, HABITS, "flow:f/a", intent, {"old"}, "keeper")
    assert (search.image.native_id if search.image else None, bool(search.doubt)) == (found, is_doubtful)


HALVES = replace(HABITS, fills_in=True, apart={"flow": ("tags",)})
KEY = "flow:f/a"


def tagged(text: str, *tags: str) -> Image:
    return replace(there(by=None), live={"text": text, **({"tags": list(tags)} if tags else {})})


@pytest.mark.parametrize(
    ("now", "is_between"),
    [
        (tagged("b", "x"), True),
        (tagged("b", "x", "y"), True),
        (tagged("b"), True),
        (tagged("a", "y"), True),
        (tagged("c", "x"), False),
        (tagged("b", "x", "z"), False),
    ],
)
def test_half_of_a_change_is_known_and_nobody_elses_is(now: Image, is_between: bool) -> None:
    assert is_half(now, half_of(tagged("a", "x"), tagged("b", "y"), HALVES), HALVES) is is_between


def test_a_member_of_its_own_that_nobody_meant_is_somebody_elses() -> None:
    assert not is_half(tagged("b", "x"), half_of(tagged("a"), tagged("b"), HALVES), HALVES)


@pytest.mark.parametrize(
    ("title", "folder", "text", "is_between"),
    [
        ("B", "f", "a", True),
        ("B", "g", "a", True),
        ("B", "g", "b", True),
        ("A", "g", "a", False),
        ("B", "f", "b", False),
    ],
)
def test_a_change_stops_called_otherwise_then_moved_then_written(
    title: str, folder: str, text: str, is_between: bool
) -> None:
    meant = replace(tagged("b", "x"), states=States("B", "g"))
    now = replace(tagged(text, "x"), states=States(title, folder))
    assert is_half(now, half_of(tagged("a", "x"), meant, HALVES), HALVES) is is_between


@pytest.mark.parametrize(
    ("now", "meant", "is_sure", "is_done"),
    [
        (tagged("b", "x"), tagged("b", "y"), True, False),
        (tagged("b", "y", "z"), tagged("b", "y"), True, False),
        (tagged("c", "x"), tagged("b", "y"), False, False),
        # What was to be taken away and is there still is none of the platform's additions; what is new is one.
        (tagged("b", "x"), tagged("b"), True, False),
        (tagged("b", "z"), tagged("b"), True, True),
    ],
)
def test_what_became_of_a_change_that_nobody_answered(now: Image, meant: Image, is_sure: bool, is_done: bool) -> None:
    before, sheets = tagged("a", "x"), HALVES.sheets
    was, wanted = ({KEY: mark_of(image, sheets)} for image in (before, meant))
    ready = Ready(1, Update((KEY,), "live"), {}, was, wanted, {KEY: meant}, {})
    target: Any = Target(now)
    looked = looked_at(target, HALVES, ready, {KEY: before}, (), "keeper")
    assert (KEY in looked.sure, looked.is_ours, looked.is_as_before) == (is_sure, is_done, False)


def test_letting_go_in_a_draft_or_live_is_the_same() -> None:
    sheet = parse_sheet('kind = "flow"\n[[refers]]\nat = "$.next"\nto = ["flow"]\n')
    habits = replace(HABITS, sheets={"flow": sheet})
    held = replace(there(), live={"next": "n2", "text": "a"})
    gone = {"text": "a", "next": None}
    marks = {
        loose_mark(one, {"n2"}, habits)
        for one in (held, replace(held, live=gone), replace(held, draft=gone), replace(held, draft=held.live))
    }
    assert len(marks) == 1
    assert loose_mark(replace(held, draft={"text": "b", "next": "n2"}), {"n2"}, habits) not in marks


def test_what_is_not_there_is_refused_by_whoever_needs_it() -> None:
    bench = Bench(cast(Any, Target()), HABITS, cast(Any, None), {"flow:f/a": None})
    with pytest.raises(EnvironmentRefused, match="not there"):
        bench.seen("flow:f/a")
    keeper = SimpleNamespace(held_files=lambda names: {"a" * 64: 3})
    assert Apart(cast(Any, keeper), "a" * 64).size_bytes == 3
    with pytest.raises(EnvironmentRefused, match="attachment bbbbbbbb is named there, and is not there"):
        _ = Apart(cast(Any, keeper), "b" * 64).size_bytes


def test_rows_are_expected_only_of_a_step_that_was_loading_them() -> None:
    def step(do: str) -> JournalStep:
        return JournalStep(1, do, ("table:t/a",), {"meant": {"table:t/a": "mark:7"}}, "intended", None, "")

    assert [_rows_meant(step(do), "table:t/a") for do in ("load rows", "create")] == [7, 0]
    assert _rows_meant(step("load rows"), "table:t/b") == 0


def test_what_was_written_and_is_listed_in_another_order_is_ours() -> None:
    sheet = parse_sheet('kind = "flow"\n[fields]\nnamed = { "$.steps" = "id" }')
    habits = Habits(False, True, False, True, {"flow": sheet}, fills_in=True)

    def listed(*names: str, note: str = "") -> Image:
        return replace(there(by=None), live={"steps": [{"id": name} for name in names], "note": note})

    half = half_of(listed("a", "b"), listed("a", "c", "b"), habits)
    assert [is_half(one, half, habits) for one in (listed("b", "c", "a"), listed("b", "c"))] == [True, False]
    assert not is_half(listed("b", "c", "a", note="somebody's"), half, habits)
