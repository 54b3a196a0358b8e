"""The installed program: the demo, machine output, start-up, help."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import click
import pytest
import typer

from amphora.cli.chapters import CHAPTERS
from amphora.cli.main import app
from tests.conftest import SECRETS, Done, Program, run_program

HEAVY = ("httpx", "sqlite3", "matplotlib", "numpy", "rich", "ruamel.yaml", "orjson", "jsonpath_rfc9535")


@pytest.mark.xdist_group("demo")
def test_the_demo_plays_to_its_end_and_leaves_what_it_says(demo: tuple[Path, Done]) -> None:
    grove, done = demo
    assert done.code == 0, done.out + done.err
    assert f"The demo is over: {sum(len(chapter.scenes) for chapter in CHAPTERS)} commands, all real." in done.out
    assert "Not yet for grove-live: 1 item missing" in done.out
    assert "Nothing to do: grove-live already has olive-intake 1.1.0." in done.out
    assert not [piece for piece in SECRETS if piece in done.out + done.err]
    assert run_program(grove, "verify", "olive-intake", "grove-live").code == 0
    kept = [path for path in grove.rglob("*") if path.is_file() and path.suffix != ".practice"]
    assert not [path for path in kept for piece in SECRETS if piece.encode() in path.read_bytes()]
    assert run_program(grove.parent, "demo", "--keep", "grove").code == 2


def test_a_chapter_of_the_demo_is_played_by_programs_of_its_own(tmp_path: Path) -> None:
    words = [sys.executable, "-m", "amphora", "demo", "looking", "--json"]
    short = json.loads(subprocess.run(words, cwd=tmp_path, capture_output=True, check=True).stdout)
    assert [one["command"] for one in short["played"]] == [scene.shown for scene in CHAPTERS[0].scenes]


def test_help_loads_nothing_heavy() -> None:
    code = (
        "import sys; from amphora.cli.main import app\n"
        "try: app(['--help'])\n"
        "except SystemExit: pass\n"
        f"print([name for name in {HEAVY!r} if name in sys.modules])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "[]"


def commands(command: click.Command, path: str) -> list[tuple[str, click.Command]]:
    if isinstance(command, click.Group):
        return [pair for name, inner in command.commands.items() for pair in commands(inner, f"{path} {name}")]
    return [(path, command)]


@pytest.mark.parametrize(("path", "command"), commands(typer.main.get_command(app), "amphora"))
def test_every_help_has_an_example(path: str, command: click.Command) -> None:
    text = command.get_help(click.Context(command, info_name=path))
    assert f"\n  {path}" in text or f"\n    {path}" in text, text
    names = {option for parameter in command.params for option in parameter.opts}
    assert "--json" in names


def test_the_command_reference_is_current() -> None:
    from docs.reference import reference, rules_page, secrets_page

    assert (Path(__file__).parents[2] / "docs" / "commands.md").read_text(encoding="utf-8") == reference()
    assert (Path(__file__).parents[2] / "docs" / "rules.md").read_text(encoding="utf-8") == rules_page()
    assert (Path(__file__).parents[2] / "docs" / "secrets.md").read_text(encoding="utf-8") == secrets_page()


def test_what_whoever_writes_wants_to_keep_for_fewer_stays_so(amphora: Program, halcyon: Path) -> None:
    old = os.umask(0o377)
    try:
        assert amphora("export", "grove-dev", "Press lines", "--as", "lines", "--out", "lines.amphora").code == 0
    finally:
        os.umask(old)
    assert (halcyon / "lines.amphora").stat().st_mode & 0o777 == 0o400


def test_an_error_that_nobody_reads_keeps_its_code(halcyon: Path) -> None:
    words = [sys.executable, "-m", "amphora", "survey", "grove-dev", "Nothing like it", "--json"]
    reader, writer = os.pipe()
    os.close(reader)
    done = subprocess.run(words, cwd=halcyon, stdout=writer, stderr=subprocess.PIPE, text=True)
    os.close(writer)
    assert (done.returncode, "Traceback" in done.stderr) == (2, False), done.stderr
