"""Slips in a bridge sheet that no answer contradicts: places at which nothing ever stands, and members that the sheet
is silent about. Both lose something without a word."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from amphora.core.form.places import OF, parse_path, values_at
from amphora.core.values.model import Json
from amphora.environments.bridge.parts import ItemPart
from amphora.environments.bridge.paths import moment_of
from amphora.environments.bridge.single import Single, row_in

BESIDE = ("uid", "folder", "changed_at", "changed_by")
"""What an item may lack, but hardly all of a kind."""


def slips_of(
    items: Mapping[str, ItemPart], singles: Iterable[Single]
) -> tuple[dict[str, list[str]], dict[str, list[str]]]:
    """By kind: the places of the sheet that are empty in all of these items, and the members of their answers that
    the sheet doesn't name."""
    by_kind: dict[str, list[Single]] = {}
    for single in singles:
        by_kind.setdefault(single.row.kind, []).append(single)
    empty, unnamed = {}, {}
    for kind, some in by_kind.items():
        answers = [one.whole for one in some]
        empty[kind] = _empty(items[kind], answers) + _idle(items[kind], [one.newest for one in some])
        unnamed[kind] = _unnamed(items[kind], answers)
    return {k: some for k, some in empty.items() if some}, {k: some for k, some in unnamed.items() if some}


def _empty(part: ItemPart, answers: list[Json]) -> list[str]:
    held = part.within.member if part.within else ""
    places = {f"{path} (definition)": path for name, path in part.definition.items() if name != held}
    # Where a call of its own gives the row, these stand in that answer and not in the one that is looked at.
    beside = [name for name in BESIDE if name in part.paths] if part.row is None else []
    rows = [row_in(part, "", answer) for answer in answers]
    found = [told for told, path in places.items() if not any(values_at(answer, path) for answer in answers)]
    aside = {f"{part.paths[name]} ({name})": part.paths[name] for name in beside}
    found += [told for told, path in aside.items() if not any(values_at(row, path) for row in rows)]
    if "changed_at" in beside:
        path = part.paths["changed_at"]
        times = [value for row in rows for value in values_at(row, path) if value not in (None, "")]
        if times and not any(moment_of(value) for value in times):
            found.append(f"{path} (changed_at: {str(times[0])[:40]!r} is no time)")
    return found


def _idle(part: ItemPart, forms: list[Json]) -> list[str]:
    """The places of the kind sheet at which nothing stands: a secret that is misspelt is shown to everybody."""
    paths = [path for path in part.kind.places.paths if not any(values_at(form, path) for form in forms)]
    # Where the names of members are ids the object is an array of pairs by now.
    return [f"{path.removesuffix(f'[*].{OF}')} (kind sheet)" for path in dict.fromkeys(paths)]


def _unnamed(part: ItemPart, answers: list[Json]) -> list[str]:
    paths = [*part.definition.values()]
    if "row" in part.paths:
        paths.append(part.paths["row"])
    else:
        paths += [*part.paths.values(), *(flag.at for flag in part.flags.values())]
    named = ({part.within.member} if part.within else set()) | part.more.keys()
    # What is always sent is shown, too, and travels in the sheet.
    for said in (part.write, *(call.more for call in (part.create, part.update) if call)):
        named |= {name.partition(".")[0] for name in said.get("with", {})}
    for path in paths:
        # By its first name: what lies deeper stands in a member that somebody has looked at.
        steps = parse_path(path)[1] if path.startswith("$") else None
        if steps is None and path.startswith("$"):
            return []  # a search may mean anything
        named |= {steps[0]} if steps and steps[0] is not None else set()
    return sorted({name for answer in answers if isinstance(answer, dict) for name in answer} - named)
