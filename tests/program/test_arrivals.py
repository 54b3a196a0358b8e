"""Items that arrive under another title, in another folder, or not at all: as said, remembered for the next version, and
never taken for somebody's change."""

from __future__ import annotations

from pathlib import Path

from amphora.core.plan.arrivals import Arrival, arranged, joined, moved_folders
from amphora.core.values.model import Contents, Item, States
from tests.program.test_pauses import everything


def placed(halcyon: Path) -> dict[str, tuple[str, str]]:
    return {row[2]: (row[3], row[1]) for row in everything(halcyon)}


def test_folders_are_moved_with_all_below_them() -> None:
    folders = ("mill", "mill/quality", "millers", "")
    items = {f"flow:{n}": Item(f"flow:{n}", 1, {}, States(f"F{n}", folder)) for n, folder in enumerate(folders)}
    contents = Contents("p", "1.0.0", "dev", "d", items, ())

    def moved(*moves: tuple[str, str]) -> list[str]:
        arrivals = moved_folders(contents, moves)
        return [item.states.folder for item in arranged(contents, arrivals).items.values()]

    assert moved(("mill", "north/mill")) == ["north/mill", "north/mill/quality", "millers", ""]
    assert moved(("mill/quality", "q"), ("mill", "m")) == ["m", "q", "millers", ""]
    assert moved(("", "north")) == ["north/mill", "north/mill/quality", "north/millers", "north"]
    assert arranged(contents, {}) is contents
    assert joined({"a": Arrival("x", "f")}, {"a": Arrival(title="")}) == {"a": Arrival(None, "f")}
    assert joined({"a": Arrival("x")}, {"a": Arrival(title="")}) == {}
    assert joined({"a": Arrival("x")}, {}) == {"a": Arrival("x")}
