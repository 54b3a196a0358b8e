"""`amphora`: the commands put together."""

from __future__ import annotations

import sys

import typer

from amphora.cli import environments, importing, looking, packing, playing, records
from amphora.cli.boundary import guarded

app = typer.Typer(
    name="amphora",
    help="Moves apps, flows, reports and integrations between environments, and finishes the job.\n\n"
    "The way: survey, export, check, map, compare, import, verify, history.\n\n"
    "Try it on made-up data:  amphora demo",
    no_args_is_help=True,
    add_completion=False,
    rich_markup_mode=None,
    context_settings={"show_default": False},
    pretty_exceptions_enable=False,
)
app.command("demo")(playing.demo)
app.command("init")(environments.init)
app.add_typer(environments.app, name="env")
app.command("survey")(looking.survey)
app.command("export")(packing.export)
app.command("peek")(looking.peek)
app.command("check")(packing.check)
app.command("map")(packing.map_)
app.command("compare")(importing.compare)
app.command("import")(importing.import_)
app.command("verify")(records.verify)
app.command("history")(records.history)
app.add_typer(playing.app, name="practice")


def run() -> None:
    """The console script."""
    sys.exit(guarded(lambda: app(standalone_mode=False)))
