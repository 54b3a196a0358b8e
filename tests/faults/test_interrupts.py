"""Signals at the boundaries of steps: the step under way is finished, and then all is put back or kept, as was said."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from amphora.core.values.errors import AmphoraError
from amphora.engine.docket import prepare
from amphora.engine.imports import import_prepared
from amphora.files.package import read_package
from tests.conftest import Done
from tests.faults.test_faults import back, whole
from tests.faults.test_kills import practice
from tests.faults.trouble import failing, refused
from tests.loaded import called

IMPORT = ("import", "ring", "grove-live", "--yes", "--with", "records")


def interrupted(folder: Path, at: int, name: str, *words: str) -> Done:
    """A command that gets a signal at its nth moment."""
    return Done(*called(folder, list(words), os.environ | {"KILL_WITH": name}, at))


def test_an_import_that_is_interrupted_between_two_steps_is_put_back(halcyon: Path) -> None:
    ground = practice(halcyon)
    before, at, told = whole(ground), 2, 130
    while told == 130:
        at += 5
        done = interrupted(halcyon, at, "SIGINT", *IMPORT)
        told = done.code
        if told == 130:
            assert "It was interrupted. grove-live is as it was before." in done.err
            assert whole(ground) == before
    # Too late to stop: then it is done, and nobody is told anything else.
    assert (told, at > 14) == (0, True), done.err
    assert back(ground).is_as_before
    ground.close()


def test_who_insists_while_being_asked_leaves_it_to_be_undone(halcyon: Path) -> None:
    ground = practice(halcyon)
    before, session = whole(ground), ground.session()
    failing(session, ground.target, 2, refused)

    def insisting(error: AmphoraError) -> bool:
        raise KeyboardInterrupt

    prepared = prepare(session, read_package(halcyon / "packages" / "ring-1.0.0.amphora"), ground.target)
    with pytest.raises(KeyboardInterrupt):
        import_prepared(session, prepared, keeper=insisting)
    assert [(run.state, run.note) for run in session.ledger.journal.runs()] == [("broken off", "no more today")]
    assert back(ground).is_as_before
    assert whole(ground) == before
    ground.close()


@pytest.mark.parametrize("name", ["SIGTERM", "SIGHUP"])
def test_what_was_kept_at_a_signal_goes_on_later(halcyon: Path, name: str) -> None:
    ground = practice(halcyon)
    before = whole(ground)
    done = interrupted(halcyon, 9, name, *IMPORT, "--if-it-fails", "keep")
    assert (done.code, "what it did is kept: It was interrupted." in done.err) == (6, True), done.err
    half = whole(ground)
    assert half != before
    assert Done(*called(halcyon, ["resume"], dict(os.environ))).code == 0
    assert whole(ground) != half
    assert Done(*called(halcyon, ["verify", "last"], dict(os.environ))).code == 0
    assert back(ground).is_as_before
    assert whole(ground) == before
    ground.close()
