"""The two figures of a run's report: its legs over time, and what changed by kind. As SVG, for a page of its own."""

from __future__ import annotations

import io
from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from amphora.core.values.keys import kind_of
from amphora.core.values.visible import visible
from amphora.engine.record import Record
from amphora.render.figures import STYLE

if TYPE_CHECKING:
    from matplotlib.figure import Figure

INK, SOFT = "#23281d", "#6b705c"
_COLOURS = {"create": "#4a7c3a", "update": "#c7922b", "leave": "#d9d6c6", "retire": "#a2462f"}
_WORDS = {"create": "created", "update": "updated", "leave": "the same", "retire": "retired"}
# By pattern too: printed in grey, three of the colours look alike.
_HATCHES = {"create": "", "update": "///", "leave": "", "retire": "xx"}


def legs_figure(record: Record) -> str:
    """Legs, pauses, aftercare and verifications of a run, along one line of time."""
    from matplotlib import rc_context
    from matplotlib.figure import Figure

    spans = [(f"leg {leg.number}", leg.began, leg.ended or leg.began, leg.account) for leg in record.legs]
    marks = [(entry.at, f"aftercare {entry.number}") for entry in record.care if entry.at]
    marks += [(one.at, "verified") for one in record.proofs]
    first = min((_time(began) for _, began, _, _ in spans), default=_time(record.run.started_at))
    ends = [_time(ended) for _, _, ended, _ in spans] + [_time(at) for at, _ in marks]
    span, unit, seconds = _scale(max((max(ends, default=first) - first).total_seconds(), 1.0))
    with rc_context(STYLE):
        figure = Figure(figsize=(9.0, 0.9 + 0.42 * (len(spans) + (1 if marks else 0))), layout="constrained")
        axes = figure.add_subplot()
        for row, (_, began, ended, who) in enumerate(spans):
            start, end = ((_time(at) - first).total_seconds() / seconds for at in (began, ended))
            axes.barh(row, max(end - start, span / 150), left=start, height=0.5, color=_COLOURS["create"])
            axes.annotate(
                f" {visible(who)}", (max(end, start + span / 150), row), va="center", color=SOFT, fontsize=8
            )
        names = [name for name, *_ in spans]
        if marks:
            xs = [(_time(at) - first).total_seconds() / seconds for at, _ in marks]
            axes.plot(xs, [len(spans)] * len(xs), "d", color=_COLOURS["retire"], markersize=6)
            names.append("looked at, cared for")
        axes.set_yticks(range(len(names)), names)
        axes.set_xlim(-span * 0.02, span * 1.3)
        axes.set_ylim(len(names) - 0.4, -0.6)
        axes.set_xlabel(f"{unit} since {record.run.started_at}", color=SOFT)
        _plain(axes)
        return _svg(figure)


def kinds_figure(record: Record) -> str:
    """How many items of each kind were created, updated, left and retired."""
    from matplotlib import rc_context
    from matplotlib.figure import Figure
    from matplotlib.ticker import MaxNLocator

    counts: dict[str, dict[str, int]] = {}
    for kind, do in [(kind_of(line.key), line.do) for line in record.lines] + [
        (kind_of(key), "retire") for key, fate, _, _ in record.gone if fate == "retire"
    ]:
        mine = counts.setdefault(kind, {})
        mine[do] = mine.get(do, 0) + 1
    kinds = sorted(counts, key=lambda kind: (-sum(counts[kind].values()), kind))
    with rc_context(STYLE):
        figure = Figure(figsize=(9.0, 1.1 + 0.32 * max(len(kinds), 1)), layout="constrained")
        axes = figure.add_subplot()
        left = [0] * len(kinds)
        for do, words in _WORDS.items():
            widths = [counts[kind].get(do, 0) for kind in kinds]
            if any(widths):
                axes.barh(
                    range(len(kinds)),
                    widths,
                    left=left,
                    height=0.6,
                    color=_COLOURS[do],
                    hatch=_HATCHES[do],
                    edgecolor="#fbfaf5",
                    label=words,
                )
            left = [a + b for a, b in zip(left, widths, strict=True)]
        for row, total in enumerate(left):
            axes.annotate(f" {total}", (total, row), va="center", color=SOFT, fontsize=8)
        axes.set_yticks(range(len(kinds)), kinds)
        axes.set_ylim(len(kinds) - 0.4, -0.6)
        axes.set_xlim(0, max(left, default=1) * 1.1 + 0.5)
        axes.xaxis.set_major_locator(MaxNLocator(integer=True))
        axes.set_xlabel("items", color=SOFT)
        if kinds:
            axes.legend(frameon=False, ncols=4, loc="lower right", bbox_to_anchor=(1.0, 1.0), borderaxespad=0.1)
        _plain(axes)
        return _svg(figure)


def _scale(seconds: float) -> tuple[float, str, float]:
    """A length of time in a unit that suits it: how many, which, and its seconds."""
    units: Sequence[tuple[str, float]] = (("seconds", 1), ("minutes", 60), ("hours", 3600), ("days", 86400))
    name, length = next((u for u in reversed(units) if seconds >= 2 * u[1]), units[0])
    return seconds / length, name, length


def _time(text: str) -> datetime:
    return datetime.fromisoformat(text)


def _plain(axes: object) -> None:
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)  # type: ignore[attr-defined]
    axes.spines["bottom"].set_color("#c9c5b2")  # type: ignore[attr-defined]
    axes.tick_params(colors=INK, length=0)  # type: ignore[attr-defined]


def _svg(figure: Figure) -> str:
    out = io.StringIO()
    figure.savefig(out, format="svg", metadata={"Date": None}, transparent=True)
    text = out.getvalue()
    # Inside a page the declaration and document type of a file of its own are out of place.
    return text[text.index("<svg") :]
