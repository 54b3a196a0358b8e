"""A platform whose items are files: their ids are paths, their texts name others by these, and whoever changes one has
to take hold of it first, and to let go of it after."""

from __future__ import annotations

from pathlib import Path
from typing import Any
from urllib.parse import unquote

from tests.contract.answering import Said, pair, sheets_of


class Vault:
    """Files by their paths, and who holds which."""

    def __init__(self, name: str) -> None:
        self.name, self.files, self.texts = name, dict[str, dict[str, Any]](), dict[str, str]()
        self.held, self.released, self.number = dict[str, str](), list[str](), 0

    def put(self, path: str, label: str, text: str = "") -> dict[str, Any]:
        above, _, name = path.rpartition("/")
        self.files[path] = {"path": path, "name": name, "dir": above.strip("/"), "label": label, "rev": 1}
        self.texts[path] = text
        return self.files[path]

    def __call__(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        if path == "/about":
            return 200, {"uid": self.name}, {}
        if path == "/files":
            shown = {at: {k: v for k, v in one.items() if k != "path"} for at, one in self.files.items()}
            return 200, {"files": shown}, {}
        if path == "/release":
            self.released.append(body["is"])
            self.held = {at: ticket for at, ticket in self.held.items() if ticket != body["ticket"]}
            return 204, None, {}
        named = said.get("path") or unquote(path.removeprefix("/files"))
        if method == "POST" and path != "/hold":
            return 200, self.put(named, body["label"]), {}
        if named not in self.files:
            return 404, {"say": "there is no such file"}, {}
        one = self.files[named]
        if path == "/hold":
            if named in self.held:
                return 423, {"say": f"it is held by {self.held[named]}"}, {}
            self.number += 1
            # Taking hold of it counts as a change there.
            one["rev"] += 1
            self.held[named] = f"ticket-{self.number}"
            return 200, {"ticket": self.held[named]}, {}
        if path == "/text":
            if method == "GET":
                return 200, self.texts[named], {"Content-Type": "text/plain; charset=utf-8"}
            # The server of these tests reads what is no JSON byte by byte.
            self.texts[named] = (body or "").encode("latin-1").decode()
            return 204, None, {}
        if method == "DELETE":
            del self.files[named], self.texts[named]
            return 204, None, {}
        if method == "PUT":
            if headers.get("X-Ticket") != self.held.get(named):
                return 409, {"say": "take hold of it first"}, {}
            if body["label"] == "refused":
                return 422, {"say": "nobody is called that"}, {}
            one.update(label=body["label"], rev=one["rev"] + 1)
        return 200, one, {}


def test_what_has_a_path_for_an_id_goes_over_and_comes_back(tmp_path: Path) -> None:
    one, two = Vault("one"), Vault("two")
    one.put("/Shared/Base & more.rep", "Base", "kilos = 1\n")
    one.put("/Shared/Été/Yield ~ü.rep", "Yield", 'include "/Shared/Base & more.rep"\ninclude "nothing there"\n')
    one.put("/Loose.rep", "Loose", 'include "/Shared/Été/Yield ~ü.rep"\n')
    two.put("/Shared/Other.rep", "Other", "x")
    with pair(tmp_path, sheets_of("vault"), one, two) as run:
        found = run("survey", "here", "--json").json
        assert {item["title"]: item["uses"] for item in found["items"]} == {
            "Loose.rep": 1,
            "Yield ~ü.rep": 1,
            "Base & more.rep": 0,
        }
        run("export", "here", "Loose.rep", "--as", "p")
        run("import", "p", "there", "--yes")
        assert two.texts == {**one.texts, "/Shared/Other.rep": "x"}
        run("verify", "p", "there")
        one.files["/Loose.rep"] |= {"label": "Looser", "rev": 2}
        run("export", "here", "Loose.rep", "--as", "p")
        # Somebody else holds it: nothing is changed, and nothing is let go of that isn't ours.
        two.held["/Loose.rep"] = "somebody"
        assert "it is held by somebody" in run("import", "p", "there", "--yes", code=4).err
        assert (two.released, two.held) == ([], {"/Loose.rep": "somebody"})
        two.held.clear()
        assert "0 created, 1 updated" in run("import", "p", "there", "--yes").out
        assert (two.files["/Loose.rep"]["label"], two.released, two.held) == ("Looser", ["kept"], {})
        # What the platform refuses is let go of as well.
        one.files["/Loose.rep"] |= {"label": "refused", "rev": 3}
        run("export", "here", "Loose.rep", "--as", "p")
        done = run("import", "p", "there", "--yes", code=4)
        assert "nobody is called that" in done.err
        assert "there is as it was before" in done.err
        assert (two.released, two.held) == (["kept", "left"], {})
        assert "is as it was before" in run("undo", "last", "--yes").out
        run("undo", "there-1", "--yes")
        assert two.texts == {"/Shared/Other.rep": "x"}
