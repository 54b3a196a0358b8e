"""Stories: whole rows of commands, and all that they say and leave, word for word as it was read and found right.

A story is a file: `$` before each command of ours that is asked for a document, `>` before one that is asked as people do,
`%` before one of the shell (where `swap` changes a text in a file, `sql` speaks to one, and `lacks` is grep that has to find nothing), and below it what came of it. `#` begins a chapter, in a workspace of its own: what it is
there to show. `make stories` writes the files anew; what has changed in them is read before it is kept.
"""

from __future__ import annotations

import hashlib
import json
import os
import re
import shlex
import sqlite3
import subprocess
from collections.abc import Iterable, Iterator
from contextlib import closing
from datetime import UTC, datetime
from importlib.resources import files
from pathlib import Path
from textwrap import indent

import pytest

from amphora.cli.chapters import CHAPTERS
from tests.conftest import run_program, workspace_of
from tests.told import STORIES, compared, folded

SHELL = """set -e
swap() { python3 -c 'import sys, pathlib as p; f = p.Path(sys.argv[1]); t = f.read_text(); assert sys.argv[2] in t, sys.argv
f.write_text(t.replace(sys.argv[2], sys.argv[3], 1))' "$@"; }
sql() { python3 -c 'import sqlite3, sys; d = sqlite3.connect(sys.argv[1]); s = sys.argv[2]
print(d.execute(s).fetchall()) if s.startswith("select") else d.executescript(s)' "$@"; }
lacks() { if grep "$@"; then return 1; fi; }
"""
SHEETS = str(files("amphora.practice") / "kinds")


def states(folder: Path) -> Iterator[str]:
    """What the practice environments of a folder hold, a line an item."""
    query = "select kind, folder, name, title, is_on, live, draft, row_count from items order by kind, folder, name"
    for path in sorted(folder.glob("*.practice")):
        with closing(sqlite3.connect(path)) as db:
            for *told, live, draft, rows in db.execute(query):
                marks = [text and hashlib.sha256(text.encode()).hexdigest()[:8] for text in (live, draft)]
                yield " ".join(map(str, (path.stem, *told, *marks, rows)))


def told(folder: Path, commands: Iterable[str]) -> str:
    """The commands, each with what it came to: code, the document, what stands on stderr; and at the end what is new
    or another in the environments."""
    start = f"{datetime.now(UTC):%Y-%m-%dT%H:%M:%SZ}"
    lines: list[str] = []
    before: set[str] = set()
    for command in commands:
        lines += ["", command]
        if command.startswith("%"):
            words = ["bash", "-c", SHELL + command[1:]]
            subprocess.run(words, cwd=folder, check=True, env=os.environ | {"SHEETS": SHEETS})
            continue
        words = shlex.split(command[1:])
        variables = {"XDG_CONFIG_HOME": "desk"} | dict(word.split("=", 1) for word in words[: words.index("amphora")])
        # A person's own folder lies in that of the story.
        variables = {name: str(folder / text) if name.startswith("XDG") else text for name, text in variables.items()}
        is_asked = command.startswith("$")
        ours = words[words.index("amphora") + 1 :]
        done = run_program(folder, *ours, *(["--json"] if is_asked else []), **variables)
        # What a slow machine says beside is no part of the story.
        quiet = "\n".join(line for line in done.err.splitlines() if not line.startswith("… "))
        out, err = (_timeless(text.replace(str(folder), "FOLDER"), start) for text in (done.out, quiet))
        # Nothing that only a terminal would make something of, and no blanks that nobody sees.
        assert not re.search(r"\x1b|[ \t]$", done.out, re.M), done.out
        # Apart from commands, which begin a line.
        shown = (folded(json.loads(out)) if is_asked else indent(out.rstrip(), "  ")) if out else ""
        lines += [f"{done.code}", shown, indent(err.rstrip(), "    ")]
        now = set(states(folder))
        if before:
            lines += [f"- {line}" for line in sorted(before - now)] + [f"+ {line}" for line in sorted(now - before)]
        before = now
    return "\n".join(filter(None, lines)) + "\n"


def _timeless(text: str, start: str) -> str:
    # Loaded by the tests it is called otherwise; and whose ledger it was is told by a number that nobody chose.
    text = text.replace("python -m tests.amphora", "amphora")
    # What somebody edited is told in the package with its time; what it holds is pinned by the digest of that.
    text = re.sub(r'"package_digest": "[0-9a-f]{64}"', '"package_digest": "…"', text)
    text = re.sub(r"\([\w-]{43}\)", "(KEY)", text)
    text = re.sub("amphora-proof-[0-9a-f]{6}", "amphora-proof", text)
    text = re.sub(r"another ledger \([0-9a-f]{8}\)", "another ledger", text)
    # As people read it: of the same width, for it stands in columns.
    text = re.sub(
        r"\d{4}-\d\d-\d\d \d\d:\d\d",
        lambda at: "NOW" + " " * 13 if at[0] >= start[:16].replace("T", " ") else at[0],
        text,
    )
    return re.sub(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ", lambda at: "NOW" if at[0] >= start else at[0], text)


def test_the_demo(tmp_path: Path) -> None:
    scenes = [scene for chapter in CHAPTERS for scene in chapter.scenes]
    given = [(" ".join(f"{name}={value}" for name, value in scene.env.items()), scene.command) for scene in scenes]
    compared("demo.txt", told(tmp_path, [f"$ {env} amphora {command}".replace("  ", " ") for env, command in given]))


@pytest.mark.parametrize("name", sorted(path.name for path in STORIES.glob("*.txt") if path.name != "demo.txt"))
def test_a_story(halcyon_files: Path, tmp_path: Path, name: str) -> None:
    chapters: dict[str, list[str]] = {}
    for line in (STORIES / name).read_text(encoding="utf-8").splitlines():
        if line.startswith("# ") or not chapters:
            chapters[line if line.startswith("# ") else ""] = []
        if line.startswith(("$ ", "> ", "% ")):
            list(chapters.values())[-1].append(line)
    found = []
    for number, (heading, commands) in enumerate(chapters.items()):
        (tmp_path / str(number)).mkdir()
        found.append(
            f"{heading}\n" * bool(heading) + told(workspace_of(halcyon_files, tmp_path / str(number)), commands)
        )
    compared(name, "\n".join(found))
