"""Mapping: the crosswalk's rows for a package's needs, filled in and accepted; and what is odd about them."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import replace
from urllib.parse import urlsplit

from amphora.core.form.bindings import Bindings, IdStyle
from amphora.core.form.kinds import KindSheet
from amphora.core.form.settings import parse_setting, setting_words
from amphora.core.form.spots import named_pointer, setting_values
from amphora.core.needs.crosswalk import (
    MADE_FROM,
    NO_ENVIRONMENTS,
    OPEN,
    SECTIONS,
    Crosswalk,
    Mapped,
    MapState,
    cell_text,
    row_name,
)
from amphora.core.needs.selection import the_one
from amphora.core.needs.supplies import Supplies, lacking
from amphora.core.values.errors import UsageFault
from amphora.core.values.keys import Key, kind_of, readable
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents, Item, Json
from amphora.core.values.near import near
from amphora.core.values.next_step import advice, to_type
from amphora.core.values.once import said_once
from amphora.core.values.pointers import parse_pointer, value_at, write_pointer
from amphora.core.values.tokens import parse_token, render_text
from amphora.engine.check import sheets_for
from amphora.engine.docket import map_needs
from amphora.engine.export import listed_items
from amphora.engine.session import Session
from amphora.files.crosswalk_file import Cell, refuse_cell, write_cells
from amphora.files.names import SUFFIX
from amphora.files.package import needs_packed

Asker = Callable[[Mapped], "str | None"]
"""Asks a person about one need: gives what is to be written, None to leave it open."""


@dataclass(frozen=True)
class Doubt:
    """Something odd about a row of the crosswalk."""

    row: str
    words: str


@dataclass(frozen=True)
class Rewriting:
    """One text with what changes in it: (line number, before, after)."""

    key: Key
    title: str
    place: str
    lines: tuple[tuple[int, str, str], ...]


def map_package(
    session: Session,
    contents: Contents,
    environments: Sequence[str],
    values: Sequence[str],
    accept: bool,
    only: Collection[str] = (),
    ask: Asker | None = None,
) -> tuple[dict[str, list[Mapped]], int]:
    """Writes given values, accepted guesses (of the needs named in `only`, if there are some), answers and
    open rows; returns the needs as they then stand, and how many cells were written. Values that people
    wrote are never replaced but by `values`."""
    types = setting_types(contents)
    cells: list[Cell] = []
    # For all targets before anything is written: a value that can't be one must not stand for half of them.
    for name in environments:
        before = map_needs(session, contents, session.open(name))
        for one in only:
            _named(one, before, contents.title)
        cells += [cell for one in before if (cell := _cell(one, accept and _is_meant(one, only)))]
        given = [_given(text, before, contents.title, types) for text in values]
        # A connection and a person may bear one name.
        said_once(((f"{cell.section}: {cell.row}", cell.value) for cell in given), f"values in {name}")
        _refuse_unknown(session, given)
        cells += given
    written = len(write_cells(session.workspace.crosswalk, cells)) if cells else 0
    for name in environments if ask else ():
        assert ask is not None
        written += _answered(session, contents, name, ask, types)
    # Read again only where it is another one by now.
    if written:
        session.renew_crosswalk()
    return {name: map_needs(session, contents, session.open(name)) for name in environments}, written


def _refuse_unknown(session: Session, cells: Sequence[Cell]) -> None:
    """UsageFault for a connection or a person that an environment does not offer. Refused rather than written: it is
    nearly always a slip of the pen, and would come back as an open need much later."""
    for cell in cells:
        kind = {SECTIONS["connection"]: "connection", SECTIONS["person"]: "person"}.get(cell.section)
        if kind is None or cell.value in ("", OPEN):
            continue
        opened = session.open(cell.column)
        offered = Supplies(opened.environment.supplies(), opened.description.unlisted)
        names, found = offered.names(kind), offered.named(kind, cell.value)
        # An environment that can't say what it has offers nothing: then anything may be right.
        if not names or len(found) == 1:
            continue
        # What is near, else all that there is: whoever mistypes a name sees it at once.
        alike = [] if found else near(str(cell.value), names, 3)
        shown = offered.told(found or offered.of(kind))
        raise UsageFault(
            f"{lacking(kind, cell.value, cell.column, found)}; nothing was written.",
            subject=cell.row,
            details=[f"near: {name}" for name in alike] or [f"on offer: {one}" for one in shown],
            next_step=advice("Name one that is there; or make it there first, and then say it again."),
        )


def suppose(session: Session, contents: Contents, environment: str, values: Sequence[str]) -> None:
    """Lets a session go on as if these values stood in the crosswalk; nothing is written."""
    before = map_needs(session, contents, session.open(environment))
    types = setting_types(contents)
    known = session.crosswalk.rows
    # A copy to the last cell: the session goes on to be used for what is really written there.
    rows = {section: {name: dict(cells) for name, cells in table.items()} for section, table in known.items()}
    for text in values:
        cell = _given(text, before, contents.title, types)
        refuse_cell(cell, session.workspace.crosswalk)
        rows.setdefault(cell.section, {}).setdefault(cell.row, {})[cell.column] = cell.value
    session.crosswalk = replace(session.crosswalk, rows=rows)


def map_makers(session: Session, contents: Contents, environment: str, texts: Sequence[str]) -> int:
    """Writes, for `NAME=ITEM`, that a need can be made once that item of the package is there: an import pauses for
    it then. Gives how many cells were written."""
    before = map_needs(session, contents, session.open(environment))
    cells = []
    for text in texts:
        name, _, item = text.partition("=")
        if not item:
            raise UsageFault(
                f"{text!r} is not NAME=ITEM.", next_step=advice("Write it like --made-from lab-feed=lab-exchange")
            )
        need = _named(name, before, contents.title).need
        # Of a setting or a person nobody can say that it comes from an item.
        if need.kind != "connection":
            raise UsageFault(
                f"{name!r} is no connection but a {need.kind}.",
                subject=name,
                next_step=to_type("map", contents.spoken, environment),
            )
        maker = the_one(item, listed_items(contents), contents.title)
        cells.append(Cell(SECTIONS[need.kind], row_name(need.key), MADE_FROM, maker))
    said_once(((cell.row, cell.value) for cell in cells), "makers")
    written = len(write_cells(session.workspace.crosswalk, cells))
    session.renew_crosswalk()
    return written


def setting_types(contents: Contents) -> dict[Key, str]:
    """The type of each setting that the package needs, as the kind sheets give it."""
    sheets = sheets_for(contents, None)
    # Only of items that need one: reading all forms of a large package for nothing took seconds.
    wanted = {key for need in contents.needs if need.kind == "setting" for key in need.used_by}
    return {
        token.key: type_
        for key in sorted(wanted & contents.items.keys())
        if contents.items[key].kind in sheets
        for _, value, type_ in setting_values(contents.items[key].form, sheets[contents.items[key].kind])
        if (token := parse_token(value)) and token.kind == "setting"
    }


def doubts(session: Session, contents: Contents, mapped: Sequence[Mapped] = ()) -> list[Doubt]:
    """Rows that no package of the workspace needs, rows that contradict each other, and needs that share one
    counterpart."""
    crosswalk = session.crosswalk
    # Of every package of the workspace: a row may serve one that is imported next week.
    keys = [key for key in _all_needs(session, contents) if kind_of(key) in SECTIONS]
    needed = {(SECTIONS[kind_of(key)], row_name(key)) for key in keys}
    found = [
        Doubt(f"{section}: {row}", "no package in this workspace needs it")
        for section, rows in crosswalk.rows.items()
        if section != "items"
        for row in rows
        if (section, row) not in needed
    ]
    # Written down in two files with two values: nobody can know which is meant.
    split = (Doubt(*pair) for pair in crosswalk.split)
    return [*found, *contradictions(crosswalk, contents.source), *split, *_shared(mapped), *_unfit(session, mapped)]


def _unfit(session: Session, mapped: Iterable[Mapped]) -> Iterable[Doubt]:
    """Connections of another type than the need's, or that do not work."""
    for one in mapped:
        if one.state is not MapState.MAPPED or one.need.kind != "connection":
            continue
        row = f"{SECTIONS['connection']}: {row_name(one.need.key)}"
        if one.need.type and one.native_type and one.need.type != one.native_type:
            words = f"is {one.value!r} in {one.environment}, a {one.native_type}: a {one.need.type} is needed"
            yield Doubt(row, words)
        # Asked there and not in the crosswalk: that it worked last month says nothing.
        for supply in session.open(one.environment).environment.supplies():
            if supply.kind == "connection" and supply.native_id == one.native and supply.is_working is False:
                yield Doubt(row, f"is {one.value!r} in {one.environment}, which does not work")


def replaced(session: Session, contents: Contents, environments: Sequence[str], values: Sequence[str]) -> list[str]:
    """What given values would take the place of, in words; to be asked before they are written."""
    found = []
    for name in environments:
        before = {row_name(one.need.key): one for one in map_needs(session, contents, session.open(name))}
        for text in values:
            row, _, value = text.partition("=")
            one = before.get(row)
            # As text: 15 typed at a terminal is the 15 that stands there.
            if one and one.state is MapState.MAPPED and cell_text(one.value) != value:
                found.append(f"{row} in {name}: {one.value} -> {value}")
    return found


def _shared(mapped: Iterable[Mapped]) -> Iterable[Doubt]:
    """Connections and people that stand for several needs in one environment."""
    seen: dict[tuple[str, str, str], str] = {}
    for one in mapped:
        if one.state is MapState.MAPPED and one.need.kind in ("connection", "person"):
            row = row_name(one.need.key)
            other = seen.setdefault((one.environment, one.need.kind, str(one.native)), row)
            if other != row:
                words = f"is {one.value!r} in {one.environment}, as {other!r} is"
                yield Doubt(f"{SECTIONS[one.need.kind]}: {row}", words)


def contradictions(crosswalk: Crosswalk, source: str) -> list[Doubt]:
    """Rows that mean the same in the source and different things elsewhere."""
    found = []
    for section in ("connections", "people", "urls"):
        by_value: dict[str, tuple[str, dict[str, Json]]] = {}
        for row, cells in crosswalk.rows.get(section, {}).items():
            here = cells.get(source)
            # Guesses contradict nobody yet.
            if not isinstance(here, str) or here.startswith(OPEN):
                continue
            other, seen = by_value.setdefault(here, (row, dict(cells)))
            for column in sorted(seen.keys() & cells.keys() - {source, *NO_ENVIRONMENTS}):
                if other != row and seen[column] != cells[column] and OPEN not in (seen[column], cells[column]):
                    words = (
                        f"{here!r} in {source} is {seen[column]!r} in {column} by the row {other},"
                        f" and {cells[column]!r} by this one"
                    )
                    found.append(Doubt(f"{section}: {row}", words))
    return found


def rewritings(session: Session, contents: Contents, environment: str) -> list[Rewriting]:
    """Every text in which a token stands, as it was in the source and as it will be in the target."""
    opened = session.open(environment)
    links = {link.key: link.native_id for link in session.ledger.links(opened.description.uid)}
    there = {one.need.key: one.native for one in map_needs(session, contents, opened) if one.native is not None}
    after = Bindings(opened.description.id_style, {**there, **links})
    before = Bindings(IdStyle("", ""), {key: item.native_id for key, item in contents.items.items()})
    for need in contents.needs:
        value = session.crosswalk.value(need.key, contents.source)
        # What the source calls it is told by its own column; without one the token shows itself as unknown.
        if value is not None:
            before.bind(need.key, value)
    own = _own_address(contents)
    if own:
        before.bind("url:environment", own)
    sheets = sheets_for(contents, opened)
    return [one for item in contents.items.values() for one in _rewritten(item, before, after, sheets.get(item.kind))]


def _own_address(contents: Contents) -> str:
    for item in contents.items.values():
        parts = urlsplit(item.link)
        if parts.scheme in ("http", "https"):
            return f"{parts.scheme}://{parts.netloc}"
    return ""


def _rewritten(item: Item, before: Bindings, after: Bindings, sheet: KindSheet | None) -> Iterable[Rewriting]:
    for pointer in dict.fromkeys(place.pointer for place in item.places if place.in_text):
        text = str(value_at(item.form, parse_pointer(pointer)))
        was, will_be = (_shown(text, names, words) for names, words in ((before, "?"), (after, "its new id")))
        # Line by line: of a script of hundreds people want to see the three that change.
        pairs = zip(was.splitlines(), will_be.splitlines(), strict=False)
        lines = tuple((n, old, new) for n, (old, new) in enumerate(pairs, 1) if old != new)
        if lines:
            parts = parse_pointer(pointer)
            phrase = write_pointer(named_pointer(item.form, sheet, parts)) if sheet else pointer
            yield Rewriting(item.key, item.states.title, phrase, lines)


def _shown(text: str, names: Bindings, unknown: str) -> str:
    def value_of(token: str) -> object:
        parsed = parse_token(token)
        # Not the empty text of a missing value: a line that merely vanished would be read over.
        known = parsed is not None and parsed.key in names.values
        return names.value_of(token) if known else f"({unknown})"

    return render_text(text, value_of)


def _all_needs(session: Session, contents: Contents) -> Iterable[Key]:
    yield from (need.key for need in contents.needs)
    # By their packing lists alone: reading and verifying every package of a workspace to say that a row of the
    # crosswalk is used by none took longer than all the rest.
    for path in sorted(session.workspace.packages.glob(f"*{SUFFIX}")):
        yield from needs_packed(path)


def _answered(session: Session, contents: Contents, name: str, ask: Asker, types: dict[Key, str]) -> int:
    """Asks about what is not mapped yet, one need after the other; each answer is written at once."""
    session.renew_crosswalk()
    written = 0
    for one in map_needs(session, contents, session.open(name)):
        if one.state in (MapState.GUESSED, MapState.OPEN) and one.need.kind != "secret":
            answer = ask(one)
            # Written one by one: whoever stops in the middle keeps what they have answered.
            if answer is not None:
                value = _typed(answer, types.get(one.need.key, ""), row_name(one.need.key))
                cell = Cell(SECTIONS[one.need.kind], row_name(one.need.key), name, value)
                written += len(write_cells(session.workspace.crosswalk, [cell]))
    return written


def _is_meant(mapped: Mapped, only: Collection[str]) -> bool:
    return not only or not _names(mapped.need.key).isdisjoint(only)


def _names(key: Key) -> set[str]:
    """What people may type for a need: as it is shown, as it stands in the crosswalk, and its key."""
    return {readable(key), row_name(key), key}


def _cell(mapped: Mapped, accept: bool) -> Cell | None:
    """The cell that a need's state asks for: an accepted guess, a guess to be accepted, or an open one."""
    if mapped.state in (MapState.MAPPED, MapState.LATER) or mapped.need.kind == "secret":
        return None
    # A value that somebody wrote and that is wrong stays for them to mend: replacing it would hide what they meant.
    if mapped.state is MapState.OPEN and mapped.value is not None:
        return None
    if mapped.state is MapState.OPEN:
        value: Json = OPEN
    else:
        # With the question mark it is an offer in the file: taking the mark away accepts it.
        value = mapped.value if accept else f"{OPEN}{cell_text(mapped.value)}"
    return Cell(SECTIONS[mapped.need.kind], row_name(mapped.need.key), mapped.environment, value)


def _named(name: str, mapped: Sequence[Mapped], title: str) -> Mapped:
    found = [one for one in mapped if name in _names(one.need.key)]
    if len(found) != 1:
        what = "can mean several needs" if found else "is no need"
        raise UsageFault(
            f"{name!r} {what} of {title}.",
            subject=name,
            details=[readable(one.need.key) for one in found or mapped],
            next_step=advice("Name one of these."),
        )
    return found[0]


def _given(text: str, mapped: Sequence[Mapped], title: str, types: dict[Key, str]) -> Cell:
    name, equals, value = text.partition("=")
    if not equals:
        raise UsageFault(f"{text!r} is not NAME=VALUE.", next_step=advice("Write it like --set mill-db=mill-main"))
    one = _named(name, mapped, title)
    # Only settings have types; a connection called 15 is a name.
    need = one.need
    typed = _typed(value, types.get(need.key, ""), name) if need.kind == "setting" else value
    if need.kind == "url" and not value.startswith(OPEN) and "://" not in value:
        raise UsageFault(
            f"{value!r} is no address, which {name!r} has to be.",
            subject=name,
            next_step=advice("Write it with its scheme, as https://www.example."),
        )
    return Cell(SECTIONS[need.kind], row_name(need.key), one.environment, typed)


def _typed(value: str, type_: str, name: str) -> Json:
    """What a person wrote, in the type of the setting."""
    if not type_:
        return value
    try:
        typed = parse_setting(value, type_)
    except ValueError as error:
        raise UsageFault(
            f"{value!r} is not {setting_words(type_)}, which the setting {name!r} has to be.",
            subject=name,
            next_step=advice("Give a value of that type."),
        ) from error
    return typed
