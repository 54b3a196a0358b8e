"""What a run costs grows with its items and not faster: counted in calls of functions, which no slow machine changes."""

from __future__ import annotations

import runpy
import sys
from collections import Counter
from pathlib import Path
from types import FrameType

import pytest

from amphora.core.values.model import Contents, Item, States
from amphora.engine.docket import prepare
from amphora.engine.imports import import_prepared
from amphora.engine.session import Session
from amphora.engine.undo import run_to_undo, undo
from amphora.files.workspace import read_workspace
from amphora.practice.platform import Platform

BENCH = Path(__file__).parents[2] / "bench"
KEEPER = "keeper@halcyon.example"


def letters(count: int) -> Contents:
    """A package of letters that need nothing."""
    items = {}
    for number in range(count):
        key, form = f"letter-template:many/l{number:04}", {"subject": f"Letter {number}", "body": "Dear grower,\n"}
        items[key] = Item(key, 1, form, States(f"L{number}", "many", None, True), None, f"x{number}")
    return Contents("many", "1.0.0", "elsewhere", "elsewhere", items, (), package_digest="0")


def spent(folder: Path, location: str, count: int) -> Counter[str]:
    """The calls that it takes to plan an import, carry it out, and undo it."""
    folder.mkdir()
    (folder / "there").mkdir()
    Platform.found(folder / "there.practice", "uid-there", "there", "", "https://x.example", {KEEPER: "keeper"})
    (folder / "amphora.toml").write_text(f'[environments.live]\nlocation = "{location}"\nrole = "live"\n')
    session, contents, counts = Session(read_workspace(folder)), letters(count), Counter[str]()
    phase = ""

    def seen(frame: FrameType, event: str, _: object) -> None:
        counts[phase] += event in ("call", "c_call")

    session.open("live")
    sys.setprofile(seen)
    try:
        phase = "plan"
        prepared = prepare(session, contents, "live")
        phase = "import"
        outcome, _ = import_prepared(session, prepared)
        phase = "undo"
        back = undo(session, run_to_undo(session, "last"))
    finally:
        sys.setprofile(None)
    assert len(outcome.new) == count
    assert back.is_as_before
    session.close()
    return counts


@pytest.mark.parametrize("location", ["practice:there.practice", "folder:there"])
def test_four_times_the_items_cost_four_times_as_much(tmp_path: Path, location: str) -> None:
    spent(tmp_path / "warm", location, 2)
    few, many = spent(tmp_path / "few", location, 40), spent(tmp_path / "many", location, 160)
    assert {phase: many[phase] / few[phase] for phase in many if many[phase] > 4.4 * few[phase]} == {}


def test_what_is_measured_can_be_measured(tmp_path: Path) -> None:
    measures = runpy.run_path(str(BENCH / "transport.py"))
    measures["corpus_of"](40, tmp_path)
    for work in measures["PHASES"].values():
        work(tmp_path, 40)
    assert set(runpy.run_path(str(BENCH / "runs.py"))["measured"](3)) >= {"bare", "import", "calls", "undo"}
