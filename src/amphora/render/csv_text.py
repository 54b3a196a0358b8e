"""Tables as CSV (RFC 4180), safe to open in a spreadsheet."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence

from amphora.core.values.visible import for_spreadsheet, visible


def csv_text(heads: Sequence[str], rows: Iterable[Sequence[object]]) -> str:
    """A table with its headings. Texts are shown and never run: control characters as they are written, formulas
    behind an apostrophe; None is an empty cell."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(heads)
    writer.writerows([_cell(value) for value in row] for row in rows)
    return out.getvalue()


def _cell(value: object) -> object:
    if isinstance(value, str):
        return for_spreadsheet(visible(value))
    return "" if value is None else value
