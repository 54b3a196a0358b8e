"""Canonical bytes against the RFC's own example, an independent implementation, and its refusals."""

from __future__ import annotations

import hashlib
import json
from typing import Any

import jcs
import pytest
from hypothesis import given
from hypothesis import strategies as st

from amphora.core.values.canon import LARGEST_INTEGER, NotCanonical, canonical_bytes, same
from amphora.core.values.model import Item, States
from amphora.core.values.strict_json import JsonFault, parse_json, pretty_bytes

TEXT = st.text(st.characters(exclude_categories=["Cs"]), max_size=12)
NUMBERS = st.integers(-LARGEST_INTEGER, LARGEST_INTEGER) | st.floats(allow_nan=False, allow_infinity=False)
JSON = st.recursive(
    st.none() | st.booleans() | NUMBERS | TEXT,
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(TEXT, inner, max_size=4),
    max_leaves=20,
)

RFC_INPUT = r"""{"numbers": [333333333.33333329, 1E30, 4.50, 2e-3, 0.000000000000000000000000001],
 "string": "\u20ac$\u000F\u000aA'\u0042\u0022\u005c\\\"\/", "literals": [null, true, false]}"""
RFC_OUTPUT = (
    '{"literals":[null,true,false],"numbers":[333333333.3333333,1e+30,4.5,0.002,1e-27],'
    '"string":"€$\\u000f\\nA\'B\\"\\\\\\\\\\"/"}'
)
RFC_SORTED = {"\u20ac": 1, "\r": 2, "\ufb33": 3, "1": 4, "\U0001f600": 5, "\u0080": 6, "\u00f6": 7}


def test_the_examples_of_the_rfc() -> None:
    assert canonical_bytes(json.loads(RFC_INPUT)).decode() == RFC_OUTPUT
    order = [2, 4, 6, 7, 1, 5, 3]
    assert list(json.loads(canonical_bytes(RFC_SORTED)).values()) == order


@given(JSON)
def test_agrees_with_an_independent_implementation(value: Any) -> None:
    assert canonical_bytes(value) == jcs.canonicalize(value)
    item = Item("flow:x", 1, value, States("x"))
    assert item.digest == hashlib.sha256(jcs.canonicalize(value)).hexdigest()


@pytest.mark.parametrize(
    ("value", "place"),
    [({"a": [1, 2**53]}, "/a/1"), ({"x": float("nan")}, "/x"), ({"b": {"c": "\ud800"}}, "/b/c"), ([-(2**60)], "/0")],
)
def test_refuses_what_it_cannot_hold_with_the_place(value: Any, place: str) -> None:
    with pytest.raises(NotCanonical) as caught:
        canonical_bytes(value)
    assert caught.value.place == place


def test_equality_is_that_of_json() -> None:
    assert same({"a": [1, 2.0]}, {"a": [1.0, 2]})
    assert not same([True], [1])
    assert not same({"a": None}, {})


@given(JSON)
def test_the_layout_in_packages_reads_back(value: Any) -> None:
    assert same(parse_json(pretty_bytes(value)), value)


@pytest.mark.parametrize(
    "text", ['{"a":1,"a":2}', "[NaN]", "[1", "\xff", "[" * 5000, '{"a":' * 300 + "1" + "}" * 300]
)
def test_strict_json_refuses(text: str) -> None:
    with pytest.raises(JsonFault):
        parse_json(text.encode("latin-1"))
