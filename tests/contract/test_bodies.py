"""What platforms want to be sent that is no whole item in JSON: forms, operations that lead there, versions one by one."""

from __future__ import annotations

from pathlib import Path
from typing import Any
from urllib.parse import parse_qs

import jsonpatch
import pytest

from tests.conftest import run_program
from tests.contract.answering import Plain, Said, pair, sheets_of, written

FORM = {'{ post = "/notes" }': '{ post = "/notes", as_form = true }'}
FORM['{ put = "/notes/{id}" }'] = '{ post = "/notes/{id}", as_form = true, how = "by member" }'
PATCH = {'{ put = "/notes/{id}" }': '{ patch = "/notes/{id}", how = "json patch" }'}


class Desk(Plain):
    """Notes: written as they are sent, and nothing else."""

    def __init__(self, name: str) -> None:
        super().__init__(name)
        self.notes, self.sent = self.held["notes"], list[Any]()

    def next(self) -> str:
        return f"{self.name}{super().next()}"

    def told(self) -> list[Any]:
        return sorted([one["name"], one["text"], one["words"], one["size"]] for one in self.notes.values())

    def __call__(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        id_, type_ = path.rpartition("/")[2], headers.get("Content-Type", "").partition(";")[0]
        if method != "GET":
            self.sent.append((method, type_, body))
        if type_ == "application/x-www-form-urlencoded":
            some = parse_qs(body or "", keep_blank_values=True)
            body = {name: found if name == "words" else found[0] for name, found in some.items()}
            body |= {"words": [word for word in body["words"] if word]} if "words" in body else {}
        if type_ == "application/json-patch+json":
            self.notes[id_] = jsonpatch.apply_patch(self.notes[id_], body)
            body = {}
        return super().__call__(method, path, said, body, headers)


@pytest.mark.parametrize("manner", [FORM, PATCH], ids=["form", "json patch"])
def test_forms_and_operations_say_what_is_meant(tmp_path: Path, manner: dict[str, str]) -> None:
    sheet = sheets_of("notes")["notes"]
    for old, new in manner.items():
        sheet = sheet.replace(old, new)
    one, two = Desk("one"), Desk("two")
    first = one.add("notes", name="Weigh", text="50 % & more = grüß", words=["a", "b c"], size="7")
    two.add("notes", name="Other", text="", words=[], size="")
    before = two.told()
    with pair(tmp_path, sheets_of("notes", notes=sheet), one, two) as run:
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

    def add(self, kind: str, **members: Any) -> dict[str, Any]:
        return super().add(kind, **members, versions=[], live=None)

    def inside(self, method: str, kind: str, one: dict[str, Any], steps: list[str], body: Any) -> Said:
        if steps == ["versions"]:
            one["versions"].append(body)
        elif steps == ["press"]:
            one["live"] = one["versions"][-1]
        found = one["live"] if steps == ["live"] else one["versions"][-1] if one["versions"] else None
        return (200, found, {}) if found is not None else (404, None, {})


def test_what_has_no_version_yet_is_there_and_holds_nothing(tmp_path: Path) -> None:
    one, two = Press("one"), Press("two")
    full, empty = one.add("notes", name="Weigh"), one.add("notes", name="Empty")
    full |= {"versions": [{"text": "t", "words": []}], "live": {"text": "t", "words": []}}
    with pair(tmp_path, sheets_of("presses"), one, two) as run:
        assert "note:Empty" in run("survey", "here").out
        run("env", "prove", "here", "--yes")
        assert list(one.notes.values()) == [full, empty]
        run("export", "here", "Weigh", "--as", "p")
        run("import", "p", "there", "--yes")
        [made] = two.notes.values()
        assert (made["name"], made["versions"], made["live"]) == ("Weigh", full["versions"], full["live"])
        run("undo", "last", "--yes")
        assert two.notes == {}


class Wall(Plain):
    """Charts that no call shows by itself, and boards whose tiles show the whole chart, and take its id."""

    def __init__(self, name: str, first: int) -> None:
        super().__init__(name, first)
        self.charts = self.held["charts"]

    def add(self, kind: str, **members: Any) -> dict[str, Any]:
        return super().add(kind, **({"tiles": []} if kind == "boards" else {}), **members)

    def told(self) -> list[Any]:
        names = {id_: one["name"] for id_, one in self.charts.items()}
        boards = [
            [one["name"], sorted([names.get(tile["chart"], ""), str(tile["text"])] for tile in one["tiles"])]
            for one in self.held["boards"].values()
        ]
        return sorted([*boards, *([one["name"], one["query"]] for one in self.charts.values())])

    def __call__(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        is_alone = method == "GET" and path.startswith("/charts/")
        return (404, None, {}) if is_alone else super().__call__(method, path, said, body, headers)

    def inside(self, method: str, kind: str, one: dict[str, Any], steps: list[str], body: Any) -> Said:
        if method == "POST":
            assert body["chart_id"] is None or body["chart_id"] in self.charts
            one["tiles"].append({"no": self.next(), "chart": body["chart_id"], "text": body["text"]})
        elif method == "DELETE":
            one["tiles"] = [tile for tile in one["tiles"] if tile["no"] != int(steps[1])]
        return 200, [{**tile, "chart": self.charts.get(tile["chart"])} for tile in one["tiles"]], {}


def test_an_object_is_shown_where_an_id_is_taken_and_single_answers_are_found_in_the_list(tmp_path: Path) -> None:
    one, two = Wall("one", 0), Wall("two", 100)
    chart, board = one.add("charts", name="Kilos", query="q"), one.add("boards", name="Week")
    board["tiles"] = [{"no": 90, "chart": chart["id"], "text": ""}, {"no": 91, "chart": None, "text": "Every Monday"}]
    two.add("charts", name="Other", query="")
    before = two.told()
    with pair(tmp_path, sheets_of("wall"), one, two) as run:
        run("export", "here", "Week", "--as", "p")
        run("import", "p", "there", "--yes")
        assert two.told() == sorted([*one.told(), *before])
        run("verify", "p", "there")
        run("undo", "last", "--yes")
        assert two.told() == before


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
    one, two = Rules("one", hot="expr: t > 27\n", late="after: hot\nfür: 5m\n"), Rules("two", old="x: 1\n")
    with pair(tmp_path, sheets_of("rules"), one, two) as run:
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
    written(tmp_path, sheets_of("rules", rule=sheets_of("rules")["rule"].replace("{id}\\n", "{id}")))
    run_program(tmp_path, "init")
    done = run_program(tmp_path, "env", "add", "x", "http://127.0.0.1:9", "--bridge", "rules.toml", "--role", "test")
    assert (done.code, "'after: {id}' needs something on both sides" in done.err) == (2, True), done.err
