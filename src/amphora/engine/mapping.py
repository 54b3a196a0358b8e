"""Mapping: the crosswalk's rows for a package's needs, filled in and accepted."""

from __future__ import annotations

from collections.abc import Sequence

from amphora.core.crosswalk import OPEN, SECTIONS, Mapped, MapState, row_name
from amphora.core.errors import UsageFault
from amphora.core.model import Contents, Json
from amphora.engine.preparing import map_needs
from amphora.engine.session import Session
from amphora.files.crosswalk_file import Cell, read_crosswalk, write_cells


def map_package(
    session: Session, contents: Contents, environments: Sequence[str], values: Sequence[str], accept: bool
) -> tuple[dict[str, list[Mapped]], int]:
    """Writes given values, accepted guesses and open rows; returns the needs as they then stand, and how
    many cells were written. Values that people wrote are never replaced but by `values`."""
    if values and len(environments) > 1:
        raise UsageFault("--set maps for one target at a time.", next_step="Name one environment.")
    written = 0
    for name in environments:
        before = map_needs(session, contents, session.open(name))
        cells = [cell for one in before if (cell := _cell(one, accept))]
        given = [_given(text, before, contents.title) for text in values]
        written += len(write_cells(session.workspace.crosswalk, [*cells, *given]))
    session.crosswalk = read_crosswalk(session.workspace.crosswalk)
    return {name: map_needs(session, contents, session.open(name)) for name in environments}, written


def _cell(mapped: Mapped, accept: bool) -> Cell | None:
    """The cell that a need's state asks for: an accepted guess, a guess to be accepted, or an open one."""
    if mapped.state is MapState.MAPPED or mapped.need.kind == "secret":
        return None
    if mapped.state is MapState.OPEN and mapped.value is not None:
        return None
    if mapped.state is MapState.OPEN:
        value: Json = OPEN
    else:
        value = mapped.value if accept else f"{OPEN}{mapped.value}"
    return Cell(SECTIONS[mapped.need.kind], row_name(mapped.need.key), mapped.environment, value)


def _given(text: str, mapped: Sequence[Mapped], title: str) -> Cell:
    name, equals, value = text.partition("=")
    if not equals:
        raise UsageFault(f"{text!r} is not NAME=VALUE.", next_step="Write it like --set mill-db=mill-main")
    found = [one for one in mapped if name in (row_name(one.need.key), one.need.key)]
    if len(found) != 1:
        what = "can mean several needs" if found else "is no need"
        raise UsageFault(
            f"{name!r} {what} of {title}.",
            subject=name,
            details=[one.need.key for one in found or mapped],
            next_step="Name one of these.",
        )
    need = found[0].need
    typed = _typed(value, need.type) if need.kind == "setting" else value
    return Cell(SECTIONS[need.kind], row_name(need.key), found[0].environment, typed)


def _typed(value: str, type_: str) -> Json:
    """A setting's value in the type that it has in the source."""
    try:
        if type_ in ("int", "float"):
            return int(value) if value.lstrip("-").isdigit() else float(value)
    except ValueError as error:
        raise UsageFault(f"{value!r} is not a number.", next_step="Give a number for this setting.") from error
    return {"true": True, "false": False}.get(value, value) if type_ == "bool" else value
