"""What is said and done around an import: bases, claims, gates, exports at once, undos at once, somebody's
changes."""

from __future__ import annotations

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
from amphora.practice.platform import Platform
from tests.conftest import Program
from tests.program.test_deciding import edit, form, there  # noqa: F401


def keys(amphora: Program, place: str = "grove-live") -> set[str]:
    return {row["key"] for row in amphora("survey", place, "--json").json["items"]}


def in_practice(folder: Path, name: str, account: str = "ines@halcyon.example") -> Any:
    return closing(Platform(folder / f"{name}.practice", account, lambda: "2026-06-01T00:00:00Z"))


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
