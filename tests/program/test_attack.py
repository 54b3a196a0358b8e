"""The hostile corpus, case by case; what takes long and differs little from others is left to `make attack`."""

from __future__ import annotations

from pathlib import Path

import pytest
from attack import Case
from attack.__main__ import every

EVERY = list(every())
# Those of one class that share a workspace stay in one process: what they look at is made once.
SHARED = ("texts shown", "texts at a terminal", "secrets planted")
SLOW = ("drip", "for ever", "too much", "a bomb")


def is_quick(case: Case) -> bool:
    """Whether a case is tried with every run of the tests: of slow servers one path is enough, of edited targets one
    way."""
    if case.kind == "servers" and not case.name.startswith("/flows:"):
        return not any(word in case.name for word in SLOW)
    return not case.name.endswith("target edited")


@pytest.mark.parametrize(
    "case",
    [
        pytest.param(case, marks=pytest.mark.xdist_group(case.kind if case.kind in SHARED else f"{n % 8}"))
        for n, case in enumerate(EVERY)
        if is_quick(case)
    ],
    ids=lambda case: f"{case.kind}: {case.name}".encode("unicode_escape").decode()[:90],
)
def test_it_is_refused_or_does_nothing(case: Case, tmp_path: Path) -> None:
    assert case.attack(tmp_path) == ""


def test_the_corpus_is_as_large_as_it_is_said_to_be() -> None:
    assert sum(case.kind == "secrets planted" for case in EVERY) >= 100
    assert len(EVERY) > 700
