"""What platforms want to be sent that is no whole item in JSON: forms, operations that lead there, versions one by one."""

from __future__ import annotations

from pathlib import Path
from typing import Any
from urllib.parse import parse_qs

import jsonpatch
import pytest

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
