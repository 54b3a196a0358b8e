"""Next steps: what is shown can be pasted, and says the same words to whoever reads it."""

from __future__ import annotations

import shlex

import pytest
from hypothesis import given
from hypothesis import strategies as st

from amphora.core.values.next_step import NOTHING, NextStep, advice, blank, open_value, other_program, to_type

SHOWN = [
    (to_type("compare", "olive-intake", "grove-live"), "amphora compare olive-intake grove-live", True),
    (to_type("export", "grove-dev", "Weigh ticket"), 'amphora export grove-dev "Weigh ticket"', True),
    (to_type("peek", "mill's own"), 'amphora peek "mill\'s own"', True),
    (to_type("peek", 'say "no"'), "amphora peek 'say \"no\"'", True),
    (to_type("peek", "$HOME`x`"), "amphora peek '$HOME`x`'", True),
    (to_type("peek", ""), 'amphora peek ""', True),
    (to_type("import", "NAME", blank("ENVIRONMENT")), "amphora import NAME ENVIRONMENT", False),
    (to_type("map", "p").plus("--set", open_value("the db")), 'amphora map p --set "the db"=…', False),
    (to_type("undo", "r-1", "--yes").then(to_type("import", "p")), "amphora undo r-1 --yes && amphora import p", True),
    (advice("Mend it, then", to_type("import", "a b")), 'Mend it, then: amphora import "a b"', True),
    (advice("Mend that line."), "Mend that line.", False),
    (other_program("mkdir", "-p", "a b"), 'mkdir -p "a b"', True),
    (NOTHING, "", False),
]  # fmt: skip


@pytest.mark.parametrize(("step", "line", "is_ready"), SHOWN)
def test_a_next_step_is_shown_as_it_can_be_pasted(step: NextStep, line: str, is_ready: bool) -> None:
    assert (str(step), step.is_ready, bool(step)) == (line, is_ready, line != "")


@given(st.lists(st.text(st.characters(blacklist_characters="\0", blacklist_categories=["Cs"])), max_size=4))
def test_a_shell_reads_back_the_very_words(words: list[str]) -> None:
    assert shlex.split(to_type(*words).line) == ["amphora", *words]
