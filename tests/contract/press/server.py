"""The platform: numbers of its own for every kind, JSON inside strings, short-lived tokens, pages by cursor, jobs, entity
tags here and none there, and now and then too much to do."""

from __future__ import annotations

import base64
import json
import time
from dataclasses import dataclass, field
from typing import Any

from tests.contract.answering import Said

CLIENT, SECRET = "keeper@halcyon.example", "made-up-client-secret"
MASK = "(hidden)"
CALLS_OF_A_TOKEN = 40


class Fault(Exception):
    """A refusal."""

    def __init__(self, status: int, code: str, text: str) -> None:
        super().__init__(text)
        self.status, self.code, self.text = status, code, text


@dataclass
class Press:
    """One instance: its kinds by number, and what it remembers of callers."""

    uid: str
    first: int
    kinds: dict[str, dict[int, dict[str, Any]]] = field(
        default_factory=lambda: {"tables": {}, "flows": {}, "drawers": {}, "sources": {}, "reports": {}}
    )
    tokens: dict[str, int] = field(default_factory=dict)
    jobs: dict[int, int] = field(default_factory=dict)
    calls: int = 0
    method: str = ""
    headers: dict[str, str] = field(default_factory=dict)

    def add(self, kind: str, **members: Any) -> int:
        """One more of a kind; its number."""
        there = self.kinds[kind]
        number = max(there, default=self.first - 1) + 1
        there[number] = {"no": number, "stamp": 1, "at": int(time.time()), "by": CLIENT, **members}
        return number

    def touch(self, one: dict[str, Any], members: dict[str, Any]) -> None:
        """Somebody wrote it."""
        one.update(members)
        one["stamp"] += 1
        one["at"] = int(time.time())

    def __call__(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        self.method, self.headers = method, headers
        try:
            return self._answer(path.removeprefix("/api/v4/").split("/"), said, body)
        except Fault as fault:
            told = {"fault": {"code": fault.code, "text": fault.text}}
            return fault.status, told, {"Retry-After": "0"} if fault.status == 429 else {}

    def _answer(self, words: list[str], said: dict[str, str], body: Any) -> Said:
        if words == ["oauth", "token"]:
            return self._token()
        self.calls += 1
        if self.calls % 37 == 0:
            raise Fault(429, "busy", "the press is full")
        self._signed_in()
        if words == ["about"]:
            return 200, {"instance": self.uid, "version": "4.1"}, {}
        if words == ["me"]:
            return 200, {"login": CLIENT, "rights": ["items.edit", "items.remove"]}, {}
        return self._job(int(words[1])) if words[0] == "jobs" else self._kind(words, said, body)

    def _token(self) -> Said:
        given = base64.b64decode(self.headers.get("Authorization", "").removeprefix("Basic ")).decode()
        if given != f"{CLIENT}:{SECRET}":
            return 401, {"error": "invalid_client"}, {}
        token = f"token-{len(self.tokens)}"
        self.tokens[token] = CALLS_OF_A_TOKEN
        return 200, {"access_token": token, "token_type": "Bearer"}, {}

    def _signed_in(self) -> None:
        token = self.headers.get("Authorization", "").removeprefix("Bearer ")
        left = self.tokens.get(token, 0)
        if not left or self.headers.get("X-Press-Client") != CLIENT:
            raise Fault(401, "who", "sign in")
        self.tokens[token] = left - 1

    def _job(self, number: int) -> Said:
        asked = self.jobs[number] = self.jobs.get(number, 0) + 1
        return 200, {"state": "done" if asked > 1 else "running", "made": number}, {"Retry-After": "0"}

    def _kind(self, words: list[str], said: dict[str, str], body: Any) -> Said:
        kind, *rest = words
        if kind not in self.kinds:
            raise Fault(404, "nothing", "there is nothing of that name")
        there = self.kinds[kind]
        if not rest:
            return self._made(kind, body) if self.method == "POST" else self._listed(there, said)
        one = there.get(int(rest[0]))
        if one is None:
            raise Fault(404, "nothing", f"there is no number {rest[0]}")
        if kind == "sources":
            held = [{"name": name} for name in one["objects"]]
            return 200, {"works": one["works"]} if rest[1] == "try" else {"data": held}, {}
        if kind == "reports":
            return self._report(one, rest[1:], body)
        if rest[1:] == ["activation"]:
            self.touch(one, {"active": body["active"]})
        elif self.method == "DELETE":
            self._guard(kind, one)
            del there[one["no"]]
            return 204, None, {}
        elif self.method == "PUT":
            self._guard(kind, one)
            self._put(kind, one, body)
        shown = _shown(one)
        return 200, {"table": shown} if kind == "tables" else shown, {"ETag": etag(one)} if kind == "flows" else {}

    def _report(self, one: dict[str, Any], rest: list[str], body: Any) -> Said:
        """A live version and a draft, apart; what is released is the draft, which is gone then."""
        if self.method == "DELETE":
            del self.kinds["reports"][one["no"]]
            return 204, None, {}
        if rest == ["draft"] and self.method == "PATCH":
            self._known("drawers", body.get("drawer"))
            drawn = _patched(one["draft"] or one["live"], body.pop("body", {}))
            self.touch(one, {**body, "draft": drawn})
        elif rest == ["release"]:
            if one["draft"] is None:
                raise Fault(409, "empty", "there is no draft")
            self._known("tables", one["draft"].get("shows"))
            self.touch(one, {"live": one["draft"], "draft": None})
        elif rest == ["recall"]:
            self.touch(one, {"live": None, "draft": one["draft"] or one["live"]})
        shown = one["live" if rest == ["live"] else "draft"]
        if shown is None and self.method == "GET":
            raise Fault(404, "nothing", "there is no such version")
        return 200, {**_card(one), "body": shown}, {}

    def _guard(self, kind: str, one: dict[str, Any]) -> None:
        given = self.headers.get("If-Match")
        if kind == "flows" and given is None:
            raise Fault(428, "stale", "say which one you mean")
        if given not in (None, etag(one)):
            raise Fault(409, "stale", "somebody was here before")

    def _made(self, kind: str, body: Any) -> Said:
        if kind == "drawers":
            return 201, {"no": self.add(kind, label=body["label"], inside=body["inside"])}, {}
        if kind == "reports":
            self._known("drawers", body.get("drawer"))
            drawn = body.pop("body", {})
            uid = f"u-{len(self.kinds[kind])}"
            return 201, {"no": self.add(kind, **{"uid": uid, **body}, live=None, draft=drawn)}, {}
        members = self._members(kind, body, {})
        if kind == "flows":
            number = self.add(kind, active=True, uid=f"u-{self.uid}-{len(self.kinds[kind])}", **members)
            return 202, {"job": number}, {"Location": f"/api/v4/jobs/{number}"}
        return 201, {"no": self.add(kind, **members)}, {}

    def _put(self, kind: str, one: dict[str, Any], body: Any) -> None:
        members = self._members(kind, body, one)
        # What isn't sent is gone, but for what the platform itself keeps.
        for name in one.keys() - members.keys() - {"no", "stamp", "at", "by", "active", "uid"}:
            del one[name]
        self.touch(one, members)

    def _members(self, kind: str, body: Any, present: dict[str, Any]) -> dict[str, Any]:
        members = dict(body["flow"] if kind == "flows" else body)
        if kind == "flows":
            members["drawer"] = members.pop("drawer_no", None)
            if not isinstance(members.get("program"), str):
                raise Fault(400, "wrong", "the program has to be text")
            # Left out is kept; a mask that is sent back would become the secret.
            kept = present.get("access", {})
            members["access"] = {**kept, **(members.get("access") or {})}
            self._known("tables", json.loads(members["program"]).get("reads"))
        if kind == "tables":
            self._known("sources", members.get("source"))
        self._known("drawers", members.get("drawer"))
        return members

    def _known(self, kind: str, number: Any) -> None:
        if number is not None and number not in self.kinds[kind]:
            raise Fault(422, "unknown", f"there is no number {number!r} among the {kind}")

    def _listed(self, there: dict[int, dict[str, Any]], said: dict[str, str]) -> Said:
        after, most = int(said.get("after") or 0), int(said.get("most", 50))
        rows = [one for number, one in sorted(there.items()) if number > after]
        # Fewer than asked for is not the end here.
        page = rows[: max(1, most - 1)]
        following = page[-1]["no"] if len(rows) > len(page) else None
        return 200, {"data": [_shown(one) for one in page], "next": following}, {}


def _card(one: dict[str, Any]) -> dict[str, Any]:
    is_dirty = one["draft"] is not None and one["live"] is not None
    kept = {name: value for name, value in one.items() if name not in ("live", "draft")}
    return {**kept, "is_live": one["live"] is not None, "is_dirty": is_dirty}


def _patched(there: Any, patch: Any) -> Any:
    """RFC 7396."""
    if not isinstance(patch, dict):
        return patch
    left = dict(there) if isinstance(there, dict) else {}
    for name, value in patch.items():
        if value is None:
            left.pop(name, None)
        else:
            left[name] = _patched(left.get(name), value)
    return left


def _shown(one: dict[str, Any]) -> dict[str, Any]:
    if "live" in one:
        return _card(one)
    access = {name: MASK for name, value in one.get("access", {}).items() if value}
    return {**one, "access": access} if "access" in one else one


def etag(one: dict[str, Any]) -> str:
    """The entity tag of what is there."""
    return f'"{one["stamp"]}"'


def filled(uid: str, first: int, secret: str, is_source: bool = True) -> Press:
    """An instance with tables and flows, numbered from `first`; a source's use each other."""
    press = Press(uid, first)
    mill = press.add("sources", label=f"mill of {uid}", type="database", works=True, objects=["weighings"])
    intake = press.add("drawers", label="intake", inside=None)
    apart = press.add("tables", label="Apart", drawer=None, source=mill, columns=[])
    count = {"reads": apart, "calls": []}
    members: dict[str, Any] = {"active": False, "settings": {}, "access": {"token": secret}}
    press.add("flows", label=f"Count {uid}", drawer=None, uid=f"u-{uid}-count", program=json.dumps(count), **members)
    if not is_source:
        return press
    inner = press.add("drawers", label="quality", inside=intake)
    growers = press.add("tables", label="Growers", drawer=None, source=mill, columns=[{"name": "code"}])
    sql = f"select * from table({growers}) where code < 5"
    weights = press.add("tables", label="Weighings", drawer=intake, source=mill, columns=[], sql=sql)
    program = {
        "reads": growers,
        "calls": [],
        "weights": {str(weights): {"by": 2}},
        "origin": f"tables/{weights}/rows",
    }
    members = {"active": True, "access": {"token": secret}, "note": "Looks at every delivery."}
    members |= {"settings": {"limit": 14}, "uid": f"u-{uid}-check", "program": json.dumps(program)}
    check = press.add("flows", label="Ripeness check", drawer=inner, **members)
    chart = {"kind": "bars", "colours": {"first": "green"}}
    body = {"chart": chart, "shows": weights, "note": "By the week."}
    weekly = press.add("reports", label="Weekly", drawer=intake, uid=f"u-{uid}-weekly", live=body, draft=None)
    idle = json.dumps({"calls": []})
    rinse = press.add("flows", label="Rinse", drawer=intake, active=True, uid=f"u-{uid}-rinse", program=idle)
    calling = json.dumps({"reads": weights, "calls": [check, rinse], "prints": weekly}, separators=(",", ":"))
    members = {"active": True, "settings": {}, "access": {}, "uid": f"u-{uid}-round", "program": calling}
    press.add("flows", label="Morning round", drawer=intake, **members)
    return press
