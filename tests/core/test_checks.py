"""Each rule with an example that raises it and a near miss that doesn't."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest

from amphora.core.checks import RULES, CheckContext, check
from amphora.core.checks.context import TargetIndex
from amphora.core.crosswalk import Mapped, MapState
from amphora.core.kinds import parse_sheet
from amphora.core.model import Contents, Item, Level, Listed, Need, States

FLOW = parse_sheet(
    'kind = "flow"\n[[refers]]\nat = "$.uses"\nto = ["table"]\n[[refers]]\nat = "$.column"\nto = ["table#column"]\n'
    '[fields]\ntext = ["$.script"]\nfeatures = ["$.type"]'
)
TABLE = parse_sheet(
    'kind = "table"\n[fields]\nparts = { column = "$.columns[*].id" }\nnamed = { "$.columns" = "id" }'
)
SHEETS = {"flow": FLOW, "table": TABLE}
PACKED = Item("table:deliveries", 1, {"columns": [{"id": "kilos"}]}, States("Deliveries"))
MAPPED = Mapped(Need("connection:mill-db", ("flow:a",)), "live", MapState.MAPPED, "mill-main", "cn-1")


def flow(form: Any, **states: Any) -> Item:
    return Item("flow:a", 1, form, States("A", **states))


def target(**changes: Any) -> TargetIndex:
    there = Listed("t1", "table", ("growers",), States("Growers"), "1")
    index = TargetIndex(
        name="live",
        account="keeper",
        rows={"table:growers": there},
        parts={"table:growers": frozenset({"name"})},
        sheets=SHEETS,
        features=frozenset({"mail"}),
        permissions=frozenset({"read", "write"}),
        mapped=(),
    )
    return replace(index, **changes)


def found(item: Item, where: TargetIndex | None, needs: tuple[Need, ...] = ()) -> list[tuple[str, Level]]:
    contents = Contents("p", "1.0.0", "dev", "uid", {item.key: item, PACKED.key: PACKED}, needs)
    return [(finding.rule, finding.level) for finding in check(CheckContext(contents, SHEETS, where))]


E, W, N = Level.ERROR, Level.WARNING, Level.NOTE
CASES: list[tuple[str, Level, Item, TargetIndex | None, Item, TargetIndex | None]] = [
    (
        "item-missing",
        E,
        flow({"uses": "amphora:table:x"}),
        target(),
        flow({"uses": "amphora:table:growers"}),
        target(),
    ),
    ("item-missing", N, flow({"uses": "amphora:table:x"}), None, flow({"uses": "amphora:table:deliveries"}), None),
    (
        "part-missing",
        E,
        flow({"column": "amphora:table:deliveries#litres"}),
        target(),
        flow({"column": "amphora:table:deliveries#kilos"}),
        target(),
    ),
    (
        "part-missing",
        E,
        flow({"column": "amphora:table:growers#mail"}),
        target(),
        flow({"column": "amphora:table:growers#name"}),
        target(),
    ),
    ("unbound-id", E, flow({"uses": "amphora:unbound:ta-9"}), target(), flow({"uses": ""}), target()),
    (
        "undeclared-reference",
        N,
        flow({"other": "amphora:table:growers"}),
        target(),
        flow({"script": "see ${amphora:table:growers}"}),
        target(),
    ),
    (
        "need-open",
        W,
        flow({}),
        target(mapped=(replace(MAPPED, state=MapState.GUESSED, native=None),)),
        flow({}),
        target(mapped=(MAPPED,)),
    ),
    ("secret-in-clear", E, flow({"api_key": "k-991-loud"}), None, flow({"api_key": "amphora:secret:k"}), None),
    ("secret-in-clear", E, flow({"x": "Bearer abcdefghijklmnop1"}), None, flow({"x": "Bearer of news"}), None),
    ("kind-unknown", E, flow({}), target(sheets={"table": TABLE}), flow({}), target()),
    ("kind-unknown", E, flow({}), target(sheets={**SHEETS, "flow": replace(FLOW, schema=2)}), flow({}), target()),
    ("feature-missing", E, flow({"type": "fax"}), target(), flow({"type": "mail"}), target()),
    ("feature-missing", E, flow({"type": "fax"}), target(), flow({"type": "fax"}), target(features=None)),
    ("permission-missing", E, flow({}, is_on=True), target(), flow({}, is_on=False), target()),
    ("permission-missing", E, flow({}, is_published=True), target(), flow({}), target()),
    (
        "name-taken",
        W,
        flow({}),
        target(doubtful=(("flow:a", Listed("s1", "flow", ("b",), States("B"), "1")),)),
        flow({}),
        target(),
    ),
]


@pytest.mark.parametrize("case", CASES, ids=lambda case: case[0])
def test_each_rule_and_its_near_miss(
    case: tuple[str, Level, Item, TargetIndex | None, Item, TargetIndex | None],
) -> None:
    rule, level, raises, there, near, near_there = case
    assert found(raises, there) == [(rule, level)]
    assert found(near, near_there) == []


def test_a_secret_to_enter_is_a_note_until_the_crosswalk_knows_it() -> None:
    need = Need("secret:hook", ("flow:a",))
    known = Mapped(need, "live", MapState.MAPPED, "env:HOOK", "env:HOOK")
    assert found(flow({}), target(), (need,)) == [("secret-to-enter", N)]
    assert found(flow({}), target(mapped=(known,)), (need,)) == []


def test_every_rule_is_tried_here() -> None:
    assert set(RULES) == {case[0] for case in CASES} | {"secret-to-enter"}
