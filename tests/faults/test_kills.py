"""Kills without warning at every boundary, of real processes: what follows ends in the promised or the previous
state, by the whole state of the target; no item twice, no effect twice."""

from __future__ import annotations

import os
import shutil
import signal
from contextlib import closing
from pathlib import Path

import pytest

from amphora.ledger.journal import Journal
from amphora.ledger.locks import Locks
from amphora.practice.platform import Platform
from tests.conftest import Program
from tests.contract.conftest import folder_ground, nodered_ground
from tests.contract.grounds import Ground
from tests.faults.test_faults import back, bring, grown, whole
from tests.faults.trouble import Fault, Killed, killed_after, killed_before
from tests.loaded import called


def killed(folder: Path, at: int, *words: str) -> int:
    """The exit code of a command that is killed at its nth moment."""
    code, _, told = called(folder, list(words), dict(os.environ), at)
    assert code in (0, 1, 5, -signal.SIGKILL), told
    return code


def practice(folder: Path) -> Ground:
    """Two flows that start each other and a table with rows, on their way."""
    ground = Ground(folder, "grove-dev", "grove-live", "", "flow:ring/a", "", lambda: None)
    (folder / "crosswalk.yaml").write_text("connections:\n  office-db-dev: {grove-live: office-main}\n")
    grown(folder, "grove-dev", {"a": ["b"], "b": ["a"]})
    ground.export(["flow:ring/*", "Growers"], records=True, name="ring")
    return ground


def effects(folder: Path) -> int:
    """How many creations a practice environment has carried out."""
    with closing(Platform(folder / "grove-live.practice", "keeper@halcyon.example", lambda: "t")) as there:
        return int(there.meta("counter"))


def all_moments(ground: Ground, words: tuple[str, ...], before: dict[str, str]) -> int:
    """Kills a command at each of its moments in turn; after each, undo gives back what was before, or the command
    had its way. Returns how many moments there were."""
    at, is_over = 0, False
    while not is_over:
        at += 1
        is_over = killed(ground.folder, at, *words) != -signal.SIGKILL
        if whole(ground) != before:
            assert back(ground).is_as_before
        else:
            runs = [r for r in ground.session().ledger.journal.runs() if r.is_open]
            for _ in runs[:1]:
                assert back(ground).is_as_before
        assert whole(ground) == before
        assert not ground.session().ledger.journal.open_runs(ground.session().open(ground.target).description.uid)
    return at


def test_an_import_with_a_circle_and_rows_is_killed_at_every_moment(halcyon: Path) -> None:
    ground = practice(halcyon)
    words = ("import", "ring", "grove-live", "--yes", "--with", "records")
    count = all_moments(ground, words, whole(ground))
    assert count > 30
    made = effects(halcyon)
    bring(ground, halcyon / "packages" / "ring-1.0.0.amphora", records=True)
    assert effects(halcyon) == made + 3
    ground.close()


def test_a_withdrawal_with_rows_is_killed_at_every_moment(halcyon: Path, tmp_path: Path) -> None:
    ground = practice(halcyon)
    bring(ground, halcyon / "packages" / "ring-1.0.0.amphora", records=True)
    before = whole(ground)
    assert all_moments(ground, ("withdraw", "ring", "grove-live", "--retire-all"), before) > 6
    ground.close()


def test_an_undo_is_killed_at_every_moment_and_finished(halcyon: Path) -> None:
    ground = practice(halcyon)
    path = halcyon / "packages" / "ring-1.0.0.amphora"
    bring(ground, path, records=True)
    before = whole(ground)
    grown(halcyon, "grove-dev", {"a": ["b", "a"], "b": []}, note="!")
    ground.export(["flow:ring/*", "Growers"], records=True, name="ring")
    newest = max((halcyon / "packages").glob("ring-*"), key=lambda p: p.name)
    at, code = 0, -signal.SIGKILL
    while code == -signal.SIGKILL:
        at += 1
        bring(ground, newest)
        code = killed(halcyon, at, "undo", "last", "--yes")
        journal = ground.session().ledger.journal
        run = next(r for r in journal.runs() if r.kind == "import")
        if run.state != "undone":
            # What it has begun to take back is open, and can't go on; the attempt itself is neither.
            assert [one for one in journal.runs() if one.is_open] == ([run] if run.attempt else [])
            assert not run.can_go_on
            assert back(ground).is_as_before
        assert not [one for one in journal.runs() if one.is_open or one.state == "running"]
        assert whole(ground) == before
    assert at > 12
    ground.close()


def test_whoever_is_at_work_is_heard_of(halcyon: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    heard: list[str] = []
    monkeypatch.setattr(Locks, "renew", lambda self, uid: heard.append(uid))
    ground = practice(halcyon)
    bring(ground, halcyon / "packages" / "ring-1.0.0.amphora", records=True)
    # Else somebody would break the lock of a long run for being stale.
    assert len(heard) > 1
    assert set(heard) == {"practice-grove-live"}
    ground.close()


def test_what_was_cut_off_is_told_with_the_way_on(amphora: Program, halcyon: Path) -> None:
    amphora("export", "grove-dev", "Weigh ticket", "--as", "p")
    assert amphora("import", "p", "grove-test", "--yes", "--pause-after", "Growers").code == 5
    shown = amphora("resume", "--preview", "--set", "mill-db=mill-db-test").out
    assert shown.rstrip().endswith("Next: amphora resume grove-test-1 --set mill-db=mill-db-test")
    assert killed(halcyon, 8, "undo", "last", "--yes") == -signal.SIGKILL
    for words in ((), ("resume",), ("resume", "grove-test-1"), ("history",), ("history", "grove-test-1")):
        done = amphora(*words)
        assert (done.out + done.err).rstrip().endswith("Next: amphora undo grove-test-1"), (words, done)
    assert "paused, being put back" in done.verdict
    assert amphora("undo", "grove-test-1", "--yes").verdict.endswith("grove-test is as it was before.")
    assert amphora().verdict == "Nothing is open."
    amphora("import", "p", "grove-test", "--yes")
    assert killed(halcyon, 8, "withdraw", "p", "grove-test", "--retire-all") == -signal.SIGKILL
    again = "Next: amphora undo grove-test-5 --yes && amphora withdraw p grove-test --retire-all"
    assert amphora("withdraw", "p", "grove-test", "--retire-all").err.rstrip().endswith(again)


@pytest.mark.parametrize("adapter", ["folder", "nodered"])
def test_the_other_adapters_are_killed_too(
    adapter: str, tmp_path: Path, request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch
) -> None:
    if adapter == "folder":
        ground = folder_ground(tmp_path)
        wanted = ["Weigh slip", "Olive"]
    else:
        monkeypatch.setenv("TWO_TOKEN", "made-up-token")
        ground = nodered_ground(tmp_path, request.getfixturevalue("runtimes"))
        wanted = ["Weigh ticket"]
    ground.export(wanted, name="some")
    before = whole(ground)
    assert all_moments(ground, ("import", "some", ground.target, "--yes"), before) > 6
    ground.close()
    shutil.rmtree(tmp_path, ignore_errors=True)


@pytest.mark.parametrize("fault", [killed_before, killed_after])
@pytest.mark.parametrize("at", [1, 2, 4, 5, 6, 7, 9, 10])
def test_a_power_cut_takes_what_was_not_waited_for(
    halcyon: Path, at: int, fault: Fault, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The intents of a portion are on the disk; that one of its steps was begun, and what the others came to, is
    not."""
    ground = Ground(halcyon, "grove-dev", "grove-live", "", "flow:ring/a", "", lambda: None)
    grown(halcyon, "grove-dev", {"a": [], "b": [], "c": ["a"], "d": [], "e": []})
    path = ground.export(["flow:ring/*"], name="ring").path
    before = whole(ground)
    with monkeypatch.context() as cut:
        lost = lambda *words: None  # noqa: E731
        for name in ("begin_next", "end_step", "end_steps", "forgo_steps", "end"):
            cut.setattr(Journal, name, lost)
        with pytest.raises(Killed):
            bring(ground, path, at, fault)
    assert [run.state for run in ground.session().ledger.journal.runs() if run.is_open] == ["running"]
    assert back(ground).is_as_before
    assert whole(ground) == before
    made = effects(halcyon)
    bring(ground, path)
    assert effects(halcyon) == made + 5
    ground.close()


PAUSING = """connections:
  lab-exchange-dev: {made_from: integration:lab/lab-exchange}
  mill-db-dev: {grove-live: mill-main}
  office-db-dev: {grove-live: office-main}
settings:
  lab-exchange-every_minutes: {grove-live: 5}
  lab-result-intake-batch: {grove-live: 20}
"""
START, ONWARDS = ("import", "lab", "grove-live", "--yes"), ("resume", "--set", "lab-exchange-dev=exchange-live")


def is_waiting(ground: Ground) -> bool:
    return any(run.is_open for run in ground.session().ledger.journal.runs())


@pytest.mark.parametrize("is_second", [False, True])
def test_a_pause_and_what_follows_it_are_killed_at_every_moment(halcyon: Path, is_second: bool) -> None:
    """Going on ends as promised, in whichever leg it was cut off; nothing is created twice; an undo goes to the
    beginning."""
    ground = Ground(halcyon, "grove-dev", "grove-live", "", "flow:ring/a", "", lambda: None)
    (halcyon / "crosswalk.yaml").write_text(PAUSING)
    ground.export(["Lab exchange", "Lab result intake"], name="lab")
    with closing(Platform(halcyon / "grove-live.practice", "keeper@halcyon.example", lambda: "t")) as there:
        there.add_supply("connection", "exchange-live", "exchange")
    # Every other moment of each leg, not the same ones: all of them take minutes.
    before, at, code = whole(ground), -1 if is_second else 0, -signal.SIGKILL
    promised: dict[str, str] = {}
    while code == -signal.SIGKILL:
        (halcyon / "crosswalk.yaml").write_text(PAUSING)
        made = effects(halcyon)
        if not promised:
            # Once in peace: this is what has to come out every time.
            assert (killed(halcyon, 10_000, *START), killed(halcyon, 10_000, *ONWARDS)) == (5, 0)
            promised = whole(ground)
        elif is_second:
            at += 2
            killed(halcyon, 10_000, *START)
            code = killed(halcyon, at, *ONWARDS)
        else:
            at += 2
            code = killed(halcyon, at, *START)
            # Killed before there was a run: once more.
            if not is_waiting(ground):
                assert killed(halcyon, 10_000, *START) == 5
        if is_waiting(ground):
            assert killed(halcyon, 10_000, *ONWARDS) == 0
        assert whole(ground) == promised
        assert effects(halcyon) == made + 11
        assert back(ground).is_as_before
        assert whole(ground) == before
        code = 5 if code == 5 else -signal.SIGKILL if at < 1 else code
    assert at > 10
    ground.close()
