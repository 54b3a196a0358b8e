"""What is said and done around an import: bases, claims, gates, exports at once, undos at once, somebody's
changes."""

from __future__ import annotations

import shutil
import subprocess
import sys
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from amphora.core.values.errors import NotReady
from amphora.engine.docket import prepare
from amphora.engine.imports import import_prepared
from amphora.engine.session import Session
from amphora.files.package import find_package, read_package
from amphora.files.workspace import read_workspace
from amphora.practice.items import PlatformRefusal
from amphora.practice.platform import Platform
from tests.conftest import Program, run_program
from tests.program.test_deciding import edit, form, there  # noqa: F401

SLIP = "letter-template:office/weigh-slip"


def keys(amphora: Program, place: str = "grove-live") -> set[str]:
    return {row["key"] for row in amphora("survey", place, "--json").json["items"]}


def in_practice(folder: Path, name: str, account: str = "ines@halcyon.example") -> Any:
    return closing(Platform(folder / f"{name}.practice", account, lambda: "2026-06-01T00:00:00Z"))


def test_a_target_restored_from_an_older_backup_is_told_and_chosen_for(amphora: Program, there: Path) -> None:  # noqa: F811
    live = there / "grove-live.practice"
    shutil.copy(live, there / "backup")
    edit(amphora, "grove-dev", "Weigh slip", '/subject="second"')
    assert amphora("export", "olive-intake").code == 0
    assert amphora("import", "olive-intake", "grove-live", "--yes").code == 0
    shutil.copy(there / "backup", live)
    told = amphora("compare", "olive-intake", "grove-live", "--json")
    assert told.code == 3
    [slip] = [a for a in told.json["actions"] if a["key"] == SLIP]
    assert ("state:there", "as olive-intake 1.0.0 left it") in {(c["place"], c["target"]) for c in slip["changes"]}
    choice = ("--choose", "Weigh slip=package", "--docket", "d.yaml")
    assert amphora("compare", "olive-intake", "grove-live", *choice).code == 1
    assert amphora("import", "d.yaml", "--yes").code == 0
    assert amphora("export", "grove-live", "Weigh slip", "--as", "now").code == 0
    assert form(amphora, "now", SLIP)["subject"] == "second"


def test_what_was_delivered_and_is_gone_is_asked_about(amphora: Program, there: Path) -> None:  # noqa: F811
    with in_practice(there, "grove-live") as live:
        [app] = [item.id for item in live.index() if item.kind == "app"]
        live.delete({app: None})
    told = amphora("compare", "olive-intake", "grove-live")
    assert (told.code, "was delivered, is no longer there" in told.out) == (3, True)
    assert amphora("import", "olive-intake", "grove-live", "--yes").code == 3
    choice = ("--choose", "Harvest Intake=package", "--docket", "d.yaml")
    assert amphora("compare", "olive-intake", "grove-live", *choice).code == 1
    assert amphora("import", "d.yaml", "--yes").code == 0
    assert "app:intake/harvest-intake" in keys(amphora)
    assert amphora("verify", "olive-intake", "grove-live").code == 0
    # As it was laid out, too: that is compared by nobody, and seen by everybody.
    assert amphora("export", "grove-live", "Harvest Intake", "--as", "again").code == 0
    laid = [amphora("peek", name, "Harvest Intake", "--json").json["layout"] for name in ("olive-intake", "again")]
    assert laid[0]
    assert laid[0] == laid[1]


@pytest.mark.parametrize("is_touched", [False, True])
def test_what_a_later_run_did_and_took_back_is_nobodys_change(
    amphora: Program,
    there: Path,  # noqa: F811
    is_touched: bool,
) -> None:
    for item, change in (("Weigh slip", '/body="new"'), ("Weigh ticket", "/steps/1/copies=7")):
        edit(amphora, "grove-dev", item, change)
        assert amphora("export", "grove-dev", item, "--as", "olive-intake").code == 0
        assert amphora("import", "olive-intake", "grove-live", "--yes").code == 0
    assert amphora("undo", "last", "--yes").verdict.endswith("grove-live is as it was before.")
    if is_touched:
        edit(amphora, "grove-live", "Weigh ticket", "/steps/1/copies=9")
    told = amphora("undo", "last", "--yes")
    assert told.verdict.endswith("but for 1 item that somebody else changed since." if is_touched else "before.")


def test_what_somebody_changed_between_two_imports_is_theirs_when_the_second_is_undone(
    amphora: Program,
    there: Path,  # noqa: F811
) -> None:
    edit(amphora, "grove-live", "Weigh slip", '/subject="mine"')
    edit(amphora, "grove-dev", "Weigh slip", '/body="new"')
    assert amphora("export", "olive-intake").code == 0
    amphora("compare", "olive-intake", "grove-live", "--docket", "d.yaml")
    assert amphora("import", "d.yaml", "--yes").code == 0
    assert amphora("undo", "last", "--yes").verdict.endswith("grove-live is as it was before.")
    told = amphora("undo", "last", "--yes")
    assert "'Weigh slip' stays as it is: it holds what somebody had changed before more was imported" in told.out
    assert amphora("export", "grove-live", "Weigh slip", "--as", "now").code == 0
    assert form(amphora, "now", SLIP)["subject"] == "mine"


def test_two_undos_at_once_are_one(halcyon: Path, amphora: Program, there: Path) -> None:  # noqa: F811
    words = [sys.executable, "-m", "amphora", "undo", "grove-live-1", "--yes"]
    both = [
        subprocess.Popen(words, cwd=halcyon, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) for _ in "12"
    ]
    ends = [(*process.communicate(), process.returncode) for process in both]
    assert sorted(code for _, _, code in ends)[0] == 0
    assert sorted(code for _, _, code in ends)[1] in (3, 75)
    [lost] = [err for _, err, code in ends if code]
    assert "put back already" in lost or "is being changed just now" in lost
    assert keys(amphora) == {"theme:house/olive"}


def test_exports_at_once_never_share_a_version(halcyon: Path, amphora: Program) -> None:
    items = ("Weigh slip", "Olive varieties", "Fruit condition", "Press lines")
    running = [
        subprocess.Popen(
            [sys.executable, "-m", "amphora", "export", "grove-dev", item, "--as", "one"],
            cwd=halcyon,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        for item in items
    ]
    ends = [(*process.communicate(), process.returncode) for process in running]
    assert [code for _, _, code in ends] == [0] * 4, ends
    files = sorted(path.name for path in (halcyon / "packages").glob("one-*.amphora"))
    assert len(files) == 4
    held = {str(amphora("peek", name.removesuffix(".amphora"), "--json").json["items"]) for name in files}
    assert len(held) == 4


def test_a_version_is_never_overwritten(halcyon: Path, amphora: Program) -> None:
    assert amphora("export", "grove-dev", "Weigh slip", "--as", "one").code == 0
    first = (halcyon / "packages" / "one-1.0.0.amphora").read_bytes()
    (halcyon / "ledger.sqlite").unlink()
    edit(amphora, "grove-dev", "Weigh slip", '/subject="other"')
    assert "one 1.0.1" in amphora("export", "grove-dev", "Weigh slip", "--as", "one").verdict
    assert (halcyon / "packages" / "one-1.0.0.amphora").read_bytes() == first
    taken = amphora("export", "grove-dev", "Olive varieties", "--as", "one", "--version", "1.0.0")
    assert (taken.code, "exists with other contents" in taken.err) == (2, True)
    assert amphora("to-folder", "one", "shelf").code == 0
    listing = halcyon / "shelf" / "data" / "packing-list.json"
    text = listing.read_text().replace('"version": "1.0.1"', '"version": "1.0.0"')
    listing.write_text(text)
    back = amphora("from-folder", "shelf")
    assert (back.code, "exists with other contents" in back.err) == (2, True)
    assert (halcyon / "packages" / "one-1.0.0.amphora").read_bytes() == first
    (halcyon / "notes.amphora").write_text("mine")
    mine = amphora("export", "grove-dev", "Weigh slip", "--as", "one", "--out", "notes.amphora")
    assert (mine.code, (halcyon / "notes.amphora").read_text()) == (2, "mine")


@pytest.mark.parametrize(
    ("silenced", "words"),
    [
        ('[rules]\nneed-open = "note"\n', "does not know how to serve"),
        ('[[silenced]]\nrule = "need-open"\nitem = ""\nreason = "hush"\n', "does not know how to serve"),
        ('[[silenced]]\nrule = "permission-missing"\nitem = ""\nreason = "hush"\n', "may not"),
    ],
)
def test_the_gate_does_not_hear_what_was_silenced(halcyon: Path, amphora: Program, silenced: str, words: str) -> None:
    path = halcyon / "amphora.toml"
    text = path.read_text()
    if "permission" in silenced:
        text = text.replace(
            "[environments.grove-live]\n", '[environments.grove-live]\nuser = "reader@halcyon.example"\n'
        )
    else:
        (halcyon / "crosswalk.yaml").write_text("connections: {}\n")
    path.write_text(text + silenced)
    assert amphora("export", "grove-dev", "Harvest Intake", "--as", "olive-intake").code == 0
    for command in (
        ("check", "olive-intake", "grove-live"),
        ("compare", "olive-intake", "grove-live"),
        ("import", "olive-intake", "grove-live", "--preview"),
        ("import", "olive-intake", "grove-live", "--yes"),
    ):
        done = amphora(*command)
        assert done.code == 3, (command, done.out, done.err)
        assert words in done.out + done.err or "to map" in done.verdict, (command, done.out, done.err)
    assert keys(amphora) == {"theme:house/olive"}


@pytest.mark.parametrize("may", ["publisher", "author", "reader"])
def test_permissions_are_those_of_the_very_steps(halcyon: Path, amphora: Program, there: Path, may: str) -> None:  # noqa: F811
    with in_practice(halcyon, "grove-live") as live:
        live._db.execute("insert or replace into accounts values ('new@halcyon.example', ?)", (may,))
    path = halcyon / "amphora.toml"
    before = path.read_text()
    assert amphora("export", "grove-dev", "Weigh slip", "--as", "olive-intake").code == 0
    path.write_text(
        before.replace("[environments.grove-live]\n", '[environments.grove-live]\nuser = "new@halcyon.example"\n')
    )
    retiring = amphora("import", "olive-intake", "grove-live", "--yes", "--retire", "Harvest Intake")
    assert (retiring.code, "may not retire" in retiring.err) == (3, True)
    withdrawing = amphora("withdraw", "olive-intake", "grove-live", "--retire-all")
    assert (withdrawing.code, "retire" in withdrawing.err) == (3, True)
    undoing = amphora("undo", "last", "--yes")
    assert (undoing.code, "may not" in undoing.err) == (3, True)
    assert undoing.err.splitlines()[-1] == "Next: Sign in with another account, or ask for the permission."
    path.write_text(before)
    assert amphora("undo", "last", "--yes").code == 0


def test_whoever_may_write_may_not_for_that_let_people_in(halcyon: Path, amphora: Program) -> None:
    with in_practice(halcyon, "grove-live") as live:
        live._db.execute("update accounts set role = 'publisher'")
    assert amphora("export", "grove-dev", "Press Board", "--as", "board", "--with", "access").code == 0
    shown = amphora("check", "board", "grove-live", "--json").json
    told = [one["message"] for one in shown["findings"] if one["rule"] == "permission-missing"]
    assert [("may not grant (for " in one, "'keeper'" in one) for one in told] == [(True, True)]
    refused = amphora("import", "board", "grove-live", "--yes")
    assert (refused.code, "may not grant in grove-live" in refused.err) == (3, True), refused.err
    assert refused.err.splitlines()[-1].endswith("amphora import board-1.0.0 grove-live --without access")
    rule: dict[str, Any] = {"app": None, "people": [], "rights": []}
    with in_practice(halcyon, "grove-live") as live, pytest.raises(PlatformRefusal, match="may not grant"):
        live.create("access-rule", "", "r", "R", rule, None, "t")


def test_two_ledgers_never_take_each_others_work_for_their_own(
    halcyon: Path, amphora: Program, tmp_path: Path
) -> None:
    """Both begin at run 1; one administrator's import is not the other's, and no undo touches it."""
    other = tmp_path / "other"
    other.mkdir()
    text = (halcyon / "amphora.toml").read_text().replace("practice:", f"practice:{halcyon}/")
    (other / "amphora.toml").write_text(text)
    shutil.copy(halcyon / "crosswalk.yaml", other / "crosswalk.yaml")
    wanted = ("grove-dev", "Growers", "--as", "growers", "--with", "records")
    for folder in (halcyon, other):
        assert run_program(folder, "export", *wanted).code == 0
    assert amphora("import", "growers", "grove-live", "--yes", "--with", "records").code == 0
    rows = {row["key"]: row["rows"] for row in amphora("survey", "grove-live", "--json").json["items"]}
    assert rows["table:growers/growers"] == 412
    theirs = run_program(other, "import", "growers", "grove-live", "--yes", "--with", "records")
    assert theirs.code == 0, theirs.err
    assert run_program(other, "undo", "last", "--yes").code in (0, 3)
    assert {row["key"]: row["rows"] for row in amphora("survey", "grove-live", "--json").json["items"]} == rows


def test_a_step_of_another_ledger_is_never_taken_for_ours(halcyon: Path, amphora: Program, tmp_path: Path) -> None:
    """The first step of the first run of each makes the same item: the platform remembers tokens, and must not answer
    the second with what it made for the first, which is gone."""
    other = tmp_path / "other"
    other.mkdir()
    (other / "amphora.toml").write_text(
        (halcyon / "amphora.toml").read_text().replace("practice:", f"practice:{halcyon}/")
    )
    for folder in (halcyon, other):
        assert run_program(folder, "export", "grove-dev", "Olive varieties", "--as", "one").code == 0
        done = run_program(folder, "import", "one", "grove-live", "--yes")
        assert done.code == 0, done.err
        titles = [row["title"] for row in amphora("survey", "grove-live", "--json").json["items"]]
        assert sorted(titles) == ["Olive", "Olive varieties"]
        if folder == halcyon:
            assert amphora("undo", "last", "--yes").code == 0


def test_no_rows_go_into_a_table_that_holds_some(amphora: Program) -> None:
    amphora("export", "grove-dev", "Growers", "--as", "growers", "--with", "records")
    assert amphora("import", "growers", "grove-live", "--yes", "--with", "records").code == 0
    amphora("practice", "edit", "grove-dev.practice", "Growers", "--set", 'title="Our growers"')
    amphora("export", "grove-dev", "Growers", "--as", "growers", "--with", "records")
    again = amphora("import", "growers", "grove-live", "--yes", "--with", "records")
    assert again.code == 0, again.err
    assert "No rows go into tables that hold some already" in again.out
    [rows] = [r["rows"] for r in amphora("survey", "grove-live", "--json").json["items"] if r["rows"]]
    assert rows == 412


def test_rows_and_screens_are_cut_to_what_a_person_reads(halcyon: Path, amphora: Program) -> None:
    with in_practice(halcyon, "grove-dev") as dev:
        for number in range(60):
            id_ = dev.create("flow", "many", f"f{number:03}", f"F{number:03}", {"limit": number}, None, f"m{number}")
            dev.publish(id_)
    assert amphora("export", "grove-dev", "flow:many/*", "--as", "many").code == 0
    refused = amphora("import", "many", "grove-live", "--yes")
    assert refused.code == 3
    assert len(refused.err.splitlines()) < 25
    assert "60 needs" in refused.err
    assert "more" in refused.err
    shown = amphora("compare", "many", "grove-live")
    assert len(shown.out.splitlines()) < 110
    assert len(amphora("compare", "many", "grove-live", "--json").json["in_the_way"][0]["details"]) == 60


def test_nothing_that_holds_a_secret_is_kept_for_an_undo(halcyon: Path, amphora: Program) -> None:
    with in_practice(halcyon, "grove-dev") as dev:
        dev_id = dev.create("theme", "house", "pulp", "Pulp", {"colour": "green"}, None, "t")
    assert amphora("export", "grove-dev", "theme:house/pulp", "--as", "olive").code == 0
    assert amphora("import", "olive", "grove-live", "--yes").code == 0
    with in_practice(halcyon, "grove-dev") as dev:
        dev.update(dev_id, "Pulp", "house", {"colour": "blue"}, [], 1)
    assert amphora("export", "olive").code == 0
    with in_practice(halcyon, "grove-live", "keeper@halcyon.example") as live:
        [item] = [one for one in live.everything() if one.name == "pulp"]
        live.update(item.id, "Pulp", "house", {"colour": "green", "password": "heron7x"}, [], item.revision)
    # The gate says so, for whoever asks; and past the gate nothing is begun either.
    refused = amphora("import", "olive", "grove-live", "--yes")
    assert (refused.code, "heron7x" in refused.err, "secret in clear" in refused.err) == (3, False, True)
    assert amphora("compare", "olive", "grove-live", "--json").json["in_the_way"][0]["why"] == "a secret in clear"
    session = Session(read_workspace(halcyon))
    try:
        contents = read_package(find_package("olive", halcyon / "packages"))
        runs = len(session.ledger.journal.runs())
        with pytest.raises(NotReady) as caught:
            import_prepared(session, prepare(session, contents, "grove-live"))
        told = caught.value
        assert (told.subject, told.place) == ("theme:house/pulp", "/password")
        assert told.details == ("theme:house/pulp at /password: name, … (7 characters)",)
        assert 'item = "theme:house/pulp", place = "/password", value = "sha256:' in str(told.next_step)
        assert len(session.ledger.journal.runs()) == runs
    finally:
        session.close()
