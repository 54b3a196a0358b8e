"""A slip of the hand in a file that people edit is refused with what is wrong, whatever it is: it never breaks off."""

from __future__ import annotations

import copy
import json
import shutil
import tomllib
from collections.abc import Callable, Iterator
from contextlib import suppress
from io import StringIO
from pathlib import Path
from random import Random
from typing import Any

import pytest
import tomlkit
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from ruamel.yaml import YAML

from amphora.core.form.kinds import parse_sheet
from amphora.core.values.errors import AmphoraError
from amphora.environments.bridge.sheet import parse_bridge
from amphora.environments.folder import connect, found_folder
from amphora.files.crosswalk_file import read_crosswalk
from amphora.files.docket_file import read_docket
from amphora.files.folder import read_folder
from amphora.files.workspace import read_workspace
from amphora.practice.sheets import practice_sheets
from tests.conftest import CROSSWALK, run_program

SLIPS: tuple[Any, ...] = (3, "x", [], {}, [3], {"a": 3}, True, "", -1, 1.5, [[]], [{}], {"a": [1]}, "a/b")
BEYOND = (10**30, "\0")
"""What JSON and YAML can say, and TOML can't."""
WORKSPACE = """
[amphora]
format = 1
ledger = "postgresql://keeper@ledger.example/amphora"
route = ["a", "b"]
[environments.a]
location = "practice:a"
role = "build"
[environments.b]
location = "https://b.example/x"
sign_in = "env:B"
bridge = "superset"
[groups]
both = ["a", "b"]
[rules]
would-retire = "note"
[[silenced]]
rule = "secret-in-clear"
item = "app:x"
reason = "made up"
[selections.s]
environment = "a"
items = ["x"]
with = ["records"]
[policies]
signature = "required"
stay = ["north"]
approvals = { live = 2 }
"""


def places(value: Any, at: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    yield at
    parts = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for name, part in parts:
        yield from places(part, (*at, name))


def slipped(document: Any, seed: int, slips: tuple[Any, ...] = SLIPS) -> Any:
    """The document with one thing in it replaced, left out or misspelt."""
    chance, found = Random(seed), copy.deepcopy(document)
    *above, last = chance.choice([at for at in places(found) if at])
    held = found
    for name in above:
        held = held[name]
    if chance.random() < 0.7:
        held[last] = copy.deepcopy(chance.choice(slips))
    elif isinstance(held, dict) and chance.random() < 0.5:
        held[f"{last}s"] = held.pop(last)
    else:
        del held[last]
    return found


def yaml_text(document: Any) -> str:
    out = StringIO()
    YAML().dump(document, out)
    return out.getvalue()


@pytest.fixture(scope="module")
def made(halcyon_files: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A docket, a package in a folder, and a folder that is an environment."""
    from tests.conftest import workspace_of

    folder = workspace_of(halcyon_files, tmp_path_factory.mktemp("slips"))
    run_program(folder, "export", "grove-dev", "Harvest Intake", "--as", "olive-intake")
    run_program(folder, "compare", "olive-intake", "grove-live", "--docket", "d.yaml")
    run_program(folder, "to-folder", "olive-intake", "laid")
    found_folder(folder / "there", "u", practice_sheets())
    (folder / "there" / "items" / "theme").mkdir(parents=True)
    theme = {"id": "th0000001", "kind": "theme", "title": "Olive", "folder": "house", "definition": {"colours": {}}}
    (folder / "there" / "items" / "theme" / "th0000001.json").write_text(json.dumps(theme), "utf-8")
    return folder


def of_workspace(folder: Path, seed: int) -> None:
    (folder / "slipped").mkdir(exist_ok=True)
    text = tomlkit.dumps(slipped(tomllib.loads(WORKSPACE), seed))
    (folder / "slipped" / "amphora.toml").write_text(text, "utf-8")
    read_workspace(folder / "slipped").targets(["both"])


def of_crosswalk(folder: Path, seed: int) -> None:
    document = slipped(YAML(typ="safe").load(CROSSWALK), seed, SLIPS + BEYOND)
    (folder / "slipped.yaml").write_text(yaml_text(document), "utf-8")
    read_crosswalk(folder / "slipped.yaml")


def of_docket(folder: Path, seed: int) -> None:
    document = slipped(YAML(typ="safe").load((folder / "d.yaml").read_text("utf-8")), seed, SLIPS + BEYOND)
    (folder / "slipped.docket.yaml").write_text(yaml_text(document), "utf-8")
    read_docket(folder / "slipped.docket.yaml")


def of_kind_sheet(folder: Path, seed: int) -> None:
    sheets = list(practice_sheets().values())
    parse_sheet(tomlkit.dumps(slipped(tomllib.loads(sheets[seed % len(sheets)].source), seed)), "slipped.toml")


def of_bridge_sheet(folder: Path, seed: int) -> None:
    there = Path(__file__).parents[1] / "contract" / "press"
    kinds = {path.name: path.read_text("utf-8") for path in there.glob("*.toml") if path.name != "press.toml"}
    parse_bridge(tomlkit.dumps(slipped(tomllib.loads((there / "press.toml").read_text("utf-8")), seed)), "b", kinds)


def of_laid_out_package(folder: Path, seed: int) -> None:
    _one_of(folder / "laid", seed, lambda there: read_folder(there).digest())


def of_folder_environment(folder: Path, seed: int) -> None:
    def look(there: Path) -> None:
        environment = connect(f"folder:{there}", folder, "", "")
        environment.describe()
        environment.supplies()
        environment.look([row.native_id for row in environment.index()])

    _one_of(folder / "there", seed, look)


def _one_of(laid: Path, seed: int, reads: Callable[[Path], object]) -> None:
    """One file of a folder, read and put right again."""
    files = sorted(laid.rglob("*.json"))
    path = files[seed % len(files)]
    kept = path.with_name("kept")
    shutil.copy(path, kept)
    try:
        path.write_text(json.dumps(slipped(json.loads(path.read_text("utf-8")), seed, SLIPS + BEYOND)), "utf-8")
        reads(laid)
    finally:
        kept.replace(path)


READERS = (
    of_workspace,
    of_crosswalk,
    of_docket,
    of_kind_sheet,
    of_bridge_sheet,
    of_laid_out_package,
    of_folder_environment,
)


@pytest.mark.parametrize("reader", READERS, ids=lambda reader: reader.__name__)
@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow])
@given(seed=st.integers(0, 1 << 30))
def test_a_slip_is_refused_and_breaks_nothing(made: Path, reader: Callable[[Path, int], None], seed: int) -> None:
    # Some slips make a file that is right, too: what counts is that nothing else comes out.
    with suppress(AmphoraError):
        reader(made, seed)
