"""An import that has to pause: what goes in before and after, what is said, how one goes on, and what becomes of it when
it fails or is given up."""

from __future__ import annotations

from contextlib import closing
from pathlib import Path

import pytest

from amphora.core.values.errors import NotReady
from amphora.engine.imports import import_prepared
from amphora.engine.map import map_package
from amphora.engine.resume import next_leg, picked_up, run_to_resume
from amphora.engine.runs.forwards import go_on
from amphora.engine.runs.stage import stage_of
from amphora.engine.session import Session
from amphora.files.package import read_package
from amphora.files.workspace import read_workspace
from amphora.practice.platform import Platform
from tests.conftest import Done, Program

KEEPER = "keeper@halcyon.example"
NEED = "lab-exchange-dev"


def everything(halcyon: Path, name: str = "grove-live") -> list[tuple[str, ...]]:
    """All of an environment that counts, without revisions, ids and times."""
    platform = Platform(halcyon / f"{name}.practice", KEEPER, lambda: "")
    try:
        return sorted(
            (i.kind, i.folder, i.name, i.title, str(i.live), str(i.draft), str(i.is_on), str(i.row_count))
            for i in platform.everything()
        )
    finally:
        platform.close()


@pytest.fixture
def packed(amphora: Program) -> Program:
    """A package with a connection that is made from an integration in it, mapped for the live environment."""
    amphora("export", "grove-dev", "Lab exchange", "Lab result intake", "--as", "lab")
    made = ("--made-from", f"{NEED}=Lab exchange")
    given = ("--set", "lab-exchange-every_minutes=5", "--set", "lab-result-intake-batch=20")
    assert amphora("map", "lab", "grove-live", "--accept", *made, *given).code == 0
    return amphora


def made(amphora: Program, name: str = "lab-exchange-live", *more: str) -> None:
    """Somebody makes the connection."""
    assert amphora("practice", "connect", "grove-live.practice", name, "--type", "exchange", *more).code == 0


def paused(amphora: Program) -> Done:
    done = amphora("import", "lab", "grove-live", "--yes", "--json")
    assert done.code == 5, done.err
    return done


def test_two_who_go_on_at_once_do_it_once_and_the_package_is_kept_no_longer_than_needed(
    packed: Program, halcyon: Path
) -> None:
    paused(packed)
    made(packed)
    with closing(Session(read_workspace(halcyon))) as one, closing(Session(read_workspace(halcyon))) as two:
        contents = read_package(halcyon / "packages" / "lab-1.0.0.amphora")
        map_package(one, contents, ["grove-live"], [f"{NEED}=lab-exchange-live"], False)
        assert len(one.ledger._db.rows("select 1 from parcels")) == 1
        with picked_up(one, run_to_resume(one, "")) as mine, picked_up(two, run_to_resume(two, "")) as theirs:
            first, second = next_leg(one, mine), next_leg(two, theirs)
            assert import_prepared(one, first, mine.run)[0].run.state == "done"
            with pytest.raises(NotReady, match=r"moved|quicker"):
                import_prepared(two, second, theirs.run)
            with pytest.raises(NotReady, match="done by now: somebody was quicker"):
                go_on(second.docket, stage_of(two, "grove-live"), theirs.run)
        assert one.ledger._db.rows("select 1 from parcels") == []
