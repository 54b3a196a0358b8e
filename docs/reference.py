"""Writes docs/commands.md from the commands themselves, and docs/rules.md from the rules."""

from __future__ import annotations

from pathlib import Path

import click
import typer

from amphora.cli.main import app
from amphora.core.checks import RULES

HEADER = "# Commands\n\nMade from the commands by `python docs/reference.py`; a test fails when it is stale.\n"


def reference() -> str:
    """The whole page."""
    return HEADER + "".join(_sections(typer.main.get_command(app), "amphora"))


def _sections(command: click.Command, path: str) -> list[str]:
    if isinstance(command, click.Group):
        return [part for name, inner in command.commands.items() for part in _sections(inner, f"{path} {name}")]
    context = click.Context(command, info_name=path, terminal_width=100, max_content_width=100)
    return [f"\n## {path}\n\n```\n{command.get_help(context).strip()}\n```\n"]


RULES_HEADER = """# The rules of `amphora check`

Made from the rules by `python docs/reference.py`; a test fails when it is stale. A rule can be set to another level
in `amphora.toml`, and a finding silenced with a reason:

```toml
[rules]
address-in-text = "note"

[[silenced]]
rule = "secret-in-clear"
item = "theme:house/olive"        # empty: at every item
place = "/api_key"                # empty: everywhere in it
reason = "a key of the public test account"
```
"""


def rules_page() -> str:
    """The page on the rules."""
    parts, family = [RULES_HEADER], ""
    for rule in RULES.values():
        if rule.family != family:
            family = rule.family
            parts.append(f"\n## {family.capitalize()}\n")
        parts.append(f"\n### {rule.name}\n\n{rule.finds} {rule.why}\n\nCounts as {rule.level}; to do: {rule.todo}.\n")
    return "".join(parts)


if __name__ == "__main__":
    (Path(__file__).parent / "rules.md").write_text(rules_page(), encoding="utf-8")
    (Path(__file__).parent / "commands.md").write_text(reference(), encoding="utf-8")
