"""Figures: the net of references around one item, drawn left to right."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from amphora.core.values.errors import UsageFault
from amphora.core.values.graph import in_order
from amphora.core.values.keys import Key, kind_of
from amphora.core.values.late import dataclass
from amphora.core.values.next_step import advice
from amphora.core.values.visible import visible
from amphora.engine.survey import Uses

if TYPE_CHECKING:
    from matplotlib.axes import Axes

STYLE: dict[Any, Any] = {
    # The same figure gives the same bytes: figures lie in version control.
    "svg.hashsalt": "amphora",
    "svg.fonttype": "none",
    "font.size": 9,
    # A title is a title: a dollar sign in it is no formula, and a broken one no fault.
    "text.parse_math": False,
}
"""How all figures are drawn."""

COLUMN = 1.25
MOST_ITEMS = 45
"""Beyond this, items of one kind in one column are drawn together."""

WIDE, HIGH = 0.44, 0.3
"""Half the width and height of a box, in columns and rows."""

Corners = Sequence[tuple[float, float]]
_CUT = 0.8
# Corners of each outline in a box from -1 to 1, and its colour. Kind sheets name an outline; a kind is told by
# its label too.
_SHAPES: Mapping[str, tuple[Corners, str]] = {
    "screen": (
        [(-1, -0.6), (-0.92, -1), (0.92, -1), (1, -0.6), (1, 0.6), (0.92, 1), (-0.92, 1), (-1, 0.6)],
        "#0072b2",
    ),
    "arrow": ([(-1, -1), (_CUT, -1), (1, 0), (_CUT, 1), (-1, 1)], "#d55e00"),
    "slant": ([(-0.88, -1), (1, -1), (0.88, 1), (-1, 1)], "#cc79a7"),
    "hexagon": ([(-_CUT, -1), (_CUT, -1), (1, 0), (_CUT, 1), (-_CUT, 1), (-1, 0)], "#009e73"),
    "grid": ([(-1, -1), (1, -1), (1, -0.78), (-1, -0.78), (1, -0.78), (1, 1), (-1, 1)], "#56b4e9"),
    "ribbon": ([(-0.9, -1), (1, -1), (1, 0.5), (0.9, 1), (-1, 1), (-1, -0.5)], "#b8a800"),
    "round": ([(-0.7, -1), (0.7, -1), (1, -0.3), (1, 0.3), (0.7, 1), (-0.7, 1), (-1, 0.3), (-1, -0.3)], "#999999"),
    "letter": ([(-1, -1), (0, -0.7), (1, -1), (1, 1), (-1, 1)], "#e69f00"),
    "shield": ([(-1, -1), (1, -1), (1, 0.6), (0, 1.1), (-1, 0.6)], "#555555"),
}
_OTHER: tuple[Corners, str] = ([(-1, -1), (1, -1), (1, 1), (-1, 1)], "#777777")


@dataclass(frozen=True)
class _Box:
    """One thing to draw: an item, or several of one kind. Column 0 is the item asked about."""

    name: str
    kind: str
    column: int
    keys: tuple[Key, ...]


def figure_file(path: Path) -> None:
    """UsageFault where a file's name does not say which sort of figure it is to be."""
    if path.suffix.lower() not in (".svg", ".png"):
        raise UsageFault(
            f"A figure is FILE.svg or FILE.png, not {path.name}.", next_step=advice("Choose one of these endings.")
        )


def draw_uses(net: Uses, depth: int | None, path: Path) -> None:
    """Writes the figure as SVG or PNG, as the file name says."""
    figure_file(path)
    from matplotlib import rc_context
    from matplotlib.figure import Figure

    boxes = _boxes(net, depth)
    columns = sorted({box.column for box in boxes})
    tallest = max(sum(box.column == column for box in boxes) for column in columns)
    with rc_context(STYLE):
        figure = Figure(figsize=(max(6.0, 1.75 * len(columns)), max(3.0, 0.8 * tallest + 0.6)), layout="constrained")
        axes = figure.add_subplot()
        _draw(axes, net, boxes, tallest)
        heading = f"{visible(net.titles[net.start])} in {net.environment}: what uses it, and what it uses"
        axes.set_title(heading, loc="left", fontsize=11, fontweight="bold")
        path.parent.mkdir(parents=True, exist_ok=True)
        # Without the date, for the same reason.
        metadata = {"Date": None} if path.suffix.lower() == ".svg" else {}
        figure.savefig(path, dpi=130, metadata=metadata)


def _boxes(net: Uses, depth: int | None) -> list[_Box]:
    ahead, back = net.reached(False, depth), net.reached(True, depth)
    columns = _columns(net.direct, set(ahead), net.start)
    for key, column in _columns(net.inverse(), set(back), net.start).items():
        columns.setdefault(key, -column)
    # Beyond that nobody finds anything: items of one kind in one column become one box.
    if len(columns) <= MOST_ITEMS:
        return [_Box(net.titles[key], kind_of(key), column, (key,)) for key, column in sorted(columns.items())]
    groups: dict[tuple[int, str], list[Key]] = {}
    for key, column in sorted(columns.items()):
        groups.setdefault((column, kind_of(key) if column else key), []).append(key)
    return [
        _Box(
            net.titles[keys[0]] if len(keys) == 1 else f"{len(keys)} together", kind_of(keys[0]), column, tuple(keys)
        )
        for (column, _), keys in groups.items()
    ]


def _columns(links: Mapping[Key, Mapping[Key, Sequence[str]]], keys: set[Key], start: Key) -> dict[Key, int]:
    """The longest way from the start, so that lines run one way; a cycle shares a column."""
    column = {start: 0}
    inside = {key: [other for other in links.get(key, {}) if other in keys] for key in keys}
    # Users before used: by the time an item comes, all that lead to it have said how far they are.
    for group in reversed(in_order(inside)):
        here = max(column.get(key, 0) for key in group)
        for key in group:
            column[key] = 0 if key == start else max(here, 1)
        for key in group:
            for other in inside[key]:
                if other not in group and other != start:
                    column[other] = max(column.get(other, 0), column[key] + 1)
    return column


def _draw(axes: Axes, net: Uses, boxes: Sequence[_Box], tallest: int) -> None:
    places = _placed(net, boxes, tallest)
    of_key = {key: box for box in boxes for key in box.keys}
    drawn = set()
    for user, used in net.direct.items():
        for key in used:
            pair = (of_key.get(user), of_key.get(key))
            if pair[0] is None or pair[1] is None or pair[0] is pair[1] or pair in drawn:
                continue
            # Between two boxes of several items one line says as much as ten.
            drawn.add(pair)
            _line(axes, places[pair[0].keys], places[pair[1].keys])
    for box in boxes:
        _box(axes, box, net.shapes.get(box.kind, ""), *places[box.keys])
    xs = [x for x, _ in places.values()]
    axes.set_xlim(min(xs) - 0.55, max(xs) + 0.55)
    axes.set_ylim(-1.6, tallest + 0.6)
    axes.invert_yaxis()
    axes.axis("off")


def _placed(net: Uses, boxes: Sequence[_Box], tallest: int) -> dict[tuple[Key, ...], tuple[float, float]]:
    """Columns in order; in each, boxes near the mean of what they are linked with on the side before."""
    places: dict[tuple[Key, ...], tuple[float, float]] = {}
    inverse = net.inverse()
    for column in sorted({box.column for box in boxes}, key=abs):
        mine = [box for box in boxes if box.column == column]

        def wish(box: _Box) -> float:
            linked = {other for key in box.keys for other in (*net.direct.get(key, {}), *inverse.get(key, {}))}
            heights = [y for keys, (_, y) in places.items() if linked & set(keys)]
            return sum(heights) / len(heights) if heights else 0.0

        # The mean of the neighbours' heights: the barycentre heuristic for layered drawings (Sugiyama, Tagawa, Toda,
        # 1981), one sweep, which is enough at this size.
        mine.sort(key=lambda box: (wish(box), box.kind, box.name))
        room = tallest / len(mine)
        for number, box in enumerate(mine):
            places[box.keys] = (column * COLUMN, room * (number + 0.5) - 0.5)
    return places


def _line(axes: Axes, start: tuple[float, float], end: tuple[float, float]) -> None:
    from matplotlib.patches import FancyArrowPatch

    span = round((end[0] - start[0]) / COLUMN)
    # Lines over several columns go around the boxes between; those that run back are bent most.
    bend = min(0.32, 0.11 * (span - 1)) if span > 0 else 0.5
    axes.add_patch(
        FancyArrowPatch(
            (start[0] + WIDE, start[1]),
            (end[0] - WIDE, end[1]),
            arrowstyle="-|>",
            mutation_scale=8,
            shrinkA=0,
            shrinkB=1,
            linewidth=0.8,
            color="#8a8a80",
            connectionstyle=f"arc3,rad={-bend if start[1] <= end[1] else bend}",
            zorder=1,
        )
    )


def _box(axes: Axes, box: _Box, shape: str, x: float, y: float) -> None:
    from matplotlib.patches import Polygon

    corners, colour = _SHAPES.get(shape, _OTHER)
    is_start = box.column == 0
    outline = [(x + WIDE * across, y + HIGH * down) for across, down in corners]
    axes.add_patch(
        Polygon(
            outline, closed=True, facecolor="#fdfcf6", edgecolor=colour, linewidth=2.6 if is_start else 1.5, zorder=2
        )
    )
    name = visible(box.name)
    name = name if len(name) <= 22 else name[:20] + "…"
    # By weight and width of the line, and not by colour: some can't tell them apart.
    weight = "bold" if is_start else "normal"
    axes.text(x, y - 0.06, name, ha="center", va="center", fontsize=7.5, fontweight=weight, zorder=3)
    axes.text(x, y + 0.16, box.kind, ha="center", va="center", fontsize=6.5, color="#5a5a52", zorder=3)
