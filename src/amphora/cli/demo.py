"""The guided example, played: its commands are run as processes."""

from __future__ import annotations

import os
import shlex
import subprocess
import sys
import tempfile
from collections.abc import Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import Any

from amphora.cli.chapters import CHAPTERS, Chapter, Scene
from amphora.core.values.errors import UsageFault
from amphora.core.values.next_step import advice, blank, to_type
from amphora.render.json_text import result_json
from amphora.render.result import Result


def chapters_of(names: Sequence[str]) -> list[tuple[Chapter, bool]]:
    """The chapters to play, each with whether it is shown: those that are asked for (all, if none is), and before
    them, unseen, those that they need. UsageFault for one that there is not."""
    known = {chapter.name: chapter for chapter in CHAPTERS}
    if unknown := [name for name in names if name not in known]:
        raise UsageFault(
            f"There is no chapter {unknown[0]!r}.",
            subject=unknown[0],
            details=[f"{chapter.name}: {chapter.heading}" for chapter in CHAPTERS],
            next_step=to_type("demo", CHAPTERS[0].name),
        )
    asked = set(names) or set(known)
    needed = {other for name in asked for other in known[name].needs}
    return [(chapter, chapter.name in asked) for chapter in CHAPTERS if chapter.name in asked | needed]


def play(keep: Path | None, is_json: bool = False, names: Sequence[str] = ()) -> int:
    """Plays the story, or some chapters of it, in a temporary folder or in `keep`; returns 0 if every command ended
    as told. For machines it tells each command with its code and output at the end."""
    chapters = chapters_of(names)
    played: list[dict[str, Any]] = []
    with ExitStack() as stack:
        if keep is None:
            folder = Path(stack.enter_context(tempfile.TemporaryDirectory(prefix="halcyon-")))
        else:
            folder = keep
            if folder.exists() and any(folder.iterdir()):
                raise UsageFault(
                    f"{folder} is not empty.", subject=str(folder), next_step=advice("Choose a new folder.")
                )
            folder.mkdir(parents=True, exist_ok=True)
        for chapter, is_shown in chapters:
            if is_shown and not is_json:
                print(f"\n== {chapter.heading} ({chapter.name}) ==")
            elif not is_json:
                print(f"(first, unseen: {chapter.heading.lower()})", flush=True)
            for scene in chapter.scenes:
                code, output = _play_scene(scene, folder, is_json or not is_shown)
                if is_shown:
                    played.append({"chapter": chapter.name, "command": scene.shown, "code": code, "output": output})
                if code not in scene.codes:
                    print(f"\nThe demo stopped: {scene.shown!r} ended with code {code}.\n{output}", file=sys.stderr)
                    return 1
    if is_json:
        verdict = f"The demo is over: {len(played)} commands, all real."
        print(
            result_json(
                Result("demo", verdict, data={"played": played}, next_step=to_type("demo", "--keep", blank("FOLDER")))
            )
        )
        return 0
    print(f"\nThe demo is over: {len(played)} commands, all real.", end=" ")
    print(
        f"Go on in {keep}: cd {keep} && amphora overview"
        if keep
        else "Keep it next time with: amphora demo --keep FOLDER"
    )
    return 0


def _play_scene(scene: Scene, folder: Path, is_quiet: bool) -> tuple[int, str]:
    if not is_quiet:
        print(f"\n# {scene.words}\n" if scene.words else "", end="")
        print(f"$ {scene.shown}", flush=True)
    words = [sys.executable, "-m", "amphora", *shlex.split(scene.command)]
    output = subprocess.PIPE if is_quiet else None
    given = {
        name: str(folder.resolve() / value) if name.startswith("XDG") else value for name, value in scene.env.items()
    }
    done = subprocess.run(
        words,
        cwd=folder,
        env={**os.environ, **given},
        stdout=output,
        stdin=subprocess.DEVNULL,
        stderr=subprocess.STDOUT,
        text=True,
        check=False,
    )
    return done.returncode, done.stdout or ""
