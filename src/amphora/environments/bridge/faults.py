"""What can be wrong with a bridge sheet: each told with its line, and the nearest name that is known."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from contextlib import suppress
from typing import Any

from amphora.core.form.blanks import holder_of
from amphora.core.form.places import parse_path
from amphora.core.values.errors import SheetFault
from amphora.core.values.near import near
from amphora.core.values.strict_toml import line_of, row_of, unfit
from amphora.environments.bridge import lines
from amphora.environments.bridge.own import own_faults, own_names
from amphora.environments.bridge.paths import Flag, place_of, unwritten
from amphora.environments.calls import is_address

_MEDIA = re.compile(r"\*/\*|[a-z]+/[a-z0-9.+-]+")
"""How an attachment's type may be said (RFC 9110, section 8.3.1), or that the platform tells it."""

WHAT = "a bridge sheet"


class SheetFaults:
    """What is wrong with a bridge sheet, from its table and its text."""

    def __init__(self, table: Mapping[str, Any], source: str) -> None:
        self._table, self._source = table, source
        self._known = lines.KNOWN.union(own_names(table))

    def all(self) -> Iterator[str]:
        """Everything, in the order of the sheet."""
        table = self._table
        yield from self._table_faults(table, lines.TOP, "")
        yield from own_faults(table, self._source)
        for name, kind in (("bridge", str), ("kinds", list), ("item", dict)):
            if not isinstance(table.get(name), kind):
                yield f"`{name}` is missing"
        # An empty table has the right type, and means nothing all the same.
        if table.get("item") == {}:
            yield "`[item.KIND]` is missing: without items there is nothing to move"
        yield from self._calls("about", {k: v for k, v in self._part("about").items() if k != "links"})
        yield from self._table_faults(self._part("about"), lines.ABOUT, "about.")
        yield from self._sign_in(self._part("sign_in"))
        if account := self._part("account"):
            yield from self._call(account, lines.ACCOUNT, "account")
        yield from self._pages(self._part("pages"), "pages")
        yield from self._errors()
        yield from self._folders(self._part("folders"))
        for name, row in self._part("supply").items():
            yield from self._supply(row, f"supply.{name}")
        for name, row in self._part("item").items():
            yield from self._item(row, f"item.{name}")

    def _part(self, name: str) -> Mapping[str, Any]:
        part = self._table.get(name, {})
        return part if isinstance(part, dict) else {}

    def _table_faults(self, table: Any, known: Mapping[str, Any], before: str, text: str = "") -> Iterator[str]:
        source = text or self._source
        if not isinstance(table, dict):
            name = before.rstrip(".")
            yield f"{line_of(source, name.rpartition('.')[2])}`{name}` has to be a table"
            return
        yield from unfit(table, known, before, source, WHAT, lines.HOMES)
        for name, value in table.items():
            section = f"{before}{name}"
            held = value if isinstance(value, list) else value.values() if isinstance(value, dict) else ()
            # A list is looked at no further than that it is one, and one of numbers would break off in the middle.
            if name in known and name in lines.TEXTS and not all(isinstance(one, str) for one in held):
                yield f"{line_of(source, name, before)}`{section}` has to hold texts only"
            # By the last two words as well: a call stands in the table of each kind.
            allowed = lines.CHOICES.get(section) or lines.CHOICES.get(".".join(section.split(".")[-2:])) or ()
            if allowed and isinstance(value, str) and value not in allowed:
                yield f"{line_of(source, name, before)}`{section}` has to be one of {', '.join(allowed)}"

    def _calls(self, before: str, calls: Mapping[str, Any]) -> Iterator[str]:
        for name, row in calls.items():
            yield from self._call(row, lines.CALL, f"{before}.{name}")

    def _call(self, row: Any, known: Mapping[str, Any], name: str) -> Iterator[str]:
        """One call: exactly one method, a path that begins with a slash, places that are JSONPath."""
        # What is no table, or has unknown lines, is not looked into: one slip would be told five times.
        faults = list(self._table_faults(row, known, f"{name}."))
        yield from faults
        if faults or not isinstance(row, dict):
            return
        within, _, last = name.rpartition(".")
        # Which method it is says more than a key for it would: a call reads like a call.
        methods = [method for method in lines.METHODS if method in row]
        if len(methods) != 1:
            yield f"{line_of(self._source, last, within)}`{name}` needs one of {', '.join(lines.METHODS)} with a path"
        elif not row[methods[0]].startswith(("/", "{location}", f"{lines.BARE}/")) and not (
            name == "sign_in.call" and is_address(row[methods[0]])
        ):
            yield f"{line_of(self._source, last, within)}the path of `{name}` has to begin with /"
        named = lines.PLACEHOLDER.findall(row[methods[0]]) if methods else []
        if unknown := {found.partition(".")[0] for found in named} - self._known:
            # The first by name: all of them would bury the line.
            found = near(min(unknown), self._known, alike=0.4)
            hint = f"; perhaps {{{found[0]}}}" if found else ""
            line = line_of(self._source, last, within)
            yield f"{line}nothing stands for {{{min(unknown)}}} in the path of `{name}`{hint}"
        if isinstance(body := row.get("body"), str) and not lines.PLACEHOLDER.fullmatch(body):
            line = line_of(self._source, last, within)
            yield f"{line}`{name}.body` has to be a table, a list, or nothing but one placeholder"
        if row.get("as_form") and (isinstance(body, list) or row.get("how") == "json patch"):
            line = line_of(self._source, last, within)
            yield f"{line}`{name}.as_form`: a list can't be sent as a form"
        if "as_text" in row and ("body" in row or "as_form" in row):
            yield f"{line_of(self._source, last, within)}`{name}.as_text`: the text is all that is sent"
        if "keyed" in row:
            yield from self._keyed(row["keyed"], f"{name}.keyed")
        for member in ("at", "rows", "name", "rights", "works", "names", "parts", "state"):
            place = row.get(member)
            if member == "at" and isinstance(place, str):
                place = place_of(place, {})
            yield from self._path(place, f"{name}.{member}", name)
        if "pages" in row:
            yield from self._pages(row["pages"], f"{name}.pages")
        # Whatever is called to change something may answer with a job, or need a call before or after it.
        for inner in ("job", *lines.AROUND, *lines.NAMED):
            # In a job `job` is a place. An empty table says nothing, and is told like any other call without a path.
            if isinstance(further := row.get(inner), dict):
                yield from self._call(further, lines.JOB if inner == "job" else lines.CHANGE, f"{name}.{inner}")
        if (job := table_in(row, "job")) and not job.get("done"):
            line = line_of(self._source, last, within)
            yield f"{line}`{name}.job.done` is missing: the states of a job that is done"

    def _keyed(self, row: Any, name: str) -> Iterator[str]:
        yield from self._table_faults(row, lines.KEYED, f"{name}.")
        yield from self._path(table_in(row).get("at"), f"{name}.at", name)
        if not {"at", "as"} <= table_in(row).keys():
            yield f"{line_of(self._source, 'keyed')}`{name}` needs `at` and `as`"

    def _path(self, path: Any, name: str, where: str) -> Iterator[str]:
        # Some lines take a path or a word; words are looked at where they are listed.
        if not isinstance(path, str) or not path.startswith("$"):
            return
        try:
            parse_path(path)
        except SheetFault as error:
            within, _, last = where.rpartition(".")
            yield f"{line_of(self._source, last, within)}`{name}`: {error.message}"

    def _sign_in(self, table: Mapping[str, Any]) -> Iterator[str]:
        yield from self._table_faults(table, lines.SIGN_IN, "sign_in.")
        # What a way of signing in can't do without; everything else has a meaning where it is left out.
        needed = {"header": "header", "client": "token", "login": "call"}.get(str(table.get("how", "none")))
        if needed and needed not in table:
            yield f"{line_of(self._source, 'how')}`sign_in.{needed}` is missing, which {table['how']!r} needs"
        token = table.get("token")
        if isinstance(token, str) and not token.startswith(("/", f"{lines.BARE}/")) and not is_address(token):
            words = "a path that begins with / or {address}/, or a whole address (https)"
            yield f"{line_of(self._source, 'token')}`sign_in.token` has to be {words}"
        if isinstance(table.get("call"), dict):
            yield from self._call(table["call"], lines.LOGIN, "sign_in.call")
        for row in table.get("also", []) if isinstance(table.get("also", []), list) else ():
            yield from self._call(row, lines.ALSO, "sign_in.also")
            if isinstance(row, dict) and "header" not in row:
                yield f"{line_of(self._source, 'also')}`sign_in.also` needs `header`: what the answer is sent as"

    def _pages(self, table: Any, name: str) -> Iterator[str]:
        yield from self._table_faults(table, lines.PAGES, f"{name}.")
        if isinstance(table, dict):
            yield from self._table_faults(table.get("size", {}), lines.SIZE, f"{name}.size.")
            yield from self._path(table.get("next"), f"{name}.next", f"{name}.next")
            if table.get("how") == "cursor" and "next" not in table:
                yield f"{line_of(self._source, 'pages')}`{name}.next` is missing: where the next cursor stands"

    def _errors(self) -> Iterator[str]:
        yield from self._table_faults(self._part("errors"), lines.ERRORS, "errors.")
        yield from self._flag(self._part("errors").get("refused"), "errors.refused")
        rows = self._table.get("error", [])
        for number, row in enumerate(rows if isinstance(rows, list) else ()):
            source = row_of(self._source, "error", number)
            yield from self._table_faults(row, lines.ERROR, "error.", source)
            if not isinstance(row, dict) or row.get("means") not in lines.MEANINGS:
                line = line_of(source, "means") or line_of(source, "error")
                yield f"{line}`error.means` has to be one of {', '.join(lines.MEANINGS)}"

    def _folders(self, table: Mapping[str, Any]) -> Iterator[str]:
        if not table:
            return
        yield from self._table_faults(table, lines.FOLDERS, "folders.")
        for name in ("index", "id", "title", "parent"):
            if name not in table:
                yield f"{line_of(self._source, 'folders')}`folders.{name}` is missing"
        if isinstance(table.get("index"), dict):
            yield from self._call(table["index"], lines.LISTED, "folders.index")
        if isinstance(table.get("create"), dict):
            yield from self._call(table["create"], lines.CREATE, "folders.create")

    def _supply(self, row: Any, name: str) -> Iterator[str]:
        faults = list(self._table_faults(row, lines.SUPPLY, f"{name}."))
        yield from faults
        if faults:
            return
        for needed in ("kind", "index", "id", "name"):
            if needed not in row:
                yield f"{line_of(self._source, name.rpartition('.')[2])}`{name}.{needed}` is missing"
        for call, known in (("index", lines.LISTED), ("probe", lines.PROBE), ("objects", lines.OBJECTS)):
            if call in row:
                yield from self._call(row[call], known, f"{name}.{call}")
        yield from self._id_form(row, name)
        for path in ("id", "name", "type", "owner", "works"):
            yield from self._path(row.get(path), f"{name}.{path}", f"{name}.{path}")

    def _item(self, row: Any, name: str) -> Iterator[str]:
        yield from self._table_faults(row, lines.ITEM, f"{name}.")
        for needed in ("index", "read", "id", "title", "definition"):
            if needed not in table_in(row):
                yield f"{line_of(self._source, name.rpartition('.')[2])}`{name}.{needed}` is missing"
        calls: dict[str, Mapping[str, Any]] = {
            "index": lines.LISTED,
            "row": lines.CALL,
            "read": lines.CALL,
            "draft": lines.CALL,
            "create": lines.CREATE,
            "update": lines.UPDATE,
            "retire": lines.RETIRE,
            "publish": lines.DO,
            "take_back": lines.DO,
        }
        for call, known in calls.items():
            if call in table_in(row) and not isinstance(row[call], str):
                yield from self._call(row[call], known, f"{name}.{call}")
        if isinstance(place := table_in(row).get("row"), str):
            # Else nothing would be looked for there, and what the list has would seem to be missing.
            if not place.startswith("$"):
                line = line_of(self._source, "row", name)
                yield f"{line}`{name}.row` has to be a call, or a place that begins with $"
            yield from self._path(place, f"{name}.row", "row")
        for member, call in table_in(row, "more").items():
            yield from self._apart(call, f"{name}.more.{member}")
        if "rows" in table_in(row):
            yield from self._rows(row["rows"], f"{name}.rows")
        yield from self._table_faults(table_in(row, "write"), lines.WRITE, f"{name}.write.")
        for place, first in table_in(row, "write", "new").items():
            yield from self._path(place, f"{name}.write.new", f"{name}.write")
            if first != lines.ANY_ID and (not isinstance(first, int) or first >= 0):
                words = f"has to be a number below 0, or {lines.ANY_ID}"
                yield f"{line_of(self._source, 'new', f'{name}.write')}`{name}.write.new`: {place} {words}"
        yield from self._table_faults(table_in(row, "switch"), lines.SWITCH, f"{name}.switch.")
        yield from self._switch(row, name)
        for one in ("update", "retire"):
            if table_in(row, one).get("when") == "off" and set(table_in(row, "switch")) != {"on", "off"}:
                line = line_of(self._source, one, name)
                yield f"{line}`{name}.{one}.when` needs both calls of `switch`: off before it, and on again after"
        if "needs" in table_in(row) and "rights" not in self._part("account"):
            line = line_of(self._source, "needs", name)
            yield f"{line}`{name}.needs` wants `account.rights`, or nobody compares it"
        for permission, rights in table_in(row, "needs").items():
            if permission not in lines.PERMISSIONS or not isinstance(rights, list):
                words = f"has to be one of {', '.join(lines.PERMISSIONS)}, with a list of rights"
                yield f"{line_of(self._source, 'needs', name)}`{name}.needs.{permission}` {words}"
        empties = table_in(row, "retire").get("empties")
        for member in empties if isinstance(empties, list) else ():
            if "remove" not in table_in(row, "more", str(member)):
                line = line_of(self._source, "retire", name)
                yield f"{line}`{name}.retire.empties`: `more.{member}` has no `remove`"
        takes = table_in(row, "retire").get("takes")
        for taken in takes if isinstance(takes, list) else ():
            yield from self._table_faults(taken, lines.TAKES, f"{name}.retire.takes.")
        brings = table_in(row, "create").get("brings")
        for one in brings if isinstance(brings, list) else ():
            yield from self._table_faults(one, lines.BRINGS, f"{name}.create.brings.")
            yield from self._flag(table_in(one).get("keeps"), f"{name}.create.brings.keeps")
        yield from self._id_form(table_in(row), name)
        yield from self._id_form(table_in(row, "create"), f"{name}.create")
        for one in lines.FLAGS:
            yield from self._flag(table_in(row).get(one), f"{name}.{one}")
        for call, names in (("create", ("create",)), ("create.job", ("create", "job"))):
            made = table_in(row, *names).get("id")
            if isinstance(made, str) and not made.startswith("$") and made not in lines.NO_PLACES:
                words = f"has to be a place in the answer, or one of {', '.join(lines.NO_PLACES)}"
                yield f"{line_of(self._source, 'create', name)}`{name}.{call}.id` {words}"
        for member in table_in(row, "create").get("along", ()):
            if member not in table_in(row, "more"):
                line = line_of(self._source, "create", name)
                yield f"{line}`{name}.create.along`: {member!r} is none of `more`"
        for one in ("create", "update"):
            body = table_in(row, one).get("body")
            if body is not None and "{definition}" not in str(body):
                line = line_of(self._source, one, name)
                yield f"{line}`{name}.{one}.body` has to hold {{definition}}: what is sent"
        if (within := table_in(row, "within")) or "within" in table_in(row):
            yield from self._table_faults(within, lines.WITHIN, f"{name}.within.")
            line = line_of(self._source, "within", name)
            if within.get("kind") not in self._part("item"):
                yield f"{line}`{name}.within.kind` has to be one of the kinds of the sheet"
            if within.get("as") not in table_in(row).get("definition", ()):
                yield f"{line}`{name}.within.as` has to be a member of its definition"
        update = table_in(row, "update")
        if update.get("match") == "sent" and "{revision}" not in str(update):
            line = line_of(self._source, "update", name)
            yield f"{line}`{name}.update.match`: nothing of it sends {{revision}}, which is to be compared there"
        hidden = table_in(row).get("hidden")
        for place in hidden if isinstance(hidden, list) else ():
            try:
                holder_of(str(place))
            except SheetFault as error:
                yield f"{line_of(self._source, 'hidden', name)}`{name}.hidden`: {error.message}"
            yield from self._path(place, f"{name}.hidden", f"{name}.hidden")
        paths = {one: table_in(row).get(one) for one in ("id", "title", "folder", "revision", "uid")}
        for member, path in {**table_in(row, "definition"), **paths}.items():
            yield from self._path(path, f"{name}.{member}", f"{name}.{member}")

    def _id_form(self, row: Mapping[str, Any], name: str) -> Iterator[str]:
        if "{id}" not in str(row.get("id_form", "{id}")):
            line = line_of(self._source, "id_form", name)
            yield f"{line}`{name}.id_form` has to hold {{id}}, with what stands around it"

    def _flag(self, said: Any, name: str) -> Iterator[str]:
        """Whether something is so: a place, or a table of a place and what stands there."""
        within, _, last = name.rpartition(".")
        if isinstance(said, dict):
            yield from self._table_faults(said, lines.FLAG, f"{name}.")
            if "at" not in said:
                yield f"{line_of(self._source, last, within)}`{name}.at` is missing: where it stands"
            said = said.get("at")
        yield from self._path(said, name, name)

    def _switch(self, row: Any, name: str) -> Iterator[str]:
        """Two calls, or the two values of a member that a change writes."""
        said, line = table_in(row, "switch"), line_of(self._source, "switch", name)
        calls = {state: call for state, call in said.items() if isinstance(call, dict)}
        for state, call in calls.items():
            yield from self._call(call, lines.DO, f"{name}.switch.{state}")
        if len(calls) == len(said):
            return
        if calls or set(said) != {"on", "off"}:
            yield f"{line}`{name}.switch` has to be two calls, `on` and `off`, or two values"
        elif "update" not in row:
            yield f"{line}`{name}.switch` needs `update`, which writes these values"
        known = table_in(row, "on").get("is")
        for state, value in said.items():
            with suppress(ValueError):
                values = tuple(map(unwritten, known)) if isinstance(known, list) else ()
                if Flag("$", values, True).holds(unwritten(value)) is (state == "on"):
                    continue
            # Else what was switched on would be off for whoever looks.
            words = f"where {json.dumps(value)} stands, `on` doesn't say that it is {state}"
            yield f"{line}`{name}.switch.{state}`: {words}"

    def _apart(self, row: Any, name: str) -> Iterator[str]:
        """A member with calls of its own: read, and perhaps written."""
        yield from self._call(row, lines.MORE, name)
        is_file, is_text = "file" in table_in(row), "text" in table_in(row)
        for call in ("write", "add", "remove", "change", "each"):
            if call in table_in(row):
                known = lines.FILED if (is_file or is_text) and call == "write" else lines.CHANGE
                yield from self._call(row[call], lines.CALL if call == "each" else known, f"{name}.{call}")
        if is_text and {"file", "rows", "add", "remove", "each"} & table_in(row).keys():
            line = line_of(self._source, name.rpartition(".")[2], name)
            yield f"{line}`{name}` is a text as a whole: beside `text` only `get` and `write` mean something"
        for one in ("entry", "by"):
            yield from self._path(table_in(row).get(one), f"{name}.{one}", one)
        by, without = (table_in(row).get(one) for one in ("by", "without"))
        if by and isinstance(without, list) and by in without:
            yield f"{line_of(self._source, 'by', name)}`{name}.by` is one of `without`: nothing would be told by it"
        if is_text and not _MEDIA.fullmatch(str(table_in(row)["text"])):
            yield f"{line_of(self._source, 'text')}`{name}.text` has to be a media type, as in text/plain"
        if is_file and not _MEDIA.fullmatch(str(table_in(row)["file"])):
            yield f"{line_of(self._source, 'file')}`{name}.file` has to be a media type, or */* as the platform says"
        if ("add" in table_in(row)) is not ("remove" in table_in(row)) and not is_file:
            yield f"{line_of(self._source, 'more')}`{name}` needs `add` and `remove`, or `write`"

    def _rows(self, row: Any, name: str) -> Iterator[str]:
        yield from self._table_faults(row, lines.ROWS, f"{name}.")
        for call, known in (("read", lines.LISTED), ("load", lines.LOAD), ("count", lines.COUNT)):
            if isinstance(one := table_in(row).get(call), dict):
                yield from self._call(one, known, f"{name}.{call}")
        if not {"read", "count"} <= table_in(row).keys():
            yield f"{line_of(self._source, 'rows')}`{name}` needs `read`, and `count`: where their number stands"
        links = table_in(row).get("links")
        for link in links if isinstance(links, list) else ():
            yield from self._table_faults(link, lines.LINKS, f"{name}.links.")
            if not {"at", "of"} <= table_in(link).keys():
                yield f"{line_of(self._source, 'links')}each of `{name}.links` needs `at` and `of`"
        # Rows that are linked to are known again by what their own load answers.
        if ("id" in table_in(row)) is not ("ids" in table_in(row, "load")):
            yield f"{line_of(self._source, 'rows')}`{name}` needs both `id` and `load.ids`, or none of them"
        yield from self._path(table_in(row).get("id"), f"{name}.id", "id")
        # Every row as often as there are pieces, or none at all: neither would be told by the platform.
        body = str(table_in(row, "load").get("body", "{rows}"))
        if "{rows}" not in body and ("{row}" not in body or table_in(row, "load").get("at_once", 1) != 1):
            line = line_of(self._source, "load")
            yield f"{line}`{name}.load.body` has to hold {{rows}}, or {{row}} for one at a time"


def table_in(row: Any, *names: str) -> Mapping[str, Any]:
    """A table inside of others; an empty one where something else stands, which is told by itself."""
    for name in names:
        row = row.get(name) if isinstance(row, dict) else None
    return row if isinstance(row, dict) else {}
