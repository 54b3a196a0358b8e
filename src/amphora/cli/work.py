"""What every command shares: options, an open session, showing the result, telling the code."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from itertools import pairwise
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import click
import typer
from typer.core import TyperCommand, TyperGroup

from amphora.cli.progress import HOWS, Progress
from amphora.cli.streams import silence
from amphora.core.values.errors import AmphoraError
from amphora.core.values.once import said_once

if TYPE_CHECKING:
    from amphora.engine.session import Session
    from amphora.render.result import Result

COMPLETES = "_AMPHORA_COMPLETE"
"""Set by a shell that wants to complete a word."""

JsonFlag = Annotated[bool, typer.Option("--json", help="One JSON document on stdout instead of text.")]
FolderOption = Annotated[
    Path | None, typer.Option("--workspace", metavar="FOLDER", help="The workspace; else the nearest one above here.")
]
DebugFlag = Annotated[bool, typer.Option("--debug", help="Show a traceback when something goes wrong.", hidden=True)]

WithOption = Annotated[
    list[str] | None,
    typer.Option("--with", metavar="WHAT", help="records: load rows into tables that are new or empty there."),
]
WithoutOption = Annotated[
    list[str] | None,
    typer.Option("--without", metavar="WHAT", help="attachments: the target keeps its own; access: no rules."),
]
TitleOption = Annotated[
    list[str] | None, typer.Option("--title", metavar="ITEM=TITLE", help="Another title there, remembered.")
]
MoveOption = Annotated[
    list[str] | None, typer.Option("--folder", metavar="FROM=TO", help="Another folder there, remembered.")
]
CopyOption = Annotated[
    str,
    typer.Option(
        "--copy", metavar="NAME", help="As a copy of this name beside what is there; PACKAGE~NAME from then on."
    ),
]
SameOption = Annotated[
    list[str] | None,
    typer.Option("--same", metavar="ITEM", help="It is the one that stands in its place there, from now on."),
]
ReplaceOption = Annotated[
    list[str] | None,
    typer.Option("--replace", metavar="ITEM", help="The same, and what differs there is overwritten."),
]
LeaveOption = Annotated[
    list[str] | None, typer.Option("--leave", metavar="ITEM", help="Leave it out; what uses it needs it there.")
]
BringOption = Annotated[
    list[str] | None, typer.Option("--bring", metavar="ITEM", help="Bring it, although it was left out before.")
]
PauseAfterOption = Annotated[
    list[str] | None,
    typer.Option("--pause-after", metavar="ITEM[=ABOUT]", help="Wait for somebody's word once this one is in."),
]
ProgressOption = Annotated[
    str, typer.Option("--progress", metavar="HOW", help="On stderr: view, lines, json or none; else what fits.")
]
WaitOption = Annotated[
    float,
    typer.Option(
        "--wait", metavar="MINUTES", help="Wait so long for whoever is changing the target.", show_default=False
    ),
]
BreakFlag = Annotated[
    bool, typer.Option("--break-lock", help="Break the lock of a run elsewhere that was not heard of for long.")
]


WORDS_OF_ONES_OWN = {"--why", "--note"}
"""Options for texts that nobody has to write."""


class PlainCommand(TyperCommand):
    """A command whose help has no escapes in it, and whose words a shell can complete."""

    def __init__(self, *words: Any, **named: Any) -> None:
        super().__init__(*words, **named)
        # Only where a shell asks: looking names up is work that no run of a command needs.
        if COMPLETES in os.environ:
            from amphora.cli.completion import WHAT, names_for

            for parameter in self.params:
                if isinstance(parameter, click.Argument) and parameter.name in WHAT:
                    parameter._custom_shell_complete = names_for

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        # A shell that completes words shows none of our refusals.
        if not ctx.resilient_parsing:
            self._refuse_passed_over(ctx, args)
        try:
            return super().parse_args(ctx, args)
        except click.UsageError as error:
            # Some of the library's errors don't say of which command they speak, and help is that command's.
            error.ctx = error.ctx or ctx
            raise

    def _refuse_passed_over(self, ctx: click.Context, args: list[str]) -> None:
        """Refuses what the library would take in silence: an option for a value, nothing for one, two values for one,
        and what was said before the command and means nothing to it."""
        options = [one for one in self.params if isinstance(one, click.Option)]
        known = {name for one in options for name in (*one.opts, *one.secondary_opts)}
        wanting = {name for one in options if not one.is_flag for name in one.opts}
        # The library takes whatever comes next: a file called --json would be written.
        typed = args[: args.index("--")] if "--" in args else args
        pairs = list(pairwise(typed))
        for word, after in pairs:
            if word in wanting and after.partition("=")[0] in known:
                raise click.UsageError(f"{word} takes a value, and {after} is an option", ctx)
        # A script's variable that was never set: a copy without a suffix would be no copy, but the item itself.
        for name in sorted(wanting - WORDS_OF_ONES_OWN):
            if f"{name}=" in typed or (name, "") in pairs:
                raise click.UsageError(f"{name} takes a value, and it is empty", ctx)
        before = [(f"--{name}", str(value)) for name, value in (ctx.default_map or {}).items()]
        single = {name: one.opts[0] for one in options if not one.is_flag and not one.multiple for name in one.opts}
        whole = [(name, value) for name, equals, value in (word.partition("=") for word in typed) if equals]
        said_once(((single[name], value) for name, value in (*before, *pairs, *whole) if name in single), "values")
        # What was said before the command counts for it, and is not passed over by one that knows no such thing: a
        # workspace would be started here, and not where it was said.
        if strange := [name for name in ctx.default_map or () if name not in {one.name for one in options}]:
            raise click.NoSuchOption(f"--{strange[0]}", ctx=ctx)

    def get_help(self, ctx: click.Context) -> str:
        return super().get_help(ctx).replace("\\[", "[")


class PlainGroup(TyperGroup):
    """A group of such commands; without a command it shows its help."""

    def get_help(self, ctx: click.Context) -> str:
        return super().get_help(ctx).replace("\\[", "[")


class Work:
    """One command at work."""

    def __init__(self, is_json: bool, folder: Path | None, progress: str = "") -> None:
        self.is_json = is_json
        self.folder = folder
        self.progress = Progress(progress)
        self.named = elsewhere()
        """What the next command has to say so that it means the same workspace."""
        self._session: Session | None = None

    @property
    def session(self) -> Session:
        """The session of the workspace, opened when first asked for."""
        if self._session is None:
            from amphora.engine.session import Session
            from amphora.files.workspace import find_workspace, read_workspace

            workspace = read_workspace(self.folder.resolve()) if self.folder else find_workspace(Path.cwd())
            self._session = Session(workspace, self.progress)
        return self._session

    @property
    def has_workspace(self) -> bool:
        """Whether there is a workspace here; a broken one is told."""
        from amphora.core.values.errors import UsageFault
        from amphora.files.workspace import FILE

        try:
            return self.session is not None
        except UsageFault as error:
            if error.subject != FILE:
                raise
            return False

    @property
    def session_anywhere(self) -> Session:
        """The session, outside a workspace over an empty one: for what needs neither environment nor ledger."""
        from amphora.engine.session import Session
        from amphora.files.workspace import Workspace

        # A folder that is not there: nothing is read from it, and whatever wanted to write would fail.
        return self.session if self.has_workspace else Session(Workspace(Path.cwd() / ".nowhere"), self.progress)

    def be_patient(self, minutes: float, breaks: bool) -> None:
        """How to treat the locks of others."""
        if minutes or breaks:
            self.session.ledger.locks.patience_s = max(0.0, minutes) * 60
            self.session.ledger.locks.breaks = breaks

    @property
    def is_terminal(self) -> bool:
        """Whether questions can be asked."""
        # Questions go to stderr: stdout may be a file all the same.
        return sys.stdin.isatty() and sys.stderr.isatty() and not self.is_json

    def tell(self, lines: list[str]) -> None:
        """Says something beside the result, on stderr."""
        self.progress.say(lines)

    def write(self, text: str) -> None:
        """Writes text in a format of its own to stdout."""
        self.progress.stop()
        sys.stdout.write(text)

    def show(self, result: Result, has_changed: bool = False) -> None:
        """Prints a result and leaves with its code if it isn't 0. Where something `has_changed`, a screen that is
        gone is no failure: what is done is done, and said so where anybody still listens."""
        self.progress.stop()
        result = result.everywhere(*self.named)
        try:
            if sys.stdout is not None:
                self._print(result)
                sys.stdout.flush()
        except (OSError, ValueError, AttributeError) as error:
            if not has_changed:
                raise
            self.tell([f"{result.verdict} (It could not be printed: {error}.)"])
            silence(sys.stdout)
        if result.code:
            raise typer.Exit(result.code)

    def _print(self, result: Result) -> None:
        if self.is_json:
            from amphora.render.json_text import result_json

            print(result_json(result))
        else:
            # Without the terminal library: in a pipe, which is how scripts call it, that is a third of the time.
            if not sys.stdout.isatty():
                from amphora.render.plain import plain_lines

                sys.stdout.write("".join(f"{line}\n" for line in plain_lines(result)))
                return
            from amphora.render.terminal import console_for, print_result

            print_result(result, console_for(sys.stdout))

    def close(self) -> None:
        """Closes whatever was opened."""
        self.progress.stop()
        if self._session is not None:
            self._session.close()


def one_format(**asked: bool) -> None:
    """UsageFault where a result is asked for in two formats at once: one of them would be lost."""
    from amphora.core.values.errors import UsageFault
    from amphora.core.values.next_step import advice

    if len(names := [f"--{name}" for name, is_asked in asked.items() if is_asked]) > 1:
        words = f"{' and '.join(names)} are two formats of one result."
        raise UsageFault(words, subject=names[1], next_step=advice("Ask for one of them."))


@contextmanager
def working(is_json: bool, folder: Path | None, progress: str = "") -> Iterator[Work]:
    """A command's frame: whatever it opens is closed again. `progress` is how to tell what goes on."""
    if progress and progress not in HOWS:
        from amphora.core.values.errors import UsageFault
        from amphora.core.values.next_step import advice

        words = f"--progress is {', '.join(HOWS)}, not {progress!r}."
        raise UsageFault(words, next_step=advice("Leave it out, and it is what fits."))
    work = Work(is_json, folder, progress)
    try:
        yield work
    except AmphoraError as error:
        error.next_step = error.next_step.everywhere(*work.named)
        raise
    finally:
        work.close()


def elsewhere() -> tuple[str, ...]:
    """How the workspace was named, if it was: whoever pastes the next command is where this one was typed."""
    # As it was typed, and by whom: a command that another one runs was typed by nobody.
    words = sys.argv
    for word, after in zip(words, [*words[1:], ""], strict=True):
        if word == "--workspace" or word.startswith("--workspace="):
            return ("--workspace", word.partition("=")[2] or after)
    return ()
