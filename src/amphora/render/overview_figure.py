"""The overview as a figure: a field for each package in each environment."""

from __future__ import annotations

from pathlib import Path

from amphora.engine.overview import Overview
from amphora.render.figures import STYLE, figure_file
from amphora.render.overview import SOURCE, marks_of

_FIELDS = {"newest": "#dbe7cf", "older": "#efe9d2", "trouble": "#f0c9a4", "open": "#e6a995"}
_LEGEND = {
    "newest": "the newest version",
    "older": "an older version",
    "trouble": "something to look at",
    "open": "a run is not finished",
}


def draw_overview(found: Overview, path: Path) -> None:
    """Writes the figure as SVG or PNG, as the file name says; readable up to about 40 packages and 16
    environments."""
    figure_file(path)
    from matplotlib import rc_context
    from matplotlib.figure import Figure
    from matplotlib.patches import Patch, Rectangle

    wide, high = len(found.environments), len(found.packages)
    with rc_context(STYLE):
        figure = Figure(figsize=(max(6.0, 2.4 + 1.25 * wide), max(2.6, 1.5 + 0.36 * high)), layout="constrained")
        axes = figure.add_subplot()
        for row, package in enumerate(found.packages):
            for column, name in enumerate(found.environments):
                cell = found.cells.get((package, name))
                if cell is None:
                    words = SOURCE if (package, name) in found.sources else ""
                    axes.text(column, row, words, ha="center", va="center", color="#9a9a8c", fontsize=7.5)
                    continue
                field = "open" if cell.runs else "trouble" if cell.troubles else "older" if cell.behind else "newest"
                axes.add_patch(Rectangle((column - 0.47, row - 0.42), 0.94, 0.84, color=_FIELDS[field], lw=0))
                marks = marks_of(cell)
                words = ", ".join(marks[:2]) + (" …" if len(marks) > 2 else "")
                above = 0.16 if marks else 0.0
                axes.text(column, row - above, cell.version, ha="center", va="center", fontsize=8.5, color="#23281d")
                axes.text(column, row + 0.2, words, ha="center", va="center", fontsize=6, color="#4d5145")
        axes.set_xlim(-0.55, wide - 0.45)
        axes.set_ylim(high - 0.45, -0.55)
        axes.set_xticks(
            range(wide), found.environments, rotation=30 if wide > 6 else 0, ha="left" if wide > 6 else "center"
        )
        axes.set_yticks(range(high), [f"{package}  {found.latest[package]}" for package in found.packages])
        axes.xaxis.tick_top()
        axes.tick_params(length=0)
        for spine in axes.spines.values():
            spine.set_visible(False)
        shown = [Patch(color=_FIELDS[field], label=words) for field, words in _LEGEND.items()]
        figure.legend(handles=shown, loc="outside lower center", ncols=4, frameon=False, fontsize=8)
        path.parent.mkdir(parents=True, exist_ok=True)
        # Without the date: the same overview gives the same bytes.
        figure.savefig(path, dpi=130, metadata={"Date": None} if path.suffix.lower() == ".svg" else {})
