"""The reporting system as whoever works in it sees it: single calls, past everything that is tested."""

from __future__ import annotations

import json
import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

import httpx

USER, PASSWORD = "keeper", "made-up-password"


class Desk:
    """Somebody signed in to one instance."""

    def __init__(self, url: str) -> None:
        self._http = httpx.Client(base_url=f"{url}/api/v1", trust_env=False, timeout=60)
        login = {"username": USER, "password": PASSWORD, "provider": "db", "refresh": True}
        token = self._http.post("/security/login", json=login).json()["access_token"]
        self._http.headers["Authorization"] = f"Bearer {token}"
        self._http.headers["X-CSRFToken"] = self._http.get("/security/csrf_token/").json()["result"]
        self._http.headers["Referer"] = f"{url}/"

    def get(self, path: str) -> Any:
        """What a path answers."""
        return self._http.get(path).raise_for_status().json()

    def do(self, method: str, path: str, body: Any = None) -> Any:
        """What a change answers."""
        return self._http.request(method, path, json=body).raise_for_status().json()

    def titled(self, kind: str, title: str) -> dict[str, Any]:
        """One object by its title, as its own answer shows it."""
        rows = self.get(f"/{kind}/?q=(page:0,page_size:100)")["result"]
        names = ("slice_name", "dashboard_title", "table_name", "database_name", "theme_name", "name")
        [id_] = [row["id"] for row in rows if title in [row.get(name) for name in names]]
        found: dict[str, Any] = self.get(f"/{kind}/{id_}")["result"]
        return {**found, "id": id_}


def rows_of(folder: Path, name: str, kilos: float) -> str:
    """A database to report on; its address."""
    path = folder / f"{name}-data.db"
    with closing(sqlite3.connect(path)) as db:
        db.execute("create table deliveries (grove text, variety text, kilos real, day text)")
        days = [("north", "leccino", kilos, "2026-10-01"), ("south", "moraiolo", 80, "2026-10-02")]
        db.executemany("insert into deliveries values (?, ?, ?, ?)", days)
        db.commit()
    return f"sqlite:///{path}"


def filled(desk: Desk, uri: str) -> None:
    """A dashboard with three charts over two datasets, with filters that name them in every way."""
    mill = desk.do("POST", "/database/", {"database_name": "mill", "sqlalchemy_uri": uri})["id"]
    table = {"database": mill, "schema": "main"}
    deliveries = desk.do("POST", "/dataset/", {**table, "table_name": "deliveries"})["id"]
    # The numbers of datasets and of charts are to be different ones.
    sql = f"select grove, sum(kilos) as kilos from {{{{ dataset({deliveries}) }}}} group by grove"
    plain = "select grove, sum(kilos) as kilos from deliveries group by grove"
    by_grove = desk.do("POST", "/dataset/", {**table, "table_name": "by_grove", "sql": plain})["id"]
    desk.do("PUT", f"/dataset/{by_grove}", {"description": f"Over {sql}"})
    charts = [
        _chart(desk, "Kilos by variety", deliveries, "variety"),
        _chart(desk, "Kilos by grove", by_grove, "grove"),
        # Its form notes a dataset that is gone, as those of many examples do.
        _chart(desk, "Days", deliveries, "day", noted=999),
    ]
    _annotated(desk, charts)
    board = desk.do("POST", "/dashboard/", {"dashboard_title": "Harvest", "slug": "harvest"})["id"]
    one, two, three = charts
    # As the platform's own examples have it: a uuid among ids.
    uuid = desk.titled("chart", "Days")["uuid"]
    metadata = {
        "positions": positions(charts, f"[days](/explore/?slice_id={three}&standalone=1), [old](/superset/dashboard/999/)"),
        "chart_configuration": {str(one): {"id": one, "crossFilters": {"scope": "global", "chartsInScope": [two, uuid]}}},
        "native_filter_configuration": [
            {
                "id": "NATIVE_FILTER-grove",
                "name": "Grove",
                "type": "NATIVE_FILTER",
                "filterType": "filter_select",
                "targets": [{"datasetId": deliveries, "column": {"name": "grove"}}],
                "scope": {"rootPath": ["ROOT_ID"], "excluded": [three], "selectedLayers": [f"chart-{two}-layer-1"]},
                "chartsInScope": [one, two, 77],
                "adhoc_filters": [_formula(deliveries)],
            }
        ],
        "chart_customization_config": [
            {
                "id": "CHART_CUSTOMIZATION-by",
                "type": "CHART_CUSTOMIZATION",
                "targets": [{"datasetId": by_grove, "column": {"name": "grove"}}],
                "scope": {"rootPath": ["ROOT_ID"], "excluded": [one]},
                "chartsInScope": [two],
            }
        ],
        "timed_refresh_immune_slices": [three],
        "expanded_slices": {str(two): True},
    }  # fmt: skip
    colours = json.dumps({"token": {"colorPrimary": "#556b2f"}})
    theme = desk.do("POST", "/theme/", {"theme_name": "Grove", "json_data": colours})["id"]
    desk.do("PUT", f"/dashboard/{board}", {"json_metadata": json.dumps(metadata), "theme_id": theme})
    [role] = [row["value"] for row in desk.get("/rowlevelsecurity/related/roles")["result"] if row["text"] == "Gamma"]
    rule = {"name": "North only", "filter_type": "Regular", "clause": "grove = 'north'", "roles": [role]}
    desk.do("POST", "/rowlevelsecurity/", {**rule, "tables": [by_grove, deliveries]})


def _chart(desk: Desk, name: str, dataset: int, column: str, noted: int = 0) -> int:
    form: dict[str, Any] = {
        "datasource": f"{noted or dataset}__table",
        "viz_type": "table",
        "query_mode": "raw",
        "all_columns": [column, "kilos"],
    }
    # A filter that is filled in from a measure of the dataset.
    form["adhoc_filters"] = [_formula(dataset)]
    query = {"datasource": {"id": dataset, "type": "table"}, "queries": [{"columns": [column], "row_limit": 10}]}
    body = {"slice_name": name, "viz_type": "table", "datasource_id": dataset, "datasource_type": "table"}
    body |= {"params": json.dumps(form), "query_context": json.dumps({**query, "form_data": form})}
    made: int = desk.do("POST", "/chart/", body)["id"]
    return made


def _formula(dataset: int) -> dict[str, str]:
    return {"expressionType": "SQL", "sqlExpression": f"kilos > {{{{ metric('count', {dataset}) }}}}"}


def _annotated(desk: Desk, charts: list[int]) -> None:
    """Notes on one chart: of a layer, of another chart, and of a formula that is a number."""
    layer = desk.do("POST", "/annotation_layer/", {"name": "Frost", "descr": "Cold nights"})["id"]
    night = {"short_descr": "First frost", "start_dttm": "2026-11-01T00:00:00", "end_dttm": "2026-11-02T00:00:00"}
    desk.do("POST", f"/annotation_layer/{layer}/annotation/", {**night, "json_metadata": '{"degrees": -2}'})
    days = desk.get(f"/chart/{charts[2]}")["result"]
    kinds = (("NATIVE", layer), ("line", charts[0]), ("", str(charts[1])))
    notes = [{"name": f"n{value}", "sourceType": kind, "value": value} for kind, value in kinds]
    desk.do(
        "PUT",
        f"/chart/{charts[2]}",
        {"params": json.dumps({**json.loads(days["params"]), "annotation_layers": notes})},
    )


def positions(charts: list[int], words: str = "") -> dict[str, Any]:
    """A dashboard's layout: all charts in one row, and behind them some words."""
    places = [f"CHART-{number}" for number in range(len(charts))]
    found: dict[str, Any] = {
        "DASHBOARD_VERSION_KEY": "v2",
        "ROOT_ID": {"type": "ROOT", "id": "ROOT_ID", "children": ["GRID_ID"]},
        "GRID_ID": {"type": "GRID", "id": "GRID_ID", "children": ["ROW-1"], "parents": ["ROOT_ID"]},
        "ROW-1": {"type": "ROW", "id": "ROW-1", "children": places, "meta": {}, "parents": ["ROOT_ID", "GRID_ID"]},
    }
    for place, chart in zip(places, charts, strict=True):
        meta = {"chartId": chart, "width": 4, "height": 50}
        parents = ["ROOT_ID", "GRID_ID", "ROW-1"]
        found[place] = {"type": "CHART", "id": place, "children": [], "meta": meta, "parents": parents}
    if words:
        found["ROW-1"]["children"].append("MARKDOWN-1")
        said = {"code": words, "width": 2, "height": 20}
        found["MARKDOWN-1"] = {**found["CHART-0"], "type": "MARKDOWN", "id": "MARKDOWN-1", "meta": said}
    return found


TABLES = (
    "dashboards",
    "slices",
    "tables",
    "table_columns",
    "sql_metrics",
    "dbs",
    "dashboard_slices",
    "themes",
    "row_level_security_filters",
    "annotation_layer",
    "annotation",
)


def held(path: Path) -> dict[str, list[str]]:
    """All rows of an instance's metadata that are somebody's work, read past the instance itself."""
    with closing(sqlite3.connect(path)) as db:
        return {table: sorted(map(repr, db.execute(f"select * from {table}"))) for table in TABLES}
