"""A platform with one list and one path for items of every kind, which says in each what it is, in the envelopes of
JSON:API; it leads from paths without a slash to those with one, and from what it made to where that stands."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from amphora.core.values.errors import EnvironmentRefused, Uncertain
from amphora.environments.bridge.client import Client
from amphora.environments.bridge.parts import Call
from amphora.environments.bridge.sheet import parse_bridge
from tests.contract.answering import Said, pair, served, sheets_of


class Cask:
    """Brews that follow each other, each of hops."""

    def __init__(self, name: str, first: int) -> None:
        self.name, self.number, self.held = name, first, dict[str, dict[str, Any]]()

    def add(self, kind: str, name: str, **relations: Any) -> str:
        return self._made({"type": kind, "attributes": {"name": name, "strength": 7}, "relationships": relations})

    def _made(self, data: dict[str, Any]) -> str:
        self.number += 1
        given = {"id": str(self.number), "meta": {"rev": 1}}
        self.held[str(self.number)] = {"relationships": {}, **data, **given}
        return str(self.number)

    def __call__(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        if not path.endswith("/"):
            return 308, None, {"Location": f"{path}/?from={said.get('from', 0)}"}
        match = re.fullmatch(r"/objects/(\d+)/", path)
        one = self.held.get(match[1]) if match else None
        if path == "/about/":
            return 200, {"uid": self.name}, {}
        if path == "/objects/" and method == "GET":
            rows = sorted(self.held.values(), key=lambda row: int(row["id"]))
            return 200, {"data": rows[int(said["from"]) :][:2]}, {}
        if path == "/objects/":
            if wrong := self._wrong(body["data"]):
                return wrong
            return 303, None, {"Location": f"/objects/{self._made(body['data'])}/"}
        if one is None:
            return 404, {"errors": [{"detail": "there is no such object"}]}, {}
        if method == "DELETE":
            del self.held[one["id"]]
            return 204, None, {}
        if method == "PATCH":
            assert (body["data"]["type"], body["data"]["id"]) == (one["type"], one["id"])
            if wrong := self._wrong(body["data"]):
                return wrong
            one["meta"]["rev"] += 1
            for part in ("attributes", "relationships"):
                one[part] |= body["data"].get(part, {})
        return 200, {"data": one}, {}

    def _wrong(self, data: dict[str, Any]) -> Said | None:
        for name, relation in data.get("relationships", {}).items():
            named = relation["data"] if isinstance(relation["data"], list) else [relation["data"]]
            for other in filter(None, named):
                if self.held.get(other["id"], {}).get("type") != other["type"]:
                    at = {"pointer": f"/data/relationships/{name}"}
                    return 422, {"errors": [{"detail": f"{other} is nothing", "source": at}]}, {}
        return None

    def names(self) -> list[str]:
        return sorted(one["attributes"]["name"] for one in self.held.values())


def _to(*ids: str, kind: str = "hop", many: bool = False) -> Any:
    named = [{"type": kind, "id": id_} for id_ in ids]
    return {"data": named if many else named[0] if named else None}


def _filled(cask: Cask) -> list[str]:
    # Five of one kind together: some pages hold none of the other.
    hops = [cask.add("hop", f"Hop {number}") for number in range(5)]
    brews = [
        cask.add(
            "brew",
            f"Brew {number}",
            first=_to(hops[number]),
            hops=_to(*hops[:number], many=True),
            next=_to(kind="brew"),
        )
        for number in range(3)
    ]
    for number, brew in enumerate(brews):
        cask.held[brew]["relationships"]["next"] = _to(brews[(number + 1) % 3], kind="brew")
    return brews


def test_kinds_that_share_a_path_are_told_apart(tmp_path: Path) -> None:
    one, two = Cask("one", 0), Cask("two", 70)
    brews = _filled(one)
    two.add("hop", "Hop 1")
    two.add("brew", "Old", first=_to(), hops=_to(many=True), next=_to())
    with pair(tmp_path, sheets_of("cask"), one, two) as run:
        assert "here holds 8 items: 3 brews, 5 hops." in run("survey", "here").out
        run("env", "prove", "here", "--yes")
        run("export", "here", "*", "--as", "p")
        run("import", "p", "there", "--yes")
        assert two.names() == sorted([*one.names(), "Old"])
        [first] = [row for row in two.held.values() if row["attributes"]["name"] == "Brew 0"]
        led_to = two.held[first["relationships"]["next"]["data"]["id"]]
        assert (led_to["type"], led_to["attributes"]["name"]) == ("brew", "Brew 1")
        # Changed, and taken back in a process that has not seen any of it: by the id alone a brew could be a hop.
        one.held[brews[0]] |= {
            "relationships": one.held[brews[0]]["relationships"] | {"next": _to()},
            "meta": {"rev": 2},
        }
        run("export", "here", "*", "--as", "p")
        run("import", "p", "there", "--yes")
        assert first["relationships"]["next"] == _to()
        assert "there-2 is undone: there is as it was before." in run("undo", "last", "--yes").out
        assert first["relationships"]["next"]["data"]["id"] == led_to["id"]
        run("undo", "there-1", "--yes")
        assert two.names() == ["Hop 1", "Old"]


def test_where_an_answer_leads_is_gone_to_on_the_same_server_only() -> None:
    bridge, *kinds = sheets_of("cask").items()
    sheet = parse_bridge(bridge[1], "cask.toml", {f"{kind}.toml": text for kind, text in kinds})
    led = {"/away": (302, "https://elsewhere.example/x?token=1"), "/login": (302, "/page"), "/round": (307, "/round")}

    def answer(method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        status, location = led.get(path, (200, ""))
        return status, {"at": path}, {"Location": location} if location else {}

    def asked(method: str, path: str) -> Call:
        return replace(sheet.items["hop"].read, method=method, path=path, at="$")

    with served(answer) as url:
        client = Client(sheet, url, "", "")
        assert client.ask(asked("GET", "/login")).body == {"at": "/page"}
        for path, words in (
            ("/away", "it answers 302, and leads to https://elsewhere.example/x."),
            ("/round", "it answers 307, and leads to /round."),
        ):
            with pytest.raises(EnvironmentRefused, match=re.escape(words)):
                client.ask(asked("GET", path))
        # A page after something was done, or one that says who may do it: nobody knows.
        with pytest.raises(Uncertain, match="answers POST /login with 302, and leads to /page"):
            client.change(asked("POST", "/login"), {})
        client.close()
