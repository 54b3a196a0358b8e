"""Whose an item is, and what was said of it: claims of packages of one name from two sources, and decisions that are read
again, of items that go by other keys now."""

from __future__ import annotations

from dataclasses import replace

from amphora.core.form.bindings import Bindings, IdStyle
from amphora.core.plan.arrivals import Arrival, arranged, joined, moved_folders
from amphora.core.plan.claims import Claims
from amphora.core.plan.decisions import LEAVE, Decisions, ItemDecision
from amphora.core.plan.docket import Custody, IfItFails
from amphora.core.values.model import Claim, Contents, Item, States

ROWS = [
    Claim("a", "mill", "one", "1.0.0"), Claim("b", "mill", "one", "1.2.0", "target"), Claim("c", "mill", "two", "2.0.0"),
    Claim("a", "press", "one", "0.9.0", "target"), Claim("d", "press", "one", "0.9.0"), Claim("e", "mill", "one", "1.2.0"),
]  # fmt: skip
CLAIMS = Claims(ROWS)


def packed(version: str, *keys: str) -> Contents:
    items = {key: Item(key, 1, {}, States(key, "", None, None), None, key) for key in keys}
    return Contents("mill", version, "dev", "one", items, (), package_digest="0")


def test_each_question_is_asked_of_the_whole_claim() -> None:
    assert [c.key for c in CLAIMS.of("mill")] == ["a", "b", "c", "e"]
    assert [c.key for c in CLAIMS.of("mill", "one")] == ["a", "b", "e"]
    assert CLAIMS.others("a", "mill", "one") == [ROWS[3]]
    assert CLAIMS.others("a", "mill", "two") == [ROWS[0], ROWS[3]]
    assert CLAIMS.others("d", "press", "one") == []
    assert CLAIMS.shared(["a", "b", "c"], "mill", "one") == {"a": ("press 0.9.0",), "c": ("mill 2.0.0",)}
    assert (CLAIMS.alone("mill", "one"), CLAIMS.alone("mill"), CLAIMS.alone("press")) == (
        ["b", "e"],
        ["b", "c", "e"],
        ["d"],
    )
    assert CLAIMS.claimed(["a", "d", "x"]) == {"a", "d"}
    by_press, by_one = ("press", "one"), ("mill", "one")
    assert CLAIMS.keepers({"a": by_press, "b": by_press, "c": by_one, "x": by_one}) == {
        "a": {by_press},
        "b": {by_one},
        "c": {("mill", "two")},
        "x": set(),
    }
    assert CLAIMS.keepers({"a": ("wine", "one")}) == {"a": {by_one, by_press}}
    assert CLAIMS.handed_over(["a", "b", "c", "x"]) == {"b"}
    assert [CLAIMS.custody(*one) for one in (("mill", "one"), ("mill", "two"), ("none", "one"))] == [
        None,
        "package",
        None,
    ]


def test_what_is_dropped_is_its_own_and_in_its_hands_and_not_on_the_way_back() -> None:
    # `a` is press's too, `b` was handed over, `c` is that of another source.
    assert CLAIMS.dropped(packed("1.3.0", "x")) == ["e"]
    assert CLAIMS.dropped(packed("1.3.0", "e")) == []
    assert CLAIMS.dropped(packed("1.2.0", "x")) == ["e"]
    assert CLAIMS.dropped(packed("1.1.9", "x")) == []
    assert CLAIMS.not_held(packed("1.1.9", "x")) == ["e"]


def test_the_longest_address_comes_first_whatever_it_is_called() -> None:
    names = Bindings(IdStyle("(?!)"))
    for key, url in (("url:a-rather-long-name", "https://x"), ("url:b", "https://x/apps"), ("url:c", "")):
        names.bind(key, url)
    assert list(names.url_tokens().items()) == [
        ("https://x/apps", "amphora:url:b"),
        ("https://x", "amphora:url:a-rather-long-name"),
    ]


SAID = Decisions(
    items={"flow:a": ItemDecision("package", {"/limit": {"value": 4}}), "flow:b": ItemDecision(LEAVE)},
    fates={"flow:old": "retire"},
    custody=Custody.TARGET,
    without=("attachments",),
    records=True,
    if_it_fails=IfItFails.KEEP,
    arrivals={"flow:a": Arrival("Other", "mill")},
    ids="new",
    pause_after={"flow:a": "the laboratory"},
    bring=("flow:c",),
    same=("flow:a", "flow:b"),
)


def test_what_was_said_is_kept_whole() -> None:
    assert Decisions.from_json(SAID.to_json()) == SAID


def test_what_was_said_of_an_item_is_said_of_it_under_another_key() -> None:
    there, back = {"flow:a": "flow:x", "flow:c": "flow:z"}, {"flow:x": "flow:a", "flow:z": "flow:c"}
    moved = SAID.under(there)
    assert moved == replace(
        SAID,
        items={"flow:x": SAID.items["flow:a"], "flow:b": SAID.items["flow:b"]},
        arrivals={"flow:x": Arrival("Other", "mill")},
        pause_after={"flow:x": "the laboratory"},
        bring=("flow:z",),
        same=("flow:x", "flow:b"),
    )
    assert moved.under(back) == SAID


def test_folders_are_moved_with_all_below_them() -> None:
    folders = ("mill", "mill/quality", "millers", "")
    items = {f"flow:{n}": Item(f"flow:{n}", 1, {}, States(f"F{n}", folder)) for n, folder in enumerate(folders)}
    contents = Contents("p", "1.0.0", "dev", "d", items, ())

    def moved(*moves: tuple[str, str]) -> list[str]:
        arrivals = moved_folders(contents, moves)
        return [item.states.folder for item in arranged(contents, arrivals).items.values()]

    assert moved(("mill", "north/mill")) == ["north/mill", "north/mill/quality", "millers", ""]
    assert moved(("mill/quality", "q"), ("mill", "m")) == ["m", "q", "millers", ""]
    assert moved(("", "north")) == ["north/mill", "north/mill/quality", "north/millers", "north"]
    assert arranged(contents, {}) is contents
    assert joined({"a": Arrival("x", "f")}, {"a": Arrival(title="")}) == {"a": Arrival(None, "f")}
    assert joined({"a": Arrival("x")}, {"a": Arrival(title="")}) == {}
    assert joined({"a": Arrival("x")}, {}) == {"a": Arrival("x")}
