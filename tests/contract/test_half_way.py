"""A command that is killed between two calls of one change: what is left of it is known as its own, undone or gone on with."""

from __future__ import annotations

import zipfile
from pathlib import Path
from typing import Any

import pytest

from tests.contract.lives import Life, life
from tests.contract.platforms import CHOICES

PLAIN: dict[str, Any] = {name: values[0] for name, values in CHOICES.items()}


def changed_there(all_: Life, **more: Any) -> None:
    """All has gone over, and then one board has another text and other tags, which go by calls of their own."""
    all_.export()
    all_.run("import", "p", "there", "--yes", *all_.rows)
    all_.one.change("board", all_.boards[1], text="another", tags=all_.tags(2, "new", "x"), **more)
    all_.export()


@pytest.mark.parametrize("way", [["undo", "last", "--yes"], ["resume"]])
@pytest.mark.parametrize("tags", ["entries", "whole"])
def test_a_change_whose_definition_is_written_and_whose_tags_are_not(
    tmp_path: Path, way: list[str], tags: str
) -> None:
    with life(tmp_path, 0, **PLAIN | {"tags": tags, "switch": "rests", "revision": "etag"}) as all_:
        changed_there(all_)
        then = all_.two.told()
        # Off, the definition, and not the first of its tags.
        assert all_.is_killed(3, "before", "import", "p", "there", "--yes")
        assert "another" in str(all_.two.told())
        assert all_.two.told() != all_.as_promised()
        all_.run(*way)
        all_.is_there(then if way[0] == "undo" else all_.as_promised())


@pytest.mark.parametrize(("way", "code"), [("done and 500", 4), ("refused", 4), ("503", 0)])
def test_a_change_that_is_refused_between_its_calls(tmp_path: Path, way: str, code: int) -> None:
    with life(tmp_path, 0, **PLAIN | {"tags": "entries"}) as all_:
        changed_there(all_)
        then = all_.two.told()
        with all_.broken(2, way):
            told = all_.run("import", "p", "there", "--yes", code=code).err
        # Busy is no refusal: what was begun of it is taken back, and it is tried again.
        all_.is_there(then if code else all_.as_promised())
        assert ("as it was before" in told) == bool(code)


def test_a_table_with_half_of_its_rows_is_none_that_can_be_gone_on_with(tmp_path: Path) -> None:
    with life(tmp_path, 0, **PLAIN | {"lines": "plain"}) as all_:
        all_.export()
        assert all_.is_killed(2, "before", "import", "p", "there", "--yes", *all_.rows, of="lines")
        told = all_.run("resume", code=3).err
        assert "rows" in told
        assert "amphora undo there-1" in told
        all_.run("undo", "there-1", "--yes")
        all_.is_there(all_.before)


def test_what_nobody_can_tell_is_no_start_to_go_on_from(tmp_path: Path) -> None:
    with life(tmp_path, 0, **PLAIN) as all_:
        all_.export()
        assert all_.is_killed(1, "done", "import", "p", "there", "--yes")
        # Somebody else makes the very same. (Sources are made side by side: any of the three may come first.)
        made = next(one["title"] for one in all_.two.held["source"].values() if one["title"] != "Other")
        all_.two.add("source", made, text=f"of {made[1:]}")
        told = all_.run("resume", code=3).err
        assert "nobody can tell what became of 1 item" in told
        assert "amphora undo there-1" in told


@pytest.mark.parametrize("way", [["undo", "last", "--yes"], ["resume"]])
@pytest.mark.parametrize("more", [{}, {"update": "default"}])
def test_half_of_what_was_made_under_an_id_of_our_choice(
    tmp_path: Path, way: list[str], more: dict[str, Any]
) -> None:
    with life(
        tmp_path, 0, **PLAIN | {"ids": "uuid", "takes_id": True, "tags": "entries", "by": False, **more}
    ) as all_:
        all_.export()
        # The first board is there, and none of its tags (some platforms give it a tag of their own).
        assert all_.is_killed(4, "done", "import", "p", "there", "--yes")
        all_.run(*way)
        all_.is_there(all_.before if way[0] == "undo" else all_.as_promised())


def test_what_a_killed_import_made_is_its_own_once_it_has_gone_on(tmp_path: Path) -> None:
    with life(tmp_path, 0, **PLAIN) as all_:
        all_.export()
        assert all_.is_killed(4, "done", "import", "p", "there", "--yes")
        all_.run("resume")
        all_.is_there(all_.as_promised())
        all_.run("withdraw", "p", "there", "--retire-all")
        all_.is_there(all_.before)


@pytest.mark.parametrize("update", ["by member", "whole", "merge patch"])
def test_a_secret_that_is_not_set_is_not_sent(tmp_path: Path, update: str) -> None:
    with life(tmp_path, 0, **PLAIN | {"pin": True, "update": update}) as all_:
        changed_there(all_)
        answer, sent = all_.two._answer, list[Any]()

        def answered(method: str, path: str, said: Any, body: Any, headers: Any) -> Any:
            sent.append(body if method != "GET" else None)
            return answer(method, path, said, body, headers)

        all_.two._answer = answered  # type: ignore[method-assign]
        all_.run("import", "p", "there", "--yes")
        [body] = [body for body in sent if body]
        assert "pin" not in body
        all_.is_there(all_.as_promised())


def test_what_a_platform_ignores_is_not_as_promised(tmp_path: Path) -> None:
    with life(tmp_path, 0, **PLAIN | {"picture": "whole"}) as all_:
        changed_there(all_, picture=None)
        answer = all_.two._answer

        def answered(method: str, path: str, said: Any, body: Any, headers: Any) -> Any:
            # It says that it is removed, and keeps it.
            return (200, "taken", {}) if method == "DELETE" else answer(method, path, said, body, headers)

        all_.two._answer = answered  # type: ignore[method-assign]
        done = all_.run("import", "p", "there", "--yes", code=None)
        assert (done.code, "1 item is not as promised" in done.out) == (1, True), done.out


def test_a_refusal_that_is_answered_with_200_is_no_picture(tmp_path: Path) -> None:
    with life(tmp_path, 0, **PLAIN | {"picture": "whole", "refused": "in the body"}) as all_:
        all_.export()
        # The third board has none, and a refusal to show it would look the same over there.
        with zipfile.ZipFile(tmp_path / "packages" / "p-1.0.0.amphora") as package:
            assert len([name for name in package.namelist() if "/files/" in name]) == 2
        all_.run("import", "p", "there", "--yes")
        all_.is_there(all_.as_promised())


def test_a_field_that_comes_back_gets_a_number_of_its_own(tmp_path: Path) -> None:
    with life(tmp_path, 0, **PLAIN | {"fields": True}) as all_:
        changed_there(all_, fields=all_.fields(c=3))
        then = all_.two.told()
        all_.run("import", "p", "there", "--yes")
        all_.is_there(all_.as_promised())
        all_.run("undo", "last", "--yes")
        all_.is_there(then)
        all_.run("withdraw", "p", "there", "--retire-all")
        all_.run("undo", "last", "--yes")
        all_.is_there(then)


def test_what_another_change_has_only_saved_again_is_gone_on_with(tmp_path: Path) -> None:
    with life(tmp_path, 0, **PLAIN | {"saves": True, "revision": "etag"}) as all_:
        changed_there(all_)
        all_.one.change("source", all_.sources[0], text="another source")
        all_.export()
        all_.run("import", "p", "there", "--yes")
        all_.is_there(all_.as_promised())
        all_.run("verify", "p", "there")


@pytest.mark.parametrize("way", [["undo", "last", "--yes"], ["resume"]])
@pytest.mark.parametrize("at", [2, 3])
def test_half_of_a_change_where_nobody_says_who_and_the_platform_tidies(
    tmp_path: Path, way: list[str], at: int
) -> None:
    with life(tmp_path, 0, **PLAIN | {"tags": "entries", "by": False}) as all_:
        answer = all_.two._answer

        def answered(method: str, path: str, said: Any, body: Any, headers: Any) -> Any:
            told = answer(method, path, said, body, headers)
            for board in all_.two.held["board"].values() if method != "GET" else ():
                board["live"]["text"] = board["live"]["text"].rstrip("!") + "!"
            return told

        all_.two._answer = answered  # type: ignore[method-assign]
        all_.export()
        all_.run("import", "p", "there", "--yes")
        # Another text would be tidied anew; what stays as it was is shown as it was.
        all_.one.change("board", all_.boards[1], next=all_.boards[0], tags=all_.tags(2, "new", "x"))
        all_.export()
        then = all_.two.told()
        all_.run("import", "p", "there", "--yes")
        promised = all_.two.told()
        all_.run("undo", "last", "--yes")
        all_.is_there(then)
        # The definition is written, and not all of its tags.
        assert all_.is_killed(at, "before", "import", "p", "there", "--yes")
        assert all_.two.told() not in (then, promised)
        if way[0] == "undo" and at == 2:
            # What is neither as before nor as meant is somebody's, whatever the rest is.
            mine = next(id_ for id_, one in all_.two.held["board"].items() if one["title"] == "B1")
            all_.two.change("board", mine, next=mine)
            assert "somebody changed it meanwhile" in all_.run(*way, code=1).out
            return
        all_.run(*way)
        all_.is_there(then if way[0] == "undo" else promised)
