"""Writes docs/commands.md from the commands themselves."""

from __future__ import annotations

from pathlib import Path

import click
import typer

from amphora.cli.main import app

HEADER = "# Commands\n\nMade from the commands by `python docs/reference.py`; a test fails when it is stale.\n"


def reference() -> str:
    """The whole page."""
    return HEADER + "".join(_sections(typer.main.get_command(app), "amphora"))


def _sections(command: click.Command, path: str) -> list[str]:
    if isinstance(command, click.Group):
        return [part for name, inner in command.commands.items() for part in _sections(inner, f"{path} {name}")]
    context = click.Context(command, info_name=path, terminal_width=100, max_content_width=100)
    return [f"\n## {path}\n\n```\n{command.get_help(context).strip()}\n```\n"]


if __name__ == "__main__":
    (Path(__file__).parent / "commands.md").write_text(reference(), encoding="utf-8")
