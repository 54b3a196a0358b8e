"""Bridge sheets: what a platform's REST interface looks like (design, section 8a; docs/bridges.md)."""

from __future__ import annotations

import tomllib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import field
from typing import Any

from amphora.core.form.kinds import KindSheet, parse_sheet
from amphora.core.values.errors import SheetFault
from amphora.core.values.late import dataclass
from amphora.core.values.next_step import advice
from amphora.core.values.strict_toml import line_of
from amphora.environments.bridge.faults import SheetFaults
from amphora.environments.bridge.lines import FLAGS, METHODS
from amphora.environments.bridge.paths import Flag


@dataclass(frozen=True)
class Call:
    """One call: method, path with placeholders, where in the answer its subject stands, and what is sent. `name` is
    where it stands in the sheet, for people."""

    method: str
    path: str
    at: str = "$"
    body: Any = None
    headers: Mapping[str, str] = field(default_factory=dict)
    name: str = ""
    more: Mapping[str, Any] = field(default_factory=dict)
    """What else is said of it."""

    def said(self, name: str, default: Any = "") -> Any:
        """One more thing that is said of the call."""
        return self.more.get(name, default)


@dataclass(frozen=True)
class Pages:
    """How a list comes in pieces."""

    how: str = "none"
    ask: str = ""
    size_ask: str = ""
    size: int = 0
    first: int = 1
    next: str = ""
    total: str = ""


@dataclass(frozen=True)
class Means:
    """What a refusal means: by status, the platform's own code, words in the answer, and the call that it answers."""

    statuses: tuple[int, ...]
    code: str
    says: str
    on: str
    means: str

    def fits(self, status: int, code: str, text: str) -> bool:
        """Whether an answer is what this is about, whatever call it answers."""
        is_it = (not self.statuses or status in self.statuses) and (not self.code or self.code == code)
        return is_it and self.says.lower() in text.lower()


@dataclass(frozen=True)
class SupplyPart:
    """What is on offer, and where that stands."""

    kind: str
    space: str
    is_number: bool
    index: Call
    paths: Mapping[str, str]
    probe: Call | None
    objects: Call | None


@dataclass(frozen=True)
class RowLink:
    """Where rows name rows of another item: `each` part of the definition gives a place in a row (`at`, with members
    of that part in braces) and, from where it stands, the item that is meant (`of`)."""

    each: str
    at: str
    of: str


@dataclass(frozen=True)
class RowsPart:
    """The rows that an item holds: the list of them, the call that loads some, how many at once, what of a row only
    the platform writes, and where their number stands (a place in the item's row, or a call). `id` is where a row has
    its id, and `ids` where the answer to a load has those of the new ones, in order; `links` lead to other rows."""

    read: Call
    load: Call | None
    at_once: int
    without: tuple[str, ...]
    count: str
    counted: Call | None
    id: str = ""
    ids: str = ""
    links: tuple[RowLink, ...] = ()


@dataclass(frozen=True)
class Apart:
    """A member that is written by calls of its own: as a whole, or entry by entry. `entry` is where calls on one find
    what it is called, `by` what tells one from another on every instance (`entry` where nothing else is said), and
    `without` are places of one that only the platform writes. `each` shows one of them in full, where the list
    shows less."""

    write: Call | None
    add: Call | None
    remove: Call | None
    change: Call | None
    each: Call | None
    entry: str
    by: str
    without: tuple[str, ...]

    @property
    def is_written(self) -> bool:
        """Whether it can be written at all."""
        return self.write is not None or self.add is not None


@dataclass(frozen=True)
class ItemPart:
    """One kind of items: its calls, and where in their answers things stand. `definition` maps the members that make
    the definition to where they stand in the single answer."""

    kind: KindSheet
    index: Call
    row: Call | None
    read: Call
    draft: Call | None
    more: Mapping[str, Call]
    paths: Mapping[str, str]
    flags: Mapping[str, Flag]
    definition: Mapping[str, str]
    write: Mapping[str, Any]
    create: Call | None
    update: Call | None
    retire: Call | None
    publish: Call | None
    take_back: Call | None
    switch: Mapping[bool, Call]
    rows: RowsPart | None = None
    apart: Mapping[str, Apart] = field(default_factory=dict)
    needs: Mapping[str, Sequence[str]] = field(default_factory=dict)
    """The rights of which one is needed for what: `write`, `publish`, `switch`, `retire`."""
    hidden: tuple[str, ...] = ()
    """Places of secrets that the platform never shows: one is taken for granted wherever one could stand."""

    @property
    def tells_too_little(self) -> bool:
        """Whether a row of the list does not say what changed, or what is live: then each item is looked at."""
        # Each item is then looked at for the list: slow, and the only way to see that somebody has changed it.
        has_no_revision = self.paths.get("revision", "content") in ("content", "etag")
        return has_no_revision or (self.kind.is_published and not {"published", "unpublished"} <= self.flags.keys())


@dataclass(frozen=True)
class BridgeSheet:
    """A platform's interface. `file` is where it was read."""

    name: str
    title: str
    file: str
    tried: tuple[str, ...]
    base: str
    is_spaced: bool
    about: Mapping[str, Call]
    links: str
    sign_in: Mapping[str, Any]
    login: Call | None
    also: tuple[Call, ...]
    account: Call | None
    code: str
    words: str
    pointer: str
    refused: Flag | None
    """What tells a refusal that is answered like anything else."""
    means: tuple[Means, ...]
    secrets: str
    folders: Mapping[str, Any]
    folder_calls: Mapping[str, Call]
    supplies: tuple[SupplyPart, ...]
    items: Mapping[str, ItemPart]
    hook: str = ""


def parse_bridge(source: str, file: str, kinds: Mapping[str, str]) -> BridgeSheet:
    """The sheet that a TOML text holds; `kinds` are the texts of the kind sheets beside it, by file name. SheetFault
    names everything that is wrong with it, each with its line."""
    try:
        table = tomllib.loads(source)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        raise _fault(file, [str(error)]) from error
    # All faults at once: whoever writes a sheet mends them together.
    reader = SheetFaults(table, source)
    if faults := list(reader.all()):
        raise _fault(file, faults)
    sheets = {}
    for name in table["kinds"]:
        if name not in kinds:
            raise _fault(file, [f"{line_of(source, 'kinds')}there is no kind sheet {name!r} beside it"])
        sheet = parse_sheet(kinds[name], name)
        sheets[sheet.kind] = sheet
    items = {}
    for kind, row in table["item"].items():
        if kind not in sheets:
            raise _fault(file, [f"{line_of(source, kind)}there is no kind sheet for `item.{kind}` among `kinds`"])
        items[kind] = _item(sheets[kind], row, table.get("pages", {}))
    # A kind that can't be read would look like one of which there is nothing.
    if spare := sorted(sheets.keys() - items.keys()):
        raise _fault(file, [f"nothing says how items of {spare[0]!r} are read: `[item.{spare[0]}]` is missing"])
    # Last, for it asks what only whole kind sheets can answer.
    if faults := list(reader.beside(sheets)):
        raise _fault(file, faults)
    return _sheet(table, file, items)


def _fault(file: str, faults: list[str]) -> SheetFault:
    return SheetFault(
        f"The bridge sheet {file} can't be used.",
        subject=file,
        details=faults,
        next_step=advice("Mend the sheet; docs/bridges.md says what each line means."),
    )


def _call_of(row: Any, name: str, pages: Mapping[str, Any] | None = None) -> Call | None:
    if not isinstance(row, dict) or not row:
        return None
    method = next(method for method in METHODS if method in row)
    known = {"at", "body", "headers", method}
    more = {key: value for key, value in row.items() if key not in known}
    if pages is not None:
        # Laid over and not instead: most lists differ in one word.
        more["pages"] = {**pages, **row.get("pages", {})}
    if "job" in more:
        more["job"] = _call_of(more["job"], f"{name}.job")
    return Call(method.upper(), row[method], row.get("at", "$"), row.get("body"), row.get("headers", {}), name, more)


def _sure(call: Call | None) -> Call:
    assert call is not None
    return call


def pages_of(call: Call) -> Pages:
    """How the list that a call gives comes in pieces."""
    table = call.said("pages", {})
    size = table.get("size", {})
    return Pages(
        table.get("how", "none"),
        table.get("ask", ""),
        size.get("ask", ""),
        size.get("of", 0),
        table.get("first", 1),
        table.get("next", ""),
        table.get("total", ""),
    )


_PATHS = (
    "id",
    "uid",
    "title",
    "folder",
    "revision",
    "changed_at",
    "changed_by",
    "link",
)


def _item(sheet: KindSheet, row: Mapping[str, Any], pages: Mapping[str, Any]) -> ItemPart:
    name = f"item.{sheet.kind}"
    definition = row["definition"]
    # A list is the usual case: each member stands where its name says.
    members = definition if isinstance(definition, dict) else {member: f"$.{member}" for member in definition}
    names = ("row", "read", "draft", "create", "update", "retire", "publish", "take_back")
    calls = {call: _call_of(row.get(call), f"{name}.{call}") for call in names}
    return ItemPart(
        sheet,
        _sure(_call_of(row["index"], f"{name}.index", pages)),
        calls["row"],
        _sure(calls["read"]),
        calls["draft"],
        {
            member: _sure(_call_of(call, f"{name}.more.{member}", pages))
            for member, call in row.get("more", {}).items()
        },
        {path: row[path] for path in _PATHS if path in row},
        {flag: _flag(row[flag], flag == "on") for flag in FLAGS if flag in row},
        members,
        row.get("write", {}),
        calls["create"],
        calls["update"],
        calls["retire"],
        calls["publish"],
        calls["take_back"],
        {state == "on": _sure(_call_of(c, f"{name}.switch.{state}")) for state, c in row.get("switch", {}).items()},
        _rows(row.get("rows", {}), f"{name}.rows", pages),
        {member: _apart(call, f"{name}.more.{member}") for member, call in row.get("more", {}).items()},
        row.get("needs", {}),
        tuple(row.get("hidden", ())),
    )


def _flag(said: str | Mapping[str, Any], is_strict: bool) -> Flag:
    return (
        Flag(said, (), is_strict) if isinstance(said, str) else Flag(said["at"], tuple(said.get("is", ())), is_strict)
    )


def _rows(table: Mapping[str, Any], name: str, pages: Mapping[str, Any]) -> RowsPart | None:
    read = _call_of(table.get("read"), f"{name}.read", pages)
    if read is None:
        return None
    count = table.get("count", "")
    load = _call_of(table.get("load"), f"{name}.load")
    return RowsPart(
        read,
        load,
        load.said("at_once", 1) if load else 0,
        tuple(table.get("without", ())),
        count if isinstance(count, str) else "",
        _call_of(count, f"{name}.count"),
        table.get("id", ""),
        load.said("ids") if load else "",
        tuple(RowLink(row.get("each", "$"), row["at"], row["of"]) for row in table.get("links", [])),
    )


def _apart(table: Mapping[str, Any], name: str) -> Apart:
    names = ("write", "add", "remove", "change", "each")
    write, add, remove, change, each = (_call_of(table.get(call), f"{name}.{call}") for call in names)
    entry = table.get("entry", "")
    return Apart(write, add, remove, change, each, entry, table.get("by", entry), tuple(table.get("without", ())))


def _sheet(table: Mapping[str, Any], file: str, items: Mapping[str, ItemPart]) -> BridgeSheet:
    about, sign_in = table.get("about", {}), table.get("sign_in", {})
    folders = table.get("folders", {})
    pages = table.get("pages", {})
    folder_calls = {
        name: call for name in ("index", "create") if (call := _call_of(folders.get(name), f"folders.{name}", pages))
    }
    return BridgeSheet(
        name=table["bridge"],
        title=table.get("title", table["bridge"]),
        file=file,
        # As texts: people write 6.1 without quotes, and mean a release.
        tried=tuple(map(str, table.get("tried", []))),
        base=table.get("base", "").rstrip("/"),
        is_spaced=table.get("json", "compact") == "spaced",
        about={k: _sure(_call_of(v, f"about.{k}")) for k, v in about.items() if k != "links"},
        links=about.get("links", ""),
        sign_in=sign_in,
        login=_call_of(sign_in.get("call"), "sign_in.call"),
        also=tuple(_sure(_call_of(row, "sign_in.also")) for row in sign_in.get("also", [])),
        account=_call_of(table.get("account"), "account"),
        code=table.get("errors", {}).get("code", ""),
        words=table.get("errors", {}).get("words", ""),
        pointer=table.get("errors", {}).get("pointer", ""),
        refused=_flag(table["errors"]["refused"], False) if "refused" in table.get("errors", {}) else None,
        means=tuple(_means(table.get("error", []))),
        secrets=table.get("secrets", "left out"),
        folders=folders,
        folder_calls=folder_calls,
        supplies=tuple(_supply(name, row, pages) for name, row in table.get("supply", {}).items()),
        items=items,
        hook=table.get("hook", ""),
    )


def _means(rows: Iterable[Mapping[str, Any]]) -> Iterator[Means]:
    for row in rows:
        # None means any: some platforms answer every refusal with 200 and a code.
        status = row.get("status", [])
        statuses = tuple(status) if isinstance(status, list) else (status,)
        yield Means(statuses, row.get("code", ""), row.get("says", ""), row.get("on", ""), row["means"])


def _supply(name: str, row: Mapping[str, Any], pages: Mapping[str, Any]) -> SupplyPart:
    return SupplyPart(
        row["kind"],
        row.get("space", ""),
        row.get("number", False),
        _sure(_call_of(row["index"], f"supply.{name}.index", pages)),
        {path: row[path] for path in ("id", "name", "type", "owner", "works") if path in row},
        _call_of(row.get("probe"), f"supply.{name}.probe"),
        _call_of(row.get("objects"), f"supply.{name}.objects"),
    )
