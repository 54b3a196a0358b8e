"""What a bridge sheet and the kind sheets beside it want of each other: a run would find out in its middle."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any

from amphora.core.form.kinds import KindSheet
from amphora.core.form.native_ids import HOLDER
from amphora.core.form.places import Spot, parse_path
from amphora.core.form.refers import Refer
from amphora.core.values.near import near
from amphora.core.values.strict_toml import line_of, row_of
from amphora.environments.bridge.faults import table_in
from amphora.environments.bridge.lines import METHODS
from amphora.environments.bridge.paths import member_name, member_path, written_at

_SEARCHED = re.compile(r"\[[^'\"]|\.\*")
_FILTER = re.compile(r"\[\?[^\[\]]*\]")


class Agreement:
    """Holds a sheet, by its table and its text, against its kind sheets."""

    def __init__(self, table: Mapping[str, Any], source: str, sheets: Mapping[str, KindSheet]) -> None:
        self._table, self._source, self._sheets = table, source, sheets

    def faults(self) -> Iterator[str]:
        """Everything in which they disagree."""
        sheets = self._sheets
        yield from self._supplied()
        yield from self._answered()
        for kind, row in table_in(self._table, "item").items():
            yield from self._needed(f"item.{kind}", row, sheets[kind])
            yield from self._named(sheets[kind])
            if member := sheets[kind].ids.within:
                within = row.get("within", {})
                if within.get("as") != member:
                    words = f"has to be {member!r}, as `ids.within` of its kind sheet says"
                    yield f"{line_of(self._source, kind)}`item.{kind}.within.as` {words}"
                elif sheets[within["kind"]].ids.within:
                    words = "its own ids are unique only in something else, too: that is one more than can be told"
                    yield f"{line_of(self._source, kind)}`item.{kind}.within.kind`: {words}"

    def _supplied(self) -> Iterator[str]:
        # A reference to a connection names its kind only: two spaces would be two meanings of one number.
        spaces: dict[str, set[str]] = {}
        for row in table_in(self._table, "supply").values():
            spaces.setdefault(row["kind"], set()).add(row.get("space", ""))
        for kind, some in spaces.items():
            if "" in some and len(some) > 1:
                yield f"{line_of(self._source, 'supply')}each {kind!r} on offer has to have a `space`, or none"
            for sheet in self._sheets.values():
                for refer in sheet.places.refers:
                    if refer.may_name(kind) and (refer.space not in some if refer.space else len(some) > 1):
                        named = ", ".join(sorted(filter(None, some)))
                        words = f"`space` has to be one of {named}, which {kind!r} is counted in"
                        yield f"{sheet.kind}: a reference to {kind!r}: {words}"

    def _answered(self) -> Iterator[str]:
        """Refusals of calls that there are not: of such a line nothing would ever come."""
        # How one signs in has calls that no line names.
        calls = {"sign_in", "sign_in.token", "token", *_calls_in(self._table)}
        names = calls | {name.rpartition(".")[2] for name in calls}
        for number, row in enumerate(self._table.get("error", [])):
            said = row.get("on", [])
            for name in said if isinstance(said, list) else [said]:
                if name not in names:
                    perhaps = "".join(f"; perhaps {found!r}" for found in near(name, names))
                    line = line_of(row_of(self._source, "error", number), "on", "error.")
                    yield f"{line}`error.on`: there is no call {name!r} here{perhaps}"

    def _named(self, sheet: KindSheet) -> Iterator[str]:
        for mention in sheet.mentions:
            if mention.kind in self._sheets and not self._sheets[mention.kind].ids.space:
                yield f"{sheet.kind}: a [[mention]] of a {mention.kind} needs `[ids] space` in its kind sheet"
            # A title may hold any letters: without an end of its own nobody could tell where it ends.
            if mention.by == "title" and not all(mention.pattern.split("{id}")):
                words = "needs something on both sides of {id} (a line's end, \\n): a title may hold anything"
                yield f"{sheet.kind}: the pattern {mention.pattern!r} {words}"
        ways = [way for refer in sheet.places.refers for way in (refer.ways or (refer,))]
        uids = {to.partition("#")[0] for way in ways if way.by == "uid" for to in way.to}
        for kind in sorted(uids | {mention.kind for mention in sheet.mentions if mention.by == "uid"}):
            if not table_in(self._table, "item", kind).get("uid"):
                yield f"{sheet.kind}: a reference by uid needs `item.{kind}.uid`: where that stands in a row"
        for refer in sheet.places.in_ways:
            for kind in self._spaceless(refer):
                words = "what is written in several ways at one place needs a `space` of its own"
                yield f"{sheet.kind}: a reference to {kind!r}: {words}"
        for refer in sheet.places.refers:
            for part in self._counted(refer):
                words = "an id there would be taken for that of a whole one. Say [[part]], where a member beside it"
                words += " says whose part it is; form = '{part}', where their ids are counted over all of them;"
                words += " else these parts are a kind of their own, `within` the other"
                yield f"{sheet.kind}: a reference to {part!r}: {words}"
            for kind in self._unheld(refer):
                yield f"{sheet.kind}: {HOLDER} in a `form` needs `[ids] within` in the kind sheet of a {kind}"

    def _spaceless(self, refer: Refer) -> Iterator[str]:
        """What may stand at one place in several ways, and of which an id doesn't tell what it is the id of."""
        known: set[str] = set()
        for way in refer.ways:
            # What isn't found among the uids is no uid.
            for kind in dict.fromkeys(to.partition("#")[0] for to in way.to if way.by != "uid"):
                rows = [row for row in table_in(self._table, "supply").values() if row["kind"] == kind]
                offered = next((row.get("space", "") for row in rows), "")
                space = self._sheets[kind].ids.space if kind in self._sheets else way.space or offered
                if not space or space in known:
                    yield kind
                known.add(space)

    def _counted(self, refer: Refer) -> list[str]:
        """Parts that nothing names: their ids are numbers, like those of the items that they are parts of."""
        return [
            to for to in refer.to if "#" in to and (of := self._sheets.get(to.partition("#")[0])) and of.ids.space
        ]

    def _unheld(self, refer: Refer) -> list[str]:
        named = [to.partition("#")[0] for to in refer.to if HOLDER in refer.form]
        return [kind for kind in named if kind in self._sheets and not self._sheets[kind].ids.within]

    def _needed(self, name: str, row: Mapping[str, Any], sheet: KindSheet) -> Iterator[str]:
        needed = {"draft", "publish"} if sheet.is_published else set()
        needed |= {"on", "switch"} if sheet.is_switched else set()
        needed |= {"uid"} if row.get("create", {}).get("uid") else set()
        where = line_of(self._source, sheet.kind)
        for one in sorted(needed - row.keys()):
            yield f"{where}`{name}.{one}` is missing, which its kind sheet or its creation needs"
        wrapped = row.get("write", {}).get("wrapped", "")
        places = row["definition"].values() if isinstance(row.get("definition"), dict) else ()
        if wrapped and "at" not in row.get("read", {}) and any(one.startswith(f"$.{wrapped}.") for one in places):
            words = f"a definition that is read at $.{wrapped} would be written into another one inside of that: say"
            yield f'{where}`{name}.write.wrapped`: {words} `at = "$.{wrapped}"` in `read`, or leave `wrapped` out'
        for member, call in row.get("more", {}).items():
            if "add" in call and not sheet.places.walk({}).step(member).spot.is_unordered:
                words = f"$.{member} has to stand under fields.unordered of its kind sheet"
                yield f"{where}`{name}.more.{member}`: {words}: no call says where an entry goes"
            if "file" in call and not sheet.places.walk({}).step(member).spot.is_file:
                words = f"$.{member} has to stand under fields.files of its kind sheet"
                yield f"{where}`{name}.more.{member}`: {words}: attachments travel as files"
        for one in row.get("create", {}).get("brings", ()):
            if table_in(self._table, "item", str(one.get("kind")), "within").get("kind") != sheet.kind:
                words = f"{one.get('kind')!r} is no kind whose `within` says that a {sheet.kind} holds it"
                yield f"{line_of(self._source, 'create', name)}`{name}.create.brings`: {words}"
            taken = [took.get("kind") for took in row.get("retire", {}).get("takes", ())]
            if "keeps" in one and "retire" in row and one.get("kind") not in taken:
                words = f"what is never removed alone goes with this: say so of {one.get('kind')!r} in `retire.takes`"
                yield f"{line_of(self._source, 'create', name)}`{name}.create.brings`: {words}"
        for place in table_in(row, "write", "new"):
            if not _spot(sheet, place).is_volatile:
                words = f"{place} has to stand under fields.volatile of its kind sheet: what is new gets another one"
                yield f"{line_of(self._source, 'new', f'{name}.write')}`{name}.write.new`: {words}"
        for link in table_in(row, "rows").get("links", ()):
            path = _FILTER.sub("[*]", link.get("each", "$")) + link["of"].removeprefix("$")
            if _spot(sheet, path).refer is None:
                at = line_of(self._source, "links", f"{name}.rows")
                yield f"{at}`{name}.rows.links.of`: there is no [[refers]] at {path} in its kind sheet"
        for own in sheet.own_parts:
            member = str(next(iter(parse_path(own.parts)[1] or ()), ""))
            if own.id in table_in(row, "more", member).get("without", ()):
                words = f"the kind sheet needs {own.id} to tell parts by; say volatile there instead"
                yield f"{where}`{name}.more.{member}.without`: {words}"
        for state in {"on", "off"} - row.get("switch", {}).keys() if sheet.is_switched and "switch" in row else ():
            yield f"{where}`{name}.switch.{state}` is missing"
        if sheet.is_published and _is_written(row):
            words = "a change only writes the draft there, and switches nothing: name the calls"
            yield f"{line_of(self._source, 'switch', name)}`{name}.switch`: {words}"
        if "create" in row or "update" in row:
            definition = row["definition"]
            paths = definition.values() if isinstance(definition, dict) else ()
            # A list of what stands in several objects is written in the member that holds these.
            members = (path.partition("[*]")[0] for path in paths)
            said = row.get("on") if _is_written(row) else None
            on = said["at"] if isinstance(said, dict) else said
            for path in (*members, row["title"], row.get("folder", "$.folder"), *([on] if on else [])):
                # It is written where it is read, so that nothing may be searched for.
                if not parse_path(path)[1] or _SEARCHED.search(path):
                    yield f"{where}`{name}`: nothing can be written at {path}; only names may stand in it"
            yield from self._unread(name, row)

    def _unread(self, name: str, row: Mapping[str, Any]) -> Iterator[str]:
        """Members that are said to be written otherwise, and that nothing reads: slips, of which nothing comes."""
        definition = row["definition"]
        paths = definition.values() if isinstance(definition, dict) else map(member_path, definition)
        read = {member_name(written_at(path)) for path in (*paths, row["title"], row.get("folder", "$.folder"))}
        for table, line in (("write", "members"), ("write", "as"), ("create", "members"), ("update", "members")):
            for member in sorted(table_in(row, table).get(line, {}).keys() - read):
                found = near(member, read)
                hint = f"; perhaps {found[0]!r}" if found else ""
                at = line_of(self._source, table, name)
                yield f"{at}`{name}.{table}.{line}`: nothing is read at {member!r}{hint}"


def _is_written(row: Mapping[str, Any]) -> bool:
    """Whether items are switched by writing a member."""
    return any(not isinstance(said, dict) for said in table_in(row, "switch").values())


def _calls_in(table: Any, name: str = "") -> Iterator[str]:
    """The names of all calls of a table."""
    if isinstance(table, dict):
        if not table.keys().isdisjoint(METHODS):
            yield name
        for key, value in table.items():
            yield from _calls_in(value, f"{name}.{key}" if name else key)
    for one in table if isinstance(table, list) else ():
        yield from _calls_in(one, name)


def _spot(sheet: KindSheet, path: str) -> Spot:
    walk = sheet.places.walk({})
    for step in parse_path(path)[1] or ():
        walk = walk.step("0" if step is None else step)
    return walk.spot
