"""The grounds as fixtures."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path

import pytest

from amphora.core.form.bindings import Bindings, IdStyle
from amphora.core.form.native import to_native
from amphora.core.values.model import States, Supply
from amphora.environments.contract import Seen, Write
from amphora.environments.folder import ID_PATTERN, JOINER, connect, found_folder
from amphora.practice.halcyon import KEEPER, PLACES, fill, seeds
from amphora.practice.platform import Platform
from amphora.practice.sheets import practice_sheets
from tests.conftest import CROSSWALK
from tests.contract import press
from tests.contract.document import watched
from tests.contract.grounds import Ground
from tests.contract.press.server import CLIENT, SECRET
from tests.nodered.seeds import BROKER_NODE, SOURCE, TARGET, deploy
from tests.superset.client import PASSWORD
from tests.superset.ground import superset_ground


def nodered_ground(folder: Path, urls: tuple[str, str]) -> Ground:
    """A workspace over the two runtimes, reset to their seeds."""
    one, two = urls
    deploy(one, SOURCE)
    deploy(two, TARGET, "made-up-token")
    (folder / "amphora.toml").write_text(
        f'[environments.one]\nlocation = "nodered+{one}"\nrole = "build"\n'
        f'[environments.two]\nlocation = "nodered+{two}"\nrole = "live"\nsign_in = "env:TWO_TOKEN"\n',
        encoding="utf-8",
    )
    (folder / "crosswalk.yaml").write_text(
        "connections:\n  Mill broker: {one: Mill broker, two: Live broker}\n"
        "settings:\n  Weigh ticket-env-REGION: {one: north, two: south}\n",
        encoding="utf-8",
    )
    return Ground(
        folder,
        "one",
        "two",
        "Weigh ticket",
        "flow:Press",
        "Weigh ticket-env-REGION",
        lambda: deploy(two, [BROKER_NODE], "made-up-token"),
    )


def _emptied(path: Path) -> None:
    """The live environment with the source's connections and people, and without any item."""
    path.unlink()
    dev = PLACES["grove-dev"]
    accounts = {KEEPER: "keeper"}
    Platform.found(path, "practice-empty", "grove-live", "north", "https://copy.halcyon.example", accounts)
    fill(path, dev, [])


def folder_ground(workspace: Path) -> Ground:
    """A workspace over two folders: one holds the demo's items, the other is empty but for supplies."""
    (workspace / "amphora.toml").write_text(
        '[environments.shelf]\nlocation = "folder:shelf"\n[environments.box]\nlocation = "folder:box"\nrole = "live"\n',
        encoding="utf-8",
    )
    names = Bindings(IdStyle(ID_PATTERN, JOINER), {"url:environment": (workspace / "shelf").as_uri()})
    offers = []
    for need, name, type_ in PLACES["grove-dev"].connections:
        names.bind(f"connection:{need}", f"cn-{need}")
        offers.append(Supply("connection", f"cn-{need}", name, type_))
    for need, address in PLACES["grove-dev"].people:
        names.bind(f"person:{need}", address)
        offers.append(Supply("person", address, address))
    for folder in ("shelf", "box"):
        found_folder(workspace / folder, f"uid-{folder}", practice_sheets(), offers)
    with closing(connect("folder:shelf", workspace, "", "")) as shelf:
        for number, row in enumerate(seeds()):
            kind, path = row["key"].split(":")
            names.bind(row["key"], f"{kind[:2]}-{number:06d}")
            definition = to_native(row["form"], practice_sheets()[kind], names).definition
            states = States(row["title"], path.rpartition("/")[0], row.get("on"))
            write = Write(kind, tuple(path.split("/")), states, definition, "", names.values[row["key"]])
            [written] = shelf.write([write])
            if practice_sheets()[kind].is_published:
                shelf.publish(Seen(written.native_id, written.revision))
    crosswalk = CROSSWALK.replace("grove-dev", "shelf").replace("grove-live", "box")
    for live, dev in (
        ("mill-main", "mill-db-dev"),
        ("office-main", "office-db-dev"),
        ("intake@halcyon", "intake@dev.halcyon"),
    ):
        crosswalk = crosswalk.replace(live, dev)
    (workspace / "crosswalk.yaml").write_text(crosswalk, encoding="utf-8")
    return Ground(
        workspace, "shelf", "box", "Harvest Intake", CHECK, f"{CHECK.rpartition('/')[2]}-limit", lambda: None
    )


def press_ground(folder: Path, urls: tuple[str, str], clear: Callable[[], None]) -> Ground:
    """A workspace over two instances of the tests' own platform, described by a bridge sheet."""
    for name in ("press.toml", "flow.toml", "table.toml", "report.toml"):
        (folder / name).write_text((Path(press.__file__).parent / name).read_text("utf-8"), "utf-8")
    more = f'bridge = "press.toml"\nuser = "{CLIENT}"\nsign_in = "env:PRESS_SECRET"\n'
    (folder / "amphora.toml").write_text(
        f'[environments.south]\nlocation = "{urls[0]}"\nrole = "build"\n{more}'
        f'[environments.north]\nlocation = "{urls[1]}"\nrole = "live"\n{more}',
        encoding="utf-8",
    )
    (folder / "crosswalk.yaml").write_text(
        "connections:\n  mill of south: {south: mill of south, north: mill of north}\n"
        "settings:\n  Ripeness check-settings-limit: {south: 14, north: 15}\n",
        encoding="utf-8",
    )
    check = "flow:intake/quality/Ripeness%20check"
    return Ground(folder, "south", "north", "Morning round", check, "Ripeness check-settings-limit", clear)


CHECK = "flow:intake/bruised-fruit-check"


BOARDS = pytest.param("superset", marks=pytest.mark.xdist_group("superset"))
"""All of its tests in one process: two instances take long to begin."""


@pytest.fixture(params=["practice", "http", "nodered", "folder", "press", BOARDS])
def ground(request: pytest.FixtureRequest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Ground]:
    """Each adapter's ground in turn."""
    made = made_ground(request, tmp_path, monkeypatch)
    faults = watched(monkeypatch) if request.param == "http" else []
    yield made
    made.close()
    assert not faults


def made_ground(request: pytest.FixtureRequest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Ground:
    """The ground of one adapter, as a parameter names it."""
    if request.param in ("practice", "http"):
        folder: Path = request.getfixturevalue("halcyon" if request.param == "practice" else "over_http")
        made = Ground(
            folder,
            "grove-dev",
            "grove-live",
            "Harvest Intake",
            CHECK,
            "bruised-fruit-check-limit",
            lambda: _emptied(folder / "grove-live.practice"),
        )
    elif request.param == "folder":
        made = folder_ground(tmp_path)
    elif request.param == "press":
        monkeypatch.setenv("PRESS_SECRET", SECRET)
        made = press_ground(tmp_path, *request.getfixturevalue("presses"))
    elif request.param == "superset":
        monkeypatch.setenv("DESK_WORD", PASSWORD)
        made = superset_ground(tmp_path, request.getfixturevalue("boards"))
    else:
        monkeypatch.setenv("TWO_TOKEN", "made-up-token")
        made = nodered_ground(tmp_path, request.getfixturevalue("runtimes"))
    return made
