"""Which item is meant, and which item is the same."""

from __future__ import annotations

import pytest

from amphora.core.needs.matches import Link, assign_keys, match
from amphora.core.needs.selection import choose
from amphora.core.values.errors import UsageFault
from amphora.core.values.model import Item, Listed, States
from amphora.core.values.near import near


def row(native_id: str, kind: str, *segments: str, title: str = "") -> Listed:
    link = f"https://dev.halcyon.example/open/{native_id}"
    return Listed(native_id, kind, segments, States(title or segments[-1]), "1", link)


ROWS = {
    "flow:mill/alert": row("fl-1", "flow", "mill", "alert", title="Acidity alert"),
    "flow:lab/alert": row("fl-2", "flow", "lab", "alert", title="Lab alert"),
    "app:Press%20board": row("ap-1", "app", "Press board", title="Press Board"),
}


@pytest.mark.parametrize(
    ("name", "known", "found"),
    [
        ("grove-tset", "grove-live grove-test", ["grove-test"]),
        # What all of them begin with makes none of them like another.
        ("grove-live", "grove-test grove-dev", []),
        ("growe-live", "north-live grove-live", ["grove-live"]),
        ("mill-2.0.0", "mill-1.0.0 lab-2.0.0", ["mill-1.0.0"]),
        ("WEIGH", "sight weight oil", ["weight"]),
    ],
)
def test_a_near_miss_is_told_by_what_sets_names_apart(name: str, known: str, found: list[str]) -> None:
    assert near(name, known.split()) == found


@pytest.mark.parametrize(
    ("name", "keys"),
    [
        ("flow:mill/alert", ["flow:mill/alert"]),
        ("acidity ALERT", ["flow:mill/alert"]),
        ("fl-2", ["flow:lab/alert"]),
        ("https://dev.halcyon.example/open/fl-2/", ["flow:lab/alert"]),
        ("https://elsewhere.example/x?id=fl-1&y=2", ["flow:mill/alert"]),
        ("flow:*", ["flow:lab/alert", "flow:mill/alert"]),
        ("*alert", ["flow:lab/alert", "flow:mill/alert"]),
        ("mill/alert", ["flow:mill/alert"]),
        ("app:Press board", ["app:Press%20board"]),
        ("press board", ["app:Press%20board"]),
    ],
)
def test_items_are_named_in_every_way(name: str, keys: list[str]) -> None:
    assert choose([name], ROWS, "here") == keys


@pytest.mark.parametrize(
    ("name", "words"), [("alert", "can mean 2"), ("Acidty alert", "no item"), ("x:*", "no item")]
)
def test_names_that_mean_none_or_several(name: str, words: str) -> None:
    with pytest.raises(UsageFault, match=words) as caught:
        choose([name], ROWS, "here")
    assert name == "x:*" or caught.value.details


def test_keys_are_kept_doubled_names_numbered_and_gone_ones_free() -> None:
    listed = [row("1", "flow", "a"), row("2", "flow", "a"), row("3", "flow", "new name")]
    links = [Link("flow:old", "here", "3"), Link("flow:a", "here", "gone"), Link("flow:x", "there", "1")]
    assert assign_keys(listed, links, "here") == {"1": "flow:a", "2": "flow:a~2", "3": "flow:old"}


def items(*pairs: tuple[str, str]) -> list[Item]:
    return [Item(key, 1, {}, States(key), None, native_id) for key, native_id in pairs]


def test_matching_goes_by_link_then_crosswalk_then_key() -> None:
    listed = [row("t1", "flow", "renamed there"), row("t2", "flow", "other"), row("t3", "flow", "c")]
    links = [Link("flow:a", "target", "t1")]
    packed = items(("flow:a", "s1"), ("flow:b", "s2"), ("flow:c", "s3"), ("flow:d", "s4"))
    found = match(packed, "source", listed, links, "target", {"flow:b": "flow:other"})
    assert {key: listed.native_id for key, listed in found.by_key.items()} == {
        "flow:a": "t1",
        "flow:b": "t2",
        "flow:c": "t3",
    }


def test_one_item_is_never_the_same_as_two() -> None:
    listed = [row("t1", "flow", "a"), row("t2", "flow", "b")]
    # Two keys were linked to one id, in whatever way that came about: the first one has it.
    links = [Link("flow:x", "target", "t1"), Link("flow:y", "target", "t1")]
    found = match(items(("flow:x", "s1"), ("flow:y", "s2")), "source", listed, links, "target", {})
    assert [(key, there.native_id) for key, there in found.by_key.items() if there.native_id == "t1"] == [
        ("flow:x", "t1")
    ]
    # Two rows of the crosswalk lead to one item.
    both = {"flow:x": "flow:a", "flow:y": "flow:a"}
    found = match(items(("flow:x", "s1"), ("flow:y", "s2")), "source", listed, [], "target", both)
    assert sorted(found.by_key) in (["flow:b", "flow:x"], ["flow:x"])
    assert len({there.native_id for there in found.by_key.values()}) == len(found.by_key)


def test_an_equal_id_under_another_key_is_doubtful_and_home_is_known_by_id() -> None:
    listed = [row("s1", "flow", "somebody else's")]
    away = match(items(("flow:a", "s1")), "source", listed, [], "target", {})
    assert "flow:a" not in away.by_key
    assert [key for key, _ in away.doubtful] == ["flow:a"]
    home = match(items(("flow:a", "s1")), "source", listed, [], "source", {})
    assert home.by_key["flow:a"].native_id == "s1"


def test_no_two_items_there_get_one_key() -> None:
    listed = [row("t1", "flow", "a"), row("t2", "flow", "a"), row("t3", "flow", "other")]
    found = match(items(("flow:a", "s1")), "source", listed, [Link("flow:a", "target", "t3")], "target", {})
    assert found.keys["t3"] == "flow:a"
    assert len(set(found.keys.values())) == 3, found.keys
