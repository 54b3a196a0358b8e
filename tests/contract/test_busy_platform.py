"""A platform that takes its time: every change is a job, what is on can't be touched, what was made is shown late, and
scripts are text with calls of their own."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from tests.contract.answering import Said, pair, sheets_of


class Looms:
    """Looms by number, each with a script; `broken` is the end of a path whose call comes to nothing."""

    def __init__(self, name: str, first: int) -> None:
        self.name, self.next, self.broken = name, first, ""
        self.looms: dict[str, dict[str, Any]] = {}
        self.jobs: dict[str, dict[str, Any]] = {}
        self.late, self.rested = dict[str, int](), set[str]()
        self.calls: list[str] = []

    def added(self, name: str, script: str, is_on: bool = False, after: str | None = None) -> str:
        self.next += 1
        one = {"id": str(self.next), "name": name, "next": after, "on": is_on, "script": script}
        self.looms[str(self.next)] = {**one, "at": "Sun, 29 Nov 2026 10:11:12 GMT"}
        return str(self.next)

    def shown(self) -> str:
        """All of it, by names: ids are given anew."""
        names = {id_: one["name"] for id_, one in self.looms.items()}
        rows = sorted([one["name"], names.get(one["next"]), one["on"], one["script"]] for one in self.looms.values())
        return json.dumps(rows)

    def __call__(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        _, kind, *rest = path.split("/")
        if kind == "about":
            return 200, {"uid": self.name}, {}
        if kind == "jobs":
            job = self.jobs[rest[0]]
            job["left"] -= 1
            return 200, {**job, "state": job["state"] if job["left"] < 0 else "waiting"}, {"Retry-After": "0"}
        if not rest and method == "GET":
            return 200, [{k: v for k, v in one.items() if k != "script"} for one in self.looms.values()], {}
        if method != "GET":
            self.calls.append(f"{method} {'/'.join(rest[1:]) or kind}")
        one = self.looms.get(rest[0]) if rest else None
        if rest and (one is None or self.late.pop(rest[0], 0)):
            return 404, {"message": "not here"}, {}
        if one is None:
            made = self.added(body["name"], "", after=body.get("next"))
            self.late[made] = 1
            return self.begun(path, made)
        if rest[1:] == ["script"] and method == "GET":
            return 200, one["script"].encode(), {"Content-Type": "text/x-loom; charset=utf-8"}
        if method == "GET":
            return 200, {k: v for k, v in one.items() if k != "script"}, {}
        if rest[1:] in (["on"], ["off"]):
            one["on"] = rest[1] == "on"
        elif one["on"] or path.endswith(self.broken or "!"):
            return 409, {"message": "it is weaving"}, {}
        elif rest[1:] == ["script"]:
            one["script"] = body
            return 204, None, {}
        elif rest[1:] == ["rest"]:
            self.rested.add(rest[0])
            return 204, None, {}
        elif method == "DELETE":
            assert rest[0] in self.rested
            del self.looms[rest[0]]
        elif self.broken != "job":
            one |= {"name": body["name"], "next": body.get("next")}
        return self.begun(path, rest[0])

    def begun(self, path: str, of: str) -> Said:
        is_broken = self.broken == "job" and path.endswith(of)
        name = str(len(self.jobs))
        self.jobs[name] = {"left": 1, "of": of, "state": "failed" if is_broken else "done", "why": "no yarn"}
        return 202, {}, {"Location": f"/jobs/{name}"}


def test_what_rests_is_off_for_its_changes_and_on_again_whatever_happens(tmp_path: Path) -> None:
    one, two = Looms("one", 0), Looms("two", 50)
    with pair(tmp_path, sheets_of("looms"), one, two) as run:
        wide = one.added("Wide", "weave\n", is_on=True)
        narrow = one.added("Narrow", f"when loom({wide}) ends\nweave\n", is_on=True, after=wide)
        two.added("Theirs", "x")
        assert "keeps all" in run("env", "prove", "there", "--yes").out
        begun = two.shown()
        run("export", "here", "Narrow", "--as", "p")
        run("import", "p", "there", "--yes")
        after = {row["name"]: id_ for id_, row in two.looms.items()}
        assert two.looms[after["Narrow"]]["script"] == f"when loom({after['Wide']}) ends\nweave\n"
        was = two.shown()
        one.looms[narrow]["script"] += "rest\n"
        run("export", "p")
        told = run("import", "p", "there", "--preview").out
        assert "Switched off while being changed, and on again after\n- loom:Narrow" in told
        # Refused in whichever of its calls, or by a job that fails late: on again, and as it was.
        for two.broken in ("script", after["Narrow"], "job"):
            assert "there is as it was before" in run("import", "p", "there", "--yes", code=4).err
            assert two.shown() == was
        two.broken, two.calls = "", []
        run("import", "p", "there", "--yes")
        assert two.calls == ["POST off", "PUT looms", "PUT script", "POST on"]
        assert two.looms[after["Narrow"]]["script"].endswith("rest\n")
        run("verify", "last")
        for back in (was, begun):
            run("undo", "last", "--yes")
            assert two.shown() == back
        run("import", "p", "there", "--yes")
        run("withdraw", "p", "there", "--retire-all")
        assert two.shown() == begun


@pytest.mark.parametrize("call", ["update", "retire"])
def test_what_is_refused_while_it_is_on_is_found_by_a_proof(call: str, tmp_path: Path) -> None:
    other = {"update": "retire", "retire": "update"}[call]
    lines = [
        line.replace('when = "off", ', "") if line.startswith(call) else line
        for line in sheets_of("looms")["looms"].splitlines()
    ]
    two = Looms("two", 50)
    two.added("Theirs", "x")
    with pair(tmp_path, sheets_of("looms", looms="\n".join(lines)), Looms("one", 0), two) as run:
        told = run("env", "prove", "there", "--yes", code=1).out
    assert f'{call} = {{ …, when = "off" }}' in told
    assert f'{other} = {{ …, when = "off" }}' not in told
    assert [row["name"] for row in two.looms.values()] == ["Theirs"]
