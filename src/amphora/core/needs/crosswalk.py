"""The crosswalk: what each need is called in each environment; needs resolved, guessed or open."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import field, replace
from enum import StrEnum

from amphora.core.form.native_ids import IdsOf
from amphora.core.needs.supplies import Supplies, lacking
from amphora.core.values.keys import Key, as_key, decode_segment, encode_segment, kind_of, path_of
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json, Need, Supply

SECTIONS: Mapping[str, str] = {
    "connection": "connections",
    "setting": "settings",
    "person": "people",
    "item": "items",
    "url": "urls",
    "secret": "secrets",
}
"""Need kind (or `item`) to the section of the file that holds its rows."""

ANY = "any"
OPEN = "?"
MADE_FROM = "made_from"
NO_ENVIRONMENTS = (ANY, MADE_FROM)
"""Columns that are no environment's."""
NEAR_ENOUGH = 75
"""How alike two names have to be, of 100, to be guessed."""


@dataclass(frozen=True)
class Crosswalk:
    """The table: section, row name (as people write it), column (environment, `any` or `made_from`), value.
    `split` tells of cells that two files give differently: (row, words)."""

    rows: Mapping[str, Mapping[str, Mapping[str, Json]]] = field(default_factory=dict)
    split: tuple[tuple[str, str], ...] = ()

    def value(self, need: Key, environment: str) -> Json:
        """The cell that counts for a need in an environment; None where there is none."""
        row = self.rows.get(SECTIONS.get(kind_of(need), ""), {}).get(row_name(need), {})
        return row.get(environment, row.get(ANY))

    def made_from(self, need: Key) -> Key | None:
        """The integration from which a connection can be made, if the row tells of one."""
        cell = self.rows.get(SECTIONS.get(kind_of(need), ""), {}).get(row_name(need), {}).get(MADE_FROM)
        # A row may say `made_from: ?` while nobody knows yet.
        return cell if isinstance(cell, str) else None

    def renamed(self, environment: str, there: Collection[Key] = ()) -> dict[Key, Key]:
        """The `items:` rows of an environment: package key to target key. What is said of any environment is not said
        of one in which the item goes by its own key: `there` are those."""
        rows = self.rows.get("items", {})
        cells = ((key, row.get(environment, None if key in there else row.get(ANY))) for key, row in rows.items())
        said = {as_key(key): as_key(cell) for key, cell in cells if isinstance(cell, str)}
        # Under the kind that it has there: rows are written by the keys of a source that may call it otherwise.
        return {f"{kind_of(other)}:{path_of(key)}": other for key, other in said.items() if key and other}


class MapState(StrEnum):
    """How far the mapping of one need is."""

    MAPPED = "mapped"
    GUESSED = "guessed"
    OPEN = "open"
    LATER = "in a pause"


@dataclass(frozen=True)
class Mapped:
    """One need in one environment: the cell's value, what it stands for there, and why.

    `native` is the native id or value in force, None unless mapped. `reason` explains a guess, or what
    is wrong with a value. `offers` are the names on offer there, `on_offer` the same with type, owner and
    whether they work. In a pause means: only once the item
    `value` of the same package is there. `native_type` is the counterpart's.
    """

    need: Need
    environment: str
    state: MapState
    value: Json = None
    native: Json = None
    reason: str = ""
    offers: tuple[str, ...] = ()
    native_type: str = ""
    on_offer: tuple[str, ...] = ()


VERBATIM = "="
"""Begins a row whose name is a need's path as it is coded, where decoding it would lose something."""
_DOUBLED = re.compile(r"(.*)(~[0-9]+)", re.DOTALL)


def row_name(need: Key) -> str:
    """The name of a need's row, as it stands in the file: decoded wherever `need_key` finds the way back.

    >>> row_name("connection:mqtt%3A%2F%2Fmill%2Fdb"), row_name("connection:a/b"), row_name("person:lab~2")
    ('mqtt://mill/db', '=a/b', 'lab~2')
    """
    name = decode_segment(path_of(need))
    # Tried and compared instead of reasoned about: whatever comes back as another need is written as it is coded.
    return name if need_key(kind_of(need), name) == need else VERBATIM + path_of(need)


def need_key(kind: str, row: str) -> Key:
    """The need that a row is about; the inverse of `row_name`. A name is one segment, whatever stands in it; the
    number of a doubled one stays behind it."""
    if row.startswith(VERBATIM):
        return f"{kind}:{row[1:]}"
    doubled = _DOUBLED.fullmatch(row)
    # A name that is only a number behind a tilde is a name.
    if doubled and doubled[1]:
        return f"{kind}:{encode_segment(doubled[1])}{doubled[2]}"
    return f"{kind}:{encode_segment(row)}"


def resolve(
    needs: Iterable[Need],
    crosswalk: Crosswalk,
    environment: str,
    supplies: Sequence[Supply],
    known: Mapping[Key, Json],
    packed: Collection[Key] = (),
    source: str = "",
    unlisted: IdsOf | None = None,
) -> list[Mapped]:
    """Every need with its state in one environment. `known` are needs that the environment answers by
    itself (its own address), or that an earlier delivery answered; `packed` the items of the package, `source` where
    it comes from: what a setting is there is the guess for it here. Of the kinds in `unlisted` it doesn't list all
    that it has (see `Supplies`)."""
    found, offered = [], Supplies(supplies, unlisted)
    for need in needs:
        cell = crosswalk.value(need.key, environment)
        there = crosswalk.rows.get(SECTIONS.get(need.kind, ""), {}).get(row_name(need.key), {}).get(source)
        mapped = _resolved(need, cell, environment, offered, known, (source, there))
        mapped = replace(mapped, on_offer=offered.told(offered.of(need.kind, need.type)) if mapped.offers else ())
        maker = crosswalk.made_from(need.key)
        # A guess that somebody wrote down counts more: there may be such a connection already. One of ours does not:
        # what is made from an item that isn't there yet can't be there either.
        if maker in packed and mapped.state is not MapState.MAPPED and cell in (None, OPEN):
            mapped = Mapped(need, environment, MapState.LATER, maker, None, "made from it in a pause", mapped.offers)
        found.append(mapped)
    return found


def _resolved(
    need: Need,
    cell: Json,
    environment: str,
    supplies: Supplies,
    known: Mapping[Key, Json],
    there: tuple[str, Json],
) -> Mapped:
    # What the environment knows of itself needs no row; a row that is there all the same counts more.
    if cell is None and need.key in known:
        return Mapped(
            need, environment, MapState.MAPPED, known[need.key], known[need.key], "known to the environment"
        )
    offers = supplies.names(need.kind, need.type)
    if isinstance(cell, str) and cell.startswith(OPEN) and cell != OPEN:
        again = _guessed(need, environment, supplies, offers, there)
        # The same guess has a type, which its text in the file has lost.
        if cell_text(again.value) == cell[1:]:
            return replace(again, state=MapState.GUESSED)
        return Mapped(need, environment, MapState.GUESSED, cell[1:], None, "written down as a guess", offers)
    # An empty cell and a question mark are the same to us; the mark is for people, who see that a row is waiting.
    if cell is None or cell == OPEN:
        return _guessed(need, environment, supplies, offers, there)
    if need.kind == "url" and not (isinstance(cell, str) and "://" in cell):
        return Mapped(need, environment, MapState.OPEN, cell, None, f"{cell!r} is no address", offers)
    # Values, not names: nothing in the target has to be found for them.
    if need.kind in ("setting", "url", "secret"):
        return Mapped(need, environment, MapState.MAPPED, cell, cell, "", offers)
    found = supplies.named(need.kind, cell)
    if len(found) != 1:
        reason = lacking(need.kind, cell, environment, found)
        return Mapped(need, environment, MapState.OPEN, cell, None, reason, offers)
    [supply] = found
    return Mapped(need, environment, MapState.MAPPED, cell, supply.native_id, "", offers, supply.type)


def cell_text(value: Json) -> str | None:
    """A value as it stands in a cell behind a question mark."""
    if value is None or isinstance(value, str):
        return value
    return {True: "yes", False: "no"}[value] if isinstance(value, bool) else str(value)


def _guessed(
    need: Need, environment: str, supplies: Supplies, offers: tuple[str, ...], there: tuple[str, Json]
) -> Mapped:
    source, cell = there
    if need.kind == "setting" and cell is not None and not (isinstance(cell, str) and cell.startswith(OPEN)):
        # Most settings are the same everywhere; that somebody has to accept it is why it may be offered.
        return Mapped(need, environment, MapState.GUESSED, cell, None, f"as in {source}", offers)
    name = row_name(need.key)
    mine = supplies.of(need.kind)
    typed = [supply for supply in mine if need.type and supply.type == need.type]
    # Two addresses that look alike are two machines.
    near = _near(name, [supply.name for supply in (typed or mine) if not supply.is_unnamed]) if mine else None
    same = [supply for supply in (typed or mine) if supply.name == name] or supplies.meant(need.kind, name)
    alike = [supply for supply in mine if need.kind == "person" and supply.name.partition("@")[0] == name]
    # The surest first; and even that stays a guess that somebody has to accept, since equal names in two environments
    # prove nothing.
    if len(same) == 1:
        value, reason = supplies.called(same[0]), "same name"
    # Any of them would be a coin tossed.
    elif same:
        return Mapped(
            need, environment, MapState.OPEN, None, None, lacking(need.kind, name, environment, same), offers
        )
    # The domain is what differs between environments; the name before it usually doesn't.
    elif len(alike) == 1:
        value, reason = supplies.called(alike[0]), "same name before the @"
    elif len(typed) == 1:
        value, reason = supplies.called(typed[0]), f"the only {need.type} there"
    elif near:
        value, reason = near, f"a name like it{f', and {need.type} too' if typed else ''}"
    else:
        return Mapped(need, environment, MapState.OPEN, None, None, "", offers)
    return Mapped(need, environment, MapState.GUESSED, value, None, reason, offers)


def _near(name: str, names: Sequence[str]) -> str | None:
    """The one name that is most like this; None where none is, or several are alike."""
    from rapidfuzz import fuzz, process, utils

    found = process.extract(name, names, scorer=fuzz.ratio, processor=utils.default_process, limit=2)
    # Two that are equally like it: offering either would be a coin tossed.
    if not found or found[0][1] < NEAR_ENOUGH or (len(found) > 1 and found[1][1] == found[0][1]):
        return None
    return str(found[0][0])
