"""What is put back: the table of states, one row a case; and the places that have to be free."""

from __future__ import annotations

from dataclasses import replace
from types import SimpleNamespace
from typing import Any, cast

import pytest
from hypothesis import given
from hypothesis import strategies as st

from amphora.core.form.kinds import parse_sheet
from amphora.core.plan.fates import Evidence, Fate, judged
from amphora.core.plan.places import ASIDE, moves_first, taken
from amphora.core.plan.restoration import decide
from amphora.core.plan.states import ABSENT, Habits, Image, is_same, mark_of
from amphora.core.plan.steps import KINDS, Drawn, LoadRows, Publish, RetireSet, Step, permissions_of
from amphora.core.values.model import States
from amphora.engine.runs.evidence import _theirs

SHEET = parse_sheet(
    'kind = "flow"\n[fields]\nvolatile = ["$.runs"]\nlayout = ["$.x"]\nunordered = ["$.tags"]\nsecret = ["$.keys.*"]\n'
    "[states]\nswitch = true\npublish = true\n"
)
HABITS = Habits(True, False, False, True, {"flow": SHEET})


def image(text: str = "a", **more: object) -> Image:
    made = Image("id", "flow", ("a",), States("A", "", False, True), {"text": text}, None, None, "1", "t", "keeper")
    return replace(made, **more)  # type: ignore[arg-type]


def mark(one: Image | None) -> str:
    return mark_of(one, HABITS.sheets)


WAS, OURS, EARLIER, THEIRS = image("was"), image("ours"), image("earlier"), image("theirs", modified_by="tomas")
EMPTY, FULL = image("was", rows=None), image("was", rows=7)


@pytest.mark.parametrize(
    ("before", "now", "more", "fate", "words"),
    [
        (WAS, WAS, {}, Fate.NOTHING, ""),
        (WAS, OURS, {}, Fate.RESTORE, ""),
        (WAS, EARLIER, {}, Fate.RESTORE, ""),
        (WAS, replace(EARLIER, modified_by="tomas"), {}, Fate.LEFT, "tomas changed it"),
        (WAS, replace(OURS, modified_by="tomas"), {}, Fate.RESTORE, ""),
        (WAS, replace(EARLIER, modified_by=None), {}, Fate.RESTORE, ""),
        (WAS, THEIRS, {}, Fate.LEFT, "tomas changed it meanwhile at t"),
        (WAS, image("stamped"), {"is_surely_ours": True}, Fate.RESTORE, ""),
        (WAS, None, {}, Fate.LEFT, "deleted it"),
        (WAS, None, {"is_retired_by_us": True}, Fate.RESTORE, ""),
        (None, None, {}, Fate.NOTHING, ""),
        (None, OURS, {"is_made_by_us": True}, Fate.RESTORE, ""),
        (None, THEIRS, {"is_made_by_us": True}, Fate.LEFT, "tomas changed it"),
        (None, None, {"doubt": "two of them"}, Fate.LEFT, "two of them"),
        (None, replace(OURS, rows=3), {"is_made_by_us": True}, Fate.LEFT, "it holds 3 rows by now"),
        # An update of ours has seen rows that people entered, and has not made them ours.
        (
            None,
            replace(OURS, rows=4),
            {"is_made_by_us": True, "row_counts": {0, 3}, "ours": {mark(replace(OURS, rows=4))}},
            Fate.LEFT,
            "it holds 4 rows by now",
        ),
        (None, replace(OURS, rows=3), {"is_made_by_us": True, "row_counts": {0, 3}}, Fate.RESTORE, ""),
        (FULL, EMPTY, {}, Fate.NOTHING, ""),
        (FULL, EMPTY, {"is_filled_by_us": True}, Fate.LEFT, "changed it"),
        (EMPTY, FULL, {"is_filled_by_us": True}, Fate.LEFT, "nothing takes 7 loaded rows out"),
        (EMPTY, FULL, {}, Fate.NOTHING, ""),
        (FULL, EMPTY, {"is_filled_by_us": True, "ours": frozenset({mark(EMPTY)})}, Fate.RESTORE, ""),
    ],
)
def test_what_the_target_says(
    before: Image | None, now: Image | None, more: dict[str, object], fate: Fate, words: str
) -> None:
    known = {"ours": frozenset({mark(OURS), mark(EARLIER)}), "last": frozenset({mark(OURS)}), "account": "keeper"}
    verdict = judged(Evidence("flow:a", before, now, **(known | more)), HABITS)  # type: ignore[arg-type]
    assert verdict.fate is fate
    assert words in verdict.reason
    # When it was is said where it is known, and nothing in its place where it is not.
    assert verdict.reason.endswith(" at t") is (verdict.reason.split(" at ")[0].endswith("changed it meanwhile"))
    assert verdict.is_unsettled is bool(more.get("doubt"))


def test_who_changed_it_and_when_as_far_as_it_is_known() -> None:
    for at, words in ((None, "tomas changed it meanwhile"), ("noon", "tomas changed it meanwhile at noon")):
        assert judged(Evidence("flow:a", WAS, replace(THEIRS, modified_at=at)), HABITS).reason == words


def test_what_was_made_and_is_gone_is_worth_a_note() -> None:
    verdict = judged(Evidence("flow:a", None, None, is_made_by_us=True), HABITS)
    assert (verdict.fate, "somebody deleted it" in verdict.note) == (Fate.NOTHING, True)
    filled = Evidence("flow:a", EMPTY, replace(OURS, rows=7), frozenset({mark(replace(OURS, rows=7))}))
    told = judged(replace(filled, is_filled_by_us=True, row_counts=frozenset({7}), account="keeper"), HABITS)
    assert (told.fate, told.note) == (Fate.RESTORE, "7 rows that were loaded, left in 'A'")
    # The first pieces of what a run was loading into what it made are its own; more than that are somebody's.
    pieces = {n: replace(OURS, rows=n) for n in (3, 7, 8)}
    marks = frozenset({mark(OURS), mark(pieces[7])})
    loading = [Evidence("flow:a", None, one, marks, marks, is_made_by_us=True) for one in pieces.values()]
    by_pieces = replace(HABITS, loads_in_pieces=True)
    for habits, fates in ((HABITS, "LEFT RESTORE LEFT"), (by_pieces, "RESTORE RESTORE LEFT")):
        found = [judged(replace(one, rows_in_doubt=7, row_counts=frozenset({0, 7})), habits).fate for one in loading]
        assert found == [Fate[name] for name in fates.split()]
    # Asked about before: another attempt would find nothing else.
    drafted, ours = replace(WAS, live=None, draft={"text": "was"}), frozenset({mark(OURS)})
    begun = Evidence("flow:a", drafted, OURS, ours, account="keeper")
    for habits, fate in ((HABITS, Fate.RESTORE), (replace(HABITS, takes_back=False), Fate.LEFT)):
        for_good = judged(begun, habits)
        assert (for_good.fate, for_good.is_unsettled) == (fate, False)
    quiet = judged(Evidence("flow:a", None, None, is_made_by_us=True, is_retired_by_us=True), HABITS)
    assert quiet.note == ""


@pytest.mark.parametrize(
    ("one", "other", "is_equal"),
    [
        ({"text": "a", "runs": 1, "x": 3}, {"text": "a", "runs": 9}, True),
        ({"tags": ["b", "a"]}, {"tags": ["a", "b"]}, True),
        ({"list": ["b", "a"]}, {"list": ["a", "b"]}, False),
        ({"keys": {}}, {}, True),
        ({"keys": {"k": "amphora:masked"}}, {}, False),
        ({"text": 1}, {"text": True}, False),
    ],
)
def test_only_what_counts_is_in_a_mark(one: object, other: object, is_equal: bool) -> None:
    assert (mark(image(live=one)) == mark(image(live=other))) is is_equal


def test_marks_tell_states_apart_and_nothing_else() -> None:
    here = image()
    for same in (replace(here, native_id="other", revision="9", modified_at="u", modified_by="x", link="l"), here):
        assert mark(same) == mark(here)
    for states in (States("B", "", False, True), States("A", "f", False, True), States("A", "", True, True)):
        assert mark(replace(here, states=states)) != mark(here)
    assert mark(replace(here, draft={"text": "a"})) != mark(here)
    filled = mark(replace(here, rows=2))
    assert is_same(filled, mark(here))
    assert not is_same(filled, mark(here), counts_rows=True)
    assert not is_same(mark(here), ABSENT)
    assert mark(None) == ABSENT


def made(key: str) -> Evidence:
    now = image(native_id=key)
    return Evidence(key, None, now, frozenset({mark(now)}), frozenset({mark(now)}), "keeper", is_made_by_us=True)


def test_what_is_left_keeps_all_that_it_uses_and_so_does_everybody_else() -> None:
    changed = replace(made("flow:changed"), now=THEIRS)
    evidence = [changed, *(made(f"flow:{name}") for name in ("used", "deep", "free", "wanted"))]
    uses = {
        "flow:changed": {"flow:used"},
        "flow:used": {"flow:deep"},
        "flow:deep": {"flow:used"},
        "flow:free": {"flow:deep"},
        "outside:9": {"flow:wanted"},
    }
    found = decide(evidence, uses, {}, {"flow:changed": "Changed", "outside:9": "Old one"}, HABITS)
    assert found.by(Fate.RESTORE) == ["flow:free"]
    assert found.steps == (RetireSet(("flow:free",)),)
    assert "'Changed', which stays, uses it" in found.verdicts["flow:used"].reason
    assert found.verdicts["flow:wanted"].reason == "'Old one' uses it"
    assert len(found.left) == 4
    assert found.is_settled
    refused = decide([made("flow:a")], {}, {}, {}, HABITS, {"flow:a": "refused"})
    assert (refused.steps, refused.is_settled) == ((), False)


def test_what_others_name_by_its_title_keeps_that_and_all_that_it_uses() -> None:
    called = image(states=States("B", "", False, True))
    renamed = Evidence("flow:renamed", WAS, called, frozenset({mark(called)}), frozenset({mark(called)}), "keeper")
    same = Evidence("flow:same", WAS, WAS, frozenset(), frozenset(), "keeper")
    uses = {"flow:renamed": {"flow:new"}, "flow:same": {"flow:renamed"}, "outside:9": {"flow:renamed"}}
    naming = {"flow:same": {"flow:renamed"}, "outside:9": {"flow:renamed"}}
    evidence = [renamed, same, made("flow:new")]
    found = decide(evidence, uses, {}, {"outside:9": "Old one"}, HABITS, naming=naming)
    assert found.verdicts["flow:renamed"].reason == "'Old one' names it by its title"
    assert found.by(Fate.LEFT) == ["flow:renamed", "flow:new"]
    # Nothing is written only to be written: the title stays, and so does what names it.
    assert found.steps == ()
    both = {"flow:same": {"flow:renamed"}}
    steps = decide(evidence[:2], {}, both, {}, HABITS, naming=both).steps
    written = [(step.do, *step.keys) for step in steps if step.do != "move"]
    assert written == [(do, key) for key in ("flow:renamed", "flow:same") for do in ("update", "publish")]


def test_what_stays_keeps_the_parts_that_it_uses() -> None:
    now = image(native_id="n")
    grown = Evidence("flow:grown", WAS, now, frozenset({mark(now)}), frozenset({mark(now)}), "keeper")
    changed, same = replace(made("flow:changed"), now=THEIRS), Evidence("flow:same", WAS, WAS)
    for user, stays in (("flow:changed", True), ("outside:9", True), ("flow:same", False), ("flow:grown", False)):
        found = decide([grown, changed, same], {}, {}, {}, HABITS, parted={user: {"flow:grown"}})
        assert (found.verdicts["flow:grown"].fate is Fate.LEFT) is stays, user
        assert not stays or "uses a part of it that was not there before" in found.verdicts["flow:grown"].reason


@pytest.mark.parametrize(
    ("before", "now", "steps"),
    [
        (image("was"), image("now"), ["update live", "publish"]),
        (image("was", draft={"d": 1}), image("now"), ["update live", "publish", "update draft"]),
        (image("was", draft={"d": 1}), image("was"), ["update draft"]),
        (image("was"), image("was", draft={"d": 1}), ["update live", "publish"]),
        (image(live=None, draft={"d": 1}, states=States("A", "", False, False)), image("now"), ["take back", "update draft"]),
        (image(live=None, draft={"text": "now"}, states=States("A", "", False, False)), image("now"), ["take back"]),
        (image("was"), image("was", states=States("B", "f", False, True)), ["update live", "publish"]),
        (image("was"), image("was", states=States("A", "", True, True)), ["switch"]),
        (image("was", states=States("A", "", True, True)), image("was"), ["switch"]),
    ],
)  # fmt: skip
def test_an_item_is_given_back_what_differs(before: Image, now: Image, steps: list[str]) -> None:
    one = Evidence("flow:a", before, now, frozenset({mark(now)}), frozenset({mark(now)}), "keeper")
    found = decide([one], {}, {}, {}, HABITS)
    told = [f"{step.do} {getattr(step, 'version', '')}".strip() for step in found.steps]
    assert told == steps
    state: Image | None = now
    for step in found.steps:
        definition = before.draft if getattr(step, "version", "") == "draft" else before.live
        drawn = Drawn("flow", ("a",), before.states, definition, definition)
        state = step.meant("flow:a", state, drawn, HABITS)
    assert mark(state) == mark(before)


@pytest.mark.parametrize(
    ("rows", "held", "loaded"), [(7, None, [7]), (7, 0, [7]), (None, None, []), (0, 0, []), (7, 3, [])]
)
def test_rows_go_back_into_what_was_emptied_only(rows: int | None, held: int | None, loaded: list[int]) -> None:
    before, now = image("was", rows=rows), image("ours", rows=held)
    ours = frozenset({mark(now)})
    filled = Evidence("flow:a", before, now, ours, ours, is_filled_by_us=True, row_counts=frozenset({held or 0}))
    steps = decide([filled], {}, {}, {}, HABITS).steps
    assert [step.count for step in steps if isinstance(step, LoadRows)] == loaded


def test_a_circle_of_retired_items_is_made_again_bare() -> None:
    gone = [Evidence(k, image(), None, is_retired_by_us=True) for k in ("flow:a", "flow:b", "flow:c")]
    used = {"flow:a": {"flow:b"}, "flow:b": {"flow:a"}, "flow:c": {"flow:c"}}
    steps = decide(gone, {}, used, {}, HABITS).steps
    assert [(step.do, *step.keys) for step in steps] == [
        ("create bare", "flow:a"),
        ("create bare", "flow:b"),
        ("complete", "flow:a"),
        ("complete", "flow:b"),
        ("create bare", "flow:c"),
        ("complete", "flow:c"),
        ("publish", "flow:a"),
        ("publish", "flow:b"),
        ("publish", "flow:c"),
    ]


def test_where_one_call_writes_all_it_writes_what_differs_and_nothing_else() -> None:
    habits, ours = replace(HABITS, has_drafts=False, writes_states=True, is_atomic=True), frozenset({mark(OURS)})
    changed = Evidence("flow:a", WAS, OURS, ours, ours, "keeper")
    same, gone = Evidence("flow:b", WAS, WAS), Evidence("flow:c", WAS, None, is_retired_by_us=True)
    steps = decide([changed, same, gone], {}, {"flow:c": {"flow:a"}}, {}, habits).steps
    assert [(step.do, *step.keys) for step in steps] == [("write all", "flow:a", "flow:c")]
    made = Evidence("flow:d", None, OURS, ours, ours, "keeper", is_made_by_us=True)
    assert [step.do for step in decide([made, same], {}, {}, {}, habits).steps] == ["retire"]


def test_what_gives_access_is_given_back_by_granting() -> None:
    habits = replace(HABITS, sheets={"flow": replace(SHEET, access=("app",), is_published=False)})
    ours = frozenset({mark_of(OURS, habits.sheets)})
    changed = Evidence("flow:a", WAS, OURS, ours, ours, "keeper")
    gone = Evidence("flow:b", WAS, None, is_retired_by_us=True)
    steps = decide([changed, gone], {}, {}, {}, replace(habits, has_drafts=False)).steps
    assert [(step.do, *step.keys) for step in steps if step.do != "publish"][:2] == [
        ("grant", "flow:b"),
        ("grant", "flow:a"),
    ]
    assert permissions_of(steps, habits.sheets)["grant"] == ["flow:b", "flow:a"]


def test_every_kind_of_step_says_what_it_takes() -> None:
    assert len({kind.do for kind in KINDS}) == len(KINDS)
    assert {kind.permission for kind in KINDS} == {"write", "grant", "publish", "switch", "retire"}
    steps: list[Step] = [Publish(("flow:a",)), RetireSet(("flow:b", "flow:c")), Publish(("flow:d",))]
    assert permissions_of(steps, HABITS.sheets) == {"publish": ["flow:a", "flow:d"], "retire": ["flow:b", "flow:c"]}
    never = replace(HABITS, takes_back=False)
    drafted = image(live=None, states=States("A", "", False, False))
    assert Publish(("flow:a",)).is_reversible(drafted, HABITS)
    assert not Publish(("flow:a",)).is_reversible(drafted, never)
    assert Publish(("flow:a",)).is_reversible(image(), never)
    assert Publish(("flow:a",)).is_reversible(None, never)


def place(folder: str, name: str = "n") -> tuple[str, str, str]:
    return "flow", folder, name


@pytest.mark.parametrize(
    ("held", "wanted", "leaving", "moves"),
    [
        ({"a": "x"}, {"a": "y"}, (), []),
        ({"a": "x", "b": "y"}, {"a": "y", "b": "x"}, (), [("b", f"{ASIDE}/1"), ("a", "y")]),
        ({"a": "x", "b": "y"}, {"a": "y", "b": "z"}, (), [("b", "z")]),
        ({"a": "x"}, {"a": "z", "new": "x"}, (), [("a", "z")]),
        ({"a": "x"}, {"new": "x"}, ("a",), [("a", f"{ASIDE}/1")]),
        ({"a": "x"}, {"new": "x"}, (), []),
    ],
)
def test_places_are_freed_first(
    held: dict[str, str], wanted: dict[str, str], leaving: tuple[str, ...], moves: list[tuple[str, str]]
) -> None:
    here, there = ({k: place(f) for k, f in table.items()} for table in (held, wanted))
    found = [(move.key, move.folder) for move in moves_first(here, there, leaving)]
    assert sorted(found)[-1:] == sorted(moves)[-1:] if len(moves) == 2 else found == moves
    assert bool(taken(here, there, leaving)) is (wanted == {"new": "x"} and not leaving)


@given(st.permutations("abcdef"), st.permutations("abcdef"), st.sets(st.sampled_from("abcdef")))
def test_after_the_moves_every_wanted_place_is_free(now: list[str], then: list[str], leaving: set[str]) -> None:
    keys = "uvwxyz"
    held = {key: place(folder) for key, folder in zip(keys, now, strict=True)}
    going = {keys[now.index(folder)] for folder in leaving}
    wanted = {key: place(folder) for key, folder in zip(keys, then, strict=True) if key not in going}
    at = dict(held)
    for move in moves_first(held, wanted, going):
        to = place(move.folder)
        assert to not in at.values()
        at[move.key] = to
    for key, to in wanted.items():
        assert [other for other, there in at.items() if there == to and other != key] == []


@pytest.mark.parametrize(("now", "fate"), [(OURS, Fate.NOTHING), (None, Fate.RESTORE)])
def test_who_uses_what_is_put_back_is_written_only_where_that_gets_another_id(now: Image | None, fate: Fate) -> None:
    ours = frozenset({mark(now)})
    used = Evidence("flow:a", WAS, now, ours, ours, is_retired_by_us=now is None)
    user = Evidence("flow:b", WAS, WAS)
    found = decide([used, user], {}, {"flow:b": {"flow:a"}}, {}, HABITS)
    assert (found.verdicts["flow:a"].fate, found.verdicts["flow:b"].fate) == (Fate.RESTORE, fate)
    assert ({"flow:b"} <= {key for step in found.steps for key in step.keys}) is (fate is Fate.RESTORE)


@pytest.mark.parametrize(
    ("steps", "own", "theirs"),
    [
        # Run, kind, what the step found, what it left.
        ([(1, "import", "0", "x"), (2, "import", "x", "y"), (3, "undo", "y", "x")], 0, set()),
        ([(1, "import", "0", "x"), (2, "import", "e", "y"), (3, "undo", "y", "e")], 0, {"e", "y"}),
        ([(1, "import", "0", "x"), (1, "import", "e", "y"), (1, "import", "y", "z")], 1, {"e", "y", "z"}),
        ([(1, "import", "0", "x"), (1, "import", "e", "x")], 1, {"e"}),
        # What came of a step without an answer was found by whoever went on.
        ([(1, "import", "0", "?f"), (1, "import", "f", "y"), (2, "import", "y", "z")], 1, set()),
        ([(1, "import", "0", "?f"), (2, "import", "f", "y"), (3, "undo", "y", "f")], 0, set()),
        ([(1, "import", "0", "?"), (1, "import", "e", "y")], 1, {"e", "y"}),
        # What one run finds half-way is its own.
        ([(1, "import", "0", "x"), (1, "import", "h", "y")], 0, set()),
        ([(1, "import", "0", "x"), (2, "undo", "h", "0")], 0, set()),
    ],
)
def test_states_that_somebody_made_between_ours_are_theirs(
    steps: list[tuple[int, str, str, str]], own: int, theirs: set[str]
) -> None:
    mine: Any = [
        (SimpleNamespace(id=run, kind=kind), SimpleNamespace(
            intent={"before": {"a": b}, "meant": {"a": m}}, outcome={"found": {"a": m[1:]}},
        ))
        for run, kind, b, m in steps
    ]  # fmt: skip
    assert _theirs("a", "0", mine, cast(Any, SimpleNamespace(id=1)), own) == theirs
