"""What an expected error has to say, held for every place that raises one."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from pathlib import Path
from types import SimpleNamespace
from typing import Any, cast

import pytest

from amphora.core.plan.reasons import Reason, Why
from amphora.core.values import errors
from amphora.core.values.errors import AmphoraError, NotReady, PackageDamaged
from amphora.core.values.next_step import to_type
from amphora.engine.gate import refuse

SOURCES = Path(errors.__file__).parents[2]
OURS = {name for name, value in vars(errors).items() if isinstance(value, type) and issubclass(value, AmphoraError)}
TOLD_ELSEWHERE = {"EnvironmentRefused", "RevisionMoved", "Unavailable", "Stopped", "Interrupted", "FaultInRun"}
"""What a run turns into words of its own, with a next step of its own."""
ABOUT_NO_ITEM = 21
"""So many errors of core and engine are about what was typed, and name it in the sentence only."""


def raised() -> Iterator[tuple[str, set[str]]]:
    """Where core and engine raise an expected error, with what it is given beside its sentence."""
    for path in sorted((*(SOURCES / "core").rglob("*.py"), *(SOURCES / "engine").rglob("*.py"))):
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            call = node.exc if isinstance(node, ast.Raise) else None
            if not isinstance(node, ast.Raise) or not isinstance(call, ast.Call):
                continue
            if isinstance(call.func, ast.Name) and call.func.id in OURS - TOLD_ELSEWHERE:
                yield f"{path.relative_to(SOURCES)}:{node.lineno}", {str(word.arg) for word in call.keywords}


def test_every_expected_error_says_what_to_do_next() -> None:
    assert [where for where, given in raised() if "next_step" not in given] == []


def test_hardly_any_leaves_out_what_it_is_about() -> None:
    assert len([where for where, given in raised() if "subject" not in given]) == ABOUT_NO_ITEM


@pytest.mark.parametrize(("why", "kind"), [(Why.NEED, NotReady), (Why.POLICY, PackageDamaged)])
@pytest.mark.parametrize("has_actions", [True, False])
def test_a_closed_gate_tells_all_that_is_in_the_way(why: Why, kind: type[AmphoraError], has_actions: bool) -> None:
    docket = cast(Any, SimpleNamespace(title="p 1", package="p", target="live", actions=[1] if has_actions else []))
    first = Reason(why, "First.", ("one",), to_type("map", "p", "live"), "flow:a")
    with pytest.raises(kind) as caught:
        refuse(docket, [first, Reason(Why.TAKEN, "Second.", ("two",))])
    assert caught.value.details == ("one", "Also: Second.", "  two")
    assert str(caught.value.next_step) == "amphora map p live"
    if kind is NotReady:
        assert caught.value.subject == "flow:a"
        assert caught.value.message.startswith(
            "p 1 can't go to live" if has_actions else "p can't be withdrawn from live"
        )
    refuse(docket, [])
