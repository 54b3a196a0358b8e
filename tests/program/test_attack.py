"""The hostile corpus, case by case."""

from __future__ import annotations

from pathlib import Path

import pytest
from attack import Case
from attack.__main__ import every

CASES = list(every())
# Those of one class that share a workspace stay in one process: what they look at is made once.
SHARED = ("texts shown", "texts at a terminal", "secrets planted")


@pytest.mark.parametrize(
    "case",
    [
        pytest.param(case, marks=pytest.mark.xdist_group(case.kind if case.kind in SHARED else f"{n % 8}"))
        for n, case in enumerate(CASES)
    ],
    ids=lambda case: f"{case.kind}: {case.name}".encode("unicode_escape").decode()[:90],
)
def test_it_is_refused_or_does_nothing(case: Case, tmp_path: Path) -> None:
    assert case.attack(tmp_path) == ""


def test_the_corpus_is_as_large_as_it_is_said_to_be() -> None:
    assert sum(case.kind == "secrets planted" for case in CASES) >= 100
    assert len(CASES) > 700
