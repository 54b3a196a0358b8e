"""Fixtures: the made-up environments, a workspace over them, the installed program, real runtimes."""

from __future__ import annotations

import json
import os
import re
import shutil
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest
from hypothesis import HealthCheck, settings

from amphora.environments.http.practice import served
from amphora.practice.halcyon import KEEPER, PLACES, make_halcyon
from tests.loaded import called
from tests.serving import on_loopback

if TYPE_CHECKING:
    from tests.postgres.server import Server
    from tests.superset.ground import Boards

settings.register_profile("calm", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("calm")

SECRETS = ("quiet-heron", "amber-finch", "silver-wren")
"""Pieces of every secret in the demo data."""


@dataclass(frozen=True)
class Done:
    """What a run of the program left."""

    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        """Stdout as the one JSON document that it has to be."""
        return json.loads(self.out)

    @property
    def verdict(self) -> str:
        """The first line."""
        return self.out.splitlines()[0]


Program = Callable[..., Done]


def run_program(folder: Path, *words: str | Path, **variables: str) -> Done:
    """Runs the program as a process in a folder, with nothing on stdin."""
    return Done(*called(folder, list(map(str, words)), os.environ | variables))


@pytest.fixture(scope="session")
def halcyon_files(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The four practice environments, made once."""
    folder = tmp_path_factory.mktemp("halcyon")
    make_halcyon(folder)
    return folder


@pytest.fixture(scope="session")
def demo(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Done]:
    """The whole demo as it was played, once for all tests of a process, and the workspace that it left, for reading."""
    folder = tmp_path_factory.mktemp("demo")
    return folder / "grove", run_program(folder, "demo", "--keep", "grove")


@pytest.fixture
def halcyon(halcyon_files: Path, tmp_path: Path) -> Path:
    """A workspace over fresh copies of the four environments, crosswalk filled for olive-intake."""
    return workspace_of(halcyon_files, tmp_path)


def workspace_of(files: Path, parent: Path) -> Path:
    """The same, made in a folder."""
    folder = parent / "halcyon"
    shutil.copytree(files, folder)
    text = ["[amphora]", "format = 1"]
    for place in PLACES.values():
        text += [f"[environments.{place.name}]", f'location = "practice:{place.name}.practice"']
        text += [f'role = "{place.role}"', f'region = "{place.region}"']
    (folder / "amphora.toml").write_text("\n".join(text) + "\n", encoding="utf-8")
    (folder / "crosswalk.yaml").write_text(CROSSWALK, encoding="utf-8")
    return folder


CROSSWALK = """\
connections:
  mill-db: {grove-dev: mill-db-dev, grove-test: mill-db-test, grove-live: mill-main, grove-south: mill-db-south}
  office-db: {grove-dev: office-db-dev, grove-test: office-db-test, grove-live: office-main}
people:
  intake-desk:
    grove-dev: intake@dev.halcyon.example
    grove-test: intake@test.halcyon.example
    grove-live: intake@halcyon.example
settings:
  bruised-fruit-check-limit: {grove-live: 15, any: 14}
  weigh-ticket-batch: {any: 40}   # the same everywhere
"""


@pytest.fixture
def amphora(halcyon: Path) -> Program:
    """The program, run in the workspace."""
    return lambda *words, **variables: run_program(halcyon, *words, **variables)


@pytest.fixture
def over_http(halcyon: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    """A workspace over the same environments, served on a port."""
    monkeypatch.setenv("AMPHORA_PRACTICE_SECRET", "made-up-secret")
    toml = (halcyon / "amphora.toml").read_text(encoding="utf-8")
    with on_loopback(served(sorted(halcyon.glob("*.practice")), 0).server) as address:
        for name in PLACES:
            there = f'location = "{address}/{name}"\nuser = "{KEEPER}"\nsign_in = "env:AMPHORA_PRACTICE_SECRET"\n'
            toml = toml.replace(f'location = "practice:{name}.practice"\n', there)
        (halcyon / "amphora.toml").write_text(toml, encoding="utf-8")
        yield halcyon


@pytest.fixture
def presses() -> Iterator[tuple[tuple[str, str], Callable[[], None]]]:
    """Two instances, the second with other content under colliding numbers; and what empties that."""
    from tests.contract.answering import served as on_a_port
    from tests.contract.press.server import filled

    one, two = filled("south", 1, SECRETS[0]), filled("north", 2, SECRETS[1], is_source=False)

    def clear() -> None:
        for kind in ("flows", "tables", "drawers", "reports"):
            two.kinds[kind].clear()
        for source in two.kinds["sources"].values():
            source["label"] = "mill of south"

    with on_a_port(one) as south, on_a_port(two) as north:
        yield (south, north), clear


@pytest.fixture(scope="session")
def runtimes(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[str, str]]:
    """Two real runtimes on loopback; their base URLs. The second one asks for a token."""
    from tests.nodered.runtime import started_runtime

    with (
        started_runtime(tmp_path_factory.mktemp("one")) as one,
        started_runtime(tmp_path_factory.mktemp("two"), token="made-up-token") as two,
    ):
        yield one, two


@pytest.fixture(scope="session")
def boards(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Boards]:
    """Two real instances of the reporting system on loopback."""
    from tests.superset.ground import boards_in

    with boards_in(tmp_path_factory.mktemp("boards")) as running:
        yield running


@pytest.fixture(scope="session")
def server() -> Iterator[Server]:
    """A real database server on loopback."""
    from tests.postgres.server import started_server

    with started_server() as running:
        yield running


LONG = re.compile(r"tests/superset|faults/test_kills|test_the_demo_plays|test_every_last_line")
SLOW = re.compile(
    r"tests/faults/test_(faults|resume).py.*\[press-(lost_before|odd_answer|killed_before|refused)\]"
    r"|tests/faults/test_resume.py.*\[(press-lost_after|(folder|nodered)-(lost_before|odd_answer|refused))\]"
    r"|tests/faults/test_resume.py.*\[http"
    r"|tests/faults/test_faults.py.*\[http-(lost_before|odd_answer|killed_before)"
    r"|tests/faults/test_faults.py::test_a_ledger.*\[.*(http|nodered|press)"
    r"|tests/faults/test_faults.py::test_a_fault_while.*\[nodered-(lost_before|odd_answer|refused)"
    r"|tests/(faults/|contract/test_choices).*\[.*superset"
    r"|test_crossing.py.*\[superset"
    r"|test_environments.py::test_it_proves_itself\[superset"
    r"|test_superset.py::test_it_proves_itself"
)
"""A platform over HTTP takes seconds for each of these, a reporting system a minute: they are tried with the faults that
leave most in doubt, and all of them by `make whole`."""


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """What takes longest comes first: at the end the others would have nothing left to do beside it."""
    slow = [item for item in items if SLOW.search(item.nodeid)]
    if slow and os.environ.get("AMPHORA_TESTS") != "whole":
        config.hook.pytest_deselected(items=slow)
        items[:] = [item for item in items if item not in slow]
    items.sort(key=lambda item: not LONG.search(item.nodeid))
