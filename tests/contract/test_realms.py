"""Several environments on one server, each in a realm of its own: what they say for themselves stands in paths and
headers, and tells them apart."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from tests.conftest import run_program
from tests.contract.answering import Said, served, sheets_of, written


class Realms:
    """One server with two realms."""

    def __init__(self) -> None:
        self.held: dict[str, dict[str, Any]] = {"mill": {}, "press": {}}

    def __call__(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        _, first, *rest = path.split("/")
        if first == "about":
            return 200, {"uid": "one server"}, {}
        realm = self.held[rest[0]]
        assert headers["X-Realm"] == rest[0]
        if len(rest) == 2 and method == "GET":
            return 200, list(realm.values()), {}
        id_ = rest[2] if len(rest) == 3 else f"c{len(realm)}"
        if method in ("PUT", "POST"):
            realm[id_] = {**body, "id": id_}
        elif id_ not in realm:
            return 404, None, {}
        return 200, realm.pop(id_) if method == "DELETE" else realm[id_], {}


def test_two_realms_of_one_server_are_two_environments(tmp_path: Path) -> None:
    server = Realms()
    server.held["mill"]["c0"] = {"id": "c0", "name": "Portal", "hosts": ["a"]}
    written(tmp_path, sheets_of("realms"))
    with served(server) as url:

        def run(*words: str, code: int = 0) -> str:
            done = run_program(tmp_path, *words)
            assert done.code == code, (words, done.out, done.err)
            return done.out + done.err

        run("init")
        add = ("env", "add", "one", url, "--bridge", "realms.toml", "--role", "test")
        assert "asks for the realm of each environment, and one says none" in run(*add, code=2)
        assert "asks for no 'relm'" in run(*add, "--own", "relm=mill", code=2)
        assert "'a/b' can't be the realm of one" in run(*add, "--own", "realm=a/b", code=2)
        run(*add, "--own", "realm=mill")
        run("env", "add", "two", url, "--bridge", "realms.toml", "--role", "test", "--own", "realm=press")
        assert f"{url} (realm press)" in run("env", "list")
        run("export", "one", "Portal", "--as", "p")
        told = run("import", "p", "two", "--yes")
        assert "two (test, realm press)" in told
        assert f"{url}/console/press/c0" in told
        assert [one["hosts"] for one in server.held["press"].values()] == [["a"]]
        assert "say that they are one environment" not in run("import", "p", "one", "two", "--preview")
        run("undo", "last", "--yes")
        assert server.held["press"] == {}


@pytest.mark.parametrize(
    ("line", "told"),
    [
        ('own = { realm = 1 }\nbridge = "x"', "'own' has to be a table of texts"),
        ('own = "mill"\nbridge = "x"', "'own' has to be a table of texts"),
        ('own = { realm = "mill" }', "'own' is what a bridge sheet asks for"),
        ('own = { api_key = "mill" }\nbridge = "x"', "a secret stands in clear"),
    ],
)
def test_what_an_environment_says_for_itself_is_read_strictly(tmp_path: Path, line: str, told: str) -> None:
    run_program(tmp_path, "init")
    with (tmp_path / "amphora.toml").open("a") as file:
        file.write(f'[environments.one]\nlocation = "http://127.0.0.1:9"\n{line}\n')
    done = run_program(tmp_path, "survey", "one")
    assert (done.code, told in done.err) == (2, True), done.err


@pytest.mark.parametrize("name", ["id", "secret", "Realm", "a.b"])
def test_a_sheet_asks_for_nothing_that_stands_for_something_else(tmp_path: Path, name: str) -> None:
    sheet = sheets_of("realms")["realms"].replace('own = ["realm"]', f'own = ["{name}"]')
    written(tmp_path, sheets_of("realms", realms=sheet))
    run_program(tmp_path, "init")
    done = run_program(
        tmp_path, "env", "add", "one", "http://127.0.0.1:9", "--bridge", "realms.toml", "--role", "test"
    )
    assert (done.code, f"`own`: {name!r} has to be small letters" in done.err) == (2, True), done.err
