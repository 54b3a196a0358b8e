"""What platforms want to be sent that is no whole item in JSON: forms, operations that lead there, versions one by one."""

from __future__ import annotations

from pathlib import Path
from typing import Any
from urllib.parse import parse_qs

import jsonpatch
import pytest

from tests.conftest import run_program
from tests.contract.answering import Said, described, pair

HEAD = 'bridge = "desk"\nkinds = ["note.toml"]\n[about]\nuid = { get = "/about", at = "$.uid" }\n'
FORM = {'{ post = "/notes" }': '{ post = "/notes", as_form = true }'}
FORM['{ put = "/notes/{id}" }'] = '{ post = "/notes/{id}", as_form = true, how = "by member" }'
PATCH = {'{ put = "/notes/{id}" }': '{ patch = "/notes/{id}", how = "json patch" }'}
APART = """
[item.note]
index      = { get = "/notes", rows = "$[*]" }
row        = { get = "/notes/{id}" }
read       = { get = "/notes/{id}/live" }
draft      = { get = "/notes/{id}/newest" }
id         = "$.id"
title      = "$.name"
definition = ["text", "words"]
create     = { post = "/notes", only = [], follow = true }
update     = { post = "/notes/{id}/versions", body = "{definition}", titled = { patch = "/notes/{id}", body = { name = "{title}" } } }
publish    = { post = "/notes/{id}/press" }
retire     = { delete = "/notes/{id}" }
"""
STATES = "[states]\npublish = true\n"


class Desk:
    """Notes: written as they are sent, and nothing else."""

    def __init__(self, name: str) -> None:
        self.name, self.notes, self.sent = name, dict[str, dict[str, Any]](), list[Any]()

    def add(self, **members: Any) -> dict[str, Any]:
        id_ = f"{self.name}{len(self.notes)}"
        self.notes[id_] = {"id": id_, "text": "", "words": [], "size": "", **members}
        return self.notes[id_]

    def told(self) -> list[Any]:
        return sorted([one["name"], one["text"], one["words"], one["size"]] for one in self.notes.values())

    def __call__(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        id_, type_ = path.rpartition("/")[2], headers.get("Content-Type", "").partition(";")[0]
        if method != "GET":
            self.sent.append((method, type_, body))
        if id_ == "about":
            return 200, {"uid": self.name}, {}
        if type_ == "application/x-www-form-urlencoded":
            some = parse_qs(body or "", keep_blank_values=True)
            body = {name: found if name == "words" else found[0] for name, found in some.items()}
            body |= {"words": [word for word in body["words"] if word]} if "words" in body else {}
        if path == "/notes":
            return (200, list(self.notes.values()), {}) if method == "GET" else (201, self.add(**body), {})
        if id_ not in self.notes:
            return 404, None, {}
        if type_ == "application/json-patch+json":
            self.notes[id_] = jsonpatch.apply_patch(self.notes[id_], body)
        elif method == "POST":
            self.notes[id_] |= body
        elif method == "DELETE":
            return 200, self.notes.pop(id_), {}
        return 200, self.notes[id_], {}


@pytest.mark.parametrize("manner", [FORM, PATCH], ids=["form", "json patch"])
def test_forms_and_operations_say_what_is_meant(tmp_path: Path, manner: dict[str, str]) -> None:
    sheet = HEAD + described("note", "/notes", ["text", "words", "size"])
    for old, new in manner.items():
        sheet = sheet.replace(old, new)
    (tmp_path / "desk.toml").write_text(sheet)
    (tmp_path / "note.toml").write_text('kind = "note"\nstart = true\n')
    one, two = Desk("one"), Desk("two")
    first = one.add(name="Weigh", text="50 % & more = grüß", words=["a", "b c"], size="7")
    two.add(name="Other")
    before = two.told()
    with pair(tmp_path, "desk", one, two) as run:
        run("export", "here", "*", "--as", "p")
        run("import", "p", "there", "--yes")
        assert two.told() == sorted([*before, *one.told()])
        one.notes[first["id"]] |= {"name": "Weighing", "words": ["b c"], "text": ""}
        run("export", "here", "*", "--as", "p")
        then = two.told()
        run("import", "p", "there", "--yes")
        assert two.told() == sorted([*before, *one.told()])
        method, type_, body = two.sent[-1]
        if manner is PATCH:
            # Only what changed, and by an implementation that isn't ours.
            assert (method, type_) == ("PATCH", "application/json-patch+json")
            assert {operation["path"].split("/")[1] for operation in body} == {"name", "words", "text"}
        run("undo", "last", "--yes")
        assert two.told() == then
        run("undo", "there-1", "--yes")
        assert two.told() == before


class Press(Desk):
    """A note is made by its name, and then gets one version after the other, of which one is live."""

    def add(self, **members: Any) -> dict[str, Any]:
        id_ = f"{self.name}{len(self.notes)}"
        self.notes[id_] = {"id": id_, "versions": [], "live": None, **members}
        return self.notes[id_]

    def __call__(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        _, *steps = path.split("/")
        one = self.notes.get(steps[1]) if len(steps) > 1 else None
        if one is None or len(steps) < 3:
            if one and method == "PATCH":
                one |= body
            return super().__call__("GET" if method == "PATCH" else method, path, said, body, headers)
        if steps[2] == "versions":
            one["versions"].append(body)
        elif steps[2] == "press":
            one["live"] = one["versions"][-1]
        found = one["live"] if steps[2] == "live" else one["versions"][-1] if one["versions"] else None
        return (200, found, {}) if found is not None else (404, None, {})


def test_what_has_no_version_yet_is_there_and_holds_nothing(tmp_path: Path) -> None:
    (tmp_path / "desk.toml").write_text(HEAD + APART)
    (tmp_path / "note.toml").write_text('kind = "note"\nstart = true\n' + STATES)
    one, two = Press("one"), Press("two")
    full, empty = one.add(name="Weigh"), one.add(name="Empty")
    full |= {"versions": [{"text": "t", "words": []}], "live": {"text": "t", "words": []}}
    with pair(tmp_path, "desk", one, two) as run:
        assert "note:Empty" in run("survey", "here").out
        run("env", "prove", "here", "--yes")
        assert list(one.notes.values()) == [full, empty]
        run("export", "here", "Weigh", "--as", "p")
        run("import", "p", "there", "--yes")
        [made] = two.notes.values()
        assert (made["name"], made["versions"], made["live"]) == ("Weigh", full["versions"], full["live"])
        run("undo", "last", "--yes")
        assert two.notes == {}


TILES = """
[item.chart]
index      = { get = "/charts", rows = "$[*]" }
read       = { get = "/charts", at = "$[?@.id == {id}]" }
id         = "$.id"
title      = "$.name"
definition = ["query"]
create     = { post = "/charts" }
update     = { put = "/charts/{id}" }
retire     = { delete = "/charts/{id}" }
"""
BOARD = """
more = { tiles = { get = "/boards/{id}/tiles", entry = "$.no", without = ["$.no", "$.chart.query"], \
add = { post = "/boards/{id}/tiles", body = { chart_id = "{value.chart.id}", text = "{value.text}" } }, \
remove = { delete = "/boards/{id}/tiles/{entry}" } } }
"""


class Wall:
    """Charts that no call shows by itself, and boards whose tiles show the whole chart, and take its id."""

    def __init__(self, name: str, number: int) -> None:
        self.name, self.number, self.charts, self.boards = name, number, dict[int, Any](), dict[int, Any]()

    def add(self, kind: str, **members: Any) -> dict[str, Any]:
        self.number += 1
        held = self.boards if kind == "boards" else self.charts
        one = {"id": self.number, **({"tiles": []} if kind == "boards" else {}), **members}
        held[self.number] = one
        return one

    def told(self) -> list[Any]:
        names = {id_: one["name"] for id_, one in self.charts.items()}
        boards = [
            [one["name"], sorted([names.get(tile["chart"], ""), str(tile["text"])] for tile in one["tiles"])]
            for one in self.boards.values()
        ]
        return sorted([*boards, *([one["name"], one["query"]] for one in self.charts.values())])

    def __call__(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        _, kind, *rest = path.split("/")
        if kind == "about":
            return 200, {"uid": self.name}, {}
        held = self.boards if kind == "boards" else self.charts
        if not rest:
            return (201, self.add(kind, **body), {}) if method == "POST" else (200, list(held.values()), {})
        if int(rest[0]) not in held or (kind == "charts" and method == "GET"):
            return 404, None, {}
        one = held[int(rest[0])]
        if len(rest) == 1:
            one |= body or {}
            return 200, held.pop(one["id"]) if method == "DELETE" else one, {}
        if method == "POST":
            assert body["chart_id"] is None or body["chart_id"] in self.charts
            self.number += 1
            one["tiles"].append({"no": self.number, "chart": body["chart_id"], "text": body["text"]})
        elif method == "DELETE":
            one["tiles"] = [tile for tile in one["tiles"] if tile["no"] != int(rest[2])]
        return 200, [{**tile, "chart": self.charts.get(tile["chart"])} for tile in one["tiles"]], {}


def test_an_object_is_shown_where_an_id_is_taken_and_single_answers_are_found_in_the_list(tmp_path: Path) -> None:
    sheet = 'bridge = "wall"\nkinds = ["board.toml", "chart.toml"]\n[about]\nuid = { get = "/about", at = "$.uid" }\n'
    (tmp_path / "wall.toml").write_text(sheet + described("board", "/boards", [], BOARD.strip()) + TILES)
    ids = '[ids]\nspace = "{0}"\nnumber = true\n'
    refers = '[[refers]]\nat = "$.tiles[*].chart.id"\nto = ["chart"]\n[fields]\nunordered = ["$.tiles"]\n'
    (tmp_path / "board.toml").write_text('kind = "board"\nstart = true\n' + ids.format("board") + refers)
    (tmp_path / "chart.toml").write_text('kind = "chart"\n' + ids.format("chart"))
    one, two = Wall("one", 0), Wall("two", 100)
    chart, board = one.add("charts", name="Kilos", query="q"), one.add("boards", name="Week")
    board["tiles"] = [{"no": 90, "chart": chart["id"], "text": ""}, {"no": 91, "chart": None, "text": "Every Monday"}]
    two.add("charts", name="Other", query="")
    before = two.told()
    with pair(tmp_path, "wall", one, two) as run:
        run("export", "here", "Week", "--as", "p")
        run("import", "p", "there", "--yes")
        assert two.told() == sorted([*one.told(), *before])
        run("verify", "p", "there")
        run("undo", "last", "--yes")
        assert two.told() == before


RULES = """
[item.rule]
index      = { get = "/rules", rows = "$[*]" }
row        = { get = "/rules", at = "$[?@.name == {id}]" }
read       = { get = "/rules/{id}", as_text = "source", media = "application/yaml" }
id         = "$.name"
title      = "$.name"
definition = ["source"]
create     = { put = "/rules/{title}", as_text = "source", media = "application/yaml", id = "listed", same = ["$.name"] }
update     = { put = "/rules/{id}", as_text = "source", media = "application/yaml", read_only = ["name"] }
retire     = { delete = "/rules/{id}" }
"""
RULE = 'kind = "rule"\nstart = true\n[ids]\nspace = "rule"\n[[mention]]\npattern = "after: {id}\\n"\nkind = "rule"\nby = "title"\n'


class Rules:
    """Rules in YAML, and nothing but that: what they are called stands in the path."""

    def __init__(self, name: str, **rules: str) -> None:
        self.name, self.rules = name, rules

    def __call__(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        name = path.rpartition("/")[2]
        if name in ("about", "rules"):
            return 200, {"uid": self.name} if name == "about" else [{"name": one} for one in self.rules], {}
        if method == "PUT":
            assert headers["Content-Type"].startswith("application/yaml")
            self.rules[name] = body.encode("latin-1").decode()
            return 200, f"stored: {name}\nas: yaml\n", {"Content-Type": "application/yaml"}
        if name not in self.rules:
            return 404, {"message": "no such rule"}, {}
        if method == "DELETE":
            return 204, self.rules.pop(name) and None, {}
        kind = "text/html" if self.rules[name].startswith("<") else "application/yaml"
        return 200, self.rules[name], {"Content-Type": f"{kind}; charset=utf-8"}


def test_what_is_text_and_no_json_moves_like_anything_else(tmp_path: Path) -> None:
    sheet = HEAD.replace("note.toml", "rule.toml").replace("desk", "rules")
    (tmp_path / "rules.toml").write_text(sheet + RULES)
    (tmp_path / "rule.toml").write_text(f'{RULE}[fields]\ntext = ["$.source"]\n')
    one, two = Rules("one", hot="expr: t > 27\n", late="after: hot\nfür: 5m\n"), Rules("two", old="x: 1\n")
    with pair(tmp_path, "rules", one, two) as run:
        run("env", "prove", "here", "--yes")
        assert sorted(one.rules) == ["hot", "late"]
        assert "used by rule:late" in run("export", "here", "late", "--as", "p").out
        run("import", "p", "there", "--yes")
        assert two.rules == {**one.rules, "old": "x: 1\n"}
        one.rules["late"] = "after: hot\nfür: 6m\n"
        run("export", "here", "late", "--as", "p")
        run("import", "p", "there", "--yes")
        assert two.rules["late"] == one.rules["late"]
        run("undo", "last", "--yes")
        run("undo", "there-1", "--yes")
        assert two.rules == {"old": "x: 1\n"}
        # A page that asks to wait, or to sign in, is no rule.
        one.rules["hot"] = "<html>"
        assert "it answers text/html, and not application/yaml" in run("survey", "here", code=4).err


def test_a_title_in_a_text_needs_an_end(tmp_path: Path) -> None:
    (tmp_path / "rules.toml").write_text(HEAD.replace("note.toml", "rule.toml") + RULES)
    (tmp_path / "rule.toml").write_text(RULE.replace("{id}\\n", "{id}"))
    run_program(tmp_path, "init")
    done = run_program(tmp_path, "env", "add", "x", "http://127.0.0.1:9", "--bridge", "rules.toml", "--role", "test")
    assert (done.code, "'after: {id}' needs something on both sides" in done.err) == (2, True), done.err
