"""A dashboard goes from one real instance to another beside other content, and everything leads where it should."""

from __future__ import annotations

import json
import sqlite3
from contextlib import closing
from typing import Any

import pytest

from tests.conftest import Done, run_program
from tests.superset.client import PASSWORD, USER, Desk, filled, held
from tests.superset.ground import Boards

pytestmark = pytest.mark.xdist_group("superset")


class Ground:
    """Two instances and a workspace over them, beside what they hold."""

    def __init__(self, boards: Boards) -> None:
        boards.lay("first", "one", "two")
        self.folder = boards.folder
        self.source, self.target = map(Desk, boards.urls)
        uri, live = boards.rows
        filled(self.source, uri)
        # Other content under numbers that collide.
        mill = self.target.do("POST", "/database/", {"database_name": "mill-live", "sqlalchemy_uri": live})["id"]
        other = {"database": mill, "schema": "main", "table_name": "kept", "sql": "select 1 as one"}
        self.target.do("POST", "/dataset/", other)
        for number in range(2):
            form = json.dumps({"datasource": "1__table", "viz_type": "table"})
            body = {
                "slice_name": f"Kept {number}",
                "viz_type": "table",
                "datasource_id": 1,
                "datasource_type": "table",
            }
            self.target.do("POST", "/chart/", {**body, "params": form})
        assert self.run("init").code == 0
        for name, url, role in (("build", boards.urls[0], "build"), ("trial", boards.urls[1], "test")):
            more = ("--bridge", "superset", "--user", USER, "--sign-in", "env:DESK_WORD")
            assert self.run("env", "add", name, url, "--role", role, *more).code == 0

    def run(self, *words: str) -> Done:
        return run_program(self.folder, *words, DESK_WORD=PASSWORD)

    def sure(self, *words: str, code: int = 0) -> Done:
        done = self.run(*words)
        assert done.code == code, (words, done.out, done.err)
        return done


@pytest.fixture(scope="module")
def ground(boards: Boards) -> Ground:
    return Ground(boards)


def answers(desk: Desk, title: str) -> list[dict[str, Any]]:
    """The rows that a chart shows."""
    chart = desk.titled("chart", title)
    found: list[dict[str, Any]] = desk.do("POST", "/chart/data", json.loads(chart["query_context"]))["result"][0][
        "data"
    ]
    return found


def ids_in(board: dict[str, Any]) -> list[Any]:
    """Every id that a dashboard's two documents hold, wherever these hide them."""
    metadata, positions = json.loads(board["json_metadata"]), json.loads(board["position_json"])
    [choice], [custom] = metadata["native_filter_configuration"], metadata["chart_customization_config"]
    [(member, configured)] = metadata["chart_configuration"].items()
    return [
        [
            part["meta"]["chartId"]
            for part in positions.values()
            if isinstance(part, dict) and part["type"] == "CHART"
        ],
        [int(member), configured["id"], configured["crossFilters"]["chartsInScope"]],
        [choice["targets"][0]["datasetId"], choice["scope"]["excluded"], choice["chartsInScope"]],
        [metadata["timed_refresh_immune_slices"], list(map(int, metadata["expanded_slices"]))],
        [choice["scope"]["selectedLayers"], positions["MARKDOWN-1"]["meta"]["code"]],
        [custom["targets"][0]["datasetId"], custom["scope"]["excluded"], custom["chartsInScope"]],
        choice["adhoc_filters"][0]["sqlExpression"],
    ]


def test_a_dashboard_goes_over_is_worked_on_on_both_sides_and_is_taken_back(ground: Ground) -> None:
    kept = held(ground.folder / "two.db")
    packed = ground.sure("export", "build", "Harvest", "--with", "access", "--as", "harvest")
    assert "Left out: 3 ids that lead nowhere in build, of 2 items" in packed.out
    # The connection is asked for before anything is touched.
    assert "mill" in ground.sure("check", "harvest", "trial", code=3).out
    ground.sure("map", "harvest", "trial", "--set", "mill=mill-live", "--accept")
    _what_is_missing_on_the_other_end(ground)
    done = ground.sure("import", "harvest", "trial", "--yes")
    assert "9 created, 0 updated; all 9 items verified" in done.out
    one, two, three = (
        ground.target.titled("chart", name)["id"] for name in ("Kilos by variety", "Kilos by grove", "Days")
    )
    table = ground.target.titled("dataset", "deliveries")["id"]
    board = ground.target.titled("dashboard", "Harvest")
    assert ids_in(board) == [
        [one, two, three],
        [one, one, [two, three]],
        [table, [three], [one, two]],
        [[three], [two]],
        [
            [f"chart-{two}-layer-1"],
            f"[days](/explore/?slice_id={three}&standalone=1), [old](/superset/dashboard/999/)",
        ],
        [ground.target.titled("dataset", "by_grove")["id"], [one], [two]],
        f"kilos > {{{{ metric('count', {table}) }}}}",
    ]
    chosen = json.loads(ground.target.titled("chart", "Kilos by variety")["params"])["adhoc_filters"]
    assert chosen[0]["sqlExpression"] == f"kilos > {{{{ metric('count', {table}) }}}}"
    assert len(board["charts"]) == 3
    assert board["theme"]["theme_name"] == "Grove"
    assert [one["email"] for one in ground.target.titled("chart", "Days")["owners"]] == ["keeper@halcyon.example"]
    notes = json.loads(ground.target.titled("chart", "Days")["params"])["annotation_layers"]
    [layer] = ground.target.get("/annotation_layer/")["result"]
    # The last one is a formula, and no id.
    assert [note["value"] for note in notes] == [layer["id"], one, notes[2]["name"][1:]]
    [night] = ground.target.get(f"/annotation_layer/{layer['id']}/annotation/")["result"]
    night = ground.target.get(f"/annotation_layer/{layer['id']}/annotation/{night['id']}")["result"]
    assert (night["short_descr"], night["json_metadata"]) == ("First frost", '{"degrees": -2}')
    rule = ground.target.titled("rowlevelsecurity", "North only")
    names = [[table["table_name"] for table in rule["tables"]], [role["name"] for role in rule["roles"]]]
    assert [sorted(some) for some in names] == [["by_grove", "deliveries"], ["Gamma"]]
    # Each chart shows the rows of its own side.
    assert {row["variety"] for row in answers(ground.target, "Kilos by variety")} == {"leccino", "moraiolo"}
    assert ground.target.titled("chart", "Kilos by grove")["datasource_id"] != table
    assert ground.sure("verify", "harvest", "trial").verdict == "trial is as promised: all 9 items of harvest 1.0.0."
    assert "Nothing in trial was edited" in ground.sure("edits", "trial").out
    _both_sides(ground)
    _back_again(ground)
    ground.sure("undo", "last", "--yes")
    after = held(ground.folder / "two.db")
    for name, rows in kept.items():
        assert [row for row in rows if row not in after[name]] == [], name
    assert {name: len(rows) for name, rows in after.items()} == {name: len(rows) for name, rows in kept.items()}


def _what_is_missing_on_the_other_end(ground: Ground) -> None:
    """A column, then a table, that the target's database lacks is found before anything is touched."""
    with closing(sqlite3.connect(ground.folder / "target-data.db")) as db:
        for there, missing, back, code in (
            # A column may be gone at home as well, and nothing show it.
            ("rename column variety to sort", "'variety' of 'main/deliveries'", "rename column sort to variety", 0),
            ("rename to takings", "'main/deliveries'", "", 3),
        ):
            db.execute(f"alter table deliveries {there}")
            done = ground.sure("check", "harvest", "trial", code=code)
            words = " ".join(done.out.split())
            assert f"{missing} is not on the other end of 'mill-live' in trial; used by" in words
            # What a query reads is found as well.
            assert ("'by_grove', 'deliveries'" in words) is (code == 3)
            db.execute(f"alter table {'deliveries' if back else 'takings'} {back or 'rename to deliveries'}")


def _both_sides(ground: Ground) -> None:
    """A chart is renamed at its source and described in the target: both hold after the next import."""
    here, there = (desk.titled("chart", "Days") for desk in (ground.source, ground.target))
    ground.source.do("PUT", f"/chart/{here['id']}", {"slice_name": "Days of picking"})
    ground.target.do("PUT", f"/chart/{there['id']}", {"description": "As they came in"})
    assert "description" in ground.sure("edits", "trial", code=1).out
    ground.sure("export", "build", "Harvest", "--with", "access", "--as", "harvest")
    # Over an edit only with a docket: the edit stays, and somebody has seen that.
    ground.sure("compare", "harvest", "trial", "--docket", "go.docket.yaml", code=1)
    ground.sure("import", "go.docket.yaml", "--yes")
    chart = ground.target.titled("chart", "Days of picking")
    assert (chart["id"], chart["description"]) == (there["id"], "As they came in")
    # A clash waits for somebody's word.
    ground.source.do("PUT", f"/chart/{here['id']}", {"description": "In the order of the ledger"})
    ground.sure("export", "build", "Harvest", "--with", "access", "--as", "harvest")
    done = ground.sure("import", "harvest", "trial", "--yes", code=3)
    assert "description: both, differently" in done.err
    assert ground.target.titled("chart", "Days of picking")["description"] == "As they came in"


def _back_again(ground: Ground) -> None:
    """What was mended over there is packed to be carried back; the later run is undone, and leaves that alone."""
    done = ground.sure("edits", "trial", "--carry-back")
    assert "packages/trial-edits-1.0.0" in done.out
    ground.sure("undo", "last", "--yes")
    chart = ground.target.titled("chart", "Days")
    assert chart["description"] == "As they came in"
    # What somebody changed would stay when the first run is undone: it is as it was now.
    ground.target.do("PUT", f"/chart/{chart['id']}", {"description": None})


def test_it_proves_itself(ground: Ground) -> None:
    kept = held(ground.folder / "one.db")
    done = ground.run("env", "prove", "build", "--yes")
    assert done.code == 0, done.out
    after = held(ground.folder / "one.db")
    assert {name: len(rows) for name, rows in after.items()} == {name: len(rows) for name, rows in kept.items()}
