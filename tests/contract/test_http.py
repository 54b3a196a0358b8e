"""The environment protocol over HTTP: the document, the server and the adapter hold each other."""

from __future__ import annotations

import json
import socketserver
import sqlite3
import sys
import time
import tracemalloc
from collections.abc import Iterator
from contextlib import closing, suppress
from dataclasses import dataclass, replace
from functools import partial
from itertools import takewhile
from pathlib import Path
from subprocess import PIPE, Popen
from typing import Any, ClassVar, cast

import httpx
import jsonschema
import pytest
import schemathesis
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis.errors import Unsatisfiable
from schemathesis import GenerationMode
from schemathesis.specs.openapi.checks import negative_data_rejection, positive_data_acceptance

from amphora.core.values.errors import EnvironmentRefused, RevisionMoved, Unavailable, Uncertain, UsageFault
from amphora.core.values.model import States
from amphora.core.values.raw import PIECE_BYTES, Raw, sha256_of
from amphora.environments import calls
from amphora.environments.contract import Environment, KeepsFiles, TakesAlong, Write
from amphora.environments.http.adapter import connect
from amphora.environments.http.operations import ROUTES, Problem
from amphora.environments.http.practice import served
from amphora.environments.http.service import Service, server_of
from amphora.environments.http.wire import description_json
from amphora.environments.practice import PracticeEnvironment
from amphora.environments.practice import connect as practice
from amphora.practice.halcyon import KEEPER
from amphora.practice.platform import Platform
from tests.conftest import Program, run_program
from tests.contract.answering import served as answered_by
from tests.contract.document import DOCUMENT, JSON, at_fault, schema_of, watched
from tests.serving import on_loopback

SECRET = "made-up-secret"


@pytest.fixture
def base(halcyon: Path) -> Iterator[str]:
    """The address of served practice environments."""
    with on_loopback(served(sorted(halcyon.glob("*.practice")), 0, SECRET).server) as address:
        yield address


def test_the_document_names_just_what_is_served() -> None:
    named = {
        (method.upper(), path.rstrip("/"))
        for path, operations in DOCUMENT["paths"].items()
        for method in operations
        if method != "parameters"
    }
    assert named == {(method, path) for method, path, _ in ROUTES} | {("POST", "/token"), ("GET", "/jobs/{id}")}
    jsonschema.Draft202012Validator.check_schema({"$defs": DOCUMENT["components"]["schemas"]})


def test_every_answer_is_as_the_document_says(base: str) -> None:
    there = f"{base}/grove-live"
    with httpx.Client(trust_env=False) as http:
        token = http.post(f"{there}/token", data={"grant_type": "client_credentials"}, auth=(KEEPER, SECRET)).json()
        http.headers["Authorization"] = f"Bearer {token['access_token']}"
        [theme, *_] = [row for row in http.get(f"{there}/items").json()["items"] if row["kind"] == "theme"]
        [connection, *_] = [s for s in http.get(f"{there}/supplies").json()["items"] if s["kind"] == "connection"]
        body = {"kind": "theme", "path": ["house", "new"], "states": {"title": "New"}, "definition": {"colours": {}}}
        seen = {"If-Match": f'"{theme["revision"]}"'}
        calls: list[tuple[str, str, str, Any, dict[str, str], int]] = [
            ("GET", "/", "", None, {}, 200),
            ("GET", "/whoami", "", None, {}, 200),
            ("GET", "/items", "?limit=1", None, {}, 200),
            ("POST", "/items", "", body, {"If-None-Match": "*", "Idempotency-Key": "k1"}, 201),
            ("POST", "/items", "", body, {"If-None-Match": "*", "Idempotency-Key": "k2"}, 409),
            ("POST", "/items/read", "", {"ids": [theme["id"]]}, {}, 200),
            ("POST", "/items/read", "", {"ids": ["th-00000000"]}, {}, 404),
            ("POST", "/items/look", "", {"ids": [theme["id"], "th-00000000"]}, {}, 200),
            ("POST", "/items/makers", "", {"ids": [theme["id"]]}, {}, 200),
            ("GET", "/items/{id}", theme["id"], None, {}, 200),
            ("PUT", "/items/{id}", theme["id"], body, {}, 428),
            ("PUT", "/items/{id}", theme["id"], body, {"If-Match": '"999"'}, 412),
            ("POST", "/items/{id}/publish", theme["id"], None, {"If-Match": '"999"'}, 412),
            ("POST", "/items/{id}/switch", theme["id"], {}, seen, 400),
            ("POST", "/supplies/{id}/probe", connection["id"], {"objects": ["deliveries"]}, {}, 200),
            ("GET", "/supplies", "", None, {}, 200),
            ("GET", "/tokens/{id}", "k1", None, {}, 200),
            ("GET", "/tokens/{id}", "never", None, {}, 200),
            ("POST", "/retire", "", {"items": [{"id": theme["id"], "revision": "999"}]}, {}, 412),
        ]
        for method, path, tail, body_, headers, status in calls:
            url = path.replace("{id}", tail) if "{id}" in path else path.rstrip("/") + tail
            answer = http.request(method, there + url, json=body_, headers=headers)
            assert answer.status_code == status, (method, path, answer.text)
            if schema := schema_of(DOCUMENT["paths"][path][method.lower()], status):
                jsonschema.Draft202012Validator(schema).validate(answer.json())
        # The same key is the same creation, done once; another page is where the link says.
        again = http.post(f"{there}/items", json=body, headers={"If-None-Match": "*", "Idempotency-Key": "k1"})
        assert (again.status_code, again.json()["id"]) == (201, http.get(f"{there}/tokens/k1").json()["id"])
        assert http.get(f"{there}/items?limit=1").links["next"]["url"].startswith("/grove-live/items?after=")
        etag = http.get(f"{there}/items/{theme['id']}").headers["ETag"]
        assert http.get(f"{there}/items/{theme['id']}", headers={"If-None-Match": etag}).status_code == 304
        assert http.get(f"{there}/items", headers={"Authorization": "Bearer no"}).status_code == 401
        packed = http.get(there, headers={"Accept-Encoding": "gzip"})
        assert packed.headers["Content-Encoding"] == "gzip"


@dataclass(frozen=True)
class Large:
    """An attachment of some size, of which one piece is in memory."""

    letter: bytes
    pieces: int = 24

    @property
    def size_bytes(self) -> int:
        return self.pieces * PIECE_BYTES

    def chunks(self) -> Iterator[bytes]:
        return (self.letter * PIECE_BYTES for _ in range(self.pieces))


def _takes(app: str, file: Path, content: Raw) -> str:
    """Gives a practice environment's app another icon; its SHA-256."""
    name, platform = sha256_of(content), Platform(file, KEEPER, lambda: "2026-11-28T08:00:00Z")
    platform.keep_file(name, content)
    [item] = [one for one in platform.everything() if one.title == app]
    definition = item.live | {"icon": f"amphora:file:{name}#image%2Fpng"}
    platform.publish(item.id, platform.update(item.id, item.title, item.folder, definition, [], item.revision))
    return name


def test_attachments_go_through_in_pieces(base: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    large, again = Large(b"a"), Large(b"b", 1)
    name, other = sha256_of(large), sha256_of(again)
    with closing(connect(f"{base}/grove-live", tmp_path, KEEPER, SECRET)) as there:
        assert isinstance(there, KeepsFiles)
        tracemalloc.start()
        there.keep_file(name, large)
        assert sum(map(len, there.file(name))) == large.size_bytes
        # Both ends are in this process.
        assert tracemalloc.get_traced_memory()[1] < large.size_bytes / 2
        tracemalloc.stop()
        faults = watched(monkeypatch)
        there.keep_file(other, again)
        there.keep_file(other, again)
        assert there.held_files([name, other, "0" * 64]) == {name: large.size_bytes, other: again.size_bytes}
        for refused in (lambda: there.keep_file("0" * 64, again), lambda: list(there.file("0" * 64))):
            with pytest.raises(EnvironmentRefused, match="0000"):
                refused()
        assert not faults


def test_an_attachment_of_any_size_moves_and_comes_back(over_http: Path) -> None:
    amphora = partial(run_program, over_http)
    first = _takes("Harvest Intake", over_http / "grove-dev.practice", Large(b"a", 2))
    assert amphora("export", "grove-dev", "Harvest Intake", "--as", "olive-intake").code == 0
    assert amphora("import", "olive-intake", "grove-test", "--yes").code == 0

    def held() -> list[str]:
        with closing(sqlite3.connect(over_http / "grove-test.practice")) as db:
            return [name for (name,) in db.execute("select name from files")]

    assert held() == [first]
    second = _takes("Harvest Intake", over_http / "grove-dev.practice", Large(b"b", 1))
    assert amphora("export", "grove-dev", "Harvest Intake", "--as", "olive-intake").code == 0
    assert amphora("import", "olive-intake", "grove-test", "--yes").code == 0
    # The first is forgotten there, and comes back all the same.
    assert held() == [second]
    assert "as it was before" in amphora("undo", "grove-test-2", "--yes").out
    assert held() == [first]
    assert amphora("verify", "grove-test-1").code == 0
    assert amphora("env", "prove", "grove-test", "--yes").code == 0


def test_what_is_not_as_the_document_says_is_found() -> None:
    good = httpx.Response(200, json={"items": []})
    ask: dict[str, Any] = {"url": "https://platform.example/x/items/read", "json": {"ids": ["a"]}}
    assert at_fault(httpx.Request("POST", **ask), good) == []
    cases: list[tuple[str, dict[str, Any], httpx.Response]] = [
        ("DELETE", {}, good),
        ("POST", {"json": {"ids": "a"}}, good),
        ("POST", {"json": None, "content": b"a", "headers": {"Content-Type": "text/plain"}}, good),
        ("POST", {"url": ask["url"] + "?all=1"}, good),
        ("POST", {"url": ask["url"].replace("read", "a/publish"), "json": None}, good),
        ("POST", {}, httpx.Response(200, json={"items": [{"id": 1}]})),
        ("POST", {}, httpx.Response(404, json={"title": "not found"}, headers={"Content-Type": JSON[1]})),
    ]
    for method, change, answer in cases:
        assert at_fault(httpx.Request(method, **{**ask, **change}), answer), (method, change)


def test_sign_in_and_whatever_is_no_server(base: str, tmp_path: Path) -> None:
    there = f"{base}/grove-live"
    with closing(connect(there, tmp_path, KEEPER, SECRET)) as environment:
        assert environment.whoami().account == KEEPER
    for user, secret in ((KEEPER, "wrong"), ("", ""), ("", "a-made-up-token")):
        with pytest.raises(EnvironmentRefused, match="does not accept the sign-in") as caught:
            connect(there, tmp_path, user, secret)
        assert not secret or secret not in str(caught.value)
    with pytest.raises(UsageFault, match="not encrypted"):
        connect("http://platform.example/x", tmp_path, "", "t")
    with pytest.raises(UsageFault, match="https://HOST"):
        connect("https://me:pw@platform.example/x", tmp_path, "", "t")
    with pytest.raises(Unavailable, match="can't be reached"):
        connect("http://127.0.0.1:9/x", tmp_path, "", "t")
    with pytest.raises(EnvironmentRefused):
        connect(f"{base}/nowhere", tmp_path, KEEPER, SECRET)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"capabilities": None}, "GET / -> 200: something of it is of another type than it should be"),
        ({"uid": ...}, "GET / -> 200: 'uid' is missing"),
        ({"kinds": {"a": "kind = 'a'\n[fields]\ntexts = []"}}, "line 3: `fields.texts` is not known"),
    ],
)
def test_a_server_is_told_what_its_description_lacks(
    change: dict[str, Any], words: str, halcyon: Path, tmp_path: Path
) -> None:
    with closing(practice(f"practice:{halcyon / 'grove-live.practice'}", halcyon, KEEPER, "")) as real:
        whole = description_json(real.describe(), [])
    table = {name: value for name, value in {**whole, **change}.items() if value is not ...}
    with (
        answered_by(lambda *_: (200, table, {})) as url,
        pytest.raises(EnvironmentRefused, match="not as the environment protocol") as caught,
    ):
        connect(url, tmp_path, "", "t")
    assert any(words in line for line in caught.value.details), caught.value.details


def test_a_token_that_has_expired_is_renewed_once(base: str, tmp_path: Path) -> None:
    environment = connect(f"{base}/grove-live", tmp_path, KEEPER, SECRET)
    environment.client._signed = {"Authorization": "Bearer old"}
    assert len(environment.index()) > 0
    environment.close()


def test_after_a_call_that_took_too_long_others_are_made(
    halcyon: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    waits = [0.0, 0.6]

    def opened(account: str) -> Environment:
        time.sleep(waits.pop(0) if waits else 0.0)
        return practice(f"practice:{halcyon / 'grove-live.practice'}", halcyon, account, "")

    server = server_of(Service({"slow": opened}, {KEEPER: SECRET}))
    with on_loopback(server) as address, closing(connect(f"{address}/slow", tmp_path, KEEPER, SECRET)) as there:
        monkeypatch.setattr(calls, "LONGEST_S", 0.2)
        with pytest.raises(Unavailable, match="took longer"):
            there.whoami()
        # A slow machine may take as long for what nobody holds up.
        monkeypatch.setattr(calls, "LONGEST_S", 300.0)
        # Whatever went wrong there: whoever puts a target back looks at it afterwards.
        assert there.whoami().account == KEEPER


def test_what_a_removal_takes_along_is_told(halcyon: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    class Taking(PracticeEnvironment):
        def along(self, native_ids: Any) -> dict[str, str]:
            return {f"beside-{native_id}": native_id for native_id in native_ids}

    def opened(account: str) -> Environment:
        return Taking(Platform(halcyon / "grove-live.practice", account, lambda: "2026-11-28T08:00:00Z"))

    faults = watched(monkeypatch)
    server = server_of(Service({"taking": opened}, {KEEPER: SECRET}))
    with on_loopback(server) as address, closing(connect(f"{address}/taking", tmp_path, KEEPER, SECRET)) as there:
        assert isinstance(there, TakesAlong)
        assert there.along(["a", "b"]) == {"beside-a": "a", "beside-b": "b"}
    assert faults == []
    plain = practice(f"practice:{halcyon / 'grove-live.practice'}", halcyon, KEEPER, "")
    assert not isinstance(plain, TakesAlong)


@pytest.mark.parametrize("trouble", ["", "410", "401", "503", "refused"])
def test_what_takes_long_is_answered_later(
    trouble: str, halcyon: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def opened(account: str) -> Environment:
        environment = practice(f"practice:{halcyon / 'grove-live.practice'}", halcyon, account, "")
        write = environment.write

        def slow(writes: Any) -> Any:
            time.sleep(0.3)
            return write(writes)

        monkeypatch.setattr(environment, "write", slow)
        return environment

    faults = watched(monkeypatch)
    monkeypatch.setattr("amphora.environments.http.client.wait_s", lambda answer: 0.05)
    service = Service({"slow": opened}, {KEEPER: SECRET}, patience_s=0.0)
    server = server_of(service)
    with on_loopback(server) as address, closing(connect(f"{address}/slow", tmp_path, KEEPER, SECRET)) as there:
        write = Write("theme", ("house", "new"), States("New", "house"), {"colours": {}}, "k")
        if trouble.isdigit():
            # Nobody who is asked after it tells: it was taken all the same.
            def nothing(*words: str) -> Any:
                raise Problem(int(trouble), "gone", "not now")

            monkeypatch.setattr(service, "job_of", nothing)
            with pytest.raises(Uncertain, match="took a write, and no longer knows"):
                there.write([write])
        elif trouble == "refused":
            with pytest.raises(RevisionMoved):
                there.write([replace(write, native_id=there.index()[0].native_id, revision="999")])
        else:
            [written] = there.write([write])
            assert written.native_id in there.look([written.native_id])
            # The same key is the same creation, also of one that is answered later.
            assert there.write([write]) == [written]
    assert not faults


@pytest.mark.parametrize("body", [b"", b"<html>", b"[]", b'{"id": 1}', b'{"rows": "many"}'])
def test_an_answer_to_a_write_that_nobody_can_read_leaves_it_open(
    body: bytes, base: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    with closing(connect(f"{base}/grove-live", tmp_path, KEEPER, SECRET)) as environment:
        monkeypatch.setattr(environment.client, "sent", lambda *_, **__: httpx.Response(200, content=body))
        write = Write("theme", ("a",), States("A"), {}, "k")
        with pytest.raises(Uncertain):
            environment.write([write])
        with pytest.raises(Uncertain):
            environment.load("ta-1", iter(()))  # type: ignore[attr-defined]
        # Of a question nothing is open: it changed nothing.
        with pytest.raises(EnvironmentRefused):
            environment.whoami()


def test_a_crossing_over_http_with_rows(over_http: Path) -> None:
    def amphora(*words: str) -> Any:
        done = run_program(over_http, *words, "--json", AMPHORA_PRACTICE_SECRET="made-up-secret")
        assert done.code in (0, 1), (words, done.out, done.err)
        return json.loads(done.out)

    amphora("export", "grove-dev", "Press log", "--as", "logs", "--with", "records")
    amphora("map", "logs", "grove-test", "--accept")
    done = amphora("import", "logs", "grove-test", "--yes", "--with", "records")
    assert done["state"] == "done"
    rows = amphora("survey", "grove-test", "table:mill/press-log")["items"][0]["rows"]
    assert rows == amphora("survey", "grove-dev", "table:mill/press-log")["items"][0]["rows"] > 100
    assert amphora("verify", "last")["as_promised"]
    assert amphora("undo", "last", "--yes")["as_before"]


def test_serving_says_how_to_sign_in(amphora: Program, halcyon: Path) -> None:
    said = [sys.executable, "-m", "amphora", "practice", "serve", "grove-dev.practice", "--port", "0", "--json"]
    with Popen(said, stdout=PIPE, cwd=halcyon, text=True) as process:
        assert process.stdout
        try:
            told = json.loads("".join(takewhile("}\n".__ne__, process.stdout)) + "}")
            address = told["addresses"]["grove-dev"]
            assert httpx.get(address).status_code == 401
        finally:
            # Whoever starts the tests in the background lets all of their children ignore an interrupt.
            process.terminate()
    assert told["next"].startswith(
        f"amphora env add grove-dev {address} --role build --region north --user {told['account']} --sign-in env:"
    )
    assert len(told["new_secret"]) >= 16
    for words, why in (
        (["nothing.practice"], "no such file"),
        (["grove-dev.practice", "grove-dev.practice"], "two of that name"),
        (["grove-dev.practice", "--port", "99999"], "Take another with --port"),
    ):
        refused = amphora("practice", "serve", *words)
        assert (refused.code, why in refused.err) == (2, True), refused.err


class Dropping(socketserver.StreamRequestHandler):
    """Answers the first request of a connection and drops the next one unread, as a busy server does."""

    asked: ClassVar[list[str]] = []

    def handle(self) -> None:
        for number in range(2):
            head = self.rfile.readline().decode()
            if number or not head:
                # Closed with something unread in the line: the caller sees a reset.
                return
            size = 0
            while line := self.rfile.readline().strip():
                size = int(line.split()[1]) if line.lower().startswith(b"content-length") else size
            self.rfile.read(size)
            self.asked.append(head.split()[0])
            self.wfile.write(b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\n{}")


def test_a_line_that_goes_dead_is_asked_again_unless_something_would_be_changed() -> None:
    server = socketserver.ThreadingTCPServer(("127.0.0.1", 0), Dropping)
    with on_loopback(server) as address, closing(calls.Caller(address, "it does", "")) as caller:
        assert [caller.call("GET", "/", is_read=True).status_code for _ in range(3)] == [200] * 3
        with pytest.raises(Uncertain, match="gave no answer"):
            caller.call("POST", "/", is_read=False, content=b"x" * 100_000)
        # On a line of its own there is nothing that could have been closed.
        caller._writes_alone = True
        caller.call("GET", "/", is_read=True)
        assert caller.call("POST", "/", is_read=False, content=b"x").status_code == 200
    assert Dropping.asked == ["GET"] * 4 + ["POST"]


# Refusing what nobody has is right, whatever stands in the document.
BESIDE: list[Any] = [positive_data_acceptance, negative_data_rejection]


def test_whatever_the_document_allows_or_forbids_is_answered_as_it_says(base: str) -> None:
    there = f"{base}/grove-dev"
    schema = schemathesis.openapi.from_dict(DOCUMENT)
    schema.config.update(base_url=there)
    token = httpx.post(f"{there}/token", auth=(KEEPER, SECRET), data={"grant_type": "client_credentials"})
    headers = {"Authorization": f"Bearer {token.json()['access_token']}"}
    operations: list[Any] = [cast(Any, one).ok() for one in schema.get_all_operations()]
    assert {one.definition.raw["operationId"] for one in operations} >= {"create", "update", "retire", "load", "one"}
    for operation in operations:
        for mode in GenerationMode:

            @given(operation.as_strategy(generation_mode=mode))
            @settings(
                max_examples=12,
                derandomize=True,
                database=None,
                phases=[Phase.generate],
                suppress_health_check=list(HealthCheck),
            )
            def answered(case: Any) -> None:
                case.call_and_validate(headers=headers, excluded_checks=BESIDE)

            # Some operations take nothing that could be wrong.
            with suppress(Unsatisfiable):
                answered()


@schemathesis.serializer("application/x-ndjson")
def lines_of(context: Any, value: Any) -> bytes:
    return json.dumps(value).encode()
