"""Bridge sheets: the page that explains them holds, their faults are told with lines, and so is what a platform does
otherwise."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager, nullcontext
from dataclasses import replace
from email.parser import BytesParser
from email.policy import HTTP
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest

from amphora.core.form import kind_faults
from amphora.core.form.kinds import parse_sheet
from amphora.core.form.objects import PART_MARK, grouped, in_words, objects_used
from amphora.core.form.portable import data_url
from amphora.core.values.errors import (
    AmphoraError,
    Busy,
    EnvironmentRefused,
    Failed,
    RevisionMoved,
    SheetFault,
    Unavailable,
    Uncertain,
    UsageFault,
)
from amphora.core.values.model import States
from amphora.core.values.rights import not_permitted
from amphora.environments.bridge import hooks, lines
from amphora.environments.bridge.adapter import Bridge
from amphora.environments.bridge.paths import changed_at, dropped, filled, moment_of, put
from amphora.environments.bridge.refusals import words_in
from amphora.environments.bridge.sheet import parse_bridge
from amphora.environments.bridge.source import connect_bridge, read_bridge
from amphora.environments.contract import Probes, RemembersTokens, Seen, Write
from amphora.render import figures
from tests.conftest import run_program
from tests.contract.answering import Plain, Said, served, sheets_of, written
from tests.told import told_of_slips

PAGE = (Path(__file__).parents[2] / "docs" / "bridges.md").read_text(encoding="utf-8")
KEY = "made-up-key"
EDITOR = "ada@halcyon.example"


class Cellar:
    """The platform of the page: labels and stencils, and a member that is left out returns to its default."""

    def __init__(self, name: str, is_filled: bool, end: str = "") -> None:
        self.end = end
        self.clock = 1_790_000_000
        self.printers = [{"id": f"pr-{name}", "name": f"Printer of {name}"}]
        self.kinds: dict[str, dict[str, dict[str, Any]]] = {"labels": {}, "stencils": {}}
        if is_filled:
            stencil = self.add("stencils", {"name": "Leaf", "drawing": "M0 0 L10 10"})
            label = {
                "stencil": stencil,
                "printer": f"pr-{name}",
                "copies": 2,
                "pin": "quiet-heron",
                "shelf": "oils/2026",
            }
            self.add("labels", {"name": "Early harvest", "text": "First cold pressing", **label})
            self.add("labels", {"name": "Late harvest", "text": "As sold on the market", **label, "pin": ""})
            self.add("labels", {"name": "Tasting", **label})
        self.add("labels", {"name": "Stock", "text": "Not for sale", "printer": f"pr-{name}"})

    def add(self, kind: str, members: dict[str, Any]) -> str:
        id_ = f"{kind[:2]}-{len(self.kinds[kind]) + self.clock % 97}"
        self.kinds[kind][id_] = {"id": id_}
        self.put(kind, id_, members)
        return id_

    def put(self, kind: str, id_: str, members: dict[str, Any]) -> None:
        self.clock += 1
        defaults = {"text": "", "copies": 1, "shelf": ""} if kind == "labels" else {}
        kept = {"pin": self.kinds[kind][id_].get("pin", "")} if kind == "labels" else {}
        stamp = {"id": id_, "edited": self.clock, "editor": EDITOR}
        self.kinds[kind][id_] = {**defaults, **kept, **members, **stamp}
        # Some platforms tidy what people write.
        if kind == "labels" and self.end:
            self.kinds[kind][id_]["text"] = self.kinds[kind][id_]["text"].rstrip(self.end) + self.end

    def __call__(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        if headers.get("X-Cellar-Key") != KEY:
            return 401, {"message": "no key"}, {}
        _, _, kind, *rest = path.split("/")
        if kind == "about":
            return 200, {"version": "1.4"}, {}
        if kind == "printers":
            return 200, self.printers, {}
        there = self.kinds[kind]
        if method == "POST":
            return 201, {"id": self.add(kind, body)}, {}
        if not rest:
            size, page = int(said["size"]), int(said["page"])
            rows = [shown(one) for one in there.values()][(page - 1) * size : page * size]
            return 200, {kind: rows, "count": len(there)}, {}
        if rest[0] not in there:
            return 404, {"message": "no such thing"}, {}
        if method == "DELETE":
            del there[rest[0]]
            return 204, None, {}
        if method == "PUT":
            # Only the platform writes these.
            if {"id", "edited", "editor"} & body.keys():
                return 400, {"message": "not yours to write"}, {}
            self.put(kind, rest[0], body)
        return 200, shown(there[rest[0]]), {}


def shown(one: dict[str, Any]) -> dict[str, Any]:
    return {**one, "pin": "****"} if one.get("pin") else one


def pages_files(folder: Path) -> None:
    """The sheets that the page shows, as files."""
    for name, text in re.findall(r"`(\w+\.toml)`:\n\n```toml\n(.*?)```", PAGE, re.S):
        (folder / name).write_text(text, encoding="utf-8")


def test_the_pages_example_works_from_nothing(tmp_path: Path) -> None:
    source, target = Cellar("dev", True), Cellar("live", False)
    pages_files(tmp_path)
    with served(source) as one, served(target) as two:
        more = ("--bridge", "cellar.toml", "--sign-in", "env:CELLAR_KEY")
        assert run_program(tmp_path, "init").code == 0
        for name, url in (("dev", one), ("trial", two)):
            done = run_program(tmp_path, "env", "add", name, url, "--role", "test", *more)
            assert done.code == 0, done.err
        done = run_program(tmp_path, "env", "prove", "dev", "--yes", CELLAR_KEY=KEY)
        assert done.code == 0, done.out
        assert "dev keeps all" in done.verdict
        assert f"{EDITOR!r} made it, and 'nobody' is signed in" in done.out
        assert len(source.kinds["labels"]) == 4
        steps = [
            ["export", "dev", "Early harvest", "--as", "labels"],
            ["map", "labels", "trial", "--set", "Printer of dev=Printer of live", "--accept"],
            ["import", "labels", "trial", "--yes"],
            ["verify", "labels", "trial"],
        ]
        for words in steps:
            done = run_program(tmp_path, *words, CELLAR_KEY=KEY)
            assert done.code == 0, (words, done.out, done.err)
        assert done.verdict == "trial is as promised: both items of labels 1.0.0."
        [label] = [one for one in target.kinds["labels"].values() if one["name"] == "Early harvest"]
        [stencil] = target.kinds["stencils"].values()
        assert (label["stencil"], label["printer"], label["pin"]) == (stencil["id"], "pr-live", "")
        assert (label["shelf"], label["copies"]) == ("oils/2026", 2)
        done = run_program(tmp_path, "undo", "last", "--yes", CELLAR_KEY=KEY)
        assert done.verdict.endswith("trial is as it was before.")
        assert len(target.kinds["labels"]) == 1


@contextmanager
def two_cellars(folder: Path, source: Cellar, target: Cellar) -> Iterator[Callable[..., Any]]:
    """A workspace over both, by the sheets of the page, with what is to go over in a package; gives what runs a
    command there, and answers with its document."""

    def run(*words: str, code: int = 0) -> Any:
        done = run_program(folder, *words, "--json", CELLAR_KEY=KEY)
        assert done.code == code, (words, done.out, done.err)
        return done.json

    with served(source) as one, served(target) as two:
        run("init")
        for name, url in (("dev", one), ("trial", two)):
            more = ("--bridge", "cellar.toml", "--sign-in", "env:CELLAR_KEY")
            run("env", "add", name, url, "--role", "test", *more)
        run("export", "dev", "Early harvest", "--as", "labels")
        run("map", "labels", "trial", "--set", "Printer of dev=Printer of live", "--accept")
        yield run


def test_what_a_platform_tidies_is_told_once_and_is_nobodys_edit(tmp_path: Path) -> None:
    source, target = Cellar("dev", True), Cellar("live", False, end=".")
    pages_files(tmp_path)
    with two_cellars(tmp_path, source, target) as run:
        done = run("import", "labels", "trial", "--yes")
        assert done["rewritten"] == [{"key": "label:oils/2026/Early%20harvest", "place": "/text"}]
        assert done["not_as_promised"] == []
        assert run("edits", "trial")["items"] == []
        assert run("import", "labels", "trial", "--yes")["state"] == "nothing to do"
        # What somebody writes there afterwards is an edit, though the platform tidies it too.
        [id_] = [id_ for id_, one in target.kinds["labels"].items() if one["name"] == "Early harvest"]
        target.put("labels", id_, {**target.kinds["labels"][id_], "text": "Second pressing"})
        [item] = run("edits", "trial", code=1)["items"]
        assert [change["place"] for change in item["changes"]] == ["/text"]
        # What a change is tidied to is learned like what was made.
        target.put("labels", id_, {**target.kinds["labels"][id_], "text": "First cold pressing."})
        for label in source.kinds["labels"].values():
            label["text"] = "Third pressing"
        run("export", "dev", "Early harvest", "--as", "labels")
        done = run("import", "labels", "trial", "--yes")
        assert (done["updated"], done["not_as_promised"], len(done["rewritten"])) == (1, [], 1)
        assert run("edits", "trial")["items"] == []


WHOLE, LESS = ('"printer", "copies", "pin"]', '"printer", "pin"]')


@pytest.mark.parametrize(("then", "now"), [(LESS, WHOLE), (WHOLE, LESS)], ids=["gains", "loses"])
def test_a_sheet_that_reads_another_member_makes_no_edit_and_no_change_beside(
    tmp_path: Path, then: str, now: str
) -> None:
    source, target = Cellar("dev", True), Cellar("live", False)
    pages_files(tmp_path)
    sheet = tmp_path / "cellar.toml"
    page = sheet.read_text()
    sheet.write_text(page.replace(WHOLE, then))
    with two_cellars(tmp_path, source, target) as run:
        run("import", "labels", "trial", "--yes")
        [id_] = [id_ for id_, one in target.kinds["labels"].items() if one["name"] == "Early harvest"]
        label = target.kinds["labels"][id_]
        target.put("labels", id_, {**label, "copies": 7} if then == LESS else label)
        for label in source.kinds["labels"].values():
            label["text"] = "Second pressing"
        run("export", "dev", "Early harvest", "--as", "labels")
        run("import", "labels", "trial", "--yes")
        before = target.kinds["labels"][id_]["copies"]
        sheet.write_text(page.replace(WHOLE, now))
        assert run("edits", "trial")["items"] == []
        assert run("verify", "trial-2")["elsewhere"] == []
        undone = run("undo", "trial-2", "--yes", code=0 if then == LESS else 1)
        told = [*undone["left"], *undone["notes"]]
        assert "each label is read otherwise since then" in told[-1]
        assert undone["changed_by_others"] == []
        # What the platform counts for a definition by now is not taken away by putting back what was read then.
        label = target.kinds["labels"][id_]
        assert (label["copies"], label["text"]) == (
            before,
            "First cold pressing" if then == LESS else "Second pressing",
        )
        if then == WHOLE:
            assert "copies is no longer read there, so that nobody can tell" in told[0]


def test_every_line_that_a_sheet_may_hold_is_explained() -> None:
    tables = [
        value for name, value in vars(lines).items() if name.isupper() and name not in ("CHOICES", "HOMES", "FIELDS")
    ]
    named = {key for table in tables if isinstance(table, dict) for key in table}
    assert {"bridge", "wait_s", "empties"} <= named
    assert [key for key in sorted(named) if not re.search(rf"[`{{ \[]{key}\b", PAGE)] == []
    assert [word for word in lines.MEANINGS if f"`{word}`" not in PAGE] == []
    assert [w for words in lines.CHOICES.values() for w in words if f'"{w}"' not in PAGE] == []


def test_every_line_of_a_kind_sheet_stands_on_its_page() -> None:
    page = (Path(__file__).parents[2] / "docs" / "kind-sheets.md").read_text(encoding="utf-8")
    tables = [value for name, value in vars(kind_faults).items() if re.fullmatch("_?[A-Z]+", name)]
    named = {key for table in tables if isinstance(table, dict) for key in table}
    assert {"unordered", "rename_kind", "object_query", "never"} <= named
    assert [key for key in sorted(named) if not re.search(rf"[`{{ \[]{key}\b", page)] == []
    assert [shape for shape in figures._SHAPES if f"`{shape}`" not in page] == []
    [sheet] = re.findall(r"```toml\n(kind .*?)```", page, re.S)
    more = "\n".join(re.findall(r"```toml\n(\[\[conversion.*?)```", page, re.S))
    assert parse_sheet(f"{sheet}\n{more}").conversions[0].to == parse_sheet(sheet).schema == 3


SMALL, THING = sheets_of("small").values()
BY_WRITING = '\non = "$.on"\nswitch = {{ on = {}, off = {} }}\n'
SIGNED = '\n[sign_in]\nhow = "client"\ntoken = "{}"\n'


def test_a_sheet_that_is_wrong_is_told_with_its_lines() -> None:
    def tried(sheet: str, kind: str) -> tuple[str, ...]:
        with pytest.raises(SheetFault) as caught:
            parse_bridge(sheet, "small.toml", {"thing.toml": THING + kind})
        return caught.value.details

    told_of_slips("slips/bridge.txt", SMALL, tried)


def test_a_refusal_is_told_in_the_platforms_words_and_nothing_that_was_sent_is() -> None:
    taken = {"options": ["EARLY is taken."], "lines": [{}, {"value": ["Missing.", "Too short."]}]}
    assert words_in(taken) == "options: EARLY is taken; lines.value: Missing; lines.value: Too short"
    assert words_in({"lines": {"name": ["Missing."]}}) == "lines.name: Missing"
    # Texts that stand alone, or beside lists, may be what was sent.
    sent: list[Any] = [{"pin": "quiet-heron", "tags": ["a"]}, {"tags": ["a"], "n": 1}, {}, []]
    assert [words_in(one) for one in sent] == ["", "", "", ""]


def test_what_is_taken_away_makes_room_for_a_place_inside_of_it() -> None:
    body: dict[str, Any] = {"name": None, "text": "plain"}
    put(body, "$.name.en", "Tours")
    assert body == {"name": {"en": "Tours"}, "text": "plain"}
    with pytest.raises(SheetFault, match="what stands at 'text' is no object"):
        put(body, "$.text.en", "Tours")


def test_null_is_a_value_like_others() -> None:
    said = BY_WRITING.replace('"$.on"', '{{ at = "$.until", is = ["{{null}}"] }}').format('"{null}"', '"2000-01-01"')
    kind = "[states]\nswitch = true\n"
    part = parse_bridge(SMALL + said, "small.toml", {"thing.toml": THING + kind}).items["thing"]
    assert [part.flags["on"].holds({"until": until}) for until in (None, "2000-01-01", "{null}")] == [
        True,
        False,
        False,
    ]
    assert part.switched == {True: None, False: "2000-01-01"}


def test_a_token_may_come_from_another_server_and_a_refusal_says_which_call_it_was(tmp_path: Path) -> None:
    seen: list[str] = []

    def platform(method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        seen.append(headers.get("Authorization", ""))
        return 200, {"rows": ROWS}, {}

    def signing(method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        return (200, {"access_token": "t"}, {}) if path == "/token" else (401, {}, {})

    with served(signing) as there, served(platform) as here:
        with closing(bridge(tmp_path, here, SMALL + SIGNED.format(f"{there}/token"), user="u", secret="s")) as one:
            assert len(one.index()) == len(ROWS)
        assert set(seen) == {"Bearer t"}
        with (
            closing(bridge(tmp_path, here, SMALL + SIGNED.format(f"{there}/tokens"), user="u", secret="s")) as one,
            pytest.raises(EnvironmentRefused) as caught,
        ):
            one.index()
        assert [*caught.value.details] == ["POST /tokens -> 401"]


def bridge(folder: Path, url: str, text: str = SMALL, kind: str = THING, user: str = "", secret: str = "") -> Bridge:
    written(folder, {"small": text, "thing": kind})
    return connect_bridge(read_bridge("small.toml", folder), url, user, secret)


class Things(Plain):
    """Things in an envelope, by their numbers."""

    def __init__(self, *rows: dict[str, Any]) -> None:
        super().__init__()
        self.rows, self.gone = self.held["things"], list[int]()
        for row in rows:
            self.rows[row["id"]] = {"rev": 1, "b": "{}", "key": "", **row}
        self.number = len(rows)

    def listed(self, kind: str, said: dict[str, str]) -> Any:
        return {"rows": list(self.rows.values())}

    def changed(self, kind: str, one: dict[str, Any], body: Any) -> None:
        one |= {**body, "rev": one["rev"] + 1}

    def removed(self, kind: str, one: dict[str, Any]) -> None:
        self.gone.append(one["id"])
        super().removed(kind, one)


ROWS = [{"id": number, "name": f"n{number}", "rev": 1, "a": number, "b": "{}", "key": ""} for number in range(7)]


@pytest.mark.parametrize(
    ("pages", "answer"),
    [
        ('how = "none"', lambda said: ({"rows": ROWS}, {})),
        (
            'how = "page"\nask = "p"\nfirst = 0\nsize = { ask = "n", of = 3 }',
            lambda said: ({"rows": ROWS[int(said["p"]) * 3 : int(said["p"]) * 3 + int(said["n"])]}, {}),
        ),
        ('how = "offset"\nask = "from"\ntotal = "$.all"', lambda said: ({"rows": ROWS[int(said["from"]) :][:2], "all": 7}, {})),
        (
            'how = "cursor"\nask = "c"\nnext = "$.more.c"',
            lambda said: (
                {
                    "rows": ROWS[int(said.get("c", 0)) :][:3],
                    "more": {"c": c if (c := int(said.get("c", 0)) + 3) < 7 else None},
                },
                {},
            ),
        ),
        (
            'how = "link"',
            lambda said: (
                {"rows": ROWS[int(said.get("k", 0)) :][:3]},
                {"Link": f'</things?k={k}>; rel="next"'} if (k := int(said.get("k", 0)) + 3) < 7 else {},
            ),
        ),
        (
            'how = "link"\nheader = "Next-Page"',
            lambda said: (
                {"rows": ROWS[int(said.get("k", 0)) :][:3]},
                {"Next-Page": f"/things?k={k}"} if (k := int(said.get("k", 0)) + 3) < 7 else {},
            ),
        ),
        (
            'how = "link"\nnext = "$.next"',
            lambda said: (
                {
                    "rows": ROWS[int(said.get("k", 0)) :][:3],
                    # By a server that doesn't know how it is asked.
                    "next": f"https://127.0.0.1/things?k={k}" if (k := int(said.get("k", 0)) + 3) < 7 else None,
                },
                {},
            ),
        ),
        # A server that leads round in circles is left.
        ('how = "cursor"\nask = "c"\nnext = "$.c"', lambda said: ({"rows": ROWS, "c": "again"}, {})),
    ],
)  # fmt: skip
def test_lists_come_whole_whichever_way(pages: str, answer: Any, tmp_path: Path) -> None:
    def answering(method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        return 200, *answer(said)

    with served(answering) as url, closing(bridge(tmp_path, url, f"{SMALL}\n[pages]\n{pages}\n")) as there:
        assert [row.native_id for row in there.index()] == [str(number) for number in range(7)]


def test_what_is_empty_is_left_out_of_answers_where_the_sheet_says_so(tmp_path: Path) -> None:
    things: dict[str, Any] = {}

    def answering(method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        return 200, ({"rows": [things]} if things and path == "/things" else things), {"X-All": "7"}

    more = 'more = { who = { get = "/things/{id}", at = "$.who", write = { put = "/w" } } }\n'
    more += 'rows = { count = { get = "/n", from_header = "X-All" }, read = { get = "/lines", rows = "$[*]" } }\n'
    with served(answering) as url:
        with (
            closing(bridge(tmp_path, url, SMALL + more)) as there,
            pytest.raises(EnvironmentRefused, match="no list"),
        ):
            there.index()
        told = SMALL.replace('bridge = "small"', 'bridge = "small"\nempty = "left out"') + more
        with closing(bridge(tmp_path, url, told)) as there:
            assert there.index() == []
            things |= {"id": "1", "name": "one", "rev": "1", "a": 1}
            [found] = there.read(["1"])
            assert (found.definition.get("who"), found.listed.rows) == (None, 7)


def test_signing_in_by_a_login_with_a_further_header_and_once_more(tmp_path: Path) -> None:
    tokens: list[str] = []
    seen: list[dict[str, str]] = []

    def answering(method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        if path == "/login":
            assert body == {"name": "ada", "word": "s3cret"}
            assert "Authorization" not in headers
            tokens.append(f"t{len(tokens)}")
            return 200, {"data": {"token": tokens[-1]}}, {"Set-Cookie": f"session={tokens[-1]}"}
        if path == "/form":
            return 200, {"result": f"form-{headers['Authorization']}"}, {}
        seen.append(headers)
        # The first token runs out at the second call.
        is_good = headers["Authorization"] == f"Token {tokens[-1]}" and (len(seen) != 2)
        return (200, {"rows": ROWS}, {}) if is_good else (401, {"message": "who?"}, {})

    sign_in = """
[sign_in]
how    = "login"
call   = { post = "/login", body = { name = "{user}", word = "{secret}" }, at = "$.data.token" }
scheme = "Token"
also   = [{ header = "X-Form", get = "/form", at = "$.result" }]
"""
    with served(answering) as url:
        with closing(bridge(tmp_path, url, SMALL + sign_in, user="ada", secret="s3cret")) as there:
            assert len(there.index()) == len(there.index()) == 7
        assert tokens == ["t0", "t1"]
        assert (seen[-1]["X-Form"], seen[-1]["Cookie"]) == ("form-Token t1", "session=t1")
        with pytest.raises(UsageFault, match="no user is given"):
            bridge(tmp_path, url, SMALL + sign_in, secret="s3cret")


@pytest.mark.parametrize(
    ("more", "words"),
    [
        ("", r'204 and an answer without JSON, .* write cookie = "desk"\.'),
        (', cookie = "desc"', "it sets no cookie desc"),
        (', cookie = "desk"', ""),
    ],
)
def test_a_session_may_be_a_cookie(more: str, words: str, tmp_path: Path) -> None:
    seen: list[dict[str, str]] = []

    def answering(method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        if path == "/enter":
            return 204, None, {"Set-Cookie": "desk=d1; Path=/"}
        seen.append(headers)
        return (200, {"rows": ROWS}, {}) if headers.get("Cookie") == "desk=d1" else (401, {}, {})

    sign_in = f'\n[sign_in]\nhow = "login"\ncall = {{ post = "/enter"{more} }}\n'
    with served(answering) as url, closing(bridge(tmp_path, url, SMALL + sign_in, user="a", secret="s")) as there:
        if words:
            with pytest.raises(EnvironmentRefused, match=words):
                there.index()
        else:
            assert len(there.index()) == 7
            assert "Authorization" not in seen[-1]


def test_signing_in_by_a_form(tmp_path: Path) -> None:
    asked: list[Any] = []

    def answering(method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        if path == "/token":
            asked.append((headers["Content-Type"], body))
            return 200, {"access_token": "t"}, {}
        return (200, {"rows": ROWS}, {}) if headers["Authorization"] == "Bearer t" else (401, {}, {})

    form = 'form = { grant_type = "password", username = "{user}", password = "{secret}" }'
    sign_in = f'\n[sign_in]\nhow = "login"\ncall = {{ post = "/token", {form}, at = "$.access_token" }}\n'
    with served(answering) as url:
        with closing(bridge(tmp_path, url, SMALL + sign_in, user="ada", secret="s3 &=")) as there:
            assert len(there.index()) == 7
        wanted = "grant_type=password&username=ada&password=s3+%26%3D"
        assert asked == [("application/x-www-form-urlencoded", wanted)]


@pytest.mark.parametrize(
    ("line", "written"),
    [
        ('members = { "a.id" = "a" }', {"a": 5}),
        # A name that no shorthand may hold, and another way of writing than of reading.
        ('members = { "a.id" = "a@bind" }, as = { "a.id" = "/things({value})" }', {"a@bind": "/things(5)"}),
        ('members = { "a.id" = "on.to-a" }, as = { "a.id" = "{value}" }', {"on": {"to-a": 5}}),
    ],
)
def test_a_member_may_be_read_one_way_and_written_another(line: str, written: Any, tmp_path: Path) -> None:
    sent: list[Any] = []

    def answering(method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        sent.extend([body] if body else [])
        one = {**ROWS[1], "a": {"id": 5 if body else 3, "shown": "Press"}}
        return (200, one, {}) if path != "/things" else (200, {"rows": [one]}, {})

    text = SMALL.replace('["a", "b", "key"]', '{ a = "$.a.id" }') + f"write = {{ {line} }}\n"
    kind = THING + '[ids]\nspace = "thing"\nnumber = true\n[[refers]]\nat = "$.a"\nto = ["thing"]\n'
    with served(answering) as url, closing(bridge(tmp_path, url, text, kind)) as there:
        [found] = there.read(["thing~1"])
        assert found.definition == {"a": "thing~3"}
        there.write(
            [Write("thing", ("n",), States("n", ""), {"a": "thing~5"}, "t", "thing~1", found.listed.revision)]
        )
        assert sent == [{**written, "name": "n"}]


BEHIND: list[tuple[int, Any]] = [(500, {}), (403, {"message": "no"}), (200, {"other": 1}), (404, {}), (200, "wait")]


@pytest.mark.parametrize(
    ("kind", "trouble"),
    [
        *((kind, trouble) for kind in ("create", "update", "publish") for trouble in BEHIND),
        # That the second of two is refused: the first one is gone by then.
        *(("retire", trouble) for trouble in BEHIND if trouble[0] != 200),
    ],
)
def test_what_goes_wrong_behind_a_call_that_took_effect_leaves_it_open(
    kind: str, trouble: tuple[int, Any], tmp_path: Path
) -> None:
    done: list[str] = []

    def answering(method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        if method != "GET":
            done.append(method)
            # The first of two is gone; the second is refused, or nobody knows.
            return (200, {"id": 1}, {}) if len(done) == 1 else (*trouble, {})
        if done and kind != "retire":
            return *trouble, {}
        # A draft beside a live version, until it is published.
        return 200, {"rows": ROWS[:2]} if path == "/things" else {**ROWS[int(path.split("/")[2])], "rev": 1}, {}

    published = 'draft = { get = "/things/{id}/draft" }\npublish = { post = "/things/{id}/publish" }\n'
    text = SMALL + (published if kind == "publish" else "")
    sheet = THING + ("[states]\npublish = true\n" if kind == "publish" else "")
    with served(answering) as url, closing(bridge(tmp_path, url, text, sheet)) as platform:
        if kind == "retire" and trouble[0] == 404:
            # Gone is what was asked for; that it was not there says that somebody else was quicker.
            return
        definition = {"a": 1, "b": {}}
        calls: dict[str, Callable[[], Any]] = {
            "create": lambda: platform.write([Write("thing", ("n",), States("n", ""), definition, "t")]),
            "update": lambda: platform.write([Write("thing", ("n",), States("n", ""), definition, "t", "1", "1")]),
            "publish": lambda: platform.publish(seen),  # type: ignore[attr-defined]
            "retire": lambda: platform.retire([Seen("0", "1"), Seen("1", "1")]),
        }
        [seen] = [Seen(row.native_id, row.revision) for row in platform.index()][1:]
        with pytest.raises(Uncertain):
            calls[kind]()
        assert done


REFUSALS: list[tuple[str, int, Any, dict[str, str], type[AmphoraError], str]] = [
    ("PUT", 409, {"e": {"c": "stale"}}, {}, RevisionMoved, "answers 409"),
    ("PUT", 409, {"message": "in use"}, {}, EnvironmentRefused, "in use"),
    ("PUT", 422, {"e": {"c": "x", "w": "that name exists"}}, {}, EnvironmentRefused, "that name exists"),
    # Of objects only what they say: beside it may stand what was sent.
    ("PUT", 422, {"e": {"w": [{"msg": "no", "loc": ["b"], "input": "s"}]}}, {}, EnvironmentRefused, r"no \(at b\)\.$"),
    ("PUT", 422, {"e": {"w": {"name": ["too long"]}}}, {}, EnvironmentRefused, "name: too long"),
    ("PUT", 500, {"message": "oh"}, {}, Failed, "failed with 500"),
    ("PUT", 503, {"message": "later"}, {}, Busy, "failed with 503"),
    ("PUT", 200, "<html>please wait</html>", {}, Uncertain, "no JSON"),
    ("GET", 500, {}, {}, Unavailable, "failed with 500"),
    ("GET", 200, "<html>please wait</html>", {}, Unavailable, "no JSON"),
    ("GET", 200, {"other": 1}, {}, EnvironmentRefused, "there is no list"),
    ("GET", 302, None, {"Location": "https://elsewhere.example/"}, EnvironmentRefused, "answers 302"),
]  # fmt: skip


@pytest.mark.parametrize(("method", "status", "sent", "headers", "kind", "words"), REFUSALS)
def test_what_a_refusal_means(
    method: str,
    status: int,
    sent: Any,
    headers: dict[str, str],
    kind: type[AmphoraError],
    words: str,
    tmp_path: Path,
) -> None:
    def answering(asked: str, path: str, said: dict[str, str], body: Any, given: dict[str, str]) -> Said:
        if asked == method:
            return status, sent, headers
        return 200, ROWS[1] if path != "/things" else {"rows": ROWS}, {}

    errors = '\n[errors]\ncode = "$.e.c"\nwords = "$.e.w"\n[[error]]\nstatus = [409, 428]\ncode = "stale"\nmeans = "moved"\n'
    errors += '[[error]]\nstatus = 503\non = ["retire", "index"]\nmeans = "later"\n'
    with served(answering) as url, closing(bridge(tmp_path, url, SMALL + errors)) as there:
        write = Write("thing", ("n1",), States("n1", ""), {"a": 1, "b": {}, "key": ""}, "t", "1", "1")
        with pytest.raises(kind, match=words) as caught:
            there.write([write]) if method == "PUT" else there.index()
        # Neither a wish to be asked again nor a doubt is dressed up as another.
        assert type(caught.value) is kind


def test_busy_is_waited_for_and_a_write_that_was_refused_so_is_sent_again(tmp_path: Path) -> None:
    calls: list[str] = []

    def answering(method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        calls.append(method)
        if len(calls) in (1, 3) or (method == "PUT" and calls.count("PUT") == 1):
            return 429 if method == "GET" else 503, {}, {"Retry-After": "0"}
        return 200, {"rows": ROWS} if path == "/things" else ROWS[1], {}

    with served(answering) as url, closing(bridge(tmp_path, url)) as there:
        there.index()
        write = Write("thing", ("n1",), States("n1", ""), {"a": 1, "b": {}, "key": ""}, "t", "1", "1")
        there.write([write])
    assert calls.count("PUT") == 2


@pytest.mark.parametrize(
    ("more", "wanted"),
    [
        ("", {"name": "new", "a": 2, "b": '{"x":1}'}),
        ('secrets = "null"\n', {"name": "new", "a": 2, "b": '{"x":1}', "key": None}),
        ('json = "spaced"\n', {"name": "new", "a": 2, "b": '{"x":1}'}),
        ("merge", {"name": "new", "a": 2, "b": '{"x":1}', "c": None}),
        ("unsent", {"name": "new", "a": 2, "b": '{"x":1}'}),
        ("default", {"name": "new", "a": 2, "b": '{"x":1}', "other": True}),
        ("new", {"name": "new", "a": 2, "b": '{"x":1}', "key": ""}),
        ("wrapped", {"thing": {"label": "new", "a": 2, "b": '{"x":1}', "fixed": {"seen": 1, "for": "n: new", "to": 1}}}),
    ],
)  # fmt: skip
def test_what_a_change_sends(more: str, wanted: dict[str, Any], tmp_path: Path) -> None:
    sent: list[tuple[Any, str]] = []
    there = {"id": 1, "name": "n1", "rev": 1, "a": 1, "b": '{"x":0}', "c": 3, "key": "****", "other": True}

    def answering(method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        if method != "GET":
            sent.append((body, headers["Content-Type"]))
        return 200, {"rows": [there]} if (method, path) == ("GET", "/things") else there, {}

    text = SMALL.replace('"a", "b", "key"', '"a", "b", "c", "key"')
    if more == "merge":
        text = text.replace('{ put = "/things/{id}" }', '{ patch = "/things/{id}", how = "merge patch" }')
    elif more == "unsent":
        text = text.replace('put = "/things/{id}"', 'put = "/things/{id}", how = "by member"')
        text += '[item.thing.write]\nwithout = ["$.c"]\n'
    elif more == "default":
        text = text.replace(
            'put = "/things/{id}"', 'put = "/things/{id}", absent = "default", read_only = ["id", "rev"]'
        )
    elif more == "new":
        text = text.replace('post = "/things"', 'post = "/things", secrets = "empty"')
    elif more == "wrapped":
        text += '[item.thing.write]\nwrapped = "thing"\nmembers = { name = "label" }\nwith = { fixed = { seen = "{revision}", for = "n: {title}" }, "fixed.to" = 1 }\n'
    else:
        text = more + text
    with served(answering) as url, closing(bridge(tmp_path, url, text)) as platform:
        definition = {"a": 2, "b": {"x": 1}, "key": "amphora:masked"}
        # What is made lacks the secret, which nobody has yet.
        known: tuple[Any, ...] = (definition, "t", "1", "1")
        known = ({"a": 2, "b": {"x": 1}}, "t") if more == "new" else known
        platform.write([Write("thing", ("new",), States("new", ""), *known)])
    [(body, kind)] = sent[:1]
    assert body == wanted
    assert kind == ("application/merge-patch+json" if more == "merge" else "application/json")


@pytest.mark.parametrize(
    ("path", "left"),
    [
        ("$.a[*].b", {"a": [{"c": 1, "d": 2}, {"c": 3}]}),
        ("$.a[*]['b','c']", {"a": [{"d": 2}, {}]}),
        ("$.a[?@.b == ''].b", {"a": [{"c": 1, "d": 2}, {"b": "x", "c": 3}]}),
        ("$.a[?@.b == '']['b','d']", {"a": [{"c": 1}, {"b": "x", "c": 3}]}),
        ("$..c", {"a": [{"b": "", "d": 2}, {"b": "x"}]}),
        ("$.a[0]", None),
        ("$.none.b", None),
    ],
)
def test_what_is_never_sent_may_stand_at_any_path(path: str, left: Any) -> None:
    form = {"a": [{"b": "", "c": 1, "d": 2}, {"b": "x", "c": 3}]}
    assert dropped(form, path) == (left or form)
    with pytest.raises(SheetFault, match="has to be made of names") if "'" in path or ".." in path else nullcontext():
        changed_at(form, path, lambda value: value)


def test_a_creation_with_an_attachment_along_is_a_form(tmp_path: Path) -> None:
    content, sent = bytes(range(256)), list[Any]()

    def answering(method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        if path.endswith("/pic"):
            return 200, content, {"Content-Type": "image/png"}
        if method == "POST":
            head = f"Content-Type: {headers['Content-Type']}\r\n\r\n"
            sent.extend(BytesParser(policy=HTTP).parsebytes(head.encode() + body.encode("latin-1")).iter_parts())
        made = {"id": 1, "name": "new", "rev": 1, "a": 2, "b": '{"x":1}'}
        return 200, {"rows": [made]} if (method, path) == ("GET", "/things") else made, {}

    text = SMALL.replace('post = "/things"', 'post = "/things", along = ["pic"]')
    pic = 'more = { pic = { get = "/things/{id}/pic", file = "*/*", write = { put = "/p", part = "upload" } } }\n'
    with served(answering) as url, closing(bridge(tmp_path, url, text + pic, THING + 'files = ["$.pic"]\n')) as there:
        definition = {"a": 2, "b": {"x": 1}, "pic": data_url(content, "image/png")}
        [made] = there.write([Write("thing", ("new",), States("new", ""), definition, "t")])
    told = {part.get_param("name", header="content-disposition"): part for part in sent}
    assert {name: part.get_content() for name, part in told.items() if name != "upload"} == {
        "name": "new",
        "a": "2",
        "b": '{"x":1}',
    }
    upload = told["upload"]
    assert (upload.get_content_type(), upload.get_filename(), upload.get_content()) == ("image/png", "new", content)
    assert (made.native_id, list(told)[-1]) == ("1", "upload")


def test_what_others_need_or_would_go_along_is_not_removed(tmp_path: Path) -> None:
    things = Things(*({"id": n, "name": f"n{n}", "a": used} for n, used in ((1, None), (2, 1), (3, 2))))
    kind = THING + '[ids]\nspace = "thing"\nnumber = true\n'
    refers = kind + '[[refers]]\nat = "$.a"\nto = ["thing"]\n'
    takes = SMALL.replace(
        '{ delete = "/things/{id}" }', '{ delete = "/things/{id}", takes = [{ kind = "thing", at = "$.a" }] }'
    )
    with served(things) as url:
        with (
            closing(bridge(tmp_path, url, SMALL, refers)) as there,
            pytest.raises(EnvironmentRefused, match="thing~2 is used by 'n3'"),
        ):
            there.retire([Seen("thing~1", "1"), Seen("thing~2", "1")])
        with closing(bridge(tmp_path, url, takes, kind)) as there:
            things.rows[3]["a"] = "thing~2"
            with pytest.raises(EnvironmentRefused, match="take 'n3' along"):
                there.retire([Seen("thing~2", "1")])
            things.rows[3]["a"] = 2
        assert not things.gone
        with closing(bridge(tmp_path, url, SMALL, refers)) as there:
            there.retire([Seen("thing~1", "1"), Seen("thing~2", "1"), Seen("thing~3", "1")])
    # Users before what they use.
    assert things.gone == [3, 2, 1]


def test_what_is_on_the_other_end_of_a_connection_is_asked_for_piece_by_piece(tmp_path: Path) -> None:
    columns = {"press/days": ["kilos", "grove"], "press/a/b": ["x"], "topics": ["t"], "press/none": []}

    def answering(method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        asked = "/".join(filter(None, (said.get("in"), said["of"])))
        assert (path, said.get("in") != "") == ("/lines/7/tables", True)
        return (200, {"columns": columns[asked]}, {}) if asked in columns else (404, {"message": "none"}, {})

    text = f"""{SMALL}
[supply.line]
kind    = "connection"
index   = {{ get = "/lines" }}
id      = "$.id"
name    = "$.name"
probe   = {{ get = "/lines/{{id}}/tables?of=topics" }}
objects = {{ get = "/lines/{{id}}/tables?in={{above}}&of={{object}}", parts = "$.columns[*]" }}
"""
    named = "press/a%2Fb#x press/days press/days#kilos press/days#sort topics press/none#x other other#y"
    wanted = named.replace("#", PART_MARK).split(" ")
    with served(answering) as url, closing(bridge(tmp_path, url, text)) as there:
        assert isinstance(there, Probes)
        probe = there.probe("7", wanted)
        assert (probe.is_working, probe.missing) == (True, (f"press/days{PART_MARK}sort", "press/none", "other"))
    refers = '[[refers]]\nat = "$.line"\nto = ["connection"]\nobject = "{area}/{title}"\n'
    refers += 'object_parts = "$.columns[?@.made == null].name"\nobject_unless = "$.query"\n'
    sheet = parse_sheet(f'kind = "grid"\n{refers}')
    form = {"line": "amphora:connection:l", "area": "press", "columns": [{"name": "a", "made": None}, {"name": "b"}]}
    assert objects_used(form, sheet, "days") == [
        ("amphora:connection:l", n) for n in ("press/days", f"press/days{PART_MARK}a")
    ]
    assert [name for _, name in objects_used({**form, "area": None}, sheet, "days")] == ["days", f"days{PART_MARK}a"]
    assert objects_used({**form, "columns": []}, sheet, "a/b#c")[0][1] == "press/a%2Fb#c"
    assert grouped([f"b{PART_MARK}x", "a", f"b{PART_MARK}y"]) == [["a"], [f"b{PART_MARK}x", f"b{PART_MARK}y"]]
    assert in_words([f"press/a%2Fb#c{PART_MARK}100%"]) == "'100%' of 'press/a/b#c'"
    assert in_words([f"b{PART_MARK}{n}" for n in range(7)]) == "'0', '1', '2', '3', '4' and 2 more of 'b'"
    assert not objects_used({**form, "query": "select 1"}, sheet, "days")
    asking = parse_sheet(f'kind = "grid"\n{refers}object_query = "$.query"\n')
    query = {**form, "query": "with o as (select 1) select * from o, taken join mill.x.y on true -- from none"}
    assert [name for _, name in objects_used(query, asking, "days")] == ["press/taken", "x/y"]
    assert not objects_used(query, asking, "days", has_queries=False)
    assert not objects_used(form, sheet)


def test_a_part_is_named_by_its_name_in_the_item_beside_it(tmp_path: Path) -> None:
    columns: list[Any] = [[{"no": 3, "label": "kilos"}, {"no": 4, "label": "grove"}], [{"no": 3, "label": "grove"}]]
    used = {"a": {"table": 1, "column": 4}, "b": '{"sort":[{"table":2,"column":3},{"table":2,"column":9}]}'}
    tables = ({"id": n, "name": f"n{n}", "a": part} for n, part in enumerate(columns, 1))
    things = Things(*tables, {"id": 3, "name": "n3", **used})
    kind = f'{THING}[ids]\nspace = "thing"\nnumber = true\n'
    for place in ("$.a", "$.b.sort[*]"):
        kind += f'[[refers]]\nat = "{place}.table"\nto = ["thing"]\n'
        kind += f'[[part]]\nat = "{place}.column"\nof = "table"\nparts = "$.a[*]"\nid = "$.no"\nname = "$.label"\n'
    with served(things) as url, closing(bridge(tmp_path, url, SMALL, kind)) as there:
        [found] = there.read(["thing~3"])
        assert found.definition["a"] == {"table": "thing~1", "column": "grove"}
        # What nobody has stays as it is.
        assert [one["column"] for one in found.definition["b"]["sort"]] == ["grove", 9]
        wanted = {**found.definition, "a": {"table": "thing~2", "column": "grove"}}
        write = Write("thing", ("n3",), States("n3", ""), wanted, "t", "thing~3", "1")
        there.write([write])
        assert things.rows[3]["a"] == {"table": 2, "column": 3}
        assert json.loads(things.rows[3]["b"]) == {"sort": [{"table": 2, "column": 3}, {"table": 2, "column": 9}]}
        lost = {**wanted, "a": {"table": "thing~2", "column": "kilos"}}
        with pytest.raises(EnvironmentRefused, match="uses 'kilos' of thing~2, which has no part called so"):
            there.write([replace(write, definition=lost, revision="2")])
        assert things.rows[3]["rev"] == 2


def test_a_hook_stands_between_the_platform_and_the_sheet(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    things = Things({"id": 1, "name": "n1", "a": "x;y"})
    functions = SimpleNamespace(
        shown=lambda kind, answer: {**answer, "a": answer["a"].split(";")},
        sent=lambda kind, body: {**body, "a": ";".join(body["a"])},
    )
    point = SimpleNamespace(name="lists", load=lambda: functions)
    monkeypatch.setattr(hooks, "entry_points", lambda group: [point] if group == "amphora.bridge_hooks" else [])
    with served(things) as url:
        with closing(bridge(tmp_path, url, 'hook = "lists"\n' + SMALL)) as platform:
            [found] = platform.read(["1"])
            assert found.definition["a"] == ["x", "y"]
            wanted = {**found.definition, "a": ["x", "z"]}
            platform.write([Write("thing", ("n1",), States("n1", ""), wanted, "t", "1", "1")])
            assert things.rows[1]["a"] == "x;z"
            functions.shown = lambda kind, answer: answer["nothing"]
            with pytest.raises(EnvironmentRefused, match="hook 'lists' failed in shown\\(\\) for a thing: KeyError"):
                platform.index()
        with pytest.raises(UsageFault, match="needs the hook 'list', which is not installed"):
            bridge(tmp_path, url, 'hook = "list"\n' + SMALL)


def test_a_workspace_can_not_say_how_a_platform_writes_ids(tmp_path: Path) -> None:
    with served(Cellar("dev", True)) as url:
        pages_files(tmp_path)
        (tmp_path / "kinds").mkdir()
        label = (tmp_path / "label.toml").read_text("utf-8") + 'json = ["$.text"]\n'
        (tmp_path / "kinds" / "label.toml").write_text(label, "utf-8")
        run_program(tmp_path, "init")
        run_program(tmp_path, "env", "add", "dev", url, "--bridge", "cellar.toml", "--sign-in", "env:CELLAR_KEY")
        done = run_program(tmp_path, "survey", "dev", CELLAR_KEY=KEY)
        assert done.code == 2
        assert "says how dev writes ids (json $.text)" in done.err


class Silent(Things):
    """Says nothing of what it has made."""

    def made(self, kind: str, body: Any) -> Said:
        self.add(kind, rev=1, **body)
        return 200, "lost", {}


def test_a_creation_whose_answer_was_lost_is_known_by_the_uid_that_it_was_given(tmp_path: Path) -> None:
    text = SMALL.replace("title ", 'uid        = "$.uid"\ntitle ').replace(
        '{ post = "/things" }', '{ post = "/things", uid = "$.uid" }'
    )
    with served(Silent()) as url, closing(bridge(tmp_path, url, text)) as platform:
        with pytest.raises(Uncertain):
            platform.write([Write("thing", ("new",), States("new", ""), {"a": 1, "b": {}}, "run/1/thing:new")])
        assert isinstance(platform, RemembersTokens)
        found = platform.answered("run/1/thing:new")
        assert found is not None
        assert (found.native_id, platform.answered("run/2/thing:new")) == ("1", None)


def test_times_and_placeholders() -> None:
    assert (
        moment_of(1_790_000_000) == moment_of("1790000000") == moment_of(1_790_000_000_000) == "2026-09-21T14:13:20Z"
    )
    assert moment_of("2026-09-21T16:13:20+02:00") == "2026-09-21T14:13:20Z"
    assert (moment_of("soon"), moment_of(None), moment_of(True)) == (None, None, None)
    body = {"n": "{id}", "text": "no {id} of {other}"}
    assert filled(body, {"id": 7}) == {"n": 7, "text": "no 7 of {other}"}
    asked = {"variables": {"first": "{size}", "after": "{cursor}"}, "all": ["{cursor}"]}
    assert filled(asked, {"size": 2, "cursor": ""}) == {"variables": {"first": 2}, "all": [""]}
    assert filled(asked, {"size": 2, "cursor": "x"}) == {"variables": {"first": 2, "after": "x"}, "all": ["x"]}
    assert filled({"until": "{null}", "text": "no {null}"}, {}) == {"until": None, "text": "no {null}"}
    assert filled("/a/{id}", {"id": "x/y ?"}, is_path=True) == "/a/x%2Fy%20%3F"


class Renaming(Things):
    """Calls what it makes otherwise where its name is taken."""

    def made(self, kind: str, body: Any) -> Said:
        body["name"] += " (2)" if body["name"] in [one["name"] for one in self.rows.values()] else ""
        return 201, self.add(kind, rev=1, **body), {}


def test_what_refers_by_title_follows_and_a_name_that_the_server_chose_is_given_back(tmp_path: Path) -> None:
    things = Renaming({"id": 1, "name": "Press", "a": "Mill"}, {"id": 2, "name": "Mill", "a": "nobody's"})
    kind = f'{THING}[ids]\nspace = "thing"\nnumber = true\n[[refers]]\nat = "$.a"\nto = ["thing"]\nby = "title"\n'
    with served(things) as url, closing(bridge(tmp_path, url, SMALL, kind)) as there:
        press, mill = (found.definition for found in there.read(["thing~1", "thing~2"]))
        assert (press["a"], mill["a"]) == ("thing~2", "nobody's")
        new = Write("thing", ("Oven",), States("Oven", ""), {"a": "thing~1", "b": {}}, "t")
        [written] = there.write([new])
        assert things.rows[int(written.native_id.removeprefix("thing~"))]["a"] == "Press"
        # What it refers to is called otherwise by now.
        things.rows[1]["name"] = "Great press"
        [written] = there.write([replace(new, native_id=written.native_id, revision=written.revision)])
        assert things.rows[3]["a"] == "Great press"
        with pytest.raises(EnvironmentRefused, match="made 'Mill \\(2\\)' instead; that was taken away again"):
            there.write([Write("thing", ("Mill",), States("Mill", ""), {"a": None, "b": {}}, "t")])
        assert sorted(one["name"] for one in things.rows.values()) == ["Great press", "Mill", "Oven"]
        # A platform that refuses to remove what others name by its title, or doesn't: here nobody is asked.
        with pytest.raises(EnvironmentRefused, match="Oven"):
            there.retire([Seen("thing~1", there.look(["thing~1"])["thing~1"].revision)])


def test_a_right_that_only_one_kind_needs_is_missed_for_that_kind(tmp_path: Path) -> None:
    def answering(method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        return (200, {"name": "ada", "may": ["thing:see"]}, {}) if path == "/me" else (200, {"rows": ROWS}, {})

    account = '[account]\nget = "/me"\nrights = "$.may[*]"\n'
    needs = 'needs = { write = ["thing:edit", "all"], retire = ["thing:see"] }\n'
    with served(answering) as url, closing(bridge(tmp_path, url, SMALL + needs + account)) as there:
        who = there.whoami()
        assert (who.permissions >= {"write", "retire"}, set(who.lacks)) == (True, {("write", "thing")})
        wanted = {"write": ["thing:a", "other:b"], "retire": ["thing:c"], "publish": ["other:b"]}
        missing = not_permitted(wanted, frozenset({"write", "retire"}), who.lacks)
        assert missing == {"write": ["thing:a"], "publish": ["other:b"]}
    with pytest.raises(SheetFault) as caught:
        bridge(tmp_path, url, SMALL + 'needs = { wriet = ["x"] }\n')
    assert "line 14: `item.thing.needs` wants `account.rights`" in caught.value.details[0]
    assert "line 14: `item.thing.needs.wriet` has to be one of write" in caught.value.details[1]


def test_a_row_that_is_another_items_is_asked_for_again(tmp_path: Path) -> None:
    asked: list[str] = []

    def answering(method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        if "only" not in said:
            return (200, {"rows": ROWS}, {}) if path == "/things" else (200, ROWS[int(path.split("/")[2])], {})
        asked.append(said["only"])
        # Another one's, then nobody's, then the right one.
        return 200, {"rows": [[ROWS[1]], [], [ROWS[int(said["only"])]]][min(len(asked), 3) - 1]}, {}

    row = 'row = { get = "/things?only={id}", at = "$.rows[0]" }\n'
    with served(answering) as url, closing(bridge(tmp_path, url, SMALL + row)) as there:
        assert there.look(["4"])["4"].states.title == "n4"
        assert asked == ["4", "4", "4"]
