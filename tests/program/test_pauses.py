"""An import that has to pause: what goes in before and after, what is said, how one goes on, and what becomes of it when
it fails or is given up."""

from __future__ import annotations

import sqlite3
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


def test_it_goes_on_when_the_connection_is_there_and_works(packed: Program, halcyon: Path) -> None:
    paused(packed)
    assert packed("resume").code == 5
    made(packed, "another", "--broken")
    [waiting] = packed("resume", "--json").json["waits_for"]
    assert waiting["offer"] == "another"
    [waiting] = packed("resume", "--set", f"{NEED}=another", "--json").json["waits_for"]
    assert "does not work" in waiting["reason"]
    made(packed)
    table = (halcyon / "crosswalk.yaml").read_text()
    assert packed("resume", "--set", f"{NEED}=lab-exchange-live", "--preview").code == 0
    assert (halcyon / "crosswalk.yaml").read_text() == table
    # Somebody else goes on, with nothing but the ledger: the package file is gone.
    for path in (halcyon / "packages").iterdir():
        path.unlink()
    done = packed("resume", "--set", f"{NEED}=lab-exchange-live", "--json")
    assert done.code == 0, done.err
    assert done.json["run"] == "grove-live-1"
    assert packed("verify", "last").verdict == "grove-live is as promised: all 11 items of lab 1.0.0."
    rows = {row[3]: row for row in everything(halcyon)}
    assert [rows[title][6] for title in ("Lab exchange", "Lab result intake")] == ["True", "True"]
    assert "None" not in rows["Lab exchange"][4]
    record = packed("history", "grove-live-1", "--json").json
    assert [(leg["number"], leg["state"]) for leg in record["legs"]] == [(1, "paused"), (2, "done")]
    # What was mapped at the pause is as much of the record as what was mapped before it.
    assert record["mapped"][f"connection:{NEED}"] == "lab-exchange-live"
    nothing = packed("resume")
    assert nothing.code == 3
    assert "No run waits" in nothing.err


@pytest.mark.parametrize("is_done", [False, True])
def test_an_undo_goes_to_the_beginning(packed: Program, halcyon: Path, is_done: bool) -> None:
    before = everything(halcyon)
    paused(packed)
    if is_done:
        made(packed)
        assert packed("resume", "--set", f"{NEED}=lab-exchange-live").code == 0
    done = packed("undo", "grove-live-1", "--yes")
    assert done.verdict == "grove-live-1 is undone: grove-live is as it was before."
    assert everything(halcyon) == before
    assert packed("import", "lab", "grove-live", "--yes").code == (0 if is_done else 5)


@pytest.mark.parametrize("is_edited", [False, True])
def test_whoever_went_on_with_another_import_is_not_somebody(packed: Program, halcyon: Path, is_edited: bool) -> None:
    paused(packed)
    packed("export", "grove-dev", "Payout states", "--as", "lists")
    assert packed("import", "lists", "grove-live", "--yes").code == 0
    made(packed)
    assert packed("resume", "--set", f"{NEED}=lab-exchange-live").code == 0
    if is_edited:
        edited = ("practice", "edit", "grove-live.practice", "Lab exchange", "--set", "title=Exchange")
        assert packed(*edited).code == 0
    looked = packed("verify", "grove-live-2")
    assert (looked.code, "- Exchange: changed, by ines" in looked.out) == (0, is_edited), looked.out
    assert ("other items  as before the run" in looked.out) is not is_edited, looked.out
    before = [one for one in everything(halcyon) if one[2] != "payout-states"]
    undone = packed("undo", "grove-live-2", "--yes")
    assert undone.verdict.endswith("grove-live is as it was before.") is not is_edited, undone.out
    assert ("'Exchange' was changed since" in undone.out) is is_edited
    assert everything(halcyon) == before
    assert packed("undo", "grove-live-1", "--yes").verdict.startswith("grove-live-1 is undone")


def test_a_failure_after_the_pause_goes_back_to_it(packed: Program, halcyon: Path) -> None:
    paused(packed)
    at_pause = everything(halcyon)
    made(packed)
    platform = Platform(halcyon / "grove-live.practice", KEEPER, lambda: "")
    # Somebody takes the name, so that the last leg is refused in its middle.
    platform._db.execute(
        "create trigger no_switch before update of is_on on items when new.is_on = 1"
        " begin select raise(abort, 'not now'); end"
    )
    platform.close()
    failed = packed("resume", "--set", f"{NEED}=lab-exchange-live")
    assert failed.code == 4, failed.err
    assert "grove-live is as it was at the pause." in failed.err
    assert "amphora resume grove-live-1" in failed.err
    assert everything(halcyon) == at_pause
    platform = Platform(halcyon / "grove-live.practice", KEEPER, lambda: "")
    platform._db.execute("drop trigger no_switch")
    platform.close()
    assert packed("resume").code == 0
    assert packed("undo", "last", "--yes").verdict.endswith("grove-live is as it was before.")


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


@pytest.mark.parametrize("is_edited_again", [False, True])
def test_what_was_agreed_to_is_what_was_seen_then(packed: Program, halcyon: Path, is_edited_again: bool) -> None:
    packed("export", "grove-dev", "Weigh slip", "--as", "mixed")
    assert packed("import", "mixed", "grove-live", "--yes").code == 0
    packed("practice", "edit", "grove-live.practice", "Weigh slip", "--set", '/subject="Mended"')
    packed("practice", "edit", "grove-dev.practice", "Weigh slip", "--set", '/body="Newer"')
    packed("export", "grove-dev", "Weigh slip", "Lab exchange", "Lab result intake", "--as", "mixed")
    assert packed("compare", "mixed", "grove-live", "--docket", "d.yaml").code == 1
    assert packed("import", "d.yaml", "--yes").code == 5
    if is_edited_again:
        packed("practice", "edit", "grove-live.practice", "Weigh slip", "--set", '/subject="Mended twice"')
    made(packed)
    done = packed("resume", "--set", f"{NEED}=lab-exchange-live")
    assert (done.code, "local edits" in done.err) == ((3, True) if is_edited_again else (0, False)), done.err


def test_a_pause_can_be_written_into_a_docket(amphora: Program, halcyon: Path) -> None:
    amphora("export", "grove-dev", "Harvest Intake", "--as", "olive-intake")
    assert amphora("compare", "olive-intake", "grove-live", "--docket", "d.yaml").code == 1
    text = (halcyon / "d.yaml").read_text()
    (halcyon / "d.yaml").write_text(
        text.replace("since:", "pause_after: {table:growers/growers: seen by the office}\nsince:")
    )
    done = amphora("import", "d.yaml", "--yes")
    assert (done.code, "Waits for a word: seen by the office." in done.verdict) == (5, True), done.err
    assert amphora("resume").code == 0
    (halcyon / "e.yaml").write_text(text.replace("since:", "pause_after: [table:growers/growers]\nsince:"))
    refused = amphora("import", "e.yaml", "--yes")
    assert (refused.code, "`pause_after` has to be a mapping" in refused.err) == (2, True)


def test_what_somebody_removed_during_the_pause_is_not_said_to_be_there(packed: Program, halcyon: Path) -> None:
    paused(packed)
    with closing(sqlite3.connect(halcyon / "grove-live.practice")) as db, db:
        db.execute("delete from items where title = 'Lab exchange'")
    told = packed("resume", "--json")
    assert told.code == 5
    assert told.json["verdict"].startswith(
        "Paused: 9 items of lab 1.0.0 in grove-live, 1 no longer there, 1 still to come."
    )
    assert (told.json["gone"], told.json["values"]) == (["integration:lab/lab-exchange"], {})
    assert "integration:lab/lab-exchange" not in told.json["in"]
