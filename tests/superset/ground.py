"""Two instances that all tests share, and the ground that the contract is tried on."""

from __future__ import annotations

import json
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from tests.contract.grounds import Ground
from tests.superset.client import USER, Desk, positions, rows_of
from tests.superset.runtime import RUNTIME, started


class Boards:
    """Two running instances, the addresses of the rows that they report on, and their metadata as it was kept."""

    def __init__(self, folder: Path, urls: list[str]) -> None:
        self.folder, self.urls = folder, urls
        self.rows = [rows_of(folder, name, kilos) for name, kilos in (("source", 120.5), ("target", 7.5))]
        one, two = map(Desk, urls)
        # Numbers that collide, and others that nothing has.
        _filled(one, self.rows[0], "mill", ("Kilos by grove", "Days"))
        # Called as in the source, for what is compared with that.
        number = two.do("POST", "/database/", {"database_name": "mill", "sqlalchemy_uri": self.rows[1]})["id"]
        self.keep("empty")
        two.do("DELETE", f"/database/{number}")
        _filled(two, self.rows[1], "mill-live", ("Kept",))
        self.keep("small")

    def keep(self, name: str) -> None:
        """Keeps what both hold."""
        for instance in ("one", "two"):
            shutil.copy(self.folder / f"{instance}.db", self.folder / f"{instance}-{name}")

    def lay(self, name: str, *instances: str) -> None:
        """Gives instances back what was kept; with `first` what every instance begins with."""
        for instance in instances:
            kept = RUNTIME / "first.db" if name == "first" else self.folder / f"{instance}-{name}"
            shutil.copy(kept, self.folder / f"{instance}.db")


@contextmanager
def boards_in(folder: Path) -> Iterator[Boards]:
    """Both instances, while they run."""
    with started(folder, ("one", "two")) as urls:
        yield Boards(folder, urls)


def _filled(desk: Desk, uri: str, database: str, names: tuple[str, ...]) -> None:
    """A dashboard with some charts over one table."""
    mill = desk.do("POST", "/database/", {"database_name": database, "sqlalchemy_uri": uri})["id"]
    table = {"database": mill, "schema": "main", "table_name": "deliveries"}
    number = desk.do("POST", "/dataset/", table)["id"]
    charts = []
    for name in names:
        form = {"datasource": f"{number}__table", "viz_type": "table", "all_columns": ["kilos"]}
        body = {"slice_name": name, "viz_type": "table", "datasource_id": number, "datasource_type": "table"}
        charts.append(desk.do("POST", "/chart/", {**body, "params": json.dumps(form)})["id"])
    board = desk.do("POST", "/dashboard/", {"dashboard_title": f"Round of {database}"})["id"]
    metadata = json.dumps({"positions": positions(charts)})
    # Something that uses nothing.
    theme = desk.do("POST", "/theme/", {"theme_name": f"Grove of {database}", "json_data": "{}"})["id"]
    desk.do("PUT", f"/dashboard/{board}", {"json_metadata": metadata, "theme_id": theme})


def superset_ground(folder: Path, boards: Boards) -> Ground:
    """A workspace over both, as they were at first."""
    boards.lay("small", "one", "two")
    more = f'bridge = "superset"\nuser = "{USER}"\nsign_in = "env:DESK_WORD"\n'
    (folder / "amphora.toml").write_text(
        f'[environments.build]\nlocation = "{boards.urls[0]}"\nrole = "build"\n{more}'
        f'[environments.trial]\nlocation = "{boards.urls[1]}"\nrole = "live"\n{more}',
        encoding="utf-8",
    )
    crosswalk = "connections:\n  mill: {build: mill, trial: mill-live}\n"
    crosswalk += "people:\n  keeper: {any: keeper@halcyon.example}\n"
    (folder / "crosswalk.yaml").write_text(crosswalk, "utf-8")
    chart = "chart:Kilos%20by%20grove"
    return Ground(
        folder,
        "build",
        "trial",
        "Round of mill",
        chart,
        "",
        lambda: boards.lay("empty", "two"),
        kind="chart",
        within="params",
        partners="deck_slices",
    )
