"""Values of settings as people type them, and what makes bulk work quicker without changing it."""

from __future__ import annotations

import gc
from typing import Any

import pytest

from amphora.core.form.settings import NUMBER, TEXT, YES_NO, parse_setting, type_of
from amphora.core.values.pace import uncollected

TYPED: list[tuple[str, str, Any]] = [
    ("3", NUMBER, 3),
    ("3.0", NUMBER, 3.0),
    ("1e3", NUMBER, 1000.0),
    ("-2.5", NUMBER, -2.5),
    ("YES", YES_NO, True),
    ("false", YES_NO, False),
    ("no", YES_NO, False),
    ("3", TEXT, "3"),
    ("low", "low|high", "low"),
]


@pytest.mark.parametrize(("text", "type_", "value"), TYPED)
def test_what_is_typed_gets_the_type_of_the_setting(text: str, type_: str, value: Any) -> None:
    found = parse_setting(text, type_)
    assert (found, type(found)) == (value, type(value))


@pytest.mark.parametrize(
    ("text", "type_"), [("often", NUMBER), ("perhaps", YES_NO), ("middle", "low|high"), ("", "low|high")]
)
def test_what_has_another_type_is_refused(text: str, type_: str) -> None:
    with pytest.raises(ValueError, match=text or "is not"):
        parse_setting(text, type_)


@pytest.mark.parametrize(
    ("values", "type_"),
    [([1, 2.5], NUMBER), ([True, "?x"], YES_NO), ([1, "a"], TEXT), ([True, 1], TEXT), (["?1"], TEXT), ([], TEXT)],
)
def test_the_type_of_a_row(values: list[Any], type_: str) -> None:
    assert type_of(values) == type_


def test_nothing_is_collected_in_between_and_then_as_before() -> None:
    assert gc.isenabled()
    with uncollected():
        assert not gc.isenabled()
        with uncollected():
            pass
        assert not gc.isenabled()
    assert gc.isenabled()
