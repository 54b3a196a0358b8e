"""What only a real runtime can show."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing
from functools import partial
from importlib.resources import files
from pathlib import Path
from typing import Any

import pytest

from amphora.core.form.settings import is_setting, parse_setting
from amphora.core.form.spots import setting_values
from amphora.core.merge.merge import By
from amphora.core.plan.actions import Do
from amphora.core.plan.gate import reasons_of
from amphora.core.plan.reasons import Consent, Standing, Why
from amphora.core.values.errors import EnvironmentRefused, SheetFault, Unavailable
from amphora.engine.undo import run_to_undo, undo
from amphora.environments.nodered.adapter import connect
from amphora.environments.nodered.flowfile import compose, split
from amphora.environments.nodered.order import PLACE, places_of, rewritten
from amphora.environments.nodered.sheets import nodered_sheets
from amphora.files.workspace import read_workspace
from tests.conftest import run_program
from tests.contract.conftest import nodered_ground
from tests.contract.grounds import Ground
from tests.nodered.runtime import started_runtime
from tests.nodered.seeds import BASE, BROKER, GROUP, INJECT, STAMP, TAB, TARGET, credentials_of, deploy, flows_of

TOKEN = "made-up-token"


@pytest.fixture
def line(tmp_path: Path, runtimes: tuple[str, str], monkeypatch: pytest.MonkeyPatch) -> Iterator[Ground]:
    """The two runtimes, reset."""
    monkeypatch.setenv("TWO_TOKEN", TOKEN)
    made = nodered_ground(tmp_path, runtimes)
    yield made
    made.close()


def test_taken_ids_are_rewritten_everywhere_and_nothing_else_changes(line: Ground, runtimes: tuple[str, str]) -> None:
    line.bring(line.export())
    now = flows_of(runtimes[1], TOKEN)
    for node in TARGET:
        assert now[node["id"]] == {name: value for name, value in node.items() if name != "credentials"}
    [inject] = [node for node in now.values() if node["type"] == "inject"]
    assert inject["id"] != INJECT
    assert inject["wires"] == [["c000000000000002"]]
    assert now["c000000000000003"]["broker"] == "7700000000000001"
    assert now[TAB]["env"][0]["value"] == "south"
    live = {"id": "7700000000000001", "type": "mqtt-broker"}
    assert credentials_of(runtimes[1], live, TOKEN) == {"user": "x", "has_password": True}
    [link] = [link for link in line.session().ledger.links() if link.inner and link.uid != "one"]
    assert link.inner == {INJECT: inject["id"]}


def test_credentials_that_the_target_has_stay_over_an_update(
    line: Ground, tmp_path: Path, runtimes: tuple[str, str]
) -> None:
    line.bring(line.export())
    request = flows_of(runtimes[1], TOKEN)["d000000000000002"]
    entered = {**request, "credentials": {"user": "theirs", "password": "pw-entered-there"}}
    deploy(
        runtimes[1],
        [entered if n["id"] == request["id"] else n for n in flows_of(runtimes[1], TOKEN).values()],
        TOKEN,
    )
    line.change("one", "flow:Press", lambda d: {**d, "info": "new"})
    prepared, _ = line.bring(line.export())
    assert [action.key for action in prepared.docket.by(Do.UPDATE)] == ["flow:Press"]
    assert credentials_of(runtimes[1], {**request, "type": "http-request"}, TOKEN) == {
        "user": "theirs",
        "has_password": True,
    }
    line.change("one", "flow:Press", lambda d: {**d, "nodes": [n for n in d["nodes"] if n["id"] != request["id"]]})
    docket = line.prepare(line.export()).docket
    everything = Standing(frozenset({"read", "write", "retire", "switch"}), sheets=nodered_sheets())
    assert [r.why for r in reasons_of(docket, everything, Consent(is_reviewed=True))] == [Why.DECISION]


def test_nodes_moved_on_the_canvas_are_no_change(line: Ground, tmp_path: Path, runtimes: tuple[str, str]) -> None:
    report = line.export()
    line.bring(report)
    moved = [{**node, "x": 999} if node.get("z") == TAB else node for node in flows_of(runtimes[1], TOKEN).values()]
    deploy(runtimes[1], moved, TOKEN)
    docket = line.prepare(report).docket
    assert docket.is_idle
    assert [a.key for a in docket.actions if a.comparison and a.comparison.is_layout_moved] == [
        "flow:Weigh ticket".replace(" ", "%20")
    ]


def test_a_missing_node_type_is_found_before_anything_is_written(
    line: Ground, tmp_path: Path, runtimes: tuple[str, str]
) -> None:
    with started_runtime(tmp_path_factory(tmp_path), excluded="10-mqtt.js") as lean:
        text = (tmp_path / "amphora.toml").read_text() + f'[environments.lean]\nlocation = "nodered+{lean}"\n'
        (tmp_path / "amphora.toml").write_text(text, encoding="utf-8")
        line.target = "lean"
        docket = line.prepare(line.export()).docket
    assert [finding.rule for finding in docket.errors] == ["feature-missing"]
    assert "'mqtt out'" in docket.errors[0].message


def tmp_path_factory(folder: Path) -> Path:
    (folder / "lean").mkdir()
    return folder / "lean"


def test_an_id_under_another_key_is_not_taken_for_the_same_item(
    line: Ground, tmp_path: Path, runtimes: tuple[str, str]
) -> None:
    other = {"id": TAB, "type": "tab", "label": "Somebody else's", "disabled": False, "info": "", "env": []}
    deploy(runtimes[1], [*TARGET, other], TOKEN)
    report = line.export()
    docket = line.prepare(report).docket
    # Beside it, the address that a node asks goes along, and is told.
    told = [finding for finding in docket.findings if finding.level == "warning"]
    assert [finding.rule for finding in told] == ["address-inside", "id-taken"]
    assert "'Press' leads to http://127.0.0.1:1 by itself" in told[0].message
    line.bring(report)
    now = flows_of(runtimes[1], TOKEN)
    assert now[TAB] == other
    # Under another id it still comes before the one that it stood before.
    tabs = [n["label"] for n in now.values() if n["type"] == "tab"]
    assert tabs == ["Local", "Another thing", "Somebody else's", "Weigh ticket", "Press"]
    assert now[BROKER]["label"] == "Another thing"


def test_unreachable_signed_out_or_something_else(line: Ground, tmp_path: Path, runtimes: tuple[str, str]) -> None:
    for location, secret, error, words in (
        ("http://127.0.0.1:9", "", Unavailable, "can't be reached"),
        (runtimes[1], "wrong", EnvironmentRefused, "does not accept the sign-in"),
        (f"{runtimes[0]}/icons", "", EnvironmentRefused, "refused|answers, but"),
    ):
        with (
            closing(connect(f"nodered+{location}", tmp_path, "", secret)) as environment,
            pytest.raises(error, match=words),
        ):
            environment.describe()
    with pytest.raises(EnvironmentRefused, match="does not accept the sign-in"):
        connect(f"nodered+{runtimes[1]}", tmp_path, "somebody", "wrong")


def test_an_edit_between_two_imports_is_seen_field_by_field_and_a_move_is_a_note(
    line: Ground, runtimes: tuple[str, str]
) -> None:
    report = line.export()
    line.bring(report)
    nodes = flows_of(runtimes[1], TOKEN)
    function = next(node for node in nodes.values() if node.get("name") == "stamp")
    deploy(
        runtimes[1], [node if node is not function else {**node, "x": 999, "y": 7} for node in nodes.values()], TOKEN
    )
    moved = line.prepare(report).docket
    assert moved.is_idle
    [comparison] = [a.comparison for a in moved.actions if a.comparison and a.comparison.is_layout_moved]
    assert comparison.changes == ()
    edited = {**function, "x": 999, "func": "msg.t = 2;\nreturn msg;"}
    deploy(runtimes[1], [node if node is not function else edited for node in nodes.values()], TOKEN)
    docket = line.prepare(report).docket
    changes = [change for a in docket.actions if a.comparison for change in a.comparison.changes]
    assert [(change.place.rpartition("/")[2], change.by, change.target) for change in changes] == [
        ("func", By.TARGET, edited["func"])
    ]
    assert docket.is_idle


CONFIGS = [
    ({"type": "acme-scale", "tcpHost": "10.0.0.7", "port": "502"}, "connection"),
    ({"type": "acme-log", "endpoint": "https://log.test.example/in"}, "connection"),
    ({"type": "acme-serial", "serialport": "/dev/ttyUSB0"}, "connection"),
    ({"type": "acme-serial", "serialport": "COM3"}, "connection"),
    ({"type": "acme-stream", "brokers": ["k1.test.example:9092", "k2:9092"]}, "connection"),
    ({"type": "acme-any", "host": "scales"}, "connection"),
    ({"type": "acme-entity", "server": "hub0000000000001"}, "integration"),
    ({"type": "acme-entity", "server": ""}, "integration"),
    # What was removed long ago leads nowhere.
    ({"type": "acme-entity", "server": "bf5874816710d0c7"}, "integration"),
    ({"type": "acme-entity", "server": "70d4dc0.b0b3d24"}, "integration"),
    ({"type": "acme-doc", "schema": "https://json-schema.example/2020", "info": "see http://help.example/x"}, "integration"),
    ({"type": "acme-time", "at": "10:30", "text": "12:5"}, "integration"),
    ({"type": "ui-base", "path": "/dashboard"}, "integration"),
]  # fmt: skip


@pytest.mark.parametrize(("node", "kind"), CONFIGS)
def test_what_leads_to_another_machine_is_a_connection_whatever_its_member_is_called(
    node: dict[str, object], kind: str
) -> None:
    hub = {"id": "hub0000000000001", "type": "acme-hub", "name": "Hub"}
    assert split([hub, {"id": "n1", "name": "N", **node}])["n1"].kind == kind


@pytest.mark.parametrize("name", [{}, {"name": ""}, {"name": "Olive"}])
def test_a_config_node_without_a_name_stays_so_to_the_letter(name: dict[str, str]) -> None:
    node = {"id": "0e00000000000009", "type": "ui-theme", "colors": {}, **name}
    item = split([node])["0e00000000000009"]
    definition = {n: part for n, part in item.definition().items() if n != PLACE}
    assert compose("integration", item.native_id, definition, item.states, None) == [node]


def test_tabs_among_other_nodes_keep_their_order_whatever_stands_between_them() -> None:
    home = [{"id": id_, "type": "tab" if id_[0] == "t" else "debug"} for id_ in ("t1", "a", "c", "t2", "b", "t3")]
    places = places_of(home)
    # Only tabs come with their places; `c` stays at home, `b` comes as an item of its own, the last tab before all.
    coming = {n["id"]: {**n, PLACE: places[n["id"]]} if n["type"] == "tab" else n for n in home}
    items = [[coming[id_] for id_ in ids.split()] for ids in ("t3", "b", "t2", "t1 a")]
    ids = [node["id"] for node in rewritten([{"id": "t0", "type": "tab"}], [([], item) for item in items])]
    assert [id_ for id_ in ids if id_[0] == "t"] == ["t0", "t1", "t2", "t3"]
    assert sorted(ids) == ["a", "b", "t0", "t1", "t2", "t3"]


def test_a_config_node_as_a_value_is_a_reference_and_defaults_of_subflows_travel(
    line: Ground, runtimes: tuple[str, str]
) -> None:
    entry = {"name": "BROKER", "type": "conf-type", "value": BROKER}
    default = {"name": "LIMIT", "type": "num", "value": "5"}
    changed = []
    for node in flows_of(runtimes[0]).values():
        if node["id"] == STAMP:
            node = {**node, "env": [{**entry, "ui": {"type": "conf-types"}}, default]}
        elif node["type"] == f"subflow:{STAMP}":
            node = {**node, "env": [entry]}
        elif node["id"] == TAB:
            node = {**node, "env": [*node["env"], entry, {"name": "OUT", "type": "mqtt-broker", "value": BROKER}]}
        changed.append(node)
    deploy(runtimes[0], changed)
    report = line.export()
    settings = [need.key for need in report.contents.needs if need.kind == "setting"]
    assert settings == ["setting:Weigh%20ticket-env-REGION"]
    line.bring(report)
    now = flows_of(runtimes[1], TOKEN)
    [stamp] = [node for node in now.values() if node["type"] == "subflow"]
    [used] = [node for node in now.values() if node["type"] == f"subflow:{stamp['id']}"]
    assert [entry["value"] for entry in stamp["env"]] == ["7700000000000001", "5"]
    assert [entry["value"] for entry in used["env"]] == ["7700000000000001"]
    assert [entry.get("value") for entry in now[TAB]["env"]][-2:] == ["7700000000000001"] * 2


def test_the_order_of_tabs_and_nodes_is_kept_and_comes_back(line: Ground, runtimes: tuple[str, str]) -> None:
    source = list(flows_of(runtimes[0]).values())
    before = list(flows_of(runtimes[1], TOKEN).values())
    line.bring(line.export())
    first = list(flows_of(runtimes[1], TOKEN).values())
    tabs = [node["label"] for node in first if node["type"] == "tab"]
    assert tabs == ["Local", "Another thing", "Weigh ticket", "Press"]
    # A node comes, and one goes.
    at = next(n for n, node in enumerate(source) if node["id"] == "c000000000000003")
    new = {"id": "c0000000000000ff", "type": "debug", "z": TAB, "name": "between", "x": 1, "y": 1, "wires": []}
    deploy(runtimes[0], [*source[:at], new, *(n for n in source[at:] if n["id"] != "c000000000000005")])
    line.bring(line.export())
    second = [node["id"] for node in flows_of(runtimes[1], TOKEN).values()]
    assert "c0000000000000ff" in second
    assert "c000000000000005" not in second
    for expected in (first, before):
        session = line.session()
        undo(session, run_to_undo(session, "last"))
        assert list(flows_of(runtimes[1], TOKEN).values()) == expected


def test_a_node_moved_only_in_the_target_stays_where_it_is(line: Ground, runtimes: tuple[str, str]) -> None:
    line.bring(line.export())
    there = flows_of(runtimes[1], TOKEN)
    [function] = [node for node in there.values() if node.get("name") == "stamp"]
    deploy(runtimes[1], [n if n is not function else {**n, "x": 999} for n in there.values()], TOKEN)
    source = flows_of(runtimes[0])
    changed = [{**n, "func": "return msg;", "y": 77} if n.get("name") == "stamp" else n for n in source.values()]
    deploy(runtimes[0], changed)
    line.bring(line.export())
    now = flows_of(runtimes[1], TOKEN)[function["id"]]
    assert (now["func"], now["x"], now["y"]) == ("return msg;", 999, 77)


def test_what_fills_a_page_and_a_link_beside_pages_come_along(line: Ground, runtimes: tuple[str, str]) -> None:
    spacer = {"id": "5b00000000000001", "type": "ui-spacer", "name": "", "group": GROUP, "width": "1", "height": "1", "order": 2}  # fmt: skip
    link = {"id": "5b00000000000002", "type": "ui-link", "name": "Help", "ui": BASE, "path": "/help", "order": 3}
    deploy(runtimes[0], [*flows_of(runtimes[0]).values(), spacer, link])
    line.bring(line.export())
    now = flows_of(runtimes[1], TOKEN)
    group = next(node for node in now.values() if node["type"] == "ui-group")
    assert now[str(spacer["id"])] == {**spacer, "group": group["id"]}
    assert now[str(link["id"])] == link
    assert line.prepare(line.export()).docket.is_idle


def test_entries_of_a_tab_have_types_of_their_own(line: Ground, runtimes: tuple[str, str]) -> None:
    entries = [
        ("LIMIT", "num", "15"),
        ("STRICT", "bool", "true"),
        ("SHAPE", "json", '{"a": 1}'),
        ("WORD", "str", "x"),
    ]
    env = [{"name": name, "type": type_, "value": value} for name, type_, value in entries]
    nodes = [{**node, "env": env} if node["id"] == TAB else node for node in flows_of(runtimes[0]).values()]
    deploy(runtimes[0], nodes)
    [tab] = [item for item in line.export().contents.items.values() if item.native_id == TAB]
    types = [type_ for _, _, type_ in setting_values(tab.form, nodered_sheets()["flow"])]
    assert types == ["number in text", "yes/no in text", "JSON in text", "text"]
    assert parse_setting("no", types[1]) == "false"
    assert [is_setting(value, types[0]) for value in ("15", "1e3", "x", 15)] == [True, True, False, False]


def test_a_workspace_says_what_else_is_a_connection(line: Ground, tmp_path: Path, runtimes: tuple[str, str]) -> None:
    plc = {"id": "ac00000000000001", "type": "acme-plc", "name": "Press control", "slot": "3"}
    help_ = {"id": "ac00000000000002", "type": "acme-help", "name": "Help", "page": "https://help.example/x"}
    deploy(runtimes[0], [*flows_of(runtimes[0]).values(), plc, help_])
    kinds = tmp_path / "kinds"
    kinds.mkdir()
    own = nodered_sheets()["integration"].source
    rules = own.replace("types   = [", 'never = ["acme-help"]\ntypes   = ["acme-plc", ')
    for text, connections in ((own, {"Mill broker", "Help"}), (rules, {"Mill broker", "Press control"})):
        (kinds / "integration.toml").write_text(text, encoding="utf-8")
        session = line.session()
        assert {supply.name for supply in session.open("one").environment.supplies()} == connections
    (kinds / "integration.toml").write_text(rules.replace("never", "nevver"), encoding="utf-8")
    with pytest.raises(SheetFault, match=r"integration\.toml"):
        line.session().open("one")


def test_what_somebody_links_to_stays_when_the_run_that_brought_it_is_undone(
    line: Ground, runtimes: tuple[str, str]
) -> None:
    entry = {
        "id": "aa00000000000001",
        "type": "link in",
        "z": TAB,
        "name": "in",
        "links": [],
        "wires": [[]],
        "x": 9,
        "y": 9,
    }
    line.change("one", "flow:Weigh%20ticket", lambda d: {**d, "nodes": [*d["nodes"], entry]})
    line.bring(line.export())
    brought = flows_of(runtimes[1], TOKEN)
    theirs = {"id": "aa00000000000002", "type": "tab", "label": "Theirs", "disabled": False, "info": "", "env": []}
    out = {
        "id": "aa00000000000003",
        "type": "link out",
        "z": theirs["id"],
        "links": [entry["id"]],
        "x": 1,
        "y": 1,
        "wires": [],
    }
    deploy(runtimes[1], [*brought.values(), theirs, out], TOKEN)
    session = line.session()
    back = undo(session, run_to_undo(session, "last"))
    now = flows_of(runtimes[1], TOKEN)
    assert entry["id"] in now, back.told()
    assert any("'Theirs' uses it" in one for one in back.left)


def test_what_counts_as_a_connection_since_it_was_brought_is_promised_by_nobody(line: Ground) -> None:
    line.bring(line.export())
    rules = (files("amphora.environments.nodered") / "kinds" / "integration.toml").read_text("utf-8")
    (line.folder / "kinds").mkdir()
    (line.folder / "kinds" / "integration.toml").write_text(rules.replace('types   = ["', 'types = ["ui-theme", "'))
    run = partial(run_program, line.folder)
    assert run("edits", "two").code == 0
    looked = run("verify", "moved", "two")
    assert (looked.code, "A connection of the environment's own by now\n- integration:Olive" in looked.out) == (
        0,
        True,
    )
    again = run("import", "moved", "two", "--yes")
    assert (again.code, again.verdict.startswith("Nothing to do: two already has moved")) == (0, True)
    assert "integration:Olive is a connection of two's own by now" in run("check", "moved", "two").out
    # Packed anew it is a connection to be mapped, as for whoever takes it for the first time.
    assert "connection:Olive" in {need.key for need in line.export().contents.needs}
    back = run("undo", "last", "--yes")
    assert (back.code, back.verdict) == (1, "two-1 is undone: two is as it was before but for 1 item.")
    assert "it is a connection of the environment's own by now" in back.out
    left = [node["name"] for node in line_flows(line) if node["type"].startswith("ui-")]
    assert left == ["Olive"]


def line_flows(line: Ground) -> list[dict[str, Any]]:
    address = read_workspace(line.folder).environments["two"].location.removeprefix("nodered+")
    return list(flows_of(address, TOKEN).values())
