"""Ids that no line of a kind sheet names, and what only looks like one."""

from __future__ import annotations

from types import SimpleNamespace
from typing import Any

import pytest

from amphora.core.form.kinds import Ids, parse_sheet
from amphora.core.form.native_ids import style_of
from amphora.core.values.model import Found, Listed, States, Supply
from amphora.engine.unsaid_ids import unsaid_ids

SHEET = """
kind = "chart"
[ids]
space = "chart"
number = true
[[refers]]
at = "$.next"
to = ["chart"]
[fields]
volatile = ["$.beside", "$.no"]
"""
IDS = {"chart": Ids("chart", True), "connection": Ids("db", False)}


@pytest.mark.parametrize(
    ("members", "told"),
    [
        # What the same definition names elsewhere, alone or inside of a text.
        ({"more": [{"of": 103}]}, ["more > * > of ('103', as in chart~103)"]),
        ({"sql": "from {{#103-weights}}"}, ["sql ('from {{#103-weights}}', as in chart~103)"]),
        ({"sql": "from chart~103 or 1030, 5103, v103, 103.5, 103px"}, []),
        # What is called like what it is the id of, if there is such a one.
        ({"chartId": 7, "chart_id": "9", "db-id": "a"}, ["chartId ('7', as in chart~7)", "db-id ('a', as in db~a)"]),
        ({"chart": 7, "id": 7, "chart_id": 8, "my_chart_id": 7}, []),
        # A word counts only under the name of its kind.
        (
            {"work_pool_name": "mill", "pools": ["mill"], "tags": ["mill"], "pool": "press"},
            ["work_pool_name ('mill', as in pool mill)", "pools > * ('mill', as in pool mill)"],
        ),
        # What doesn't travel, and what is no id at all.
        ({"beside": {"chartId": 7, "of": [103]}, "no": 103, "on": True, "none": None, "text": "chart"}, []),
    ],
)
def test_what_looks_like_an_id_and_is_not_said_to_be_one(members: dict[str, Any], told: list[str]) -> None:
    row = Listed("chart~103", "chart", ("a",), States("A"), "1")
    other = Listed("chart~7", "chart", ("b",), States("B"), "1")
    description: Any = SimpleNamespace(
        sheets={"chart": parse_sheet(SHEET), "pool": parse_sheet('kind = "pool"')}, id_style=style_of(IDS)
    )
    found = [Found(row, {"next": "chart~103", **members}), Found(other, {"next": None, "size": 103})]
    found.append(Found(Listed("mill", "pool", ("mill",), States("mill"), "1"), {"tag": "mill"}))
    places = unsaid_ids(description, found, [Supply("connection", "db~a", "A")])
    assert places == ({"chart": told} if told else {})
