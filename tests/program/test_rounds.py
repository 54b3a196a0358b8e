"""One import into many targets: all pass the gate before any is touched; what is done stays, what failed is put back,
what has not begun waits."""

from __future__ import annotations

from types import SimpleNamespace
from typing import Any, cast

import pytest

from amphora.core.values.errors import UsageFault
from amphora.engine import rounds
from amphora.engine.rounds import rounds_of


def test_rounds() -> None:
    assert rounds_of(["a", "b", "c"], "") == rounds_of(["a", "b", "c"], "all") == [["a", "b", "c"]]
    assert rounds_of(["a", "b", "c"], "one-then-rest") == [["a"], ["b", "c"]]
    assert rounds_of(["a"], "one-then-rest") == [["a"]]
    assert rounds_of(["a", "b", "c"], "2") == [["a", "b"], ["c"]]
    for wrong in ("0", "-1", "two", "1.5"):
        with pytest.raises(UsageFault, match="--rounds is"):
            rounds_of(["a"], wrong)


PAUSING = """connections:
  lab-exchange-dev: {made_from: integration:lab/lab-exchange, grove-test: lab-exchange-test}
  mill-db-dev: {grove-live: mill-main, grove-test: mill-db-test}
  office-db-dev: {grove-live: office-main, grove-test: office-db-test}
settings:
  lab-exchange-every_minutes: {any: 5}
  lab-result-intake-batch: {any: 20}
"""


@pytest.mark.parametrize(("goes_on", "begun"), [(False, ["a", "b"]), (True, ["a", "b", "c", "d"])])
def test_what_no_thread_has_taken_up_is_not_begun_once_one_is_bad(
    monkeypatch: pytest.MonkeyPatch, goes_on: bool, begun: list[str]
) -> None:
    tried: list[str] = []

    def apart(session: Any, part: Any, campaign: str) -> Any:
        tried.append(part.target)
        return SimpleNamespace(is_bad=part.target == "b", state="done")

    monkeypatch.setattr(rounds, "_apart", apart)
    monkeypatch.setattr(rounds, "MOST_AT_ONCE", 1)
    parts: Any = [SimpleNamespace(target=name, prepared=SimpleNamespace(docket=name)) for name in "abcd"]
    came = rounds._side_by_side(cast(Any, None), parts, "", goes_on)
    assert tried == begun
    assert [cast(Any, one).docket for one in came[len(begun) :]] == list("abcd")[len(begun) :]
