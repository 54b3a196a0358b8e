"""A platform on which items are renamed and moved by calls of their own; or not at all."""

from __future__ import annotations

import shlex
from pathlib import Path
from typing import Any

import pytest

from tests.contract.answering import Plain, Said, pair, sheets_of

CALLS = """put = "/jars/{id}", titled = { post = "/jars/{id}/name", body = { to = "{title}" } },
moved = { post = "/jars/{id}/shelf", body = { to = "{folder}" } }""".replace("\n", " ")


class Shelves(Plain):
    """Takes a text, and nothing else, from whoever changes a jar."""

    def inside(self, method: str, kind: str, one: dict[str, Any], steps: list[str], body: Any) -> Said:
        one[steps[0]] = body["to"]
        return 200, one, {}

    def changed(self, kind: str, one: dict[str, Any], body: Any) -> Said | None:
        if set(body) - {"text"} or body.get("text") == "refused":
            return 422, {"message": "nothing but a good text can be changed"}, {}
        one["text"] = body.get("text", "")
        return None

    def told(self) -> list[tuple[str, str, str]]:
        return sorted((one["shelf"], one["name"], one["text"]) for one in self.held["jars"].values())


@pytest.mark.parametrize("has_calls", [True, False])
def test_what_is_called_otherwise_and_moved(tmp_path: Path, has_calls: bool) -> None:
    one, two = Shelves("one", 0), Shelves("two", 70)
    jar = one.add("jars", name="A", shelf="oils", text="t")
    other = one.add("jars", name="B", shelf="oils/old", text="u")
    told = CALLS if has_calls else 'put = "/jars/{id}", read_only = ["name", "shelf"]'
    sheets = sheets_of("shelves")
    sheets["shelves"] = sheets["shelves"].replace('put = "/jars/{id}"', told)
    with pair(tmp_path, sheets, one, two) as run:
        run("env", "prove", "here", "--yes")
        run("export", "here", "*", "--as", "p")
        run("import", "p", "there", "--yes")
        before = two.told()
        jar |= {"shelf": "lids", "name": "AA"}
        run("export", "here", "*", "--as", "p")
        if not has_calls:
            # `check` and a preview know it as well.
            assert "never changes this" in run("check", "p", "there", code=3).out
            assert "another folder and title" in run("import", "p", "there", "--preview", code=3).out
            # It was said to be updated, and was not as promised.
            told = run("import", "p", "there", "--yes", code=3).err
            assert "there never changes this of what is there.\n  jar:oils/A: another folder and title\n" in told, (
                told
            )
            assert two.told() == before
            # What it says can be done is done.
            step = shlex.split(told.rsplit("keep what is there: amphora ", 1)[1])
            assert "has p 1.0.1; 1 item stays as decided" in run(*step).out
            run("import", step[-1], "--yes")
            assert two.told() == before
            return
        run("import", "p", "there", "--yes")
        assert two.told() == one.told()
        run("verify", "p", "there")
        # Refused behind its new name and place: it gets back both.
        moved = two.told()
        other |= {"shelf": "lids", "name": "BB", "text": "refused"}
        run("export", "here", "*", "--as", "p")
        assert "there is as it was before" in run("import", "p", "there", "--yes", code=4).err
        assert two.told() == moved
        assert "is as it was before" in run("undo", "last", "--yes").out
        assert two.told() == before
