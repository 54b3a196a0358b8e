"""Imports, undos, withdrawals and people in any order: what somebody wrote stays, whatever is taken back afterwards."""

from __future__ import annotations

import os
import random
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from amphora.core.plan.decisions import Decisions
from amphora.core.values.errors import AmphoraError, NotReady
from amphora.engine.docket import prepare
from amphora.engine.imports import import_prepared
from amphora.engine.resume import next_leg, picked_up, run_to_resume
from amphora.engine.withdraw import withdraw, withdrawal
from amphora.files.package import read_package
from amphora.practice.items import PlatformRefusal
from amphora.practice.platform import Platform
from tests.conftest import workspace_of
from tests.contract.grounds import Ground
from tests.faults.test_faults import back, bring, grown, tried, whole
from tests.faults.test_resume import stopped
from tests.faults.trouble import FAULTS

SEED, LIVES = int(os.environ.get("SEED", "1")), int(os.environ.get("LIVES", "10"))
NAMES = ("a", "b", "c", "d")
PEOPLE = ("tomas@halcyon.example", "keeper@halcyon.example")
"""The second one signs in with the account that imports use: then only the state tells whose it is."""


class Life:
    """A target that imports, undos and people change in turn; `written` is what of people has to stand there, `gone`
    what each import in force removed of it, as somebody agreed to."""

    def __init__(self, folder: Path, seed: int) -> None:
        self.dice, self.folder, self.told = random.Random(seed), folder, [f"seed {seed}"]
        self.ground = Ground(folder, "grove-dev", "grove-live", "flow:ring/*", "flow:ring/a", "", lambda: None)
        self.written: dict[str, str] = {}
        self.gone: list[dict[str, str]] = []

    def dropped(self, path: Path, fates: dict[str, str]) -> Any:
        """What a package no longer holds, as an import would list it."""
        said = Decisions(fates=fates)
        return prepare(self.ground.session(), read_package(path), self.ground.target, said).docket.retirements

    def bring(self, has_trouble: bool = False) -> None:
        uses = {name: self.dice.sample(NAMES, self.dice.randint(0, 2)) for name in NAMES}
        grown(self.folder, "grove-dev", uses, note=f"v{len(self.told)}")
        kept = [name for name in NAMES if has_trouble or self.dice.random() < 0.9] or ["a"]
        path = self.ground.export([f"flow:ring/{name}" for name in kept], records=True).path
        if has_trouble:
            state = tried(self.ground, path, self.dice.randint(1, 9), self.dice.choice(FAULTS))
            self.told.append(state)
            if state == "killed":
                back(self.ground)
            if state != "done":
                return
            fates = {}
        else:
            fates = {row.key: "retire" for row in self.dropped(path, {})}
            users = {row.key for row in self.dropped(path, fates) if row.users}
            fates = {key: fate for key, fate in fates.items() if key not in users}
            bring(self.ground, path, fates=fates)
        names = [key.rpartition("/")[2] for key in fates]
        self.gone.append({name: self.written.pop(name) for name in names if name in self.written})
        self.told.append(f"import, without {names}")

    def stop(self) -> None:
        """An import that stops, people that come by, and whoever goes on with it, or gives it up where they ask."""
        grown(self.folder, "grove-dev", {name: [] for name in NAMES}, note=f"v{len(self.told)}")
        path = self.ground.export(["flow:ring/*"], records=True).path
        state = stopped(self.ground, path, self.dice.randint(1, 9), self.dice.choice(FAULTS))
        self.told.append(f"stopped: {state}")
        if state != "done":
            for _ in range(self.dice.randint(0, 2)):
                self.write(is_deleted=False)
            session = self.ground.session()
            try:
                with picked_up(session, run_to_resume(session, "")) as picked:
                    prepared = next_leg(session, picked)
                    if prepared.docket.undecided:
                        raise NotReady("Somebody has to decide.")
                    state = import_prepared(session, prepared, picked.run)[0].run.state
            except NotReady as error:
                self.told.append(f"{error} {back(self.ground).left}")
                return
            self.told.append(f"went on: {state}")
        self.gone.append({})

    def write(self, is_deleted: bool) -> None:
        whom, who = self.dice.choice(NAMES), self.dice.choice(PEOPLE)
        with closing(Platform(self.folder / "grove-live.practice", who, lambda: "2026-07-01T00:00:00Z")) as there:
            found = [item.id for item in there.index() if (item.folder, item.name) == ("ring", whom)]
            if not found:
                return
            [item] = there.read(found)
            try:
                if is_deleted:
                    there.delete({item.id: None})
                    self.written.pop(whom, "")
                else:
                    text = f"by hand {len(self.told)}"
                    there.update(item.id, item.title, item.folder, {**item.newest, "fix": text}, (), item.revision)
                    there.publish(item.id)
                    self.written[whom] = text
            except PlatformRefusal:
                return
            self.told.append(f"{whom}: {self.written.get(whom, 'deleted')}")

    def withdraw(self) -> None:
        session = self.ground.session()
        try:
            outcome = withdraw(session, withdrawal(session, "moved", "grove-live", {}))
        except AmphoraError as error:
            self.told.append(f"withdraw: {error}")
            return
        self.told.append(f"withdraw: {outcome.run.state}")
        now = whole(self.ground)
        self.gone.append({n: self.written.pop(n) for n in list(self.written) if f"flow:ring/{n}" not in now})

    def undo(self) -> None:
        try:
            done = back(self.ground)
        except NotReady as error:
            self.told.append(str(error))
            return
        self.told.append(f"undo: {done.of_state}, {done.left}")
        if done.of_state == "undone":
            self.written |= self.gone.pop()

    def look(self) -> None:
        now = whole(self.ground)
        lost = [name for name, text in self.written.items() if text not in now.get(f"flow:ring/{name}", "")]
        assert not lost, "\n".join([str(lost), *self.told, *(now.get(f"flow:ring/{name}", "gone") for name in lost)])


@pytest.mark.parametrize("seed", range(SEED, SEED + LIVES))
def test_in_any_order_what_people_wrote_stays(
    halcyon_files: Path, tmp_path_factory: pytest.TempPathFactory, seed: int
) -> None:
    life = Life(workspace_of(halcyon_files, tmp_path_factory.mktemp("orders")), seed)
    life.bring()
    for _ in range(life.dice.randint(4, 9)):
        often = ("bring", "bring", "write", "write", "write", "undo", "undo", "stop", "stop")
        what = life.dice.choice((*often, "delete", "trouble", "withdraw"))
        if what == "stop":
            life.stop()
        elif what in ("bring", "trouble"):
            life.bring(what == "trouble")
        elif what == "withdraw":
            life.withdraw()
        elif what == "undo":
            life.undo()
        else:
            life.write(what == "delete")
        life.look()
    life.ground.close()
