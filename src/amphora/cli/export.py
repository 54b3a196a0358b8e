"""export."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Annotated

import typer

from amphora.cli.work import (
    DebugFlag,
    FolderOption,
    JsonFlag,
    ProgressOption,
    working,
)


def export(
    environment: Annotated[
        str, typer.Argument(metavar="ENVIRONMENT|SELECTION", help="Where to take them from; or a saved selection.")
    ],
    items: Annotated[list[str] | None, typer.Argument(help="Key, pattern, title, native id or link.")] = None,
    name: Annotated[str | None, typer.Option("--as", metavar="NAME", help="What to call the package.")] = None,
    leave_out: Annotated[
        list[str] | None,
        typer.Option("--leave-out", metavar="ITEM", help="Stays at home; the target has to have it."),
    ] = None,
    take: Annotated[str, typer.Option(help="live (as it is) or draft, for items with unpublished edits.")] = "live",
    version: Annotated[str | None, typer.Option(help="A SemVer version of your own.")] = None,
    out: Annotated[Path | None, typer.Option("--out", metavar="FILE", help="Write it there.")] = None,
    note: Annotated[str, typer.Option(help="A line for those who receive it.")] = "",
    note_for: Annotated[
        list[str] | None,
        typer.Option(
            "--note-for", metavar="ITEM=TEXT", help="A line on one item, shown where an import pauses for it."
        ),
    ] = None,
    afterwards: Annotated[
        list[str] | None,
        typer.Option(metavar="TEXT", help="What to do after each import; it stays open until somebody has done it."),
    ] = None,
    with_: Annotated[
        list[str] | None,
        typer.Option("--with", metavar="WHAT", help="access: the access rules of apps; records: the rows of tables."),
    ] = None,
    without: Annotated[
        list[str] | None,
        typer.Option("--without", metavar="WHAT", help="attachments: they stay behind, the target keeps its own."),
    ] = None,
    preview: Annotated[bool, typer.Option("--preview", help="Only show what would go in, and why.")] = False,
    progress: ProgressOption = "",
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Make a package of items and all that they use.

    \b
    Examples:
      amphora export grove-dev "Harvest Intake" --as olive-intake
      amphora export grove-dev "flow:mill/*" "Press Board" --as press-hall --take draft
      amphora export grove-dev "Harvest Intake" --as olive-intake --leave-out "Olive varieties"
      amphora export grove-dev "Press Board" --as press-hall --with access --preview
      amphora export grove-dev "Lab exchange" --as lab --note-for "Lab exchange=Ask Petra for an account"
      amphora export grove-dev "Harvest Intake" --as olive-intake --afterwards "Tell the gate crew"
      amphora export olive-intake
    """
    from amphora.cli.typed import retyped
    from amphora.engine.selections import Wish, export_wish
    from amphora.render.export import export_result

    with working(json, workspace, progress) as work:
        wish = Wish(environment, tuple(items or ()), name, tuple(leave_out or ()), take, tuple(with_ or ()))
        said = tuple(text.strip() for text in afterwards or () if text.strip())
        wish = replace(wish, without=tuple(without or ()), afterwards=said)
        report = export_wish(
            work.session,
            wish,
            version=version,
            out=out,
            note=note,
            preview=preview,
            notes=_pairs(note_for or []),
        )
        report = replace(report, said=retyped("name", "leave_out", "take", "with_", "without"))
        environment = report.contents.source
        work.show(export_result(report, work.session.likely_target(environment)))


def _pairs(texts: list[str]) -> tuple[tuple[str, str], ...]:
    from amphora.core.values.once import said_once
    from amphora.core.values.pairs import pair_of

    example = '--note-for "Lab exchange=Ask Petra for an account"'
    pairs = [pair_of(text, "ITEM=TEXT", example, is_whole=True) for text in texts]
    said_once(pairs, "notes")
    return tuple(pairs)
