"""Platforms at random: what a server does, and what the sheets say of it, both from the same choices. Boards name
sources in one of many ways, and each other in a circle."""

from __future__ import annotations

import base64
import copy
import json
import random
import re
import uuid
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import jinja2

from tests.contract.answering import Said

CHOICES: dict[str, tuple[Any, ...]] = {
    "ids": ("number", "uuid", "global", "slug"),
    "addressed": (False, False, True),
    "envelope": (False, True),
    "wrapped": (False, True),
    "nested": (False, True),
    "pages": ("none", "page", "offset", "cursor", "link", "next"),
    "uses": ("ids", "objects", "text", "string"),
    "colours": (False, True),
    "script": (False, True),
    "next": ("id", "object"),
    "revision": ("number", "etag", "content"),
    "update": ("whole", "by member", "merge patch", "default"),
    "made": ("body", "location", "listed", "job"),
    "gone": ("gone", "shown", "twice"),
    "holds_on": (False, True),
    "refused": ("by status", "in the body"),
    "names": ("free", "taken", "renamed"),
    "drafts": (False, False, True),
    "switch": ("", "beside", "rests"),
    "starts": (False, True),
    "tags": ("", "whole", "entries", "each"),
    "hold": (False, False, True),
    "picture": ("", "", "whole", "form"),
    "lines": ("", "", "plain", "linked"),
    "pin": (False, True),
    "owner": (False, True),
    "shelf": (False, True),
    "fields": (False, True),
    "saves": (False, False, True),
    "signs": ("", "", "by cookies"),
    "row": (False, True),
    "says_id": (True, True, False),
    "by": (True, False),
    "bulk": (False, False, True),
    "takes_id": (False, True),
    "asks": ("by path", "by path", "by body"),
    "keyed": (False, False, True),
    "turns": ("by call", "by writing"),
    "counts": ("by itself", "from -1"),
}
ABSENT, TAKEN, USED, MISSING, RUNNING, MOVED = (404, 409, 409, 422, 409, 412)
INTERNAL = 500
PAGE = 2
VISIT = 60
ROW = ("id", "name", "revision", "archived", "state", "live", "drafted", "shelf", "lines")
PEOPLE = ("Ada", "Ben")


def chosen(seed: int) -> dict[str, Any]:
    """One platform."""
    by_chance = random.Random(seed)
    choice = {name: by_chance.choice(values) for name, values in CHOICES.items()}
    # What identifies everywhere needs no address around it.
    choice["addressed"] = choice["addressed"] and choice["ids"] != "global"
    choice["keyed"] = choice["keyed"] and not choice["addressed"]
    # A page that is asked for in a body is the one behind so many rows.
    choice["pages"] = "offset" if choice["asks"] == "by body" else choice["pages"]
    # Whoever makes something may say its id, where that can be any.
    choice["turns"] = choice["turns"] if choice["switch"] == "beside" and not choice["drafts"] else "by call"
    return choice | {"takes_id": choice["takes_id"] and choice["ids"] == "uuid" and not choice["addressed"]}


class Refused(Exception):
    """What a platform answers with its own words."""

    def __init__(self, status: int, words: str) -> None:
        self.status, self.words = status, words


class Platform:
    """Boards and sources. What they hold is kept as it is meant, and shown as the choices say."""

    def __init__(self, choice: dict[str, Any], name: str, first: int) -> None:
        self.choice, self.name, self.number, self.address = choice, name, first, ""
        self.held: dict[str, dict[Any, dict[str, Any]]] = {"board": {}, "source": {}}
        self.jobs: dict[str, list[Any]] = {}
        self.tickets: dict[Any, str] = {}
        self.visit, self.calls = 0, 0
        self.people = [f"{person} of {name}" for person in PEOPLE]

    def add(self, kind: str, title: str, **meant: Any) -> Any:
        """A new item, live, and off; gives its id."""
        one = self._made(kind, title, {**self._empty(), **meant})
        if one["draft"] is not None:
            one |= {"live": one["draft"], "draft": None}
        return one["id"]

    def change(self, kind: str, id_: Any, **meant: Any) -> None:
        """What somebody does who works there."""
        one = self.held[kind][id_]
        one["live"] |= meant
        one["revision"] += 1

    def told(self) -> dict[str, Any]:
        """Everything, with titles for ids."""
        called = {str(id_): one["title"] for held in self.held.values() for id_, one in held.items()}

        def named(meant: dict[str, Any] | None) -> Any:
            if meant is None:
                return None
            script = re.sub(
                "<([^ >]*)>", lambda found: f"<{called[str(self._plain('source', found[1]))]}>", meant["script"]
            )
            tags = sorted((tag["word"], tag.get("size")) for tag in meant["tags"])
            uses, colours = [called[str(id_)] for id_ in meant["uses"]], meant["colours"]
            after, owner = called.get(str(meant["next"])), str(meant["owner"]).partition(" ")[0]
            colours = {called[str(k)]: v for k, v in colours.items()}
            fields = sorted((field["name"], field["size"]) for field in meant["fields"])
            return [meant["text"], uses, colours, after, script, tags, meant["picture"], owner, fields]

        def draft_of(one: dict[str, Any]) -> Any:
            # One that says what is live is none.
            return None if one["draft"] == one["live"] else named(one["draft"])

        def lines(one: dict[str, Any]) -> list[Any]:
            kilos = {line["no"]: line["kilos"] for line in one["lines"]}
            return sorted((line["kilos"], kilos.get(line["of"], 0)) for line in one["lines"])

        return {
            f"{kind} {one['title']}": (one["on"], one["shelf"], lines(one), named(one["live"]), draft_of(one))
            for kind, held in self.held.items()
            for one in held.values()
            if not one["gone"]
        }

    def _made(self, kind: str, title: str, meant: dict[str, Any], asked: str = "") -> dict[str, Any]:
        self.number += 1
        id_: Any = asked or self.number
        if self.choice["ids"] == "uuid" and not asked:
            id_ = str(uuid.uuid5(uuid.NAMESPACE_URL, f"{self.name}/{self.number}"))
        if self.choice["ids"] == "global":
            id_ = base64.b64encode(f"{kind}:{self.number}".encode()).decode()
        if self.choice["ids"] == "slug":
            id_ = "-".join(
                [*title.lower().split(), *(["x"] * sum(one["title"] == title for one in self.held[kind].values()))]
            )
        is_draft = self._has_drafts(kind)
        one = {
            "id": id_,
            "title": title,
            "revision": 1,
            "on": False,
            "gone": False,
            "shelf": "",
            "lines": [],
            "pin": "",
        }
        one |= {"live": None, "draft": meant} if is_draft else {"live": meant, "draft": None}
        self.held[kind][id_] = one
        return one

    def _empty(self) -> dict[str, Any]:
        empty: dict[str, Any] = {"text": "", "uses": [], "colours": {}, "next": None, "script": "", "owner": None}
        return {**empty, "tags": [], "picture": None, "fields": []}

    def _has_drafts(self, kind: str) -> bool:
        return bool(self.choice["drafts"]) and kind == "board"

    def _written(self, kind: str, id_: Any) -> Any:
        return f"{self.address}/{kind}s/{id_}/" if self.choice["addressed"] else id_

    def _plain(self, kind: str, text: Any) -> Any:
        plain = str(text).removeprefix(f"{self.address}/{kind}s/").rstrip("/") if self.choice["addressed"] else text
        return int(plain) if self.choice["ids"] == "number" and str(plain).isdigit() else plain

    def _shown(self, kind: str, one: dict[str, Any], meant: dict[str, Any]) -> dict[str, Any]:
        choice = self.choice
        shown: dict[str, Any] = {"text": meant["text"]}
        if kind == "board":
            shown |= {"owner": meant["owner"]} if choice["owner"] else {}
            shown |= {"fields": meant["fields"]} if choice["fields"] else {}
            shown |= {"pin": one["pin"] and "****"} if choice["pin"] else {}
            ids = [self._written("source", id_) for id_ in meant["uses"]]
            shown["uses"] = {
                "ids": ids,
                "objects": [{"id": id_, "kind": "source"} for id_ in ids],
                "text": [f"of {id_}!" for id_ in ids],
                "string": json.dumps({"list": ids}),
            }[choice["uses"]]
        if kind == "board" or choice["lines"] == "linked":
            after = None if meant["next"] is None else self._written(kind, meant["next"])
            shown["next"] = {"kind": "board", "id": after} if choice["next"] == "object" and after else after
        if kind == "board":
            if choice["colours"]:
                shown["colours"] = {str(self._written("source", id_)): part for id_, part in meant["colours"].items()}
            if choice["script"]:
                shown["script"] = meant["script"]
        row = {"id": self._written(kind, one["id"]), "name": one["title"], "revision": one["revision"]}
        row |= {"archived": one["gone"], "state": "runs" if one["on"] else "rests"}
        row |= {"live": one["live"] is not None, "drafted": one["draft"] is not None}
        row |= {"shelf": one["shelf"], "lines": len(one["lines"])}
        return {**row, **({"with": shown} if choice["nested"] else shown)}

    def _taken(self, by: str, meant: dict[str, Any], body: dict[str, Any]) -> dict[str, Any]:
        """What is meant after a body has been laid over what was."""
        choice, given = self.choice, body.get("with", {}) if self.choice["nested"] else body
        meant = copy.deepcopy(meant)
        if "text" in given:
            # Tidied, as many do.
            meant["text"] = (given["text"] or "").strip()
        if "uses" in given:
            said: Any = given["uses"] or []
            if choice["uses"] == "string":
                said = json.loads(said)["list"] if said else []
            if choice["uses"] == "text":
                said = [re.fullmatch("of (.*)!", text)[1] for text in said]  # type: ignore[index]
            meant["uses"] = [self._plain("source", one["id"] if isinstance(one, dict) else one) for one in said]
        if "next" in given:
            after = given["next"]
            after = after["id"] if isinstance(after, dict) else after
            meant["next"] = None if after is None else self._plain(by, after)
        if "colours" in given:
            new = {self._plain("source", name): part for name, part in (given["colours"] or {}).items()}
            base = meant["colours"] if choice["update"] == "merge patch" else {}
            meant["colours"] = {name: part for name, part in {**base, **new}.items() if part is not None}
        if "fields" in given:
            numbers = [field.get("no") for field in given["fields"] or []]
            if self.choice["counts"] == "from -1" and len(set(numbers)) < len(numbers):
                raise Refused(MISSING, "two fields of one number")
            meant["fields"] = [self._field(field, meant["fields"]) for field in given["fields"] or []]
        if "script" in given:
            meant["script"] = given["script"] or ""
        if "owner" in given:
            meant["owner"] = given["owner"]
            if meant["owner"] not in (None, *self.people):
                raise Refused(MISSING, f"there is nobody called {meant['owner']}")
        named = [*(("source", id_) for id_ in [*meant["uses"], *meant["colours"]]), (by, meant["next"])]
        for kind, id_ in named:
            if id_ is not None and self.held[kind].get(id_, {"gone": True})["gone"]:
                raise Refused(MISSING, f"there is no {kind} {id_}")
        return meant

    def _field(self, field: dict[str, Any], there: list[dict[str, Any]]) -> dict[str, Any]:
        """A field as it is from now on: one that is there is named by its number, and a new one has none, or one
        below 0."""
        if self.choice["counts"] == "from -1":
            if not isinstance(field.get("no"), int):
                raise Refused(MISSING, "a field without a number")
            field = field if field["no"] > 0 else {name: part for name, part in field.items() if name != "no"}
        if "no" in field and field["no"] not in [one["no"] for one in there]:
            raise Refused(MISSING, f"there is no field {field['no']}")
        if "no" not in field and field["name"] in [one["name"] for one in there]:
            raise Refused(TAKEN, f"there is a field {field['name']}")
        self.number += 1
        return {"no": self.number, **field}

    def __call__(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        headers = {name.lower(): text for name, text in headers.items()}
        if self.choice["signs"] and (shown_out := self._signed(method, path, body, headers)):
            return shown_out
        try:
            return self._answer(method, path, said, body, headers)
        except (KeyError, TypeError) as error:
            # Something without what it has to have.
            return self._refusal(Refused(MISSING, f"{error} is missing"))
        except Refused as refusal:
            return self._refusal(refusal)

    def _signed(self, method: str, path: str, body: Any, headers: dict[str, str]) -> Said | None:
        """A cookie tells who asks, for a while; whoever changes something says what stands in another one."""
        if path == "/enter" and body == {"who": "keeper", "word": "olives"}:
            self.visit, self.calls = self.visit + 1, 0
            return 204, None, {"Set-Cookie": f"desk=visit-{self.visit}; Path=/"}
        self.calls += 1
        if f"desk=visit-{self.visit}" not in headers.get("cookie", "") or self.calls > VISIT:
            return 401, None, {}
        if path == "/forms":
            return 204, None, {"Set-Cookie": "form=a%3Db; Path=/"}
        return None if method == "GET" or headers.get("x-form") == "a=b" else (403, None, {})

    def _refusal(self, refusal: Refused) -> Said:
        is_told_inside = self.choice["refused"] == "in the body" and refusal.status < INTERNAL
        status = 200 if is_told_inside else refusal.status
        return status, {"fault": {"no": refusal.status, "says": refusal.words}}, {}

    def _answer(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        if path == "/about":
            return 200, {"uid": self.name}, {}
        if path == "/people":
            return 200, [{"id": person, "name": person} for person in self.people], {}
        kind, id_, *rest = [unquote(step) for step in path.strip("/").split("/")] + [""] * (path.count("/") < 2)
        if kind == "jobs":
            self.jobs[id_][0] += 1
            return 200, {"state": "done" if self.jobs[id_][0] > 1 else "busy", "made": self.jobs[id_][1]}, {}
        kind = kind.removesuffix("s")
        inner = (body or {}).get("item", body) if isinstance(body, dict) else body
        if not id_:
            return self._list(kind, said) if method == "GET" else self._create(kind, inner)
        if id_ == "list" and method == "POST":
            return self._list(kind, {"from": body["after"]})
        if id_ == "remove":
            for native in inner["ids"]:
                if self.choice["ids"] == "number" and not isinstance(native, int):
                    raise Refused(MISSING, f"{native!r} is no number")
                self._remove(kind, self.held[kind][native], said)
            return 204, None, {}
        one = self.held[kind].get(self._plain(kind, id_))
        if one is None and method == "PUT" and self.choice["takes_id"] and not rest:
            return self._create(kind, inner, id_)
        if one is None or (
            one["gone"] and not ("finally" in said or (method == "GET" and self.choice["gone"] == "shown"))
        ):
            raise Refused(ABSENT, "there is no such thing")
        return self._on_item(kind, one, method, rest, said, inner, headers)

    def _on_item(
        self,
        kind: str,
        one: dict[str, Any],
        method: str,
        rest: list[str],
        said: dict[str, str],
        body: Any,
        headers: dict[str, str],
    ) -> Said:
        do = rest[0] if rest else ""
        meant = one["draft"] if one["draft"] is not None else one["live"]
        if do == "tags":
            return self._tags(one, meant, method, rest, body)
        if do == "picture":
            return self._picture(one, meant, method, body, headers)
        if do == "lines":
            return self._lines(one, method, body)
        if do == "hold":
            self.number += 1
            self.tickets[one["id"]] = f"ticket-{self.number}"
            return 200, {"ticket": self.tickets[one["id"]]}, {}
        if do == "release":
            self.tickets.pop(one["id"], None)
        elif do in ("on", "off"):
            one["on"] = do == "on"
        elif do == "publish":
            if one["draft"] is None:
                raise Refused(TAKEN, "there is no draft")
            one |= {"live": one["draft"], "draft": None}
        elif do == "withdraw":
            one |= {"draft": meant, "live": None}
        elif method == "DELETE":
            self._remove(kind, one, said)
            return 204, None, {}
        elif method != "GET":
            self._change(kind, one, meant, body, headers)
            meant = one["draft"] if self._has_drafts(kind) else one["live"]
        elif self._has_drafts(kind):
            meant = one["draft"] if do == "draft" else one["live"]
            if meant is None:
                raise Refused(ABSENT, "there is no such version")
        if method != "GET":
            one["revision"] += 1
        shown = self._shown(kind, one, meant)
        if not self.choice["says_id"] and not self.choice["addressed"]:
            del shown["id"]
        if self.choice["row"]:
            shown = {"about": {name: shown.pop(name) for name in ROW if name in shown}, **shown}
        return 200, {"data": shown} if self.choice["envelope"] else shown, {"ETag": f'"{one["revision"]}"'}

    def _tags(self, one: dict[str, Any], meant: dict[str, Any], method: str, rest: list[str], body: Any) -> Said:
        how = self.choice["tags"]
        if method == "GET" and len(rest) > 1:
            return 200, next(tag for tag in meant["tags"] if str(tag["no"]) == rest[1]), {}
        if method == "GET":
            # The list is short of what each has to say.
            entries = [{"no": tag["no"], "word": tag["word"]} for tag in meant["tags"]]
            return 200, [tag["word"] for tag in entries] if how == "whole" else entries, {}
        if method == "PUT" and len(rest) > 1:
            meant["tags"] = [{**tag, **body} if str(tag["no"]) == rest[1] else tag for tag in meant["tags"]]
        elif method == "PUT":
            meant["tags"] = [{"no": 0, "word": word} for word in body or []]
        elif method == "POST":
            self.number += 1
            meant["tags"] = [*meant["tags"], {"no": self.number, **body}]
        else:
            meant["tags"] = [tag for tag in meant["tags"] if str(tag["no"]) != rest[1]]
        one["revision"] += 1
        return 204, None, {}

    def _picture(self, one: dict[str, Any], meant: dict[str, Any], method: str, body: Any, headers: Any) -> Said:
        if method == "GET":
            if meant["picture"] is None:
                raise Refused(ABSENT, "there is no picture")
            kind, content = meant["picture"]
            return 200, bytes(content), {"Content-Type": kind}
        meant["picture"] = None
        if method != "DELETE":
            raw, kind = body.encode("latin-1"), headers["content-type"]
            if self.choice["picture"] == "form":
                head, _, raw = raw.partition(b"\r\n\r\n")
                raw, kind = raw.rpartition(b"\r\n--")[0], head.decode().rpartition("Content-Type: ")[2]
                raw = raw.rpartition(b"\r\n--")[0] or raw
            meant["picture"] = (kind, list(raw))
        one["revision"] += 1
        return 200, "taken", {}

    def _lines(self, one: dict[str, Any], method: str, body: Any) -> Said:
        """Lines have numbers that the platform gives, and those that are linked name each other by these."""
        if method == "GET":
            return 200, one["lines"], {}
        if len(body["lines"]) > PAGE:
            raise Refused(MISSING, "too many at once")
        made = []
        for line in body["lines"]:
            self.number += 1
            made.append({"no": self.number, "kilos": line["kilos"], "of": line.get("of")})
        one["lines"] = [*one["lines"], *made]
        return 200, {"made": [line["no"] for line in made]}, {}

    def _refuse_name(self, kind: str, title: str, me: Any = None) -> None:
        # What was only put away keeps its name.
        others = [one for one in self.held[kind].values() if one is not me and one["title"] == title]
        if self.choice["names"] == "taken" and any(
            not one["gone"] or self.choice["gone"] == "twice" for one in others
        ):
            raise Refused(TAKEN, f"{title} is taken")

    def _create(self, kind: str, body: dict[str, Any], id_: str = "") -> Said:
        title = body["name"]
        self._refuse_name(kind, title)
        while self.choice["names"] == "renamed" and any(
            one["title"] == title and not one["gone"] for one in self.held[kind].values()
        ):
            title += " 2"
        # Some give what is new something by themselves.
        own = [{"no": 1, "word": "mine"}] if self.choice["tags"] and kind == "board" else []
        meant = self._taken(kind, {**self._empty(), "tags": own}, body)
        one = self._made(kind, title, meant, id_)
        one["on"] = kind == "board" and bool(self.choice["starts"] and self.choice["switch"])
        self._set(one, body)
        written, made = self._written(kind, one["id"]), "listed" if id_ else self.choice["made"]
        if made == "location":
            return 201, None, {"Location": f"{self.address}/{kind}s/{one['id']}"}
        if made == "job":
            self.number += 1
            self.jobs[f"j{self.number}"] = [0, written]
            return 202, {"job": f"j{self.number}"}, {}
        return (204, None, {}) if made == "listed" else (201, {"made": written}, {})

    def _change(self, kind: str, one: dict[str, Any], meant: Any, body: Any, headers: dict[str, str]) -> None:
        if self.choice["hold"] and headers.get("x-ticket") != self.tickets.get(one["id"], "none"):
            raise Refused(RUNNING, "nobody holds it")
        if self.choice["switch"] == "rests" and one["on"]:
            raise Refused(RUNNING, "it runs")
        if self.choice["revision"] == "etag" and headers.get("if-match") != f'"{one["revision"]}"':
            raise Refused(MOVED, "it was changed meanwhile")
        written = self._written(kind, one["id"])
        if body.get("id", written) != written:
            raise Refused(MISSING, f"{written} is not called {body['id']}")
        if "name" in body:
            self._refuse_name(kind, body["name"], one)
            one["title"] = body["name"]
        if self.choice["update"] in ("whole", "default"):
            unsaid = "as ever" if self.choice["update"] == "default" else ""
            given = body.get("with", {}) if self.choice["nested"] else body
            kept = {name: meant[name] for name in ("tags", "picture", *({"fields"} & given.keys()))}
            meant = {**self._empty(), "text": unsaid, **kept}
        one["draft" if self._has_drafts(kind) else "live"] = self._taken(kind, meant, body)
        self._set(one, body)
        # Some platforms save what uses something whenever that is changed.
        for board in self.held["board"].values() if kind == "source" and self.choice["saves"] else ():
            board["revision"] += one["id"] in (board["live"] or board["draft"])["uses"]

    def _set(self, one: dict[str, Any], body: dict[str, Any]) -> None:
        """What is no part of a version: where it stands, and its secret."""
        one["shelf"] = (body.get("shelf") or "") if self.choice["shelf"] else ""
        given = body.get("with", {}) if self.choice["nested"] else body
        one["pin"] = given.get("pin", one["pin"])
        if self.choice["turns"] == "by writing":
            # What a change that says all leaves out returns to its default.
            unsaid = "rests" if self.choice["update"] in ("whole", "default") else "runs" if one["on"] else "rests"
            one["on"] = body.get("state", unsaid) == "runs"

    def _remove(self, kind: str, one: dict[str, Any], said: dict[str, str]) -> None:
        if self.choice["switch"] == "rests" and one["on"]:
            raise Refused(RUNNING, "it runs")
        if self.choice["holds_on"] and not one["gone"]:
            for other in self.held["board"].values():
                for meant in (other["live"], other["draft"]):
                    named = [*meant["uses"], *meant["colours"]] if meant and kind == "source" else []
                    named += [meant["next"]] if meant and kind == "board" and other is not one else []
                    if one["id"] in named and not other["gone"]:
                        raise Refused(USED, f"{other['title']} uses it")
        if self.choice["gone"] == "gone" or "finally" in said:
            del self.held[kind][one["id"]]
        else:
            one["gone"] = True

    def _list(self, kind: str, said: dict[str, str]) -> Said:
        some = [one for one in self.held[kind].values() if not one["gone"] or self.choice["gone"] == "shown"]
        rows = [self._shown(kind, one, one["draft"] if one["live"] is None else one["live"]) for one in some]
        how = self.choice["pages"]
        start = (int(said.get("page", 1)) - 1) * PAGE if how == "page" else int(said.get("from") or 0)
        end = len(rows) if how == "none" else start + PAGE
        address = f"{self.address}/{kind}s?from={end}" if end < len(rows) else None
        page: Any = rows[start:end]
        if self.choice["keyed"]:
            page = {str(row["id"]): {name: part for name, part in row.items() if name != "id"} for row in page}
        body = {"rows": page, "after": str(end) if address else None, "next": address}
        return 200, body, {"Link": f'<{address}>; rel="next"'} if address and how == "link" else {}


def sheets(choice: dict[str, Any]) -> dict[str, str]:
    """The bridge sheet and its kind sheets, by their names."""
    loader = jinja2.FileSystemLoader(Path(__file__).parent / "sheets" / "any")
    said = {name: choice[name] for name in CHOICES}
    templates = jinja2.Environment(loader=loader, trim_blocks=True, lstrip_blocks=True)
    return {
        name: templates.get_template(f"{name}.toml.jinja").render(said, choice=said)
        for name in ("any", "board", "source")
    }
