"""carry."""

from __future__ import annotations

from typing import Annotated

import typer

from amphora.cli.work import DebugFlag, FolderOption, JsonFlag, working
from amphora.core.values.next_step import to_type


def carry(
    what: Annotated[
        list[str], typer.Argument(metavar="ITEM... FROM [TO] | SELECTION [TO]", help="What goes from where to where.")
    ],
    name: Annotated[str, typer.Option("--as", metavar="NAME", help="What to call the package.")] = "",
    edits: Annotated[
        str, typer.Option(metavar="HOW", help="What becomes of local edits there: keep, replace or carry-back.")
    ] = "",
    accept: Annotated[bool, typer.Option("--accept", help="Take what the crosswalk guesses.")] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask before the import.")] = False,
    why: Annotated[str, typer.Option(metavar="TEXT", help="The reason, kept with the run.")] = "",
    dry: Annotated[bool, typer.Option("--dry", help="Only print the commands.")] = False,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """The guided way: all of it in one go.

    Export, check, map, compare, import, aftercare, verify.
    Prints each command that it runs, and leaves the files that these leave. Run again, it goes on where it stopped.

    \b
    Examples:
      amphora carry "Harvest Intake" grove-dev grove-test
      amphora carry olive-intake
      amphora carry olive-intake grove-live --edits keep --accept --yes
      amphora carry "Press Board" grove-dev grove-test --dry
    """
    from amphora.cli.guide import EDITS, Guide
    from amphora.cli.typed import retyped
    from amphora.core.values.errors import UsageFault
    from amphora.engine.journey import journey_of

    with working(json, workspace) as work:
        if edits and edits not in EDITS:
            raise UsageFault(f"--edits is {', '.join(EDITS)}, not {edits!r}.", next_step=to_type("carry", "--help"))
        journey = journey_of(work.session, what, name)
        guide = Guide(work, journey, edits, yes, why, accept, retyped("name"))
        if dry:
            guide.print_only()
        else:
            guide.go()
