"""What platforms do that the usual ones don't: rows that name each other, removals that take others along, members with
calls of their own, and nine that each do one thing otherwise."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Done, run_program
from tests.contract.answering import Plain, Said, pair, served, sheets_of, written
from tests.contract.lives import life
from tests.told import compared, folded


class Racks(Plain):
    """A platform that takes along whatever stands in what is removed, without a word."""

    def next(self) -> str:
        return f"n{super().next()}"

    def removed(self, kind: str, one: dict[str, Any]) -> None:
        super().removed(kind, one)
        for other, at in (("jars", "rack"), ("labels", "jar")):
            for inside in [inside for inside in self.held[other].values() if inside[at] == one["id"]]:
                self.removed(other, inside)

    @property
    def names(self) -> list[str]:
        return sorted(one["name"] for held in self.held.values() for one in held.values())


def test_what_is_taken_along_is_shown_and_needs_consent_of_its_own(tmp_path: Path) -> None:
    one, two = Racks("one"), Racks("two", 50)
    for name in ("Rack 1", "Rack 2"):
        one.add("racks", name=name, note="")
    with pair(tmp_path, sheets_of("racks"), one, two) as run:
        run("export", "here", "Rack 1", "Rack 2", "--as", "p")
        run("import", "p", "there", "--yes")
        jar = two.add("jars", name="Jar", rack=two.named("Rack 2")["id"])
        two.add("labels", name="Label", jar=jar["id"])
        run("export", "here", "Rack 1", "--as", "p")
        assert "goes along with rack:Rack 2" in " ".join(run("compare", "p", "there").out.split())
        refused = run("import", "p", "there", "--yes", "--retire", "Rack 2", code=3)
        assert "rack:Rack 2 would take jar:Jar along" in refused.err
        assert '--retire "rack:Rack 2" --retire jar:Jar' in refused.err
        assert two.names == ["Jar", "Label", "Rack 1", "Rack 2"]
        # What it says to type leads on, to the next one and then to the end.
        run("import", "p", "there", "--yes", "--retire", "Rack 2", "--retire", "Jar", code=3)
        run("import", "p", "there", "--yes", "--retire", "Rack 2", "--retire", "Jar", "--retire", "Label")
        assert two.names == ["Rack 1"]
        # For people, and for the day when there is no ledger.
        kept = sorted(path.name for path in (tmp_path / "runs").rglob("*.json"))
        assert kept == ["jar%3AJar.json", "label%3ALabel.json", "rack%3ARack%25202.json"]
        assert '"title": "Jar"' in next((tmp_path / "runs").rglob("jar*.json")).read_text("utf-8")
        run("undo", "last", "--yes")
        assert two.names == ["Jar", "Label", "Rack 1", "Rack 2"]
        run("withdraw", "p", "there", "--retire-all")
        assert two.names == []


class Books(Plain):
    """A platform whose rows have numbers that it gives anew, and name each other by them."""

    def add(self, kind: str, **members: Any) -> dict[str, Any]:
        one = super().add(kind, **members)
        one["rows"] = [{"no": self.next(), "values": row} for row in one.get("rows", [])]
        return one

    def inside(self, method: str, kind: str, one: dict[str, Any], steps: list[str], body: Any) -> Said:
        if method == "GET":
            return 200, one["rows"], {}
        made = [{**line, "no": self.next()} for line in body["lines"]]
        one["rows"] += made
        return 200, {"made": [row["no"] for row in made]}, {}

    def shown(self, one: dict[str, Any]) -> dict[str, Any]:
        return {**{n: v for n, v in one.items() if n != "rows"}, "lines": len(one["rows"])}

    def links(self, name: str, at: str) -> list[list[str]]:
        """Which rows those of a book name there, by their own names."""
        names = {row["no"]: row["values"].get("called") for one in self.held["books"].values() for row in one["rows"]}
        return [[str(names.get(no)) for no in row["values"][at]] for row in self.named(name)["rows"]]


def test_rows_that_name_rows_of_another_table_follow_them(tmp_path: Path) -> None:
    one, two = Books("one", 10), Books("two", 500)
    growers = one.add("books", name="Growers", columns=[], rows=[{"called": name} for name in ("ada", "ben", "cid")])
    ada, ben, cid = (row["no"] for row in growers["rows"])
    columns = [{"name": "the grower's", "book": growers["id"]}, {"name": "kilos"}]
    rows = [{"the grower's": named} for named in ([cid, ada], [], [ben, 999])]
    one.add("books", name="Deliveries", columns=columns, rows=rows)
    with pair(tmp_path, sheets_of("books"), one, two) as run:
        run("export", "here", "Deliveries", "--with", "records", "--as", "p")
        run("import", "p", "there", "--with", "records", "--yes")
        # What was gone at home leads nowhere here either.
        followed = [["cid", "ada"], [], ["ben", "None"]]
        assert two.links("Deliveries", "the grower's") == one.links("Deliveries", "the grower's") == followed
        # What was there before and comes back under other numbers is followed as well.
        run("withdraw", "p", "there", "--retire-all")
        assert not two.held["books"]
        run("undo", "last", "--yes")
        assert two.links("Deliveries", "the grower's") == followed
        run("undo", "there-1", "--yes")
        # The growers are there already, with numbers of their own: nobody knows which is which.
        two.add("books", name="Growers", columns=[], rows=[{"called": "somebody else"}])
        done = run("import", "p", "there", "--same", "Growers", "--with", "records", "--yes", code=4)
        assert "nobody knows what these are called here" in done.err
        assert len(two.held["books"]) == 1


def test_rows_that_name_rows_of_their_own_table_come_after_these(tmp_path: Path) -> None:
    one, two = Books("one", 10), Books("two", 500)
    columns = [{"name": "above", "book": 11}]
    book = one.add("books", name="Growers", columns=columns, rows=[{"called": name} for name in "abcde"])
    assert book["id"] == 11
    a, b, c, d, e = (row["no"] for row in book["rows"])
    # Behind it, in its own piece, before it, gone, and nobody.
    for row, above in zip(book["rows"], ([d], [a], [b, e], [999], []), strict=True):
        row["values"]["above"] = above
    with pair(tmp_path, sheets_of("books"), one, two) as run:
        run("export", "here", "Growers", "--with", "records", "--as", "p")
        run("import", "p", "there", "--with", "records", "--yes")
        called = [row["values"]["called"] for row in two.named("Growers")["rows"]]
        found = dict(zip(called, two.links("Growers", "above"), strict=True))
        assert found == {"a": ["d"], "b": ["a"], "c": ["b", "e"], "d": ["None"], "e": []}
        run("undo", "last", "--yes")
        book["rows"][3]["values"]["above"] = [c]
        run("export", "here", "Growers", "--with", "records", "--as", "p")
        done = run("import", "p", "there", "--with", "records", "--yes", code=4)
        assert "name each other in a circle" in done.err
        assert "there is as it was before" in done.err
        assert not two.held["books"]


SAYING = 'kind = "watch"\n[ids]\nspace = "watch"\n[fields]\ntext = ["$.hall"]\n'
SAYING += '[[mention]]\npattern = "[[{id}]]"\nkind = "hall"\nby = "title"\n'
HALLS = sheets_of("halls")


class Halls(Plain):
    """A platform whose watches name their hall by its title, and whose halls know nothing of that."""

    def __init__(self, name: str) -> None:
        super().__init__(name)
        self.wrote: list[str] = []

    def changed(self, kind: str, one: dict[str, Any], body: Any) -> None:
        one |= body
        self.wrote.append(body["name"])

    def told(self) -> list[list[Any]]:
        return [[one["name"], one.get("hall")] for kind in ("hall", "watch") for one in self.held[kind].values()]


@pytest.mark.parametrize(
    ("said", "watch"), [("{}", HALLS["watch"]), ("look into [[{}]] and [[Nowhere]] twice", SAYING)]
)
def test_what_names_something_by_its_title_follows_it_or_is_told(tmp_path: Path, said: str, watch: str) -> None:
    one, two = Halls("one"), Halls("two")
    press = one.add("hall", name="Press", size=4)
    heat = one.add("watch", name="Heat", hall=said.format("Press"), every=5)
    with pair(tmp_path, HALLS | {"watch": watch}, one, two) as run:
        run("export", "here", "Heat", "--as", "p")
        run("import", "p", "there", "--yes")
        press["name"], heat["hall"] = "Great press", said.format("Great press")
        run("export", "here", "Heat", "--as", "p")
        done = run("compare", "p", "there", "--docket", "d.yaml", code=1)
        assert "names what is called otherwise from now on" in done.out
        run("import", "d.yaml", "there", "--yes")
        assert (two.told(), two.wrote) == (one.told(), ["Great press", "Heat"])
        run("verify", "p", "there")
        assert "Nothing to do" in run("import", "p", "there", "--yes").out
        # Back the same way; and nobody else's is left with a name that leads nowhere.
        assert "is as it was before" in run("undo", "there-2", "--yes").out
        assert two.told() == [["Press", None], ["Heat", said.format("Press")]]
        two.add("watch", name="Night", hall=said.format("Press"), every=9)
        done = run("import", "p", "there", "--yes", code=3)
        assert "hall:Press is named by watch:Night" in done.err
        assert "amphora import p-1.0.1 there --title hall:Press=Press" in done.err
        assert len(two.wrote) == 4
        run("import", "p", "there", "--title", "hall:Press=Press", "--yes")
        assert [name for name, _ in two.told()] == ["Press", "Heat", "Night"]
        two.removed("watch", two.named("Night"))
        run("import", "p", "there", "--title", "hall:Press=Great press", "--yes")
        two.add("watch", name="Night", hall=said.format("Great press"), every=9)
        wrote = list(two.wrote)
        done = run("undo", "last", "--yes", code=1)
        assert "'Great press' stays as it is: 'Night' names it by its title" in done.out
        great = said.format("Great press")
        assert two.told() == [["Great press", None], ["Heat", great], ["Night", great]]
        assert two.wrote == wrote


def test_whether_a_moment_is_guarded_is_said_of_what_is_written_over(tmp_path: Path) -> None:
    one, two = Halls("one"), Halls("two")
    press, heat = one.add("hall", name="Press", size=4), one.add("watch", name="Heat", hall="Press", every=5)
    ways = ' with = { seen = "{revision}" }, match = "sent" }\nrevision = "$.size"'
    guarded = HALLS["halls"].replace('put = "/hall/{id}" }', 'put = "/hall/{id}",' + ways)
    moment = "takes a write over what somebody changes in that very moment"
    with pair(tmp_path, HALLS | {"halls": guarded}, one, two) as run:
        run("export", "here", "Heat", "--as", "p")
        assert moment not in run("compare", "p", "there", code=1).out
        run("import", "p", "there", "--yes")
        press["size"] = 5
        run("export", "here", "Heat", "--as", "p")
        assert moment not in run("compare", "p", "there", code=1).out
        heat["every"] = 6
        run("export", "here", "Heat", "--as", "p")
        assert moment in run("compare", "p", "there", code=1).out


def test_what_went_in_beside_a_refusal_is_known_to_be_ours(tmp_path: Path) -> None:
    one, two = Halls("one"), Halls("two")
    for name in ("First", "Second", "Third"):
        one.add("hall", name=name, size=4)

    def answered(method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        if method == "POST" and body["name"] == "First":
            return 422, {"message": "no more"}, {}
        # By whom it knows better than we, who are nobody there.
        return two(method, path, said, {**body, "by": "keeper"} if body else body, headers)

    halls = HALLS["halls"].replace("read  ", 'changed_by = "$.by"\nread  ')
    with pair(tmp_path, HALLS | {"halls": halls}, one, answered) as run:
        run("export", "here", "*", "--as", "p")
        # Nothing there shows afterwards who made it: only the journal can tell.
        done = run("import", "p", "there", "--yes", code=4)
        assert "there is as it was before" in done.err, done.err
        assert two.told() == []


class Quirky(Plain):
    """A platform that does one thing otherwise than it should."""

    def __init__(self, quirk: str) -> None:
        super().__init__()
        first = {"id": 1, "name": "first", "rev": 1, "a": "x", "b": "y", "key": ""}
        self.quirk, self.calls, self.refused = quirk, 0, 2
        first |= {"a": {"x": 1, "y": 2}} if quirk == "members" else {}
        first |= {"a": [{"y": 1}, {"y": 2}]} if quirk in ("turns", "merges") else {}
        self.things = self.held["things"]
        self.things[1] = first

    def next(self) -> int:
        return max(self.things, default=0) + 1

    def __call__(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        self.calls += method != "GET"
        if self.quirk == "busy" and method != "GET" and self.calls <= self.refused:
            return 503, {"message": "later"}, {}
        if self.quirk in ("locks", "waits") and self.calls == 2 and method == "POST":
            return 500 if self.quirk == "locks" else 504, "<h1>not now</h1>", {}
        if self.quirk == "sorts" and body:
            # Those with a sum last, and each with a type of the platform's own.
            columns = [{"type": "text" if "sum" in one else "", **one} for one in body["a"]]
            body["a"] = sorted(columns, key=lambda one: ("sum" in one, one["name"]))
        if method == "PUT" and self.quirk != "keeps":
            # What is left out returns to its default; some have one that looks like what anybody would write.
            body = ({"a": "x", "b": "y"} if self.quirk == "returns" else {"a": "", "b": ""}) | body
        return super().__call__(method, path, said, body, headers)

    def listed(self, kind: str, said: dict[str, str]) -> Any:
        rows = list(self.things.values())
        return {"rows": [{**row, "name": f"{row['name']}!"} for row in rows] if self.quirk == "list" else rows}

    def made(self, kind: str, body: Any) -> Said:
        if self.quirk == "slugs" and " " in body["name"]:
            return 422, {"faults": [{"loc": ["body", "name"], "msg": "no blanks", "input": body}]}, {}
        if self.quirk == "answers" and body["name"] in self.names:
            return 200, self.named(body["name"]), {}
        if self.quirk == "refuses" or (self.quirk == "unique" and body["name"] in self.names):
            return 422, {"message": "not here"}, {}
        one = self.add(kind, **{"a": "", "b": "", "key": "", **body, "rev": 1})
        if self.quirk == "renames":
            one["name"] += f" ({one['id']})"
        one["b"] = "" if self.quirk == "drops" else one["b"] + "." if self.quirk == "fills" else one["b"]
        one["a"] = one["a"][::-1] if self.quirk == "turns" else one["a"]
        return 201, {} if self.quirk.startswith("silent") else one, {}

    def removed(self, kind: str, one: dict[str, Any]) -> None:
        if self.quirk.startswith("buries"):
            one["state"] = "buried"
        elif self.quirk != "stays":
            super().removed(kind, one)

    def changed(self, kind: str, one: dict[str, Any], body: Any) -> Said | None:
        if self.quirk == "compares" and body["rev"] != one["rev"]:
            return 409, {"code": "old"}, {}
        if self.quirk == "fixed" and "name" in body:
            return 422, {"errors": [{"detail": "unknown member", "field": "name"}]}, {}
        if self.quirk == "merges":
            body = {**body, "a": [*body["a"], *(entry for entry in one["a"] if entry not in body["a"])]}
        one |= {**body, "rev": one["rev"] + (self.quirk != "still")}
        return None

    @property
    def names(self) -> list[str]:
        return [str(one["name"]) for one in self.things.values()]


SMALL_SHEETS = sheets_of("small")
SMALL, THING = SMALL_SHEETS.values()


@contextmanager
def second_carried(
    folder: Path, there: Quirky, here: Quirky | None = None, thing: str = THING
) -> Iterator[Callable[..., Done]]:
    """A plain platform whose one thing, the second, is in the package p, and another one, by the same sheet."""
    here = here or Quirky("")
    here.things[1]["name"] = "second"
    with pair(folder, SMALL_SHEETS | {"thing": thing}, here, there) as run:
        run("export", "here", "second", "--as", "p")
        yield run


def test_what_a_busy_platform_turns_away_is_tried_again_and_then_put_back(tmp_path: Path) -> None:
    there = Quirky("busy")
    with second_carried(tmp_path, there) as run:
        assert "1 created" in run("import", "p", "there", "--yes").out
        assert (there.names, there.calls) == (["first", "second"], 3)
        run("undo", "last", "--yes")
        there.calls, there.refused = 0, 3
        assert "It took no effect. there is as it was before." in run("import", "p", "there", "--yes", code=4).err
        assert (there.names, there.calls) == (["first"], 3)


def test_what_fails_beside_others_is_tried_again_alone(tmp_path: Path) -> None:
    here, there = Quirky(""), Quirky("locks")
    here.things |= {n: here.things[1] | {"id": n, "name": f"no {n}"} for n in range(2, 6)}
    with pair(tmp_path, SMALL_SHEETS, here, there) as run:
        run("export", "here", "no *", "--as", "p")
        run("export", "here", "no 2", "--as", "one")
        assert "4 created" in run("import", "p", "there", "--yes").out
        assert (sorted(there.names), there.calls) == (["first", "no 2", "no 3", "no 4", "no 5"], 5)
        run("undo", "last", "--yes")
        # By itself it would fail again.
        there.calls = 1
        assert "failed with 500" in run("import", "one", "there", "--yes", code=4).err
        assert (there.names, there.calls) == (["first"], 2)
        # Behind a gateway that has waited long enough it may go through yet.
        there.quirk, there.calls = "waits", 0
        assert "failed with 504" in run("import", "p", "there", "--yes", code=4).err
        assert there.names == ["first"]


@pytest.mark.parametrize(
    ("quirk", "code", "told"),
    [
        ("", 0, "both are there"),
        ("unique", 0, "the second is refused"),
        ("list", 1, "'first!': the list says states States(title='first!'"),
        ("refuses", 1, "not here"),
        ("renames", 0, "the platform renames"),
        ("fills", 0, "the platform writes its own way: /b"),
        ("turns", 0, "the platform lists /a in an order of its own: unordered in the kind sheet"),
        ("merges", 1, "an entry of 'a' was left out and is still there: entries that go by calls of their own"),
        ("still", 1, "its revision is the same after it was changed"),
        ("keeps", 1, "'a' was left out and is still there"),
        ("returns", 0, "both are there"),
        ("drops", 1, "what was written at /b is not there"),
        ("stays", 1, "is still there after it was removed"),
        ("slugs", 0, "both are there"),
        ("answers", 1, "with the thing that is there, and perhaps wrote over it"),
        ("members", 1, "'a.x' was left out and is null now"),
        ("fixed", 0, "an item can be called otherwise: 'amphora-proof-"),
        ("silent", 1, "made 'amphora-proof-"),
        ("silent, and said so", 0, "both are there"),
        ("buries", 1, "is still there after it was removed"),
        ("buries, and said so", 0, "both are there"),
        ("compares", 0, "both are there"),
        ("does not compare", 1, "it was written over, right after the look"),
    ],
)
def test_what_a_platform_does_otherwise_is_found_by_a_proof(quirk: str, code: int, told: str, tmp_path: Path) -> None:
    platform = Quirky(quirk)
    with served(platform) as url:
        put, post = '{ put = "/things/{id}" }', '{ post = "/things" }'
        old = '\n[[error]]\ncode = "old"\nmeans = "moved"\n[errors]\ncode = "$.code"\n'
        sent = '{ put = "/things/{id}", match = "sent", with = { rev = "{revision}" } }'
        manner = {
            "fixed": (put, '{ put = "/things/{id}", read_only = ["name"] }'),
            "members": (put, '{ patch = "/things/{id}", how = "merge patch" }'),
            "silent, and said so": (post, '{ post = "/things", id = "listed" }'),
            "buries, and said so": (post, f'{post}\ngone = {{ at = "$.state", is = ["buried"] }}'),
            "compares": (put, sent),
            "does not compare": (put, sent),
        }
        sheet = SMALL.replace(*manner.get(quirk, (put, put))) + (old if "sent" in str(manner.get(quirk)) else "")
        written(tmp_path, {"small": sheet, "thing": THING})
        run_program(tmp_path, "init")
        assert run_program(tmp_path, "env", "add", "t", url, "--bridge", "small.toml", "--role", "test").code == 0
        done = run_program(tmp_path, "env", "prove", "t", "--yes", "--json")
        assert done.code == code, (done.out, done.err)
        out = re.sub("amphora-proof-[0-9a-f]{6}", "amphora-proof", done.out.replace(url, "PLATFORM"))
        proof = json.loads(out)
        for promise in proof["promises"]:
            # Reads go side by side: which of them came first is chance.
            promise.get("calls", []).sort()
        compared(f"proofs/{'-'.join(re.findall('[a-z]+', quirk)) or 'plain'}.txt", folded(proof))
        words = [f"{one['name']}: {one['words']}" for one in done.json["promises"]]
        assert any(told in one for one in words), words
        # What was there is as it was, whatever became of the promises.
        assert platform.names[:1] == ["first"]
        stays = quirk in ("stays", "buries", "buries, and said so")
        assert (len(platform.things) == 1) is not stays


def test_what_a_platform_never_takes_is_not_as_promised_and_nobodys_edit(tmp_path: Path) -> None:
    there = Quirky("drops")
    with second_carried(tmp_path, there) as run:
        told = run("import", "p", "there", "--yes", code=1).out
        assert "thing:second is not as promised: something else stands at b" in told
        assert "that is taken for as promised" not in told
        assert "complete, 1 not as promised when verified" in run("history").out
        assert json.loads(run("history", "--json").out)["runs"][0]["not_as_promised"] == 1
        assert "complete, 1 not as promised when verified" in run("history", "there-1").verdict
        assert "thing:second: not taken there as it was written" in run("verify", "p", "there", code=1).out
        assert "Nothing in there was edited" in run("edits", "there").out
        # It is no edit, and is asked for once more.
        assert "changed in p 1.0.0" in run("compare", "p", "there", code=1).out
        # What somebody enters there is theirs.
        there.things[2] |= {"b": "theirs", "rev": 9}
        assert "not taken there" not in run("verify", "p", "there", code=1).out
        assert "thing:second" in run("edits", "there", code=1).out
        there.things[2] |= {"b": "", "rev": 10}
        # Until somebody says that this is no part of a thing.
        (tmp_path / "thing.toml").write_text(f'{THING}volatile = ["$.b"]\n', "utf-8")
        run("verify", "p", "there")
        assert "is as it was before" in run("undo", "last", "--yes").out


def test_a_secret_that_is_missing_is_a_task_until_it_is_there(tmp_path: Path) -> None:
    here, there = Quirky(""), Quirky("fills")
    here.things[1]["key"] = "w0rd"
    with second_carried(tmp_path, there, here) as run:
        # What the platform makes of the rest is learned; that it lacks the secret is none of its ways.
        assert "1 secret" in run("import", "p", "there", "--yes").out
        assert "Enter secret second-key" in run("aftercare", "there", code=1).out
        there.things[2] |= {"key": "by hand", "rev": 9}
        assert "secret" not in run("aftercare", "there").out


def test_what_was_not_taken_is_asked_for_once_more(tmp_path: Path) -> None:
    there = Quirky("drops")
    with second_carried(tmp_path, there) as run:
        run("import", "p", "there", "--yes", code=1)
        # This platform takes in a change what it doesn't take in a creation.
        assert "0 created, 1 updated; 1 item verified" in run("import", "p", "there", "--yes").out
        assert there.things[2]["b"] == "y"
        assert "Nothing to do" in run("import", "p", "there", "--yes").out


def test_what_somebody_edits_comes_back_without_what_was_not_taken(tmp_path: Path) -> None:
    here, there = Quirky(""), Quirky("drops")
    with second_carried(tmp_path, there, here) as run:
        run("import", "p", "there", "--yes", code=1)
        there.things[2] |= {"a": "theirs", "rev": 9}
        run("edits", "there", "--carry-back")
        run("import", "there-edits", "here", "--yes")
        assert (here.things[1]["a"], here.things[1]["b"]) == ("theirs", "y")


def test_an_entry_that_a_platform_keeps_is_nobodys_edit(tmp_path: Path) -> None:
    here, there = Quirky("merges"), Quirky("merges")
    there.things.clear()
    with pair(tmp_path, SMALL_SHEETS, here, there) as run:
        run("export", "here", "*", "--as", "p")
        run("import", "p", "there", "--yes")
        here.things[1] |= {"a": [{"y": 2}], "rev": 2}
        run("export", "here", "*", "--as", "p")
        assert "something else stands at a" in run("import", "p", "there", "--yes", code=1).out
        assert "thing:first: not taken there as it was written" in run("verify", "p", "there", code=1).out
        assert "Nothing in there was edited" in run("edits", "there").out
        assert "was put back" not in run("compare", "p", "there", code=1).out


def test_what_a_platform_lists_in_an_order_of_its_own_is_as_promised_element_by_element(tmp_path: Path) -> None:
    there, columns = Quirky("sorts"), [{"name": "total", "sum": "kilos"}, {"name": "kilos"}, {"name": "day"}]
    here = Quirky("")
    here.things[1]["a"] = columns
    with second_carried(tmp_path, there, here, f'{THING}named = {{ "$.a" = "name" }}\n') as run:
        for more in ([], [{"name": "batch", "sum": "1"}], [{"name": "a"}]):
            here.things[1] |= {"a": [*more, *here.things[1]["a"]], "rev": here.things[1]["rev"] + 1}
            run("export", "here", "second", "--as", "p")
            assert "a, the order" in run("import", "p", "there", "--yes").out
            run("verify", "last")
            assert "Nothing to do" in run("import", "p", "there", "--yes").out
            assert "Nothing in there was edited" in run("edits", "there").out
        assert [one["name"] for one in there.things[2]["a"]] == ["a", "day", "kilos", "batch", "total"]
        there.things[2]["a"][1]["type"], there.things[2]["rev"] = "date", 9
        assert "a > day > type" in run("edits", "there", code=1).out


def test_what_a_platform_saves_along_is_known_from_what_somebody_changed(tmp_path: Path) -> None:
    made = {"saves": True, "revision": "number", "update": "whole", "lines": "", "row": False}
    with life(tmp_path, 3, **made) as all_:
        one, two, run = all_.one, all_.two, all_.run
        for _ in range(2):
            run("export", "here", "S0", "--as", "s")
            run("import", "s", "there", "--yes")
            [there] = [id_ for id_, source in two.held["source"].items() if source["title"] == "S0"]
            two.change("board", next(iter(two.held["board"])), uses=[there])
            one.change("source", all_.sources[0], text="another")
        run("export", "here", "S0", "--as", "s")
        run("import", "s", "there", "--yes")
        [found] = run("verify", "s", "there", "--json").json["elsewhere"]
        assert (found["title"], found["is_same"]) == ("Else", True), found
        two.change("board", next(iter(two.held["board"])), text="theirs")
        [found] = run("verify", "last", "--json").json["elsewhere"]
        assert (found["what"], found["is_same"]) == ("changed", False), found


def test_slips_that_no_answer_contradicts_are_told_by_a_proof(tmp_path: Path) -> None:
    sheet = SMALL.replace('["a", "b", "key"]', '["a", "c", "key"]\nchanged_at = "$.a"')
    with served(Quirky("")) as url:
        written(tmp_path, {"small": sheet, "thing": THING.replace("$.key", "$.kee").replace("$.b", "$.a")})
        run_program(tmp_path, "init")
        assert run_program(tmp_path, "env", "add", "t", url, "--bridge", "small.toml", "--role", "test").code == 0
        told = {
            one["name"]: one["words"]
            for one in run_program(tmp_path, "env", "prove", "t", "--yes", "--json").json["promises"]
        }
        slips = "$.c (definition), $.a (changed_at: 'x' is no time), $.kee (kind sheet)"
        assert told["something stands wherever the sheet says"] == f"nothing stands at {slips}"
        assert told["the sheet names what is shown"] == "it shows b, too: what no line names stays behind"
        for slip, words in (
            (('"$.name"', '"$.nme"'), "there is no title at $.nme. At small.toml, item.thing.index."),
            (('"$.rev"', '"$.ref"'), "there is no revision at $.ref."),
            (('changed_at = "$.a"', 'changed_by = "$"'), "at $ there is no text for changed_by."),
            (
                ('changed_at = "$.a"', 'row = "$.about"'),
                "at $.about there is no object. At small.toml, item.thing.row.",
            ),
        ):
            (tmp_path / "small.toml").write_text(sheet.replace(*slip), "utf-8")
            done = run_program(tmp_path, "survey", "t")
            assert (done.code, words in done.err) == (4, True), done.err


class Linked(Plain):
    """A platform that knows no ids: whatever is named is named by its address, in texts too."""

    def __init__(self, name: str, first: int, feed: str) -> None:
        super().__init__(name, first)
        self.feed, self.here, self.is_stubborn = feed, "", False

    def __call__(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        self.here = f"http://{headers['Host']}"
        for place in ("feed", "next"):
            # As such platforms do: what leads elsewhere, or nowhere, is no link of theirs.
            known = [f"{self.here}/feed/{self.feed}/", *map(self.address, self.held["dial"].values()), None]
            if body and body.get(place) not in known:
                return 400, {"detail": f"{body[place]} is no {place}"}, {}
        return super().__call__(method, path, said, body, headers)

    def address(self, one: dict[str, Any]) -> str:
        return f"{self.here}/dial/{one['id']}/"

    def listed(self, kind: str, said: dict[str, str]) -> Any:
        feed = {"self": f"{self.here}/feed/{self.feed}/", "name": "mill"}
        return [feed] if kind == "feed" else super().listed(kind, said)

    def made(self, kind: str, body: Any) -> Said:
        return 204, None, {"Location": f"/dial({self.add(kind, **body)['id']})"}

    def removed(self, kind: str, one: dict[str, Any]) -> Said | None:
        # Whatever is named stays, by whom ever: of two that name each other none could go.
        if self.is_stubborn or self.address(one) in [other.get("next") for other in self.held[kind].values()]:
            return 409, {"detail": "in use"}, {}
        return super().removed(kind, one)

    def shown(self, one: dict[str, Any]) -> dict[str, Any]:
        return {"next": None, **{n: v for n, v in one.items() if n != "id"}, "self": self.address(one)}


def test_what_is_named_by_its_address_goes_to_another_one(tmp_path: Path) -> None:
    one, two = Linked("one", 0, "7"), Linked("two", 40, "9")
    with pair(tmp_path, sheets_of("linked"), one, two) as run:
        here, there = (str(row["location"]) for row in run("env", "list", "--json").json["environments"])
        for number, other in ((1, 2), (2, 1)):
            to = f"{here}/dial/{other}/"
            one.add("dial", name=f"Dial {number}", feed=f"{here}/feed/7/", next=to, text=f"see {to}")
        run("export", "here", "Dial 1", "--as", "p")
        run("map", "p", "there", "--set", "mill=mill")
        run("import", "p", "there", "--yes")
        for called, after in (("Dial 1", "Dial 2"), ("Dial 2", "Dial 1")):
            dial, to = two.named(called), two.address(two.named(after))
            assert (dial["next"], dial["text"], dial["feed"]) == (to, f"see {to}", f"{there}/feed/9/")
        run("verify", "last")
        # Refused for another reason, what had let go for it holds on again.
        there_now, two.is_stubborn = json.dumps(two.held), True
        run("undo", "last", "--yes", code=6)
        assert json.dumps(two.held) == there_now
        two.is_stubborn = False
        assert "there is as it was before" in run("undo", "there-1", "--yes").out
        assert not two.held["dial"]
        linked = sheets_of("linked")["linked"]
        (tmp_path / "linked.toml").write_text(linked.replace('/dial/{id}/"\ntitle', '/dials/{id}"\ntitle'), "utf-8")
        assert "no id at $.self that is written like {address}/dials/{id}" in run("survey", "here", code=4).err


class Slugged(Plain):
    """A platform that makes ids of names: what is called otherwise has another id, and the old one is nobody's."""

    def made(self, kind: str, body: Any) -> Said:
        slug = body["name"].lower().replace(" ", "-")
        if slug in self.held[kind]:
            return 409, {"message": "taken"}, {}
        self.held[kind][slug] = {**body, "id": slug}
        return 200, self.held[kind][slug], {}

    def changed(self, kind: str, one: dict[str, Any], body: Any) -> Said:
        self.removed(kind, one)
        return self.made(kind, one | body)


def test_an_id_that_is_made_from_the_name_is_followed(tmp_path: Path) -> None:
    one, two = Slugged("one"), Slugged("two")
    with pair(tmp_path, sheets_of("pages"), one, two) as run:
        one.made("pages", {"name": "First", "text": "x", "next": None})
        two.made("pages", {"name": "Kept", "text": "", "next": None})
        told = run("env", "prove", "there", "--yes").out
        assert "with another title it has another id: what led to the old one leads nowhere" in told
        run("export", "here", "First", "--as", "p")
        run("import", "p", "there", "--yes")
        before = json.dumps(two.held["pages"])
        one.held["pages"]["first"]["text"] = "y"
        run("export", "here", "First", "--as", "p")
        run("import", "p", "there", "--title", "First=The very first", "--yes")
        renamed = {"id": "the-very-first", "name": "The very first", "text": "y", "next": None}
        assert two.held["pages"]["the-very-first"] == renamed
        assert "first" not in two.held["pages"]
        run("verify", "last")
        assert run("import", "p", "there", "--yes").verdict.startswith("Nothing to do")
        assert run("undo", "last", "--yes").verdict == "there-2 is undone: there is as it was before."
        assert json.loads(before) == two.held["pages"]
        run("import", "p", "there", "--title", "First=The very first", "--yes")
        # Ours under whatever id: what a run made and another one called otherwise goes with its package.
        run("withdraw", "p", "there", "--retire-all")
        assert set(two.held["pages"]) == {"kept"}


@pytest.mark.parametrize("is_used", [True, False])
def test_connections_that_stand_only_in_what_uses_them_count_once(tmp_path: Path, is_used: bool) -> None:
    one, two = Halls("one"), Halls("two")
    for here, id_ in ((one, "c9"), *([(two, "d1")] if is_used else [])):
        for name in ("Heat", "Cold"):
            here.add("watch", name=name if here is one else "Old", hall={"id": id_, "name": "Mail"}, every=5)
    offer = '[supply.mail]\nkind = "connection"\nindex = { get = "/watch", rows = "$[*].hall" }\nid = "$.id"\nname = "$.name"\n'
    offer += "" if is_used else 'complete = false\nspace = "mail"\n'
    refers = HALLS["watch"].replace(
        'at = "$.hall"\nto = ["hall"]\nby = "title"', 'at = "$.hall.id"\nto = ["connection"]'
    )
    with pair(tmp_path, HALLS | {"halls": HALLS["halls"] + offer, "watch": refers}, one, two) as run:
        run("export", "here", "*", "--as", "p")
        if is_used:
            run("map", "p", "there", "--accept")
        else:
            # Nothing is guessed: the name of something is no id of it.
            assert "perhaps" not in run("check", "p", "there", code=3).out
            run("map", "p", "there", "--set", "connection:Mail=d1")
        run("import", "p", "there", "--yes")
        run("verify", "p", "there")
    assert [watch["hall"]["id"] for watch in two.held["watch"].values()] == ["d1"] * (4 if is_used else 2)


@pytest.mark.parametrize(
    ("learned", "before", "after", "is_undone"),
    [
        ('[fields]\njson = ["$.words"]\n', '{"a":1,"b":2}', '{"a":1,"b":3}', False),
        ('[fields]\nfiles = ["$.words"]\n', "data:text/plain;base64,YWJj", "data:text/plain;base64,YWJk", True),
        ('[ids]\nspace = "note"\nnumber = true\n[[refers]]\nat = "$.words"\nto = ["note"]\nform = "{id}__n"\n', "1__n", "2__n", False),
        ('[ids]\nspace = "note"\nnumber = true\n[[refers]]\nat = "$.words"\nto = ["note"]\nmembers = true\n', {"1": 4}, {"1": 5}, False),
        ('[fields]\nsecret = ["$.words"]\n', "heron", "kite", False),
    ],
    ids=["json", "files", "form", "members", "secret"],
)  # fmt: skip
def test_a_kind_sheet_that_learns_makes_no_edit_and_says_what_it_can_no_longer_tell(
    tmp_path: Path, learned: str, before: Any, after: Any, is_undone: bool
) -> None:
    one, two = Plain("one"), Plain("two")
    for name in ("A", "B"):
        one.add("notes", name=name, text="x", words=before, size=3)
    sheets = sheets_of("notes", note='kind = "note"\n')
    with pair(tmp_path, sheets, one, two) as run:
        for words in (before, after):
            one.named("A")["words"] = words
            run("export", "here", "*", "--as", "p")
            run("import", "p", "there", "--yes")
        # Known by its link and no longer by its name.
        two.named("B")["name"] = "C"
        (tmp_path / "note.toml").write_text(f'kind = "note"\n{learned}')
        assert [one["key"] for one in json.loads(run("edits", "there", "--json", code=1).out)["items"]] == ["note:B"]
        assert "1 of 2 items differ" in run("verify", "there-2", code=1).out
        told = run("undo", "there-2", "--yes", code=0 if is_undone else 1).out
        # Nothing is taken away of what somebody did change, and of all else nobody is accused.
        left = "'A' stays as it is: its kind sheet sees it otherwise than then, so that nobody can tell"
        assert (left in told, two.named("A")["words"]) == (not is_undone, before if is_undone else after)
        assert two.named("C")["words"] == before
        assert "gone" not in told
        assert "meanwhile" not in told
        run("export", "here", "*", "--as", "p")
        assert "create" not in run_program(tmp_path, "compare", "p", "there").out
