"""Bridge sheets: what a platform's REST interface looks like (design, section 8a; docs/bridges.md)."""

from __future__ import annotations

import tomllib
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from typing import Any

from amphora.core.form.kinds import KindSheet, parse_sheet
from amphora.core.values.errors import SheetFault, UsageFault
from amphora.core.values.next_step import advice
from amphora.core.values.strict_toml import line_of
from amphora.environments.bridge.agreement import Agreement
from amphora.environments.bridge.faults import SheetFaults
from amphora.environments.bridge.lines import AROUND, FLAGS, METHODS, NAMED
from amphora.environments.bridge.own import checked_own, own_names, with_own
from amphora.environments.bridge.parts import (
    Apart,
    BridgeSheet,
    Call,
    ItemPart,
    Means,
    RowLink,
    RowsPart,
    SupplyPart,
    Within,
)
from amphora.environments.bridge.paths import Flag, is_in, member_name, member_path, unwritten, written_at


def parse_bridge(
    source: str, file: str, kinds: Mapping[str, str], own: Mapping[str, str] | None = None, of: str = ""
) -> BridgeSheet:
    """The sheet that a TOML text holds; `kinds` are the texts of the kind sheets beside it, by file name, `own` what
    the environment `of` that name says for itself. SheetFault names everything that is wrong with it, each with its
    line; UsageFault, what the environment should have said."""
    try:
        table = tomllib.loads(source)
    except (ValueError, RecursionError) as error:
        raise _fault(file, [str(error)]) from error
    # All faults at once: whoever writes a sheet mends them together.
    if faults := list(SheetFaults(table, source).all()):
        raise _fault(file, faults)
    if own is not None:
        checked_own(own_names(table), own, file, of)
        table = with_own(table, own)
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
    if faults := list(Agreement(table, source, sheets).faults()):
        raise _fault(file, faults)
    return replace(_sheet(table, file, items), own=own or {})


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
    for inner in ("job", *AROUND, *NAMED):
        # In a job `job` is a place: where its name stands.
        if isinstance(more.get(inner), dict):
            more[inner] = _call_of(more[inner], f"{name}.{inner}")
    return Call(method.upper(), row[method], row.get("at", "$"), row.get("body"), row.get("headers", {}), name, more)


def _sure(call: Call | None) -> Call:
    assert call is not None
    return call


_PATHS = (
    "row",
    "id",
    "id_form",
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
    within = row.get("within", {})
    # Half of an app is none: its pages come along, unless the sheet says that they don't.
    held = {*sheet.held_by, member_path(within["as"])} if within.get("along", True) and within else sheet.held_by
    is_fixed = "create" in row and "update" not in row
    definition = row["definition"]
    # A list is the usual case: each member stands where its name says.
    members = definition if isinstance(definition, dict) else {name: member_path(name) for name in definition}
    sheet = replace(
        sheet,
        hides_secrets=bool(row.get("hidden")),
        held_by=tuple(sorted(held)),
        is_fixed=is_fixed,
        fixed=frozenset(_fixed(row, members)),
    )
    switches = [(state, call) for state, call in row.get("switch", {}).items() if isinstance(call, dict)]
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
        {path: row[path] for path in _PATHS if isinstance(row.get(path), str)},
        {flag: _flag(row[flag], flag == "on") for flag in FLAGS if flag in row},
        members,
        row.get("write", {}),
        calls["create"],
        calls["update"],
        calls["retire"],
        calls["publish"],
        calls["take_back"],
        {state == "on": _sure(_call_of(c, f"{name}.switch.{state}")) for state, c in switches},
        _rows(row.get("rows", {}), f"{name}.rows", pages),
        {member: _apart(call, f"{name}.more.{member}") for member, call in row.get("more", {}).items()},
        row.get("needs", {}),
        Within(within["kind"], within["as"]) if within else None,
        tuple(row.get("hidden", ())),
        {
            one["kind"]: _flag(one["keeps"], False) if "keeps" in one else None
            for one in row.get("create", {}).get("brings", ())
        },
        {
            state == "on": unwritten(said)
            for state, said in row.get("switch", {}).items()
            if not isinstance(said, dict)
        },
    )


def _fixed(row: Mapping[str, Any], members: Mapping[str, str]) -> Iterable[str]:
    """The places of what no change of an item says: it is as it was made."""
    update = row.get("update", {})
    read_only, unsent = update.get("read_only", ()), row.get("write", {}).get("without", ())
    for name, call in (("title", "titled"), ("folder", "moved")):
        path = row.get(name)
        # Nor is something called otherwise, or moved, by a body that never says how it is called and where it is.
        if path and call not in update and (path in unsent or is_in(member_name(path), read_only)):
            yield f"state:{name}"
    # Nothing can be taken out of what holds it.
    yield from (f"/{row['within']['as']}",) if row.get("within") else ()
    yield from (f"/{name}" for name, path in members.items() if is_in(member_name(written_at(path)), read_only))


def _flag(said: str | Mapping[str, Any], is_strict: bool) -> Flag:
    if isinstance(said, str):
        return Flag(said, (), is_strict)
    return Flag(said["at"], tuple(map(unwritten, said.get("is", ()))), is_strict)


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
    without = tuple(table.get("without", ()))
    types = table.get("file", ""), table.get("text", "")
    # What each instance gives anew tells nothing from anything: then it is what an entry says.
    by = table.get("by", "" if entry in without else entry)
    return Apart(write, add, remove, change, each, entry, by, without, *types)


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
        leaves_out=table.get("empty", "shown") == "left out",
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
        statuses, calls = (row.get(name, []) for name in ("status", "on"))
        several = [tuple(said) if isinstance(said, list) else (said,) for said in (statuses, calls)]
        yield Means(several[0], row.get("code", ""), row.get("says", ""), several[1], row["means"])


def _supply(name: str, row: Mapping[str, Any], pages: Mapping[str, Any]) -> SupplyPart:
    return SupplyPart(
        row["kind"],
        row.get("space", ""),
        row.get("number", False),
        _sure(_call_of(row["index"], f"supply.{name}.index", pages)),
        {path: row[path] for path in ("id", "id_form", "name", "type", "owner", "works") if path in row},
        _call_of(row.get("probe"), f"supply.{name}.probe"),
        _call_of(row.get("objects"), f"supply.{name}.objects"),
        row.get("complete", True),
    )


def checked_user(sheet: BridgeSheet, user: str, secret: str, location: str) -> None:
    """UsageFault where the sheet needs a name or a secret that the workspace doesn't give."""
    how = sheet.sign_in.get("how", "none")
    if how != "none" and not secret:
        raise UsageFault(
            f"{location} is signed in to ({how}), and no secret is given.",
            subject=location,
            next_step=advice('Write sign_in = "env:NAME" for it in amphora.toml, and set NAME in your shell.'),
        )
    if how in ("basic", "client", "login") and not user:
        raise UsageFault(
            f"{location} is signed in to ({how}), and no user is given.",
            subject=location,
            next_step=advice("Write user = for it in amphora.toml."),
        )
