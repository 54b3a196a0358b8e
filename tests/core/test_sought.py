"""Which of many ids a text holds: the same as searching for each, however it is looked for."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from amphora.core.values.sought import Sought

WORDS = st.text("ab1", min_size=1, max_size=4)


@given(st.lists(WORDS, max_size=40), st.lists(WORDS, max_size=5), st.text("ab1 ", max_size=60))
def test_what_is_sought_is_found_and_nothing_else(words: list[str], dropped: list[str], text: str) -> None:
    sought = Sought()
    for word in words:
        sought.add(word, f"<{word}>")
    for word in dropped:
        sought.discard(word)
    left = set(words) - set(dropped)
    assert sought.inside(text) == {f"<{word}>" for word in left if word in text}


def test_of_two_meanings_the_later_counts_and_none_is_dropped_twice() -> None:
    sought = Sought()
    for meaning in ("one", "two"):
        sought.add("a", meaning)
    assert sought.inside("bab") == {"two"}
    sought.discard("a")
    sought.discard("a")
    sought.add("b", "b")
    assert (sought.inside("a"), sought.inside("ab")) == (set(), {"b"})
