"""Parts that others use, in portable forms and in native definitions: by id, by name, in texts."""

from __future__ import annotations

from amphora.core.form.bindings import Bindings, IdStyle
from amphora.core.form.kinds import parse_sheet
from amphora.core.form.parts import PartUse, parts_gone, parts_named, parts_of, parts_used
from amphora.core.values.model import Item, States
from amphora.core.values.scan import token_places

FLOW = parse_sheet('kind = "flow"\n[[part]]\nat = "$.sort.by"\nof = "of"\nparts = "$.columns[*]"\nname = "$.label"')
TABLE = parse_sheet('kind = "table"\n[fields]\nparts = { column = "$.columns[*].id" }')
[BY] = FLOW.parts_by
GROWERS = {"columns": [{"id": "name", "label": "Name"}, {"id": "mail", "label": 7}]}


def names(joiner: str = "#") -> Bindings:
    found = Bindings(IdStyle(r"ta-\d{4}(?:#\w+)?" if joiner else r"\w{6}", joiner))
    found.bind("table:growers", "ta-0001")
    found.bind("flow:own", "ta-0002")
    return found


def test_parts_by_id_and_by_name() -> None:
    assert parts_of(GROWERS, TABLE) == {"name", "mail"}
    # A platform may call its parts by numbers.
    assert parts_of(GROWERS, TABLE, BY) == {"Name", "7"}
    assert parts_of(GROWERS, None) == set()
    after = {"columns": [{"id": "name", "label": "Called"}]}
    assert parts_gone(GROWERS, after, TABLE, [BY]) == {(None, "mail"), (BY, "Name"), (BY, "7")}
    assert parts_gone(GROWERS, after, TABLE, []) == {(None, "mail")}
    assert parts_gone(after, GROWERS, TABLE, []) == set()


def test_the_uses_of_a_portable_form() -> None:
    form = {
        "a": "amphora:table:growers#mail",
        "b": "amphora:table:growers",
        "sort": {"of": "amphora:table:growers", "by": "Name"},
    }
    found = list(parts_named(Item("flow:f", 1, form, States("F"), tuple(token_places(form))), FLOW))
    uses = [PartUse("table:growers", "mail"), PartUse("table:growers", "Name", BY)]
    assert found == [("/a", uses[0]), ("/sort/by", uses[1])]
    for sort in ({"of": "growers", "by": "Name"}, {"of": "amphora:table:growers", "by": 3}, {"by": "Name"}, "Name"):
        form = {"sort": sort}
        item = Item("flow:f", 1, form, States("F"), tuple(token_places(form)))
        assert list(parts_named(item, FLOW)) == []
        assert list(parts_named(item, None)) == []


def test_the_uses_of_a_native_definition() -> None:
    own = {"a": ["ta-0001#mail", "ta-0001", "ta-0009#x", "ta-0002#own"], "b": "of ta-0001#name, and more"}
    by_id = {PartUse("table:growers", "mail"), PartUse("table:growers", "name")}
    assert parts_used(own, FLOW, names(), "flow:own") == by_id
    # One that is named to itself is its own business; to another it is not.
    assert parts_used(own, None, names(), "flow:other") == {*by_id, PartUse("flow:own", "own")}
    sorted_ = {"sort": {"of": "ta-0001", "by": "Name"}}
    assert parts_used(sorted_, FLOW, names(), "flow:own") == {PartUse("table:growers", "Name", BY)}
    assert parts_used({"sort": {"of": "ta-0003", "by": "Name"}}, FLOW, names(), "flow:own") == set()
    # Where a part has an id of its own.
    alone = names("")
    alone.part_owner["c0ffee"] = "table:growers"
    assert parts_used({"to": "c0ffee", "x": "c0ffea"}, FLOW, alone, "flow:own") == {
        PartUse("table:growers", "c0ffee")
    }
