"""Which steps can be under way at once, and how many questions there are."""

from __future__ import annotations

from types import SimpleNamespace
from typing import Any, cast

import pytest

from amphora.core.form.settings import is_setting
from amphora.core.plan.questions import Answer, Question, decide_all
from amphora.core.plan.states import Image
from amphora.core.plan.steps import Move, Publish, Step, Switch
from amphora.core.values.model import Json, States
from amphora.engine.runs.batch import Ready, side_by_side

USES = {"a": {"x"}, "b": {"a"}, "c": {"x"}, "d": set[str](), "x": set[str]()}
MATERIAL = cast(Any, SimpleNamespace(uses=lambda key: frozenset(USES[key])))


def image(title: str, folder: str = "") -> Image:
    return Image("1", "flow", (title,), States(title, folder, None, None), {})


def ready(step: Step, before: Image | None = None, after: Image | None = None) -> Ready:
    return Ready(1, step, {}, {}, {}, {step.key: after}, {})


@pytest.mark.parametrize(
    ("keys", "width", "count"),
    [
        ("acd", 9, 3),
        ("acd", 2, 2),
        ("acd", 1, 1),
        ("ab", 9, 1),
        ("ba", 9, 1),
        ("ca", 9, 2),
        ("aa", 9, 1),
        ("ax", 9, 1),
        ("dcb", 9, 3),
    ],
)
def test_what_uses_another_waits_for_it(keys: str, width: int, count: int) -> None:
    assert side_by_side([ready(Publish((key,))) for key in keys], MATERIAL, {}, width) == count


def test_kinds_of_steps_come_one_after_the_other_and_places_are_freed_first() -> None:
    mixed = [ready(Publish(("a",))), ready(Switch(("c",))), ready(Switch(("d",)))]
    assert [side_by_side(mixed[n:], MATERIAL, {}, 9) for n in range(2)] == [1, 2]
    assert side_by_side([ready(Move(("a",), folder="f")), ready(Move(("c",), folder="f"))], MATERIAL, {}, 9) == 1
    now: dict[str, Image | None] = {"a": image("A"), "c": image("C")}
    stays, goes = ready(Publish(("a",)), after=image("A")), ready(Publish(("c",)), after=image("C", "there"))
    assert side_by_side([stays, goes], MATERIAL, now, 9) == 1
    assert side_by_side([goes, stays], MATERIAL, now, 9) == 1
    assert side_by_side([stays, ready(Publish(("d",)))], MATERIAL, now, 9) == 2


def test_each_question_is_told_with_its_number() -> None:
    asked: list[tuple[int, int]] = []

    def ask(question: Question, number: int, total: int) -> Answer:
        asked.append((number, total))
        # Back once, from the third.
        return Answer(go_back=True) if asked == [(1, 3), (2, 3), (3, 3)] else Answer("package")

    questions = [Question("flow:a", "A", cast(Any, SimpleNamespace(place=f"/{n}"))) for n in range(3)]
    assert decide_all(questions, ask) == {"flow:a": {"/0": "package", "/1": "package", "/2": "package"}}
    assert asked == [(1, 3), (2, 3), (3, 3), (2, 3), (3, 3)]


@pytest.mark.parametrize(
    ("value", "type_", "is_one"),
    [
        ("15", "number in text", True), ("x", "number in text", False), (15, "number in text", False), ("{", "JSON in text", False),
        ('{"a": 1}', "JSON in text", True), ("true", "yes/no in text", True), ("yes", "yes/no in text", False), ("low", "low|high", True),
        (True, "number", False), (1, "yes/no", False), ("x", "text", True), (1, "text", False),
    ],
)  # fmt: skip
def test_settings_are_of_their_type(value: Json, type_: str, is_one: bool) -> None:
    assert is_setting(value, type_) is is_one


def test_whoever_goes_back_and_quits_has_not_decided_that_one() -> None:
    said = iter([Answer("package"), Answer("target"), Answer(go_back=True), Answer(quit=True)])
    questions = [Question("flow:a", "A", cast(Any, SimpleNamespace(place=f"/{n}"))) for n in range(3)]
    assert decide_all(questions, lambda *_: next(said)) == {"flow:a": {"/0": "package"}}
