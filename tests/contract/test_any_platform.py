"""Whatever a platform is like, as long as its sheet says so: what goes over means the same there, and comes back; also
when something breaks on the way."""

from __future__ import annotations

import os
import re
from pathlib import Path

import pytest

from tests.contract.lives import WAYS, Life, life

IS_WHOLE = os.environ.get("AMPHORA_TESTS") == "whole"
SEEDS = range(200) if IS_WHOLE else (261, 214, 188, 126, 128, 159)
"""Without the whole, those among which each choice is made at least once."""
BREAKING = range(60) if IS_WHOLE else (4, 10, 22)
KILLED = range(60) if IS_WHOLE else (13, 22, 24, 36)


@pytest.mark.parametrize("seed", SEEDS)
def test_what_goes_over_means_the_same_there_and_comes_back(tmp_path: Path, seed: int) -> None:
    with life(tmp_path, seed) as all_:
        one, two, run = all_.one, all_.two, all_.run
        # The proof leaves nothing behind, and finds nothing that the sheet doesn't say.
        at_home = one.told()
        assert "looks like one" not in run("env", "prove", "here", "--yes").out
        assert one.told() == at_home
        all_.export()
        run("import", "p", "there", "--yes", *all_.rows)
        all_.is_there(all_.as_promised())
        run("verify", "p", "there")
        run("edits", "there")
        if all_.rows:
            [table] = [one for one in two.held["source"].values() if one["title"] == "S0"]
            lines, table["lines"] = table["lines"], []
            assert re.search("rows +5 +0", run("verify", "p", "there", code=1).out)
            table["lines"] = lines
        assert "Nothing to do" in run("import", "p", "there", "--yes").out
        for board in two.held["board"].values():
            board["pin"] = "theirs"
        then = two.told()
        one.change("board", all_.boards[0], text="another", uses=[all_.sources[2], all_.sources[0]])
        new = one.add("source", "S9", text="new")
        one.change("board", all_.boards[1], uses=[new], next=all_.boards[1], picture=None)
        if one.choice["picture"]:
            one.change("board", all_.boards[2], picture=("image/gif", [71, 73, 70]))
        one.change("board", all_.boards[2], tags=all_.tags(2, "x", "t2"), fields=all_.fields(a=7, c=3))
        all_.export()
        run("import", "p", "there", "--yes")
        all_.is_there(all_.as_promised())
        assert "is as it was before" in run("undo", "last", "--yes").out
        all_.is_there(then)
        # Nobody has sent what a secret is covered with; what somebody has entered is theirs.
        assert {board["pin"] for board in two.held["board"].values()} == {"theirs"}
        for board in two.held["board"].values():
            board["pin"] = ""
        run("undo", "there-1", "--yes")
        all_.is_there(all_.before)


def broken_and_again(all_: Life, most: int, *words: str) -> None:
    """A command of which one change goes wrong, and all is as it was; then once more."""
    then = all_.two.told()
    with all_.broken(all_.chance.randint(1, most), all_.chance.choice(WAYS)):
        done = all_.run(*words, code=None)
    if done.code == 0:
        # It knew how to help itself, or there were fewer.
        return
    if done.code == 6:
        all_.run("undo", "last", "--yes")
    else:
        assert "as it was before" in done.err, done.err
    all_.is_there(then)
    if ".yaml" in words[1]:
        all_.run("compare", "--refresh", words[1], code=None)
    all_.run(*words)


@pytest.mark.parametrize("seed", BREAKING)
def test_what_breaks_on_the_way_is_put_back(tmp_path: Path, seed: int) -> None:
    with life(tmp_path, seed) as all_:
        one, two, run = all_.one, all_.two, all_.run
        all_.export()
        broken_and_again(all_, 14, "import", "p", "there", "--yes", *all_.rows)
        all_.is_there(all_.as_promised())
        there = {board["title"]: id_ for id_, board in two.held["board"].items()}
        two.change("board", there["B0"], tags=all_.tags(7, "theirs"))
        two.change("board", there["B1"], text="theirs")
        one.change("board", all_.boards[0], text="zero")
        one.change("board", all_.boards[1], text="ours", picture=None, fields=all_.fields(c=3))
        one.change("source", all_.sources[0], text="another source")
        one.held["board"][all_.boards[2]]["title"] = "B2 new"
        one.change("board", all_.boards[2])
        all_.export()
        then = two.told()
        run("compare", "p", "there", "--docket", "d.yaml", code=3)
        key = f"board:{'top/1/' if one.choice['shelf'] else ''}B1"
        run("compare", "p", "there", "--choose", f"{key}=package", "--docket", "d.yaml", code=1)
        broken_and_again(all_, 9, "import", "d.yaml", "there", "--yes")
        # Both have changed B0, each something else.
        one.change("board", all_.boards[0], tags=all_.tags(7, "theirs"))
        all_.is_there(all_.as_promised())
        run("verify", "p", "there")
        run("undo", "last", "--yes")
        all_.is_there(then)
        run("withdraw", "p", "there", "--retire-all")
        all_.is_there(all_.before)
        run("undo", "last", "--yes")
        all_.is_there(then)


@pytest.mark.parametrize("seed", KILLED)
def test_what_is_killed_is_undone_or_gone_on_with(tmp_path: Path, seed: int) -> None:
    with life(tmp_path, seed) as all_:
        one, two, run, chance = all_.one, all_.two, all_.run, all_.chance

        def killed(most: int, *words: str) -> None:
            then = two.told()
            if not all_.is_killed(chance.randint(1, most), chance.choice(("before", "done")), *words):
                return
            # Where it can't go on it says so, and then it is undone.
            if chance.random() < 0.4 and run("resume", code=None).code == 0:
                return
            run("undo", "last", "--yes")
            all_.is_there(then)
            if words[0] != "undo":
                run(*words)

        all_.export()
        killed(22, "import", "p", "there", "--yes", *all_.rows)
        all_.is_there(all_.as_promised())
        then = two.told()
        one.change("board", all_.boards[0], text="another", uses=[all_.sources[2], all_.sources[0]])
        more = {"tags": all_.tags(2, "new", "x"), "fields": all_.fields(c=3, b=1)}
        one.change("board", all_.boards[1], next=all_.boards[1], picture=None, **more)
        one.change("source", all_.sources[1], text="another source")
        one.held["board"][all_.boards[2]]["title"] = "B2 new"
        one.change("board", all_.boards[2], text="x")
        all_.export()
        killed(10, "import", "p", "there", "--yes")
        all_.is_there(all_.as_promised())
        if all_.is_killed(chance.randint(1, 10), chance.choice(("before", "done")), "undo", "last", "--yes"):
            run("undo", "last", "--yes")
        all_.is_there(then)
        killed(8, "withdraw", "p", "there", "--retire-all")
        all_.is_there(all_.before)
