"""Writes docs/commands.md from the commands themselves, docs/rules.md from the rules, docs/secrets.md from the detector's."""

from __future__ import annotations

from pathlib import Path

import click
import typer

from amphora.cli.main import app
from amphora.core.checks import RULES
from amphora.core.form.shapes import SHAPES

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
value = "sha256:…"                # for what looks like a secret: this very value, as the finding names it
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


SECRETS_HEADER = """# What is taken for a secret

Made from the detector's own table by `python docs/reference.py`; a test fails when it is stale.

A secret never travels, is never stored and never shown: not in a package, docket, page, message or ledger. What a kind sheet
declares as `secret` is masked at the first touch. This page is about the others: what somebody typed where no sheet
knows of it.

Everything that would travel is searched: every text of a definition, also one that holds references; numbers; names of members;
layout, title, folders, key and link; attachments that are text; rows, when they travel; the note of a package; settings. Where
something is found, `export` refuses (exit 3), and so does an import that would write it or keep it for an undo. What only shows
a definition (compare, edits, verify, dockets, pages) shows `‹hidden 1a2b3c›` in its place: two hidden values
that differ have different marks, and a mark tells nothing about the value.

## By its place

A value is a secret if the last word of its name says so: password, passphrase, passcode, secret, token, credentials, pin (with
digits), otp, psk, `…key` behind api, access, private, secret, encryption, signing, shared, master, account, license and the like;
in camelCase, kebab-case, snake_case, plural, with a number or `value` behind it. Under auth, authorization, cookie, signature and
pass it has to look like more than a word. In `{"name": "password", "value": …}` the name beside it counts; in a list that
of the list.

No secrets are: what is read from somewhere (`${X}`, `process.env.X`, `{{x}}`, `env:X`, `msg.token`), masks, hints
("required", "your-key-here", "Enter your password"), words of a form, and whatever is shorter than three letters.

## By its shape, whatever the name

| what | found | not found |
|---|---|---|
"""

SECRETS_FOOTER = """
## By how random it is

A word of 24 letters and more that mixes capitals, small letters and digits throughout, with at least four bits a letter, is worth a
look: `check` says so (`random-looking`, a warning). It stops nothing by itself.

## What is not found

A password in a sentence without a word for it ("use heron7 for the door"); one that is a plain word under a name that says
nothing; a secret that is packed, encrypted or split; anything inside pictures, archives and documents; attachments of more
than 4 MiB. Over a corpus of our own (`tests/files/secrets.toml`) `make attack` prints how many are found, and how many harmless
ones are taken for secrets.

## If it is none

Say so in `amphora.toml`, with the reason. The value is silenced, not the place: another one there is found again.

```toml
[[silenced]]
rule = "secret-in-clear"
item = "theme:house/olive"
place = "/api_key"
value = "sha256:59beb44a681d51ab6fd1f30816afe934"   # as the finding names it
reason = "a key of the public test account"
```
"""


def secrets_page() -> str:
    """The page on what is taken for a secret."""
    rows = []
    for shape in SHAPES:
        cells = (_cell(text) for text in (shape.examples[0], shape.misses[0]))
        rows.append(f"| {shape.name} | {' | '.join(cells)} |\n")
    return SECRETS_HEADER + "".join(rows) + SECRETS_FOOTER


def _cell(text: str) -> str:
    line = " ".join(text.split()).replace("|", "¦")
    return f"`{line if len(line) <= 60 else line[:57] + '…'}`"


if __name__ == "__main__":
    (Path(__file__).parent / "secrets.md").write_text(secrets_page(), encoding="utf-8")
    (Path(__file__).parent / "rules.md").write_text(rules_page(), encoding="utf-8")
    (Path(__file__).parent / "commands.md").write_text(reference(), encoding="utf-8")
