"""Each rule with an example that raises it and a near miss that doesn't."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import pytest

from amphora.core.checks import RULES, CheckContext, Waiver, check
from amphora.core.checks.context import Planned, Reach, TargetIndex
from amphora.core.form.kinds import KindSheet, parse_sheet
from amphora.core.form.routes import Converted
from amphora.core.needs.crosswalk import Mapped, MapState
from amphora.core.values.model import Contents, Item, Level, Limits, Listed, Need, States

FLOW = parse_sheet(
    'kind = "flow"\n[[refers]]\nat = "$.uses"\nto = ["table"]\n[[refers]]\nat = "$.column"\nto = ["table#column"]\n'
    '[[refers]]\nat = "$.in"\nto = ["connection"]\nobject = "as"\n'
    'object_query = "$.sql"\n'
    '[[part]]\nat = "$.sort.by"\nof = "of"\nparts = "$.columns[*]"\nname = "$.id"\n'
    '[[refers]]\nat = "$.sort.of"\nto = ["table"]\n'
    '[fields]\ntext = ["$.script"]\nfeatures = ["$.type"]\nregion = ["$.region"]\nsettings = { "$.limit" = "number" }\n'
    'outward = ["$.to[*]"]\n[connection]\nmembers = ["host"]\nwords = ["name"]\nnever = ["note"]\n'
    "[states]\nswitch = true\npublish = true"
)
TABLE = parse_sheet(
    'kind = "table"\n[fields]\nparts = { column = "$.columns[*].id" }\nnamed = { "$.columns" = "id" }\n'
    'data = ["$.columns[*].type"]'
)
OTHER_FLOW = replace(FLOW, schema=2)
REPORT = parse_sheet('kind = "report"\n[[refers]]\nat = "$.on"\nto = ["report", "table"]\nrequired = true')
SHEETS = {"flow": FLOW, "table": TABLE, "report": REPORT}
PACKED = Item("table:deliveries", 1, {"columns": [{"id": "kilos", "type": "number"}]}, States("Deliveries"))
GROWERS = Listed("t1", "table", ("growers",), States("Growers"), "1")
DELIVERIES = Listed("t2", "table", ("deliveries",), States("Deliveries"), "1", rows=12)
MAPPED = Mapped(
    Need("connection:mill-db", ("flow:a",), "db"), "live", MapState.MAPPED, "mill", "cn-1", native_type="db"
)
SHARING = Mapped(Need("connection:office", ("flow:a",)), "live", MapState.MAPPED, "mill", "cn-1")
LIMIT = Mapped(Need("setting:limit", ("flow:a",)), "live", MapState.MAPPED, 5, 5)
HOOK = Need("secret:hook", ("flow:a",))
KEY = "Zk3vQ9xT7bLm2RpW8sYc4Hd6Jf1Ng5"
E, W, N = Level.ERROR, Level.WARNING, Level.NOTE


def target(**changes: Any) -> TargetIndex:
    index = TargetIndex(
        name="live",
        account="keeper",
        rows={"table:growers": GROWERS},
        present={"table:growers": Item("table:growers", 1, {"columns": [{"id": "name"}]}, States("Growers"))},
        sheets=SHEETS,
        features=frozenset({"mail"}),
        permissions=frozenset({"read", "write"}),
        mapped=(),
        roles={
            "all": frozenset({"read", "write", "publish", "grant"}),
            "some": frozenset({"read", "write", "publish"}),
        },
        region="north",
        release="2026.2",
    )
    return replace(index, **changes)


@dataclass(frozen=True)
class Situation:
    """A package with one flow (and a table), and what it meets."""

    form: Any = field(default_factory=dict)
    there: TargetIndex | None = field(default_factory=target)
    item: dict[str, Any] = field(default_factory=dict)
    states: dict[str, Any] = field(default_factory=dict)
    needs: tuple[Need, ...] = ()
    others: tuple[Item, ...] = ()
    context: dict[str, Any] = field(default_factory=dict)
    contents: dict[str, Any] = field(default_factory=dict)

    def checked(self) -> CheckContext:
        flow = Item("flow:a", 1, self.form, States("A", **self.states), native_id="fl-12345678", **self.item)
        items = {item.key: item for item in (flow, PACKED, *self.others)}
        contents = Contents("p", "1.0.0", "dev", "uid", items, self.needs, **self.contents)
        return CheckContext(contents, SHEETS, self.there, **self.context)


S = Situation


def planned(do: str = "update", *permissions: str, clashes: tuple[str, ...] = ()) -> TargetIndex:
    return target(planned=(Planned("flow:a", do, frozenset(permissions), clashes),))


def shaped(sheets: dict[str, KindSheet] = SHEETS, **done: Any) -> TargetIndex:
    """The target has another shape of flows than the package."""
    return target(sheets=sheets, converted=(Converted("flow:a", ("flow", 2), ("flow", 1), **done),))


def dropped(user: str = "", rows: int = 0) -> TargetIndex:
    """The package once brought table:old, and somebody may use it still."""
    row = replace(GROWERS, native_id="t9", states=States("Old"), rows=rows)
    return target(dropped=("table:old",), gone_users={"table:old": (user,) if user else ()}, rows={"table:old": row})


def over(form: Any, rows: int | None = 12) -> TargetIndex:
    """The target holds the packed table, with other columns."""
    row = replace(DELIVERIES, rows=rows)
    return target(rows={PACKED.key: row}, present={PACKED.key: Item(PACKED.key, 1, form, States("Deliveries"))})


def reports(first: str, second: str) -> tuple[Item, Item]:
    return (
        Item("report:x", 1, {"on": f"amphora:{first}"}, States("X")),
        Item("report:y", 1, {"on": f"amphora:{second}"}, States("Y")),
    )


REPORTED = Item("report:x", 1, {"on": "amphora:table:growers"}, States("X"))
READING = {"in": "amphora:connection:mill-db", "sql": "select 1 from press_log"}
COLUMNS = [{"id": "kilos", "type": "number"}]
MAKER = Item("report:m", 1, {"on": "amphora:connection:mill-db"}, States("M"))
MADE = replace(MAPPED, state=MapState.LATER, value="report:m", native=None)
TAKEN = replace(GROWERS, kind="flow", segments=("mill", "a"), states=States("Other", "mill"))
CASES: list[tuple[str, Level, Situation, Situation]] = [
    ("item-missing", E, S({"uses": "amphora:table:x"}), S({"uses": "amphora:table:growers"})),
    ("item-missing", N, S({"uses": "amphora:table:x"}, None), S({"uses": "amphora:table:deliveries"}, None)),
    ("part-missing", E, S({"column": "amphora:table:deliveries#litres"}), S({"column": "amphora:table:deliveries#kilos"})),
    ("part-missing", E, S({"column": "amphora:table:growers#mail"}), S({"column": "amphora:table:growers#name"})),
    (
        "part-missing",
        E,
        S({"sort": {"of": "amphora:table:deliveries", "by": "litres"}}),
        S({"sort": {"of": "amphora:table:deliveries", "by": "kilos"}, "sort2": {"by": "x"}}),
    ),
    (
        "reference-empty",
        E,
        S(others=(Item("report:x", 1, {"on": ""}, States("X")),)),
        S(others=(Item("report:x", 1, {"on": "amphora:table:growers"}, States("X")),)),
    ),
    ("reference-unfit", E, S({"column": "amphora:report:x"}, others=(REPORTED,)), S({"column": "amphora:table:growers"}, others=(REPORTED,))),
    ("reference-plain", E, S({"uses": "growers"}, contents={"is_edited": True}), S({"uses": "amphora:table:growers"}, contents={"is_edited": True})),
    ("unbound-id", E, S({"uses": "amphora:unbound:ta-9"}), S({"uses": ""})),
    (
        "item-differs",
        W,
        S(
            there=target(present={"table:growers": PACKED}),
            needs=(Need("table:growers", ("flow:a",), seen="0" * 64),),
        ),
        S(
            there=target(present={"table:growers": PACKED}),
            needs=(Need("table:growers", ("flow:a",), seen=PACKED.digest),),
        ),
    ),
    ("draft-newer", W, S(item={"unpublished": "by ines, 2026-05-01"}), S()),
    ("undeclared-reference", N, S({"other": "amphora:table:growers"}), S({"script": "see ${amphora:table:growers}"})),
    ("need-open", W, S(there=target(mapped=(replace(MAPPED, state=MapState.GUESSED, native=None),))), S(there=target(mapped=(MAPPED,)))),
    (
        "setting-unfit",
        E,
        S({"limit": "amphora:setting:limit"}, target(mapped=(replace(LIMIT, native="five"),)), needs=(LIMIT.need,)),
        S({"limit": "amphora:setting:limit"}, target(mapped=(LIMIT,)), needs=(LIMIT.need,)),
    ),
    ("need-other-type", W, S(there=target(mapped=(replace(MAPPED, native_type="mail"),))), S(there=target(mapped=(MAPPED,)))),
    ("needs-share", W, S(there=target(mapped=(MAPPED, SHARING))), S(there=target(mapped=(MAPPED, replace(SHARING, native="cn-2"))))),
    (
        "connection-broken",
        W,
        S(there=target(mapped=(MAPPED,), reach={"cn-1": Reach(False)})),
        S(there=target(mapped=(MAPPED,), reach={"cn-1": Reach(True)})),
    ),
    (
        "connection-broken",
        E,
        S(states={"is_on": True}, there=target(mapped=(MAPPED,), reach={"cn-1": Reach(False)})),
        S(states={"is_on": True}, there=target(mapped=(MAPPED,), reach={"cn-1": Reach(None)})),
    ),
    (
        "object-missing",
        E,
        S(there=target(mapped=(MAPPED,), reach={"cn-1": Reach(True, frozenset({"press_log"}))})),
        S(there=target(mapped=(MAPPED,), reach={"cn-1": Reach(True)})),
    ),
    (
        "object-missing",
        W,
        S(READING, target(mapped=(MAPPED,), reach={"cn-1": Reach(True, frozenset({"press_log"}))})),
        S(READING, target(mapped=(MAPPED,), reach={"cn-1": Reach(True)})),
    ),
    (
        "need-later",
        N,
        S(there=target(mapped=(replace(MAPPED, state=MapState.LATER, value="integration:x", native=None),))),
        S(there=target(mapped=(MAPPED,))),
    ),
    ("secret-to-enter", N, S(needs=(HOOK,)), S(needs=(HOOK,), there=target(mapped=(Mapped(HOOK, "live", MapState.MAPPED, "env:HOOK", "env:HOOK"),)))),
    ("secret-in-clear", E, S({"api_key": "k-991-loud"}), S({"api_key": "amphora:secret:k"})),
    ("secret-in-clear", E, S({"x": "Bearer abcdefghijklmnop1"}), S({"x": "Bearer of news"})),
    ("mask-in-place", W, S({"headers": "********"}), S({"headers": "** see below ****", "rating": "***"})),
    ("mask-in-place", W, S({"lines": [{"word": "••••"}]}), S({"lines": [{"word": "amphora:secret:w"}]})),
    ("mask-in-place", W, S({"uri": "XXXXXXXXXX"}), S({"uri": "XXXX"})),
    ("random-looking", W, S({"note": f"use {KEY} here"}), S({"note": f"use {KEY.lower()} here"})),
    ("random-looking", W, S({"note": KEY}), S({"note": "TheSecondPressingOfTheYear2026"})),
    # What a member is called is no key, wherever it is named.
    ("random-looking", W, S({"note": KEY, "boxes": {"a": 1}}), S({"note": KEY, "boxes": {KEY: 1}})),
    (
        "source-url-in-text",
        W,
        S({"note": "see https://dev.x.example/a"}, context={"source_urls": ("https://dev.x.example",)}),
        S({"note": "see https://www.x.example/a"}, context={"source_urls": ("https://dev.x.example",)}),
    ),
    (
        "source-host-in-text",
        W,
        S({"note": "ping dev.x.example"}, context={"source_urls": ("https://dev.x.example",)}),
        S({"note": "ping x.example"}, context={"source_urls": ("https://dev.x.example",)}),
    ),
    ("source-id-in-text", W, S({"note": "open fl-12345678 now"}), S({"note": "open fl-123456789 now"})),
    (
        "address-inside",
        W,
        S({"to": [{"name": "b:80", "of": [{"v": "http://b.example:80/x"}, "http://b.example:80/y"]}]}),
        S({"to": [{"host": "/mill", "name": "b.example:80"}, {"v": "${X}"}, {"v": "b c"}]}),
    ),
    (
        "address-inside",
        W,
        S({"to": [{"func": "// 'a.b.example:80'\nopen('m.b.example:18', 'm.b.example:18');"}]}),
        S({"to": [{"func": "open(a ? b.length:10, '1.2.3', \"1.2.3.4.5\", 'b:10') // at m.b.example:18"}]}),
    ),
    ("address-inside", W, S({"to": [{"command": "ssh keeper@10.0.0.7 ls"}]}), S({"to": [{"command": "ls flow.js:12 12:30"}]})),
    ("address-inside", W, S({"to": [{"func": "on({host: 'mill-db'})"}]}), S({"to": [{"func": "on({host: msg.host, 'msg.payload.value': 'config.dev'})"}]})),
    ("address-inside", W, S({"to": [{"func": "on('db.mill.example')"}]}), S({"to": [{"func": "on('files/mill.text', 'mill.exam')"}]})),
    ("address-inside", W, S({"to": [{"host": "mill"}]}), S({"to": [{"host": "mill", "type": "note"}]})),
    ("address-inside", W, S({"to": [{"host": "mill.beef"}]}), S({"to": [{"host": "bf5874816710d0c7"}]})),
    (
        "address-inside",
        W,
        S({"to": [{"code": "\n".join(["// see https://docs.example", "get('http://mill-test:8080/' + n);"])}]}),
        S(
            {
                "to": [
                    {
                        "code": "\n".join(
                            ["get(`https://${mill}/x`); // http://a.example", "* http://b/", "'ws://a-{{b}}'"]
                        )
                    }
                ]
            }
        ),
    ),
    ("address-in-text", W, S({"note": "ask ines@halcyon.example"}), S({"note": "ask @ines, 3 @ 4"})),
    ("region-bound", E, S({"region": "south"}), S({"region": "north"})),
    ("kind-unknown", E, S(there=target(sheets={"table": TABLE})), S()),
    ("schema-other", E, S(there=target(sheets={**SHEETS, "flow": OTHER_FLOW})), S()),
    ("other-ledger", W, S(there=target(of_others={"flow:a": "2f1b8c1e-0000"})), S()),
    ("item-turned", N, S(there=target(turned=frozenset({"table:a"}))), S()),
    ("converted", N, S(there=shaped()), S()),
    ("conversion-drops", W, S(there=shaped(dropped=(("/colour", "red"),))), S()),
    (
        "conversion-unfit",
        E,
        S({"font": "wide"}, shaped(unfit=(("/font", "it has no place"),), sheets={**SHEETS, "flow": OTHER_FLOW})),
        S({"font": "wide"}),
    ),
    ("feature-missing", E, S({"type": "fax"}), S({"type": "mail"})),
    ("feature-missing", E, S({"type": "fax"}), S({"type": "fax"}, target(features=None))),
    ("permission-missing", E, S(there=planned("create", "write", "publish")), S(there=planned("create", "write"))),
    ("permission-missing", E, S(there=target(permissions=frozenset())), S(there=planned("leave"))),
    (
        "name-taken",
        E,
        S(states={"folder": "mill"}, there=target(rows={"flow:other": TAKEN})),
        S(states={"folder": "lab"}, there=target(rows={"flow:other": TAKEN})),
    ),
    ("id-taken", W, S(there=target(doubtful=(("flow:a", Listed("s1", "flow", ("b",), States("B"), "1")),))), S()),
    ("limit-exceeded", E, S(there=target(limits=Limits({"table": 1}))), S(there=target(limits=Limits({"table": 2})))),
    ("limit-exceeded", E, S({"x": "y" * 99}, target(limits=Limits(item_bytes=90))), S({}, target(limits=Limits(item_bytes=90)))),
    ("release-older", W, S(contents={"source_release": "2026.10"}), S(contents={"source_release": "2026.2"})),
    ("local-edits", W, S(there=planned(clashes=("/limit",))), S(there=planned())),
    ("other-claim", W, S(there=target(shared={"flow:a": ("q 2.0.0",)})), S(there=target(shared={}))),
    ("part-in-use", W, S(there=target(severed=(("report:y", "table:deliveries", "kilos"),))), S()),
    ("would-retire", W, S(there=dropped()), S(there=replace(dropped(), rows={}))),
    ("column-lost", W, S(there=over({"columns": [*COLUMNS, {"id": "x", "type": "text"}]})), S(there=over({"columns": COLUMNS}))),
    ("column-lost", W, S(there=over({"columns": [{"id": "kilos", "type": "text"}]})), S(there=over({"columns": []}, None))),
    ("cycle-unbreakable", E, S(others=reports("report:y", "report:x")), S(others=reports("report:y", "report:x"), there=target(is_stepwise=False))),
    ("cycle-unbreakable", E, S(others=reports("report:y", "report:x")), S(others=reports("report:y", "table:deliveries"))),
    (
        "cycle-unbreakable",
        E,
        S(others=(MAKER,), there=target(mapped=(replace(MADE, need=Need("connection:mill-db", ("report:m",))),))),
        S(others=(replace(MAKER, _form={"on": "amphora:table:growers"}),), there=target(mapped=(MADE,))),
    ),
    ("signature-missing", E, S(context={"signature": "not signed", "is_signature_required": True}), S(context={"signature": "not signed"})),
    (
        "signature-doubtful",
        W,
        S(context={"signature": "signed by a key that is not trusted here"}),
        S(context={"signature": "signed by a trusted key (ines)"}),
    ),
    ("format-newer", N, S(contents={"format_minor": 2}, context={"known_minor": 1}), S(contents={"format_minor": 1}, context={"known_minor": 1})),
]  # fmt: skip


@pytest.mark.parametrize("case", CASES, ids=lambda case: str(case[0]))
def test_each_rule_and_its_near_miss(case: tuple[str, Level, Situation, Situation]) -> None:
    rule, level, raises, near = case
    found = check(raises.checked())
    # What comes along with others, and is tried by itself.
    aside = {"need-later", "converted"} - {rule}
    told = [(finding.rule, finding.level) for finding in found if finding.rule not in aside]
    assert told == [(rule, level)]
    assert all(finding.message.endswith(".") for finding in found)
    assert [finding for finding in check(near.checked()) if finding.rule not in aside] == []


NAMED = {
    "item": "item-missing part-missing reference-empty reference-unfit reference-plain unbound-id item-differs"
    " draft-newer undeclared-reference need-open setting-unfit need-other-type needs-share connection-broken"
    " object-missing need-later secret-to-enter secret-in-clear mask-in-place random-looking source-url-in-text"
    " source-host-in-text source-id-in-text address-inside address-in-text region-bound kind-unknown schema-other conversion-drops conversion-unfit"
    " feature-missing item-turned name-taken id-taken limit-exceeded local-edits other-claim other-ledger would-retire column-lost"
    " part-in-use cycle-unbreakable",
    "place": "item-missing part-missing reference-empty reference-unfit reference-plain unbound-id"
    " undeclared-reference need-later setting-unfit secret-in-clear mask-in-place random-looking source-url-in-text"
    " source-host-in-text source-id-in-text address-inside address-in-text local-edits conversion-unfit",
    "next_step": "item-missing part-missing item-differs draft-newer need-open setting-unfit need-other-type needs-share"
    " secret-in-clear mask-in-place region-bound other-ledger conversion-unfit permission-missing signature-missing signature-doubtful",
    "mark": "secret-in-clear random-looking",
}
"""What the findings of each rule name beside their sentence."""


def test_a_place_is_told_as_it_stands_where_nobody_knows_better() -> None:
    context = S({"steps": []}).checked()
    for item, place in (("flow:none", "/a/0"), ("flow:a", ""), ("flow:a", "/steps/7"), ("", "/a")):
        assert context.finding("x", E, "m", item=item, place=place).phrase == place


def test_parts_of_a_kind_that_nobody_knows_are_not_looked_for() -> None:
    gadget = Item("gadget:g", 1, {}, States("G"))
    found = check(S({"column": "amphora:gadget:g#x"}, others=(gadget,)).checked())
    assert {finding.rule for finding in found} == {"kind-unknown", "reference-unfit"}


def test_an_address_that_begins_with_another_is_told_as_itself() -> None:
    urls = ("https://dev.x.example", "https://dev.x.example/apps")
    [found] = check(S({"note": "see https://dev.x.example/apps/7"}, context={"source_urls": urls}).checked())
    assert "holds https://dev.x.example/apps," in found.message
    for urls in (("https://x.example", "https://dev.x.example"), ("https://dev.x.example", "https://x.example")):
        [found] = check(S({"note": "ask at dev.x.example, please"}, context={"source_urls": urls}).checked())
        assert "dev.x.example" in found.message


def test_findings_name_item_place_and_what_to_do() -> None:
    found = [finding for _, _, raises, _ in CASES for finding in check(raises.checked())]
    for part, rules in NAMED.items():
        assert {finding.rule for finding in found if getattr(finding, part)} == set(rules.split()), part
        # In every case: a rule may have several ways to find something.
        bare = {finding.rule for finding in found if not getattr(finding, part)} - {"need-later"}
        assert part == "next_step" or not bare & set(rules.split()), part


def test_what_is_dropped_and_used_still_can_not_be_retired() -> None:
    found = check(S(there=dropped("flow:user", 7)).checked())
    assert [finding.rule for finding in found] == ["would-retire", "retire-blocked"]
    assert "with 7 rows" in found[0].message
    assert "flow:user" in found[1].message


def test_plain_text_is_looked_for_only_where_a_hand_may_have_put_it() -> None:
    assert "reference-plain" not in {one.rule for one in check(S({"uses": "growers"}).checked())}


def test_every_rule_is_tried_here() -> None:
    assert set(RULES) == {case[0] for case in CASES} | {"retire-blocked"}


def test_rules_can_be_set_otherwise_and_findings_silenced() -> None:
    context = S({"note": "ask ines@halcyon.example"}).checked()
    assert [finding.level for finding in check(context, {"address-in-text": "note"})] == [N]
    for waiver, left in (
        (Waiver("address-in-text", "flow:a", "/note", "a public desk"), 0),
        (Waiver("address-in-text", "", "", "we know"), 0),
        (Waiver("address-in-text", "flow:a", "/other", "x"), 1),
        (Waiver("random-looking", "flow:a", "", "x"), 1),
    ):
        assert len(check(context, {}, [waiver])) == left


def test_the_least_role_is_named_with_the_items_that_need_it() -> None:
    [found] = check(S(there=planned("create", "write", "publish")).checked())
    assert "publish (for 'A')" in found.message
    assert "least role that would do is 'some'" in found.message


def test_a_secret_is_never_shown() -> None:
    [found] = check(S({"api_key": "k-991-loud-crow"}).checked())
    assert "k-… (15 characters)" in found.message
    assert "991" not in found.message


@pytest.mark.parametrize(("given", "words"), [("feed", "is feed in live"), ("", "is of no known type in live")])
def test_another_type_is_told_with_what_is_there(given: str, words: str) -> None:
    said = S(there=target(mapped=(replace(MAPPED, native_type=given),)))
    [found] = [one for one in check(said.checked()) if one.rule == "need-other-type"]
    assert found.message == f"connection 'mill-db' {words}, and db in the source."
