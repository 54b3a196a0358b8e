"""Small things that only somebody in a corner meets: each in a row of a table."""

from __future__ import annotations

import base64
from dataclasses import replace
from itertools import pairwise
from types import SimpleNamespace
from typing import Any, cast

import pytest

from amphora.core.checks import CheckContext, Waiver
from amphora.core.checks.target import _release
from amphora.core.form.again import states_again
from amphora.core.form.kinds import parse_sheet, sheets_in_force
from amphora.core.form.places import OF
from amphora.core.form.portable import Portable
from amphora.core.form.secrets import STRICT, Guard, mark_of_secret, sealed
from amphora.core.form.settings import is_setting, parse_setting, setting_words
from amphora.core.merge.compare import Base
from amphora.core.needs.crosswalk import Crosswalk, MapState, resolve
from amphora.core.plan.actions import Do
from amphora.core.plan.gate import _agreement
from amphora.core.plan.reasons import Consent, Standing
from amphora.core.plan.states import ABSENT, is_same, rows_in
from amphora.core.plan.steps import EnterSecret
from amphora.core.values.errors import EnvironmentRefused, SheetFault
from amphora.core.values.model import Contents, Finding, Item, Level, Listed, Need, States
from amphora.core.values.scan import token_places
from amphora.core.values.versions import is_version, newest, version_order
from amphora.core.values.visible import escaped_json, for_spreadsheet, from_spreadsheet, visible
from amphora.engine import action, elsewhere
from amphora.engine.elsewhere import others_since
from amphora.engine.leaks import leaks_in, leaks_in_settings
from amphora.engine.runs.aftercare import CareMaterial
from amphora.engine.sides import _guide
from amphora.engine.steps import write_all
from amphora.engine.survey import Uses
from amphora.render.result import Grid, Lines
from amphora.render.survey import DEEPEST, uses_result
from tests.told import told_of_slips

REFERS = '[[refers]]\nat = "$.a"\nto = ["table"]\n'


def test_a_slip_in_a_kind_sheet_is_told_with_its_line() -> None:
    def tried(sheet: str, _: str) -> tuple[str, ...]:
        with pytest.raises(SheetFault) as caught:
            parse_sheet(sheet)
        return caught.value.details

    told_of_slips("slips/kind.txt", 'kind = "flow"\n', tried)


@pytest.mark.parametrize(
    ("type_", "words", "typed", "value"),
    [
        ("number", "a number", "3.50", 3.5),
        ("number", "a number", "3", 3),
        ("number in text", "a number, in quotes", "3.50", "3.50"),
        ("yes/no", "yes or no", "yes", True),
        ("yes/no in text", "yes or no, in quotes", "No", "false"),
        ("yes/no in text", "yes or no, in quotes", "true", "true"),
        ("JSON in text", "JSON, in quotes", '{"a": 1}', '{"a": 1}'),
        ("a|b", "one of a, b", "b", "b"),
    ],
)
def test_a_setting_is_what_its_type_says(type_: str, words: str, typed: str, value: object) -> None:
    assert (setting_words(type_), parse_setting(typed, type_)) == (words, value)
    assert is_setting(value, type_)
    if type_ != "text":
        with pytest.raises(ValueError):
            parse_setting("{", type_)


def test_an_address_is_one_only_with_its_scheme() -> None:
    need = Need("url:site", ("flow:a",))
    for cell, state, native in (
        ("https://www.x.example", MapState.MAPPED, "https://www.x.example"),
        ("www.x.example", MapState.OPEN, None),
        (7, MapState.OPEN, None),
    ):
        [found] = resolve([need], Crosswalk({"urls": {"site": {"live": cell}}}), "live", (), {})
        assert (found.state, found.native) == (state, native)
        assert found.reason == ("" if native else f"{cell!r} is no address")


def test_a_secret_in_a_file_that_stands_in_the_form_is_told_as_the_whole() -> None:
    sheet = parse_sheet('kind = "note"')
    text = "password: Wn7kQ2xT9mB4vz\n"
    for url in (
        f"data:text/plain;base64,{base64.b64encode(text.encode()).decode()}",
        "data:,password%3A%20Wn7kQ2xT9mB4vz",
    ):
        item = sealed(Item("note:n", 1, {"file": url}, States("N")), sheet)
        assert [(leak.place, leak.rule) for leak in item.leaks] == [("/file", "a file that holds a secret")], url
        assert "Wn7kQ2xT9mB4vz" not in str(item.form)
    # One that is kept apart is told with the item and the place that hold it.
    form = {"name": "amphora:item:note/o", "file": "amphora:file:a.txt"}
    holder = Item("note:n", 1, form, States("N"), tuple(token_places(form)))
    packed = Contents("p", "1.0.0", "dev", "uid", {"note:n": holder}, (), files={"a.txt": text.encode()})
    assert {(key, leak.place) for key, leak in leaks_in(packed, {"note": sheet}, STRICT)} == {("note:n", "/file")}
    for url in ("data:text/plain;base64,!!!", "data:,harmless", "data:image/png;base64,iVBORw0KGgo="):
        assert sealed(Item("note:n", 1, {"file": url}, States("N")), sheet).leaks == ()


def test_what_could_move_the_cursor_or_run_is_shown() -> None:
    assert visible("a\x1b[2Jb\x7f\u202e\n") == "a␛[2Jb␡‹U+202E›⏎"
    assert escaped_json('"\u202e\U000e0041"') == '"\\u202e\\udb40\\udc41"'
    assert [from_spreadsheet(for_spreadsheet(text)) for text in ("=1+1", "plain")] == ["=1+1", "plain"]
    assert for_spreadsheet("=1+1") == "'=1+1"


def test_versions_are_ordered_as_semver_says_and_nothing_else_is_one() -> None:
    assert newest(["1.9.0", "1.10.0-rc.1", "1.10.0-rc.1+b"]).startswith("1.10.0-rc.1")
    with pytest.raises(ValueError, match="is no version"):
        version_order("one")
    # Python would read the one and choke on the other.
    assert not any(map(is_version, ("1.٣.0", "1.0.²", f"1.0.{'9' * 5000}")))
    assert [_release(text) for text in ("2026.10-b", "2026.²", f"2026.{'9' * 5000}")] == [(2026, 10), (), ()]


def test_a_setting_that_is_a_secret_is_found_although_its_value_has_left_the_form() -> None:
    form = {"door": {"password": "amphora:setting:door-password", "limit": "amphora:setting:limit"}}
    item = Item("flow:a", 1, form, States("A"), tuple(token_places(form)))
    needs = (Need("setting:door-password", ("flow:a",)), Need("setting:limit", ("flow:a",)), Need("person:x", ()))
    contents = Contents("p", "1.0.0", "dev", "uid", {"flow:a": item}, needs)
    values = {"setting:door-password": "Wn7kQ2xT9mB4vz", "setting:limit": 15}
    [(key, leak)] = leaks_in_settings(contents, values, Guard())
    assert (key, leak.place, leak.shown) == ("flow:a", "/door/password", "the setting 'door-password'")
    pardoned = Guard(
        frozenset({("flow:a", "/door/password", mark_of_secret("flow:a", "/door/password", "Wn7kQ2xT9mB4vz"))})
    )
    assert leaks_in_settings(contents, values, pardoned) == []


@pytest.mark.parametrize(
    ("waiver", "covers"),
    [
        (Waiver("r", "", "", "why"), (True, False)),
        (Waiver("r", "flow:a", "/x", "why"), (True, False)),
        (Waiver("r", "flow:b", "", "why"), (False, False)),
        (Waiver("r", "", "/y", "why"), (False, False)),
        (Waiver("s", "", "", "why"), (False, False)),
        (Waiver("r", "flow:a", "/x", "why", "mark"), (True, True)),
        (Waiver("r", "flow:a", "/x", "why", "other"), (True, False)),
    ],
)
def test_a_finding_about_a_value_is_silenced_for_that_value_only(waiver: Waiver, covers: tuple[bool, bool]) -> None:
    plain = Finding("r", Level.WARNING, "m.", "flow:a", "/x")
    assert (waiver.covers(plain), waiver.covers(replace(plain, mark="mark"))) == covers


@pytest.mark.parametrize(
    ("approvals", "agreed", "words"),
    [
        (1, (), "of 1 trusted person beside you; there are none."),
        (2, ("Ada",), "of 2 trusted people beside you; there is 1."),
        (3, ("Ada", "Ben"), "of 3 trusted people beside you; there are 2."),
        (2, ("Ada", "Ben"), ""),
    ],
)
def test_how_many_have_to_agree_and_how_many_did(approvals: int, agreed: tuple[str, ...], words: str) -> None:
    docket: Any = SimpleNamespace(actions=(1,), target="live", file="d.yaml")
    found = _agreement(docket, Standing(frozenset(), approvals=approvals, agreed=agreed), Consent())
    assert [one.message.partition("agreement ")[2] for one in found] == ([words] if words else [])


def test_of_many_items_that_are_written_at_once_the_new_ones_have_new_ids() -> None:
    writes = {key: SimpleNamespace(is_new=key != "a:old") for key in ("a:new", "a:old", "a:too")}
    asked: list[Any] = []

    def write(some: list[Any]) -> list[Any]:
        asked.extend(some)
        return [SimpleNamespace(native_id=f"n{number}") for number in range(len(some))]

    environment = SimpleNamespace(write=write)
    bench: Any = SimpleNamespace(environment=environment, write_of=lambda key, draft, token: writes[key])
    step: Any = SimpleNamespace(keys=tuple(writes))
    assert write_all.do(step, bench, cast(Any, dict.fromkeys(writes)), "t") == {"a:new": "n0", "a:too": "n2"}
    assert asked == list(writes.values())


@pytest.mark.parametrize(
    ("was", "again", "then"),
    [(None, True, True), (None, None, None), (False, True, False), (True, None, True), (None, False, False)],
)
def test_a_switch_that_is_read_later_counts_where_none_was_known(was: Any, again: Any, then: Any) -> None:
    assert states_again(States("A", "", was), Portable({}, None, again)).is_on is then


@pytest.mark.parametrize(
    ("at", "who", "ended", "is_ours"),
    [
        ("10", "keeper", "20", True),
        ("20", "keeper", "20", True),
        ("09", "keeper", "20", False),
        ("21", "keeper", "20", False),
        ("15", "somebody", "20", False),
        (None, "keeper", "20", False),
        ("10", "keeper", None, True),
        ("15", "keeper", None, False),
    ],
)
def test_what_a_run_changed_without_being_asked_is_told_by_time_and_account(
    monkeypatch: pytest.MonkeyPatch, at: str | None, who: str, ended: str | None, is_ours: bool
) -> None:
    run: Any = SimpleNamespace(uid="u", id=3, name="live-3", started_at="10", ended_at=ended, account="keeper")
    rows = {
        "a:x": Listed("1", "a", ("x",), States("X"), "2", "", at, who),
        "a:y": Listed("2", "a", ("y",), States("Y"), "1"),
    }
    journal = SimpleNamespace(outside=lambda _: {"1": "1", "2": "1", "3": "1"}, runs=list)
    ledger = SimpleNamespace(journal=journal, last_deliveries=lambda _: {})
    stage = SimpleNamespace(read_otherwise=frozenset(), saved_as_before=lambda run, moved: set(), ledger=ledger)
    monkeypatch.setattr(elsewhere, "stage_of", lambda *_: stage)
    side: Any = SimpleNamespace(
        name="live", uid="u", by_key=rows, keys={row.native_id: key for key, row in rows.items()}
    )
    found = others_since(cast(Any, SimpleNamespace(ledger=ledger)), side, run)
    assert [(one.title, one.what, one.is_ours) for one in found.moved] == [
        ("X", "changed", is_ours),
        ("3", "removed", False),
    ]
    assert (found.since, found.count, found.untold) == ("live-3", 3, 0)


def test_what_holds_an_item_is_known_from_its_sheet() -> None:
    held = parse_sheet(f'kind = "page"\n{REFERS}held = true\n[[refers]]\nat = "$.b"\nto = ["table"]\n')
    assert held.held_by == ("$.a",)


def test_what_leads_out_of_a_shape_is_kept_by_a_sheet_laid_over_it() -> None:
    shipped = parse_sheet('kind = "flow"\nschema = 2\n[[conversion]]\nfrom = 1\nto = 2\nmove = { "$.a" = "$.b" }')
    [one] = [sheets_in_force([shipped], [parse_sheet('kind = "flow"\nschema = 2')])["flow"]]
    assert one.conversions == shipped.conversions


def test_a_secret_for_what_is_gone_is_refused_by_name() -> None:
    material = CareMaterial(cast(Any, None), {}, {})
    with pytest.raises(EnvironmentRefused, match="not there") as told:
        material.draw(EnterSecret(("flow:a",)), "flow:a", None)
    assert told.value.subject == "flow:a"


def test_kinds_that_are_named_by_title_are_known_from_texts_and_members() -> None:
    by_title = 'kind = "watch"\n[[mention]]\npattern = "[{id}]"\nkind = "hall"\nby = "title"\n'
    refers = '[[refers]]\nat = "$.%s"\nto = ["%s"]\nby = "title"\n'
    sheet = parse_sheet(by_title + refers % ("a", "gate") + refers % ("b", "road") + "follows = true\n")
    assert sheet.names_by_title == {"hall", "gate"}


@pytest.mark.parametrize(
    ("delivered", "packed", "guide"),
    [
        ({"a": None, "b": 1}, {"a": 2, "b": 3, "c": 4}, {"a": 2, "b": 1}),
        ({"a": {"b": None}}, {"a": {"b": 2}}, {"a": {"b": 2}}),
        ([None, 1], [2, 3], [2, 1]),
        # Nobody can tell what of one belongs to what of the other.
        ([None], [1, 2], [None]),
        ({"a": None}, [1], {"a": None}),
        ({"a": [None]}, {}, {"a": [None]}),
        (0, None, 0),
    ],
)
def test_what_was_still_empty_when_it_was_delivered_is_read_by_the_package(
    delivered: Any, packed: Any, guide: Any
) -> None:
    base = Base(delivered, States("A"), {})
    assert _guide(base, packed) == guide
    assert (_guide(base, None), _guide(None, packed)) == (delivered, packed)


@pytest.mark.parametrize(
    ("left", "right", "counting", "without"),
    [
        ("abc:7", "abc:7", True, True),
        ("abc:7", "abc:8", False, True),
        ("abc", "abc:8", False, True),
        ("abd:7", "abc:7", False, False),
        (ABSENT, "abc", False, False),
        (ABSENT, f"{ABSENT}:3", False, False),
        (ABSENT, ABSENT, True, True),
    ],
)
def test_marks_of_one_state_with_and_without_its_rows(left: str, right: str, counting: bool, without: bool) -> None:
    for one, other in ((left, right), (right, left)):
        assert (is_same(one, other, counts_rows=True), is_same(one, other)) == (counting, without)
    assert [rows_in(mark) for mark in ("abc", "abc:", "abc:12")] == [0, 0, 12]


@pytest.mark.parametrize(("length", "rows"), [(3, 3), (DEEPEST, DEEPEST), (5000, DEEPEST)])
def test_a_chain_of_any_length_is_shown_as_far_as_it_can_be_read(length: int, rows: int) -> None:
    keys = [f"flow:f{number}" for number in range(length + 1)]
    direct = {key: {used: ["/next"]} for key, used in pairwise(keys)}
    told = uses_result(Uses("live", keys[0], dict.fromkeys(keys, "T"), direct), None, "")
    assert told.verdict == f"T uses 1 item ({length} in all) and is used by 0 items (0 in all) in live."
    [tree, *rest] = [block for block in told.blocks if isinstance(block, Grid | Lines)]
    assert isinstance(tree, Grid)
    assert (len(tree.rows), len(rest)) == (rows, int(length > rows))
    assert len(uses_result(Uses("live", keys[-1], dict.fromkeys(keys, "T"), direct), 2, "").blocks[0].rows) == 2  # type: ignore[union-attr]


@pytest.mark.parametrize(
    ("name", "target", "told"),
    [
        ("lists~north", "live", "amphora check lists live"),
        ("lists~north", "", "amphora check lists ENVIRONMENT"),
        ("lists", "live", "amphora export dev flow:a --as lists"),
    ],
)
def test_what_is_packed_again_of_a_copy_is_the_package(name: str, target: str, told: str) -> None:
    contents = Contents(name, "1.0.0", "dev", "uid", {"flow:a": Item("flow:a", 1, {}, States("A"))}, ())
    assert str(CheckContext.retry_without(cast(Any, SimpleNamespace(contents=contents, name=target)), "")) == told


@pytest.mark.parametrize(
    ("takes_back", "do", "is_there", "drafts", "after", "before", "is_first"),
    [
        (False, Do.UPDATE, True, True, True, False, True),
        (False, Do.UPDATE, True, True, True, True, False),
        (False, Do.UPDATE, True, True, False, False, False),
        (False, Do.UPDATE, True, False, True, False, False),
        (False, Do.UPDATE, False, True, True, False, False),
        (False, Do.CREATE, True, True, True, False, False),
        (True, Do.UPDATE, True, True, True, False, False),
    ],
)
def test_a_first_publication_that_nothing_takes_back(
    monkeypatch: pytest.MonkeyPatch,
    takes_back: bool,
    do: Do,
    is_there: bool,
    drafts: bool,
    after: bool,
    before: bool,
    is_first: bool,
) -> None:
    habits = SimpleNamespace(takes_back=takes_back, drafts=lambda kind: drafts)
    monkeypatch.setattr(action, "habits_of", lambda description: habits)
    present = SimpleNamespace(states=States("A", is_published=before)) if is_there else None
    mine = SimpleNamespace(do=do, present=present, item=Item("flow:a", 1, {}, States("A", is_published=after)))
    side = SimpleNamespace(opened=SimpleNamespace(description=None))
    assert action._is_first_publication(cast(Any, mine), cast(Any, side)) is is_first


@pytest.mark.parametrize("table", ["refers", "part"])
def test_members_whose_names_are_ids_are_told_apart_by_these(table: str) -> None:
    more = {"refers": 'to = ["flow"]', "part": 'parts = "$.widgets[*]"'}[table]
    sheet = parse_sheet(f'kind = "flow"\n[[{table}]]\nat = "$.sizes"\nmembers = true\n{more}\n', "flow.toml")
    sizes = [{OF: "b", "value": 1}, {OF: "a", "value": 2}]
    spot = sheet.places.walk({"sizes": sizes}).step("sizes").spot
    assert (spot.is_members, spot.named_by) == (True, OF)


def test_what_opens_a_definition_can_be_compared() -> None:
    plain, opened = (
        parse_sheet(f'kind = "flow"\n{more}', "flow.toml") for more in ("", '[fields]\njson = ["$.b"]\n')
    )
    assert set(opened.opens) - set(plain.opens) == {"json $.b"}
