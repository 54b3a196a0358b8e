"""Needs in one environment: what is on offer, what is guessed and in which words, of which type a setting is."""

from __future__ import annotations

from dataclasses import replace
from types import SimpleNamespace
from typing import Any, cast

import pytest

from amphora.core.checks import check
from amphora.core.form.bindings import Bindings, IdStyle
from amphora.core.form.kinds import parse_sheet
from amphora.core.form.portable import to_portable
from amphora.core.form.references import quick_references
from amphora.core.form.settings import type_of
from amphora.core.needs.crosswalk import Crosswalk, MapState, resolve, row_name
from amphora.core.plan.gate import _need_words
from amphora.core.plan.states import Image, is_plainly
from amphora.core.values.canon import NotCanonical, canonical_bytes
from amphora.core.values.model import Need, States, Supply
from amphora.core.values.tokens import MASK
from amphora.core.values.words import few
from amphora.engine.docket import _made_by_now
from amphora.engine.resume import _with_offer
from amphora.engine.runs.losses import lacks_secrets_only
from amphora.engine.runs.material import keepable
from amphora.environments.nodered.flowfile import FileItem
from tests.core.test_checks import MAPPED, S, target

NEED = Need("connection:mill", ("flow:a",), "database")
SUPPLIES = [
    Supply("connection", "c1", "mill-north", "database", "ines"),
    Supply("connection", "c2", "weighbridge", "feed", "", False),
    Supply("person", "p1", "mill", "", ""),
]


def test_what_is_on_offer_is_of_the_same_kind() -> None:
    [open_] = resolve([Need("connection:x", ())], Crosswalk(), "live", SUPPLIES, {})
    assert (open_.state, open_.offers) == (MapState.OPEN, ("mill-north", "weighbridge"))
    assert open_.on_offer == ("mill-north (database, of ines)", "weighbridge (feed, doesn't work)")
    [guessed] = resolve([NEED], Crosswalk(), "live", SUPPLIES, {})
    assert (guessed.state, guessed.value, guessed.reason) == (
        MapState.GUESSED,
        "mill-north",
        "the only database there",
    )


def test_people_are_met_by_what_stands_before_the_domain() -> None:
    people = [Supply("person", name, name) for name in ("ada@live.example", "bo@live.example", "bo@old.example")]
    found = resolve([Need(f"person:{who}", ()) for who in ("ada", "bo")], Crosswalk(), "live", people, {})
    assert (found[0].value, found[0].reason) == ("ada@live.example", "same name before the @")
    assert found[1].reason != "same name before the @"


@pytest.mark.parametrize(
    ("new", "state", "reason"),
    [
        ((), MapState.OPEN, "nothing new is there yet"),
        (("feed",), MapState.OPEN, "new there, of another type: n0"),
        (("feed", "database"), MapState.GUESSED, "it is new there since the import began"),
        (("database", "database"), MapState.OPEN, "several new ones are there: n0, n1"),
    ],
)
def test_what_is_new_since_a_pause_is_offered_if_it_is_the_one(
    new: tuple[str, ...], state: MapState, reason: str
) -> None:
    supplies = [*SUPPLIES, *(Supply("connection", f"i{n}", f"n{n}", type_) for n, type_ in enumerate(new))]
    [open_] = resolve([NEED], Crosswalk(), "live", [], {})
    found = _with_offer(open_, supplies, frozenset({"c1", "c2"}))
    assert (found.state, found.reason) == (state, reason)


TWINS = [
    Supply("connection", id_, "mill", type_) for id_, type_ in (("c1", "feed"), ("c2", "database"), ("c3", "feed"))
]


@pytest.mark.parametrize(
    ("cell", "type_", "state", "native", "value", "reason"),
    [
        (None, "database", MapState.GUESSED, None, "c2", "same name"),
        (None, "feed", MapState.OPEN, None, None, "live has 2 of the name 'mill'; by id: c1, c3"),
        ("mill", "database", MapState.OPEN, None, "mill", "live has 3 of the name 'mill'; by id: c1, c2, c3"),
        ("c3", "database", MapState.MAPPED, "c3", "c3", ""),
        ("well", "database", MapState.OPEN, None, "well", "live has no connection 'well'"),
    ],
)
def test_of_several_with_one_name_each_goes_by_its_id(
    cell: Any, type_: str, state: MapState, native: Any, value: Any, reason: str
) -> None:
    crosswalk = Crosswalk({"connections": {"mill": {"live": cell} if cell else {}}})
    [found] = resolve([Need("connection:mill", (), type_)], crosswalk, "live", TWINS, {})
    assert (found.state, found.native, found.value, found.reason) == (state, native, value, reason)
    if found.offers and type_ == "database":
        # What fits comes first, and each is named so that it can be typed.
        assert found.offers == ("c2", "c1", "c3")
        assert found.on_offer[0] == "c2 (named mill, database)"


@pytest.mark.parametrize(
    ("state", "value", "reason", "words"),
    [
        (MapState.GUESSED, "a", "same name", "connection 'mill' is not mapped (perhaps 'a': same name)"),
        (MapState.OPEN, None, "", "connection 'mill' is not mapped"),
        (MapState.OPEN, "b", "live has no connection 'b'", "connection 'mill' is not mapped: live has no connection 'b'"),
    ],
)  # fmt: skip
def test_gate_and_check_say_the_same_of_an_open_need(state: MapState, value: Any, reason: str, words: str) -> None:
    one = replace(MAPPED, state=state, value=value, native=None, reason=reason)
    said = words.replace("'mill'", repr(row_name(one.need.key)))
    assert _need_words(one) == said
    [found] = check(S(there=target(mapped=(one,))).checked())
    assert (found.rule, found.message) == ("need-open", f"{said}.")


def test_a_setting_has_the_type_of_all_its_values() -> None:
    assert [type_of(values) for values in ([1, 2.5], [True, False], [1, "x"], ["x"], [], ["?5"], ["?5", 5])] == [
        "number",
        "yes/no",
        "text",
        "text",
        "text",
        "text",
        "number",
    ]


def test_short_ids_are_references_too() -> None:
    names = Bindings(IdStyle("[a-z0-9]+", ""), {"table:x": "t1", "table:y": "7"})
    assert quick_references({"into": "t1", "n": ["7"]}, names, "flow:a", None) == {"table:x"}


def test_states_are_equal_with_their_rows() -> None:
    def image(rows: int | None) -> Image:
        return Image("i", "table", ("t",), States("T"), {}, None, rows)

    assert is_plainly(image(None), image(0))
    assert is_plainly(image(0), image(None))
    assert not is_plainly(image(1), image(None))
    assert not is_plainly(image(None), image(1))


def test_a_mask_that_nobody_can_fill_is_left_out() -> None:
    sheet = parse_sheet('kind = "flow"\n[fields]\nsecret = ["$.key", "$.doors[*].code"]\n')
    kept = {"key": MASK, "doors": [{"code": MASK, "at": 1}, {"code": "", "at": 2}]}
    assert keepable(kept, kept, sheet) == kept
    assert keepable(kept, {"key": MASK}, sheet) == {"key": MASK, "doors": [{"at": 1}, {"code": "", "at": 2}]}
    assert keepable(kept, None, sheet) == {"doors": [{"at": 1}, {"code": "", "at": 2}]}


@pytest.mark.parametrize(
    ("live", "draft", "is_all"), [(2, 3, True), (4, 3, False), (2, 4, False)], ids=["both", "live", "draft"]
)
def test_secrets_are_all_that_is_missing_where_live_version_and_draft_are_as_they_were(
    live: int, draft: int, is_all: bool
) -> None:
    sheet = parse_sheet('kind = "flow"\n[fields]\nsecret = ["$.key"]\n[states]\npublish = true')

    def image(live: int, draft: int, **secret: str) -> Image:
        return Image("f1", "flow", ("F",), States("F"), {"size": live, **secret}, {"size": draft, **secret})

    assert lacks_secrets_only(image(2, 3, key=MASK), image(live, draft), {"flow": sheet}) is is_all


def test_only_what_is_left_over_is_counted() -> None:
    assert few(["a", "b", "c"]) == "a, b, c"
    assert few(["a", "b", "c", "d"]) == "a, b, c and 1 more"
    assert few([]) == ""


@pytest.mark.parametrize("value", [2**53 - 1, -(2**53 - 1)])
def test_the_largest_integers_that_json_carries(value: int) -> None:
    assert canonical_bytes({"n": value}) == f'{{"n":{value}}}'.encode()
    with pytest.raises(NotCanonical):
        canonical_bytes({"n": value + (1 if value > 0 else -1)})


def test_what_can_be_made_now_is_open_and_no_longer_waited_for() -> None:
    waiting = replace(
        resolve([NEED], Crosswalk(), "live", [], {})[0], state=MapState.LATER, value="integration:lab/feed"
    )
    there = cast(Any, SimpleNamespace(by_key={"integration:lab/feed": None}))
    found = _made_by_now(waiting, there)
    assert (found.state, found.value) == (MapState.OPEN, None)
    assert found.reason == "it can be made now, from integration:lab/feed, which is there"
    mapped = replace(waiting, state=MapState.MAPPED)
    assert _made_by_now(mapped, there) is mapped
    assert _made_by_now(waiting, cast(Any, SimpleNamespace(by_key={}))) is waiting


def test_a_connection_without_a_name_is_told_by_where_it_leads_and_written_down_by_its_id() -> None:
    brokers = [
        Supply("connection", f"b{n}", f"mqtt-broker at mill-{n}:1883", "mqtt-broker", is_unnamed=True) for n in (1, 2)
    ]
    need = Need("connection:mqtt-broker%20at%20mill-2%3A1883", ("flow:a",), "mqtt-broker")
    [same] = resolve([need], Crosswalk(), "live", brokers, {})
    assert (same.state, same.value, same.reason) == (MapState.GUESSED, "b2", "same name")
    [other] = resolve(
        [replace(need, key="connection:mqtt-broker%20at%20mill-3%3A1883")], Crosswalk(), "live", brokers, {}
    )
    # Alike as they are, the addresses of two machines are no reason to take one for the other.
    assert (other.state, other.value) == (MapState.OPEN, None)
    assert other.on_offer == ("b1 (mqtt-broker at mill-1:1883)", "b2 (mqtt-broker at mill-2:1883)")
    # Crosswalks of earlier builds name the only one by its type.
    rows = {"connections": {row_name(need.key): {"live": "mqtt-broker"}}}
    [one] = resolve([need], Crosswalk(rows), "live", brokers[:1], {})
    assert (one.state, one.native) == (MapState.MAPPED, "b1")
    [either] = resolve([need], Crosswalk(rows), "live", brokers, {})
    assert (either.state, either.native) == (MapState.OPEN, None)


@pytest.mark.parametrize(
    ("node", "told"),
    [
        ({"type": "mqtt-broker", "name": "Mill", "broker": "mill", "port": "1883"}, "Mill"),
        ({"type": "mqtt-broker", "name": "", "broker": "mill", "port": "1883"}, "mqtt-broker at mill:1883"),
        ({"type": "mqtt-broker", "broker": "mqtts://mill:8883", "port": "1883"}, "mqtt-broker at mqtts://mill:8883"),
        ({"type": "http proxy", "url": "http://ada:pw@mill/x?key=1#y"}, "http proxy at http://mill/x"),
        ({"type": "press", "path": "/in", "host": "10.0.0.1"}, "press at 10.0.0.1"),
        ({"type": "press", "serialport": "/dev/ttyS0", "baud": "9600"}, "press at /dev/ttyS0"),
        ({"type": "press", "host": "${HOST}", "words": "mill"}, "press"),
        ({"type": "tls-config", "name": "", "cert": ""}, "tls-config"),
    ],
)
def test_what_a_config_node_without_a_name_is_told_as(node: dict[str, Any], told: str) -> None:
    assert FileItem("connection", {"id": "n1", **node}).told(None) == told


@pytest.mark.parametrize(
    ("text", "is_id"),
    [
        *[(text, False) for text in ("mill", "lab pool", "12", "2026-11-30", "v2", "Öl", "3.9.1", "10.0.0.1", "q-1")],
        *[(text, True) for text in ("pr-2", "3f2a-77c1", "oils/early", "ada@x", "chart~1", "7f3a")],
    ],
)
def test_a_word_is_an_id_only_where_a_sheet_says_so(text: str, is_id: bool) -> None:
    sheet = parse_sheet('kind = "watch"\n[[refers]]\nat = "$.of"\nto = ["pool"]')
    names = Bindings(IdStyle("(?!)", has_words=True), {"pool:mill": text})
    token = "amphora:pool:mill"
    read = to_portable({"of": text, "tags": [text]}, sheet, names, key="watch:w").form
    assert read == {"of": token, "tags": [token if is_id else text]}
    assert quick_references({"tags": [text]}, names, "watch:w", sheet) == ({"pool:mill"} if is_id else set())
    assert quick_references({"of": text}, names, "watch:w", sheet) == {"pool:mill"}
    # Elsewhere ids are what the environment says they are.
    assert IdStyle("(?!)").tells(text)
