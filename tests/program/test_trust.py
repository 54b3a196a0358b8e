"""What is said and done around an import: bases, claims, gates, exports at once, undos at once, somebody's
changes."""

from __future__ import annotations

import sys
from pathlib import Path
from subprocess import PIPE, Popen

import pytest

from amphora.core.values.errors import NotReady
from amphora.engine.docket import prepare
from amphora.engine.imports import import_prepared
from amphora.engine.session import Session
from amphora.files.package import find_package, read_package
from amphora.files.workspace import read_workspace
from tests.conftest import Done, Program
from tests.program.test_deciding import edit, form, there  # noqa: F401


def keys(amphora: Program, place: str = "grove-live") -> set[str]:
    return {row["key"] for row in amphora("survey", place, "--json").json["items"]}


def at_once(folder: Path, *commands: list[str]) -> list[Done]:
    """What commands come to that are begun together."""
    words = [sys.executable, "-m", "amphora"]
    begun = [Popen([*words, *command], cwd=folder, stdout=PIPE, stderr=PIPE, text=True) for command in commands]
    told = [process.communicate() for process in begun]
    return [Done(process.returncode, *said) for process, said in zip(begun, told, strict=True)]


def test_two_undos_at_once_are_one(halcyon: Path, amphora: Program, there: Path) -> None:  # noqa: F811
    ends = at_once(halcyon, *[["undo", "grove-live-1", "--yes"]] * 2)
    assert sorted(one.code for one in ends)[0] == 0
    assert sorted(one.code for one in ends)[1] in (3, 75)
    [lost] = [one.err for one in ends if one.code]
    assert "put back already" in lost or "is being changed just now" in lost
    assert keys(amphora) == {"theme:house/olive"}


def test_exports_at_once_never_share_a_version(halcyon: Path, amphora: Program) -> None:
    items = ("Weigh slip", "Olive varieties", "Fruit condition", "Press lines")
    ends = at_once(halcyon, *(["export", "grove-dev", item, "--as", "one"] for item in items))
    assert [one.code for one in ends] == [0] * 4, ends
    files = sorted(path.name for path in (halcyon / "packages").glob("one-*.amphora"))
    assert len(files) == 4
    held = {str(amphora("peek", name.removesuffix(".amphora"), "--json").json["items"]) for name in files}
    assert len(held) == 4


def test_nothing_that_holds_a_secret_is_kept_for_an_undo(halcyon: Path, amphora: Program) -> None:
    assert amphora("export", "grove-dev", "Olive", "--as", "olive").code == 0
    assert amphora("import", "olive", "grove-live", "--yes").code == 0
    edit(amphora, "grove-dev", "Olive", '/font="Alegreya Sans"')
    assert amphora("export", "olive").code == 0
    edit(amphora, "grove-live", "Olive", '/password="heron7x"')
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
        assert (told.subject, told.place) == ("theme:house/olive", "/password")
        assert told.details == ("theme:house/olive at /password: name, … (7 characters)",)
        assert 'item = "theme:house/olive", place = "/password", value = "sha256:' in str(told.next_step)
        assert len(session.ledger.journal.runs()) == runs
    finally:
        session.close()
