"""Measures what a run costs over its bare calls: letters into a simulated environment, and back again.

The bare cost is that of the writing calls in the same order, through the same adapter, with nothing around them: what
the platform itself takes. Half of them come before the import and half after, for a disk drifts. `calls` is
what the import's own calls took, its looks and its verification included.
`python bench/runs.py COUNT` prints seconds as JSON: bare, prepare, import, calls, undo.
"""

from __future__ import annotations

import json
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path
from typing import Any

from amphora.core.plan.steps import Create, Publish
from amphora.core.values.model import Contents, Item, States
from amphora.engine.docket import prepare
from amphora.engine.imports import import_prepared
from amphora.engine.runs.material import DocketMaterial
from amphora.engine.session import Session
from amphora.engine.steps import Bench
from amphora.engine.undo import run_to_undo, undo
from amphora.environments.contract import Environment, Seen, habits_of
from amphora.environments.practice import PracticeEnvironment, connect
from amphora.environments.stand_in import stands_before
from amphora.files.workspace import read_workspace
from amphora.practice.platform import Platform

KEEPER = "keeper@halcyon.example"
BODY = "Dear grower,\nwe have taken in {kilos} kg of {variety}.\n" * 20


def letters(count: int) -> Contents:
    """A package of letters that need nothing."""
    items = {}
    for number in range(count):
        key = f"letter-template:many/l{number:05}"
        form = {"subject": f"Letter {number}", "body": BODY}
        items[key] = Item(key, 1, form, States(f"L{number}", "many", None, True), None, f"x{number}")
    return Contents("many", "1.0.0", "elsewhere", "elsewhere", items, (), package_digest="0")


def workspace(folder: Path) -> Path:
    """A workspace over two empty environments."""
    text = ""
    for name in ("bare", "live"):
        Platform.found(folder / f"{name}.practice", f"uid-{name}", name, "", "https://x.example", {KEEPER: "keeper"})
        text += f'[environments.{name}]\nlocation = "practice:{name}.practice"\nrole = "live"\n'
    (folder / "amphora.toml").write_text(text, encoding="utf-8")
    return folder


class Bare:
    """The calls alone, with definitions that are drawn before the clock starts."""

    def __init__(self, folder: Path, session: Session, contents: Contents) -> None:
        prepared = prepare(session, contents, "bare")
        description = prepared.opened.description
        material = DocketMaterial(prepared.docket, description)
        self.environment: PracticeEnvironment = connect("practice:bare.practice", folder, "", "")
        bench = Bench(self.environment, habits_of(description), material)
        self.steps = prepared.docket.steps
        self.writes = {
            step.key: bench.write_of(step.key, material.draw(step, step.key, None), "bare")
            for step in self.steps
            if isinstance(step, Create)
        }

    def seconds(self, part: slice) -> float:
        """What the calls for a part of the letters take."""
        keys = set(list(self.writes)[part])
        steps = [step for step in self.steps if not keys.isdisjoint(step.keys)]
        start = time.perf_counter()
        made = {}
        for step in steps:
            if isinstance(step, Create):
                [made[step.key]] = self.environment.write([self.writes[step.key]])
            elif isinstance(step, Publish):
                written = made[step.key]
                self.environment.publish(Seen(written.native_id, written.revision))
        return time.perf_counter() - start


class Timed:
    """An environment that adds up how long its calls take."""

    def __init__(self, inside: Environment) -> None:
        self.inside, self.seconds = inside, 0.0
        stands_before(self, inside)

    def __getattr__(self, name: str) -> Any:
        method = getattr(self.inside, name)

        def timed(*words: Any) -> Any:
            start = time.perf_counter()
            try:
                return method(*words)
            finally:
                self.seconds += time.perf_counter() - start

        return timed


def measured(count: int) -> dict[str, float]:
    """Seconds of the bare calls, of the whole import with its verification, and of its undo."""
    with tempfile.TemporaryDirectory() as name:
        folder = workspace(Path(name))
        session = Session(read_workspace(folder))
        contents = letters(count)
        bare = Bare(folder, session, contents)
        alone = bare.seconds(slice(None, count // 2))
        start = time.perf_counter()
        prepared = prepare(session, replace(contents), "live")
        opened = session.open("live")
        timed: Any = Timed(opened.environment)
        session._opened["live"] = replace(opened, environment=timed)
        ready = time.perf_counter()
        outcome, verified = import_prepared(session, prepared)
        done = time.perf_counter()
        assert outcome.failure is None
        assert all(one.is_as_promised for one in verified)
        calls = timed.seconds
        alone += bare.seconds(slice(count // 2, None))
        bare.environment.close()
        again = time.perf_counter()
        undo(session, run_to_undo(session, "last"))
        end = time.perf_counter()
        session.close()
        return {"bare": alone, "prepare": ready - start, "import": done - ready, "calls": calls, "undo": end - again}


if __name__ == "__main__":
    print(json.dumps(measured(int(sys.argv[1]))))
