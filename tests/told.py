"""What a command said, kept word for word in a file, and compared: `make stories` writes these files anew."""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Iterable
from difflib import unified_diff
from itertools import islice
from pathlib import Path

STORIES = Path(__file__).parent / "stories"
WIDTH = 240


def folded(value: object, indent: str = "") -> str:
    """JSON with short values in one line, so that a story can be read."""
    line = json.dumps(value, ensure_ascii=False)
    if len(indent) + len(line) <= WIDTH or not isinstance(value, dict | list) or not value:
        return line
    inner = f"{indent} "
    if isinstance(value, dict):
        rows = [f"{inner}{json.dumps(name)}: {folded(part, inner)}" for name, part in value.items()]
    else:
        rows = [f"{inner}{folded(part, inner)}" for part in value]
    start, end = "{}" if isinstance(value, dict) else "[]"
    return "\n".join([start, ",\n".join(rows), f"{indent}{end}"])


def compared(name: str, text: str) -> None:
    """The text is that of the file in the folder of stories."""
    path = STORIES / name
    if os.environ.get("AMPHORA_STORIES") == "renew":
        path.write_text(text, encoding="utf-8")
    found, kept = text.splitlines(), path.read_text(encoding="utf-8").splitlines()
    # What differs, and not the whole of two long texts.
    assert found == kept, "\n".join(islice(unified_diff(kept, found, name, "now", n=2, lineterm=""), 40))


def told_of_slips(name: str, sheet: str, tried: Callable[[str, str], Iterable[str]]) -> None:
    """A file of slips: each is what is written otherwise in a sheet (`~ OLD => NEW`), added to it (`+`), or to the one
    beside it (`&`); and below stands all that is told of it."""
    blocks = []
    for block in (STORIES / name).read_text(encoding="utf-8").split("\n\n"):
        slips, text, beside = [line for line in block.splitlines() if line[0] in "~+&"], sheet, ""
        for line in slips:
            old, _, new = line[2:].partition(" => ")
            assert line[0] != "~" or old in text, line
            text = text.replace(old, new, 1) if line[0] == "~" else text + f"{line[2:]}\n" * (line[0] == "+")
            beside += f"{line[2:]}\n" * (line[0] == "&")
        blocks.append("\n".join([*slips, *(f"    {told}" for told in tried(text, beside))]))
    compared(name, "\n\n".join(blocks) + "\n")
