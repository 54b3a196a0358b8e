"""Words for many: what is counted, what is told once, and what stands for the rest."""

from __future__ import annotations

from dataclasses import replace
from types import SimpleNamespace
from typing import Any, cast

import pytest

from amphora.core.form.kinds import parse_sheet
from amphora.core.merge.merge import By, FieldChange
from amphora.core.plan.gate import _open, _permissions, _taken
from amphora.core.plan.states import Image
from amphora.core.plan.steps import Create
from amphora.core.values.model import Contents, Finding, Level, States
from amphora.core.values.strict_toml import line_of
from amphora.engine.overview import Standing
from amphora.engine.proof import Cause, Off, Proof
from amphora.engine.runs.backwards import _unlike
from amphora.render.check import check_markdown

CONTENTS = Contents("olive", "1.0.0", "dev", "u", {}, ())


def test_few_words_for_what_is_off() -> None:
    told = [Standing("1.0.0", edits=n, still=cast(Any, ("a task",) * n)).troubles for n in range(3)]
    one = ["1 item edited there", "1 thing still to do"]
    assert told == [[], one, ["2 edited there", "2 still to do"]]
    image = Image("1", "flow", ("A",), States("A", "", True, True), {"a": 1}, None, 2)
    cases = [
        (replace(image, live={"a": 2}), "its live version"),
        (replace(image, draft={}), "its draft"),
        (replace(image, states=States("B", "", True, True)), "its title or folder"),
        (replace(image, states=States("A", "", False, False)), "on or off, published or not"),
        (replace(image, rows=3), "its rows"),
        (replace(image, revision="9"), "something in it"),
        (None, "it is gone"),
    ]
    assert [_unlike(image, found) for found, _ in cases] == [words for _, words in cases]
    assert _unlike(None, image) == "it is still there"
    sheet = parse_sheet('kind = "flow"\n[fields]\nvolatile = ["$.runs"]\nnamed = { "$.steps" = "id" }\n')
    wanted, found = ({"runs": n, "to": "x", "steps": [{"id": "tell", "of": n}]} for n in (1, 2))
    before, after = replace(image, live=wanted, draft=wanted), replace(image, live=found, draft={**wanted, "runs": 3})
    assert _unlike(before, after, sheet) == "its live version at steps > tell > of, its draft"
    source = "a = 1\n[item.flow]\na = 2\n"
    assert [line_of(source, "a", within) for within in ("", "item.flow.", "item.tab.")] == [
        "line 1: ",
        "line 3: ",
        "line 1: ",
    ]
    assert line_of(source, "b") == ""


@pytest.mark.parametrize(
    ("places", "lines"),
    [
        ("abc", ["flow:a at a: unknown origin", "flow:a at b: unknown origin", "flow:a at c: unknown origin"]),
        ("abcde", ["flow:a at a, b, c and 2 more places: unknown origin"]),
    ],
)
def test_many_open_places_of_an_item_stand_in_one_line(places: str, lines: list[str]) -> None:
    changes = [FieldChange(f"/{place}", By.UNKNOWN, 1, 2, 3) for place in places]
    action = SimpleNamespace(key="flow:a", comparison=SimpleNamespace(open=changes))
    assert _open(cast(Any, action)) == lines


def test_what_many_items_lack_stands_once() -> None:
    lacks = [Finding("feature-missing", Level.ERROR, "'fax' is missing.", f"flow:{name}") for name in "abc"]
    told = check_markdown(
        CONTENTS, {"live": [*lacks, Finding("limit-exceeded", Level.ERROR, "'fax' is missing.", "flow:d")]}
    )
    assert [line.split(" | ")[2] for line in told.splitlines() if "'fax'" in line] == ["flow:a and 2 more", "flow:d"]


@pytest.mark.parametrize(("count", "told"), [(3, "flow:0, flow:1, flow:2"), (4, "flow:0, flow:1, flow:2 and 1 more")])
def test_what_a_permission_is_missing_for_is_named(count: int, told: str) -> None:
    steps = [Create((f"flow:{number}",)) for number in range(count)]
    docket = SimpleNamespace(steps=steps, actions=[1], target="live")
    standing = SimpleNamespace(permissions={"read"}, lacks=frozenset(), sheets={}, account="ada", roles={})
    [reason] = _permissions(cast(Any, docket), cast(Any, standing))
    assert (reason.message, reason.details) == ("ada may not write in live.", (f"write: {told}",))


@pytest.mark.parametrize(("count", "where"), [(1, "an item"), (2, "2 items")])
def test_places_that_are_taken_are_counted(count: int, where: str) -> None:
    taken = [(f"flow:{number}", "flow:other") for number in range(count)]
    said: dict[str, Any] = {"name": "olive-1.0.0", "file": "", "run": "", "since": "", "words": [], "source_file": ""}
    docket = SimpleNamespace(taken=tuple(taken), target="live", **said)
    [reason] = _taken(cast(Any, docket))
    assert reason.message == f"live has another item where {where} would go."
    assert reason.details[0] == "flow:0 would get the place of flow:other"
    assert str(reason.next_step).endswith("amphora import olive-1.0.0 live --same flow:0")


@pytest.mark.parametrize(
    ("causes", "more", "count"),
    [
        ([Cause.EDITED, Cause.EDITED], {}, 2),
        ([Cause.EDITED, Cause.GONE], {}, 0),
        ([Cause.EDITED], {"dangling": {"flow:a": 1}}, 0),
        ([Cause.EDITED], {"lost": {"flow:a": ("b",)}}, 0),
        ([], {}, 0),
    ],
)
def test_only_edits_are_off_where_nothing_else_is(causes: list[Cause], more: dict[str, Any], count: int) -> None:
    off = {f"flow:{number}": Off(cause) for number, cause in enumerate(causes)}
    assert Proof("live", "olive", "1.0.0", None, (), off, **more).only_edited == count
