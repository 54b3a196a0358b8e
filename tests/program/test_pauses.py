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


def test_it_says_beforehand_that_it_will_pause_and_refuses_where_nobody_comes_back(
    packed: Program, halcyon: Path
) -> None:
    before = everything(halcyon)
    assert (
        "Pauses once, after Lab exchange: you need whoever"
        in packed("import", "lab", "grove-live", "--preview").verdict
    )
    assert "a pause for set-up" in packed("check", "lab", "grove-live").verdict
    refused = packed("import", "lab", "grove-live", "--yes", "--no-pause")
    assert refused.code == 3
    assert "would have to pause once" in refused.err
    assert everything(halcyon) == before


def test_as_little_as_possible_goes_in_before_and_stays_off(packed: Program, halcyon: Path) -> None:
    done = paused(packed).json
    assert done["state"] == "paused"
    assert done["still_to_come"] == ["flow:lab/lab-result-intake"]
    assert done["waits_for"] == [
        {
            "need": f"connection:{NEED}",
            "made_from": "integration:lab/lab-exchange",
            "offer": None,
            "reason": "nothing new is there yet",
        }
    ]
    [(kind, values)] = done["values"].items()
    assert kind == "integration:lab/lab-exchange"
    assert values["account"] == "grove"
    assert values["link"].endswith(values["id"])
    [exchange] = [row for row in everything(halcyon) if row[0] == "integration"]
    assert exchange[6] == "False"
    assert "'connection': None" in exchange[4]
    assert packed("verify", "last").code == 0
    # The lock is given back, and the package can't begin a second time.
    again = packed("import", "lab", "grove-live", "--yes")
    assert again.code == 3
    assert "amphora resume grove-live-1" in again.err
    assert packed().verdict == "1 run is not finished. Still to do: 1 secret."
    assert "Next: amphora resume grove-live-1" in packed("history").out


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
    legs = packed("history", "grove-live-1", "--json").json["legs"]
    assert [(leg["number"], leg["state"]) for leg in legs] == [(1, "paused"), (2, "done")]
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


def test_what_somebody_changed_during_the_pause_is_asked_about(packed: Program, halcyon: Path) -> None:
    paused(packed)
    made(packed)
    assert packed("practice", "edit", "grove-live.practice", "Lab exchange", "--set", "/every_minutes=90").code == 0
    kept = packed("resume", "--set", f"{NEED}=lab-exchange-live")
    assert kept.code == 3
    assert "local edits" in kept.err
    assert packed("resume", "--choose", "Lab exchange=package").code == 0
    [exchange] = [row for row in everything(halcyon) if row[0] == "integration"]
    assert "'every_minutes': 5" in exchange[4]


def test_what_somebody_fills_in_by_hand_as_the_package_has_it_is_no_question(packed: Program, halcyon: Path) -> None:
    """Whoever makes the connection sets it in the integration, too."""
    paused(packed)
    made(packed)
    platform = Platform(halcyon / "grove-live.practice", KEEPER, lambda: "")
    [native] = [row["id"] for row in platform.supplies() if row["name"] == "lab-exchange-live"]
    platform.close()
    edited = packed("practice", "edit", "grove-live.practice", "Lab exchange", "--set", f'/connection="{native}"')
    assert edited.code == 0, edited.err
    done = packed("resume", "--set", f"{NEED}=lab-exchange-live")
    assert done.code == 0, done.err
    assert packed("verify", "last").code == 0


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


def test_the_makers_words_are_shown_where_they_are_needed(packed: Program, halcyon: Path) -> None:
    said = "Ask the laboratory for an account."
    words = ("--note-for", f"Lab exchange={said}")
    export = ("export", "grove-dev", "Lab exchange", "Lab result intake", "--as", "lab")
    # Nothing else has changed: said all the same, and not said twice.
    assert packed(*export, *words, "--json").json["version"] == "1.0.1"
    assert packed(*export, *words, "--json").json["version"] == "1.0.1"
    assert packed("peek", "lab", "--json").json["notes"] == {"integration:lab/lab-exchange": said}
    assert packed("to-folder", "lab", "lab-folder").code == 0
    assert packed("from-folder", "lab-folder", "--out", "again.amphora").code == 0
    assert packed("peek", "./again.amphora", "--json").json["notes"]
    done = paused(packed)
    assert done.json["notes"] == {"integration:lab/lab-exchange": said}
    assert said in packed("resume").out
    wrong = packed(*export, "--note-for", "Press Board=x")
    assert (wrong.code, "is not in the package" in wrong.err) == (2, True)
    secret = packed(*export, "--note-for", "Lab exchange=the password is Wn7kQ2xT9mB4")
    assert secret.code == 3
    assert "Wn7kQ2xT9mB4" not in secret.err


def test_what_is_made_from_each_other_is_refused_whatever_was_silenced(packed: Program, halcyon: Path) -> None:
    assert packed("export", "grove-dev", "Lab exchange", "Weighbridge feed", "--as", "two").code == 0
    made_from = ("--made-from", f"{NEED}=Weighbridge feed", "--made-from", "weighbridge-dev=Lab exchange")
    packed("map", "two", "grove-live", "--accept", *made_from, "--set", "weighbridge-feed-every_minutes=3")
    with (halcyon / "amphora.toml").open("a", encoding="utf-8") as file:
        file.write('[rules]\ncycle-unbreakable = "note"\n')
    before = everything(halcyon)
    refused = packed("import", "two", "grove-live", "--yes")
    assert refused.code == 3, refused.out
    assert "which can't be there without it" in refused.err
    assert everything(halcyon) == before


def test_an_import_waits_for_somebody_s_word(amphora: Program, halcyon: Path) -> None:
    before = everything(halcyon)
    amphora("export", "grove-dev", "Harvest Intake", "--as", "olive-intake")
    words = ("--pause-after", "Growers=the office has seen the columns")
    shown = amphora("import", "olive-intake", "grove-live", "--preview", *words)
    assert "Pauses once, after Growers." in shown.verdict
    assert shown.out.splitlines()[-1].endswith('--pause-after "Growers=the office has seen the columns"')
    refused = amphora("import", "olive-intake", "grove-live", "--yes", "--no-pause", *words)
    assert (refused.code, "somebody's word (the office has seen the columns)" in refused.err) == (3, True)
    begun = amphora("import", "olive-intake", "grove-live", "--yes", *words)
    assert (begun.code, "Waits for a word: the office has seen the columns." in begun.verdict) == (5, True)
    assert {row[2] for row in everything(halcyon)} == {"olive", "growers"}
    assert begun.out.splitlines()[-1] == "Next: amphora resume grove-live-1"
    done = amphora("resume")
    assert (done.code, "in leg 2" in done.verdict) == (0, True), done.err
    assert amphora("verify", "olive-intake", "grove-live").code == 0
    assert amphora("undo", "last", "--yes").code == 0
    assert everything(halcyon) == before


def test_a_licence_that_comes_after_an_item_is_waited_for(amphora: Program, halcyon: Path) -> None:
    amphora("export", "grove-dev", "Harvest Intake", "--as", "olive-intake")
    text = (halcyon / "crosswalk.yaml").read_text()
    row = "  weigh-ticket-batch: {made_from: table:growers/growers}\n"
    (halcyon / "crosswalk.yaml").write_text(
        "".join(row if "weigh-ticket-batch" in line else line for line in text.splitlines(True))
    )
    begun = amphora("import", "olive-intake", "grove-live", "--yes")
    assert (begun.code, "To be made there by hand: weigh-ticket-batch" in begun.verdict) == (5, True), begun.err
    assert amphora("resume").code == 5
    assert amphora("resume", "--set", "weigh-ticket-batch=50").code == 0
    assert amphora("verify", "olive-intake", "grove-live").code == 0


def test_a_word_that_was_not_given_yet_is_awaited_after_a_break(amphora: Program, halcyon: Path) -> None:
    amphora("export", "grove-dev", "Harvest Intake", "--as", "olive-intake")
    amphora("practice", "trouble", "grove-live.practice", "--after", "1")
    words = ("--pause-after", "Deliveries")
    assert amphora("import", "olive-intake", "grove-live", "--yes", "--if-it-fails", "keep", *words).code == 6
    far = {item["key"]: item["so_far"] for item in amphora("history", "last", "--json").json["items"]}
    # What is left as it is waits for nothing.
    assert sorted(set(far.values()) - {""}) == ["begun", "not yet"]
    # What was cut off before it got to its pause has still to get there.
    again = amphora("resume")
    assert (again.code, "Waits for a word" in again.verdict) == (5, True), again.out + again.err
    assert "deliveries" in {row[2] for row in everything(halcyon)}
    assert "weigh-ticket" not in {row[2] for row in everything(halcyon)}
    far = {item["key"]: item["so_far"] for item in amphora("history", "last", "--json").json["items"]}
    assert (far["table:intake/deliveries"], far["flow:intake/weigh-ticket"]) == ("in", "not yet")
    done = amphora("resume")
    assert done.code == 0
    # What an earlier leg brought is as new as the rest.
    created = [line for line in done.out.splitlines() if "https://www.halcyon.example/open/" in line]
    assert {line.partition("  ")[0] for line in created} >= {"Deliveries", "Weigh ticket", "Growers"}
    assert {item["so_far"] for item in amphora("history", "last", "--json").json["items"]} == {""}


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


def test_of_several_that_wait_one_has_to_be_named(amphora: Program, halcyon: Path) -> None:
    amphora("export", "grove-dev", "Harvest Intake", "--as", "olive-intake")
    for name in ("grove-test", "grove-live"):
        assert amphora("import", "olive-intake", name, "--yes", "--pause-after", "Growers").code == 5
    many = amphora("resume")
    assert (many.code, many.err.splitlines()[0]) == (3, "2 runs wait for somebody to go on.")
    assert [line.strip() for line in many.err.splitlines()[1:]] == [
        "grove-live-1: olive-intake 1.0.0 into grove-live, paused",
        "grove-test-1: olive-intake 1.0.0 into grove-test, paused",
        "Next: amphora resume grove-live-1",
    ]
    assert amphora("resume", "grove-live-1").code == 0
    assert amphora("resume").code == 0
    done = amphora("resume", "grove-live-1")
    assert (done.code, "it is done" in done.err, "Next: amphora history grove-live-1" in done.err) == (3, True, True)


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
