"""Definitions as platforms write them: opened, every id can be seen; closed again, nothing changed."""

from __future__ import annotations

import json
import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from amphora.core.form.again import read_again
from amphora.core.form.bindings import Bindings, IdStyle
from amphora.core.form.hollow import loosened
from amphora.core.form.kinds import Ids, KindSheet, parse_sheet
from amphora.core.form.looks import Looks
from amphora.core.form.native_ids import id_pattern
from amphora.core.form.opened import Elsewhere, PartMissing, closed, opened
from amphora.core.form.portable import to_portable
from amphora.core.values.model import Json

SHEET = """
kind = "chart"
schema = 1

[ids]
space = "chart"
number = true

[[refers]]
at = "$.dataset_id"
to = ["dataset"]

[[refers]]
at = "$.params.datasource"
to = ["dataset"]
form = "{id}__table"

[[refers]]
at = "$.params.scopes"
to = ["chart"]
members = true

[[refers]]
at = "$.params.scopes.*.also[*]"
to = ["chart"]

[[refers]]
at = "$.params.filters[?@.type == 'select'].set"
to = ["dataset"]

[[mention]]
pattern = "{{ dataset( {id} ) }}"
kind = "dataset"

[fields]
json = ["$.params", "$.params.defaults"]
text = ["$.sql"]
"""
IDS = {"chart": Ids("chart", True), "dataset": Ids("dataset", True)}
FILTERED = parse_sheet(SHEET)
PLAIN = parse_sheet(SHEET.replace("filters[?@.type == 'select']", "filters[*]"))

PARAMS = '{"datasource": "12__table","scopes":{"7":{"also":[7, 9]},"all":{"also":[]}},  "defaults":"{\\"a\\":[1.0]}"}'
CHART = {
    "dataset_id": 12,
    "params": PARAMS,
    "sql": "select * from {{dataset(12)}} where limit < 12 and x = 'dataset(12)'",
    "kept": "12",
    "note": "{{ dataset(12) }} as it was meant",
}


def test_every_id_is_seen_wherever_it_stands() -> None:
    found = opened(CHART, PLAIN, IDS)
    assert found["dataset_id"] == "dataset~12"
    assert found["params"]["datasource"] == "dataset~12"
    assert found["params"]["scopes"] == [
        {"of": "chart~7", "is": {"also": ["chart~7", "chart~9"]}},
        {"of": "all", "is": {"also": []}},
    ]
    assert found["params"]["defaults"] == {"a": [1.0]}
    assert found["sql"] == "select * from {{dataset(dataset~12)}} where limit < 12 and x = 'dataset(12)'"
    assert found["kept"] == "12"
    # Only where the sheet says that such texts may stand.
    assert found["note"] == CHART["note"]


def test_a_place_that_is_searched_for_is_found_inside_of_a_string() -> None:
    params = json.dumps({"filters": [{"type": "select", "set": 3}, {"type": "time", "set": 3}]})
    found = opened({"params": params}, FILTERED, IDS)
    assert [one["set"] for one in found["params"]["filters"]] == ["dataset~3", 3]
    assert closed(found, FILTERED, IDS, {"params": params}) == {"params": params}


def test_closed_it_is_what_it_was_to_the_letter() -> None:
    for sheet in (PLAIN, FILTERED):
        assert closed(opened(CHART, sheet, IDS), sheet, IDS, CHART) == CHART


def test_what_changed_is_written_in_the_manner_of_what_was_there() -> None:
    for text in ('{"a": 1, "b": "ü"}', '{"a":1,"b":"\\u00fc"}', '{\n  "a": 1,\n  "b": "ü"\n}'):
        found = opened({"params": text}, PLAIN, IDS)
        found["params"]["a"] = 2
        assert closed(found, PLAIN, IDS, {"params": text}) == {"params": text.replace("1", "2", 1)}
    assert closed({"params": {"a": 1}}, PLAIN, IDS) == {"params": '{"a":1}'}
    assert closed({"params": {"a": 1}}, PLAIN, IDS, is_spaced=True) == {"params": '{"a": 1}'}
    # What was no JSON where it comes from is none here: nothing and plain words are written as they are.
    for value in (None, "", "by hand", "12"):
        assert closed({"params": value}, PLAIN, IDS) == {"params": value}


def test_an_object_that_had_no_members_is_told_from_an_array() -> None:
    # Some languages write an object without members like an array: with members it is one.
    for before, scopes, after in (
        ('{"scopes":[]}', [], '{"scopes":[]}'),
        ('{"scopes":{}}', [], '{"scopes":{}}'),
        ('{"scopes":[]}', [{"of": "chart~7", "is": 1}], '{"scopes":{"7":1}}'),
        ('{"scopes":[3]}', [{"of": "chart~7", "is": 1}], '{"scopes":[{"of":7,"is":1}]}'),
    ):
        assert closed({"params": {"scopes": scopes}}, PLAIN, IDS, {"params": before})["params"] == after


HELD = parse_sheet(
    'kind = "card"\n[[refers]]\nat = "$.after[*]"\nto = ["card"]\n[[refers]]\nat = "$.also[*].card"\nto = ["card"]\n'
)
HELD_IDS = {"card": Ids("card", True, "board"), "board": Ids("board", True)}


def test_what_an_id_in_a_text_may_be() -> None:
    pattern = re.compile(id_pattern({"job": Ids("job"), **HELD_IDS}))
    text = "see job~weigh_slip.v2. or card~7~1, board~8th"
    assert pattern.findall(text) == ["job~weigh_slip.v2", "card~7~1", "board~8"]
    names = Bindings(IdStyle(pattern.pattern, mark="~"), {"job:slip": "job~weigh_slip"})
    sheet = parse_sheet('kind = "note"\n[fields]\ntext = ["$.text"]\n')
    form = to_portable({"text": "run job~weigh_slip.v2 and job~weigh_slips"}, sheet, names, key="note:n").form
    assert form == {"text": "run ${amphora:job:slip}.v2 and job~weigh_slips"}
    # Where an id looks like any other word, only all of it is one.
    names = Bindings(IdStyle("[0-9a-z.]{8,}"), {"tab:Mill": "flow"})
    assert to_portable({"text": "flow.get(x)"}, sheet, names, key="note:n").form == {"text": "flow.get(x)"}


PIECES = parse_sheet(
    """
kind = "chart"
[[refers]]
at   = "$.columns[*]"
to   = ["dataset"]
form = "{id}.{part}/{rest}"
part = { parts = "$.columns[*]" }
[[refers]]
at      = "$.widths"
to      = ["dataset"]
form    = "d{id}:{rest}"
members = true
[[refers]]
at   = "$.rule"
to   = ["dataset"]
form = "{part}@{id}"
[fields]
settings = { "$.widths.*.at_least" = "number" }
"""
)


def test_a_part_is_named_alone() -> None:
    words = 'kind = "chart"\n[[refers]]\nat = "$.marks[*]"\nto = ["dataset"]\nform = "{part}"\n'
    sheet = parse_sheet(words + 'part = { parts = "$.columns[*]" }\n')
    parts = {"dataset~12": {"Kilos": 4}, "dataset~13": {"Kilos": 5}}
    there = {str(id_): owner for owner, its in parts.items() for id_ in its.values()}
    looks = Looks(parts=lambda owner, part: parts[owner], holder=lambda kind, part, id_: there.get(id_, ""))
    written: Json = {"marks": [5, "4", 6, True, None, "all"]}
    seen = opened(written, sheet, IDS, looks)
    named = [{"of": f"dataset~{number}", "part": "Kilos"} for number in (13, 12)]
    assert seen == {"marks": [*named, 6, True, None, "all"]}
    assert closed(seen, sheet, IDS, written, looks=looks) == written
    assert closed({"marks": [named[1], {"of": None, "part": "Kilos"}]}, sheet, IDS, looks=looks) == {
        "marks": [4, None]
    }


def test_what_was_read_is_read_again_as_it_is() -> None:
    words = '[[refers]]\nat = "$.fields[*]"\nto = ["field"]\n[[mention]]\npattern = "field:{id}"\nkind = "field"\n'
    fields = '[fields]\njson = ["$.more"]\ntext = ["$.note"]\n'
    form: Json = {"fields": ["amphora:field:a", "amphora:unbound:x", "mill"], "more": {"a": ["amphora:person:x"]}}
    form["note"] = "see field:${amphora:field:a} and field:mill"
    again = read_again(
        form, parse_sheet(f'kind = "flag"\n{words}{fields}'), {"field": Ids("field")}, Bindings(IdStyle(""))
    )
    assert again.form == {**form, "fields": [*form["fields"][:2], "amphora:unbound:field%7Emill"]}


def test_a_uid_may_stand_where_an_id_may() -> None:
    ways = "".join(f'[[refers]]\nat = "$.scope[*]"\nto = ["chart"]\n{by}' for by in ("", 'by = "uid"\n'))
    mention = '[[mention]]\npattern = "/p/{id}"\nkind = "chart"\nby = "uid"\n[fields]\ntext = ["$.note"]\n'
    sheet = parse_sheet(f'kind = "board"\n{ways}{mention}')
    uids = {"chart": {"aa-1": "chart~12", "bb-2": "chart~13"}}
    looks = Looks(lambda kind, by: uids.get(kind, {}) if by == "uid" else {})
    written: Json = {"scope": [12, "bb-2", "dd-4", 14], "note": "see /p/aa-1, not /p/dd-4"}
    seen = opened(written, sheet, IDS, looks)
    scope = ["chart~12", "chart~13", "dd-4", "chart~14"]
    assert seen == {"scope": scope, "note": "see /p/chart~12, not /p/dd-4"}
    assert closed(seen, sheet, IDS, written, looks=looks) == written
    # Elsewhere it is another one's; and what is new is written by its id.
    there = {"chart": {"zz-9": "chart~12"}}
    looks = Looks(lambda kind, by: there.get(kind, {}) if by == "uid" else {})
    assert closed(seen, sheet, IDS, looks=looks) == {
        "scope": [12, 13, "dd-4", 14],
        "note": "see /p/zz-9, not /p/dd-4",
    }


def test_an_id_is_one_piece_of_a_text() -> None:
    there = {"dataset~12": {"Kilos": "c4", "Day": "c5"}}
    looks = Looks(parts=lambda owner, part: there.get(owner, {}))
    written: Json = {
        "columns": ["12.c4/sum", "12.c9/", "all", "x.c4/sum"],
        "widths": {"d12:a": {"at_least": 4}, "d12:": {"at_least": 5}, "other": 6},
        "rule": "own.word@12",
    }
    seen = opened(written, PIECES, IDS, looks)
    assert seen == {
        "columns": [
            {"of": "dataset~12", "part": "Kilos", "rest": "sum"},
            {"of": "dataset~12", "part": "c9", "rest": ""},
            "all",
            "x.c4/sum",
        ],
        "widths": [
            {"of": "dataset~12", "rest": "a", "is": {"at_least": 4}},
            {"of": "dataset~12", "rest": "", "is": {"at_least": 5}},
            {"rest": "other", "is": 6},
        ],
        "rule": {"of": "dataset~12", "part": "own.word"},
    }
    assert closed(seen, PIECES, IDS, written, looks=looks) == written
    # Elsewhere the dataset and its column have other numbers; the circle's while is over when the rule is there again.
    there["dataset~7"] = {"Kilos": "c1"}
    moved = opened(written, PIECES, IDS, looks)
    for one in (moved["columns"][0], *moved["widths"][:2], moved["rule"]):
        one["of"] = "dataset~7"
    del moved["columns"][1]
    found = closed(moved, PIECES, IDS, looks=looks)
    assert found["columns"] == ["7.c1/sum", "all", "x.c4/sum"]
    assert (list(found["widths"]), found["rule"]) == (["d7:a", "d7:", "other"], "own.word@7")
    assert closed({"rule": {"of": None, "part": "own.word"}}, PIECES, IDS) == {"rule": None}
    moved["columns"][0]["part"] = "Day"
    with pytest.raises(PartMissing):
        closed(moved, PIECES, IDS, looks=looks)
    assert loosened(seen, {"dataset~12"}, PIECES) == {
        "columns": ["all", "x.c4/sum"],
        "widths": [{"rest": "other", "is": 6}],
        "rule": None,
    }


WAYS = """
kind = "chart"
[ids]
space = "chart"
number = true
[[refers]]
at = "$.source"
to = ["table"]
required = true
[[refers]]
at = "$.source"
to = ["chart"]
form = "chart__{id}"
[[refers]]
at = "$.source"
to = ["connection"]
form = "db:{id}"
object = "name"
"""


def test_one_place_may_name_several_things_each_in_its_own_way() -> None:
    ids = {"chart": Ids("chart", True), "table": Ids("table", True), "connection": Ids("db", False)}
    sheet = parse_sheet(WAYS)
    for written, told in (
        (4, "table~4"),
        ("chart__12", "chart~12"),
        ("db:a", "db~a"),
        ("chart__x", "chart__x"),
        ("", ""),
        (None, None),
    ):
        assert opened({"source": written}, sheet, ids) == {"source": told}
        assert closed({"source": told}, sheet, ids) == {"source": written}
    # What holds for one holds for the place.
    refer = sheet.places.spot_of({}, "/source").refer
    assert refer is not None
    assert (refer.to, refer.is_required, refer.thing) == (("table", "chart", "connection"), True, "name")
    names = Bindings(IdStyle(id_pattern(ids), mark="~"), {"chart:a": "chart~12"})
    assert to_portable({"source": "chart~12"}, sheet, names, key="chart:b").form == {"source": "amphora:chart:a"}


def test_a_number_that_means_something_only_in_what_holds_it() -> None:
    form = {"board": 7, "after": [1, 2], "also": [{"board": 8, "card": 1}, {"card": 3}]}
    found = opened(form, HELD, HELD_IDS)
    assert found == {
        "board": 7,
        "after": ["card~7~1", "card~7~2"],
        "also": [{"board": 8, "card": "card~8~1"}, {"card": "card~7~3"}],
    }
    assert closed(found, HELD, HELD_IDS, form) == form
    # Written alone it would be another card.
    with pytest.raises(Elsewhere, match="card~8~1"):
        closed({**found, "after": ["card~8~1"]}, HELD, HELD_IDS, form)
    # Nobody says what holds it.
    assert opened({"after": [1]}, HELD, HELD_IDS) == {"after": [1]}


def test_ids_of_another_environment_are_written_in_its_numbers() -> None:
    text = json.dumps(opened(CHART, PLAIN, IDS)).replace("dataset~12", "dataset~512").replace("chart~7", "chart~70")
    found = closed(json.loads(text), PLAIN, IDS, CHART)
    assert found["dataset_id"] == 512
    params = json.loads(found["params"])
    assert (params["datasource"], list(params["scopes"])) == ("512__table", ["70", "all"])
    assert params["scopes"]["70"]["also"] == [70, 9]
    assert "{{dataset(512)}}" in found["sql"]


values = st.recursive(
    st.none() | st.booleans() | st.integers(-99, 99) | st.text(max_size=8) | st.sampled_from(["12", "chart~1", "~"]),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from(["of", "is", "7", "x"]), inner),
    max_leaves=8,
)


@given(
    dataset=values,
    scopes=values,
    datasource=values,
    sql=st.text(alphabet="dataset(){} 12~", max_size=30),
    is_text=st.booleans(),
    sheet=st.sampled_from([PLAIN, FILTERED]),
)
def test_whatever_stands_there_comes_back(
    dataset: Json, scopes: Json, datasource: Json, sql: str, is_text: bool, sheet: KindSheet
) -> None:
    params = {"scopes": scopes, "datasource": datasource, "filters": [{"type": "select", "set": dataset}]}
    definition = {"dataset_id": dataset, "params": json.dumps(params) if is_text else params, "sql": sql}
    assert closed(opened(definition, sheet, IDS), sheet, IDS, definition) == definition
