"""The one place where errors become words and exit codes."""

from __future__ import annotations

import sys
import traceback
from collections.abc import Callable, Sequence

import click

from amphora.cli.streams import complain, silence
from amphora.core.values.errors import (
    AmphoraError,
    BrokenOff,
    EnvironmentRefused,
    FaultInRun,
    Interrupted,
    NotReady,
    PackageDamaged,
    SheetFault,
    Unavailable,
    Uncertain,
    UsageFault,
)
from amphora.core.values.next_step import advice

CODES: tuple[tuple[type[AmphoraError], int], ...] = (
    (UsageFault, 2),
    (SheetFault, 2),
    (NotReady, 3),
    (EnvironmentRefused, 4),
    (BrokenOff, 6),
    (Interrupted, 130),
    (Uncertain, 6),
    (PackageDamaged, 7),
    (Unavailable, 75),
    (FaultInRun, 70),
)
FAULT = 70
INTERRUPTED = 130
MOST_LINES = 12
"""Of a list in an error, this many lines are shown."""


def code_of(error: AmphoraError) -> int:
    """The exit code of an expected error (design, section 9)."""
    return next((code for kind, code in CODES if isinstance(error, kind)), FAULT)


def guarded(command: Callable[[], int | None]) -> int:
    """Runs a command and returns its exit code; whatever it raises is told on stderr (as JSON on stdout
    with `--json`)."""
    try:
        code = int(command() or 0)
        if sys.stdout is not None:
            sys.stdout.flush()  # a full disk is found here, not on the way out
        return code
    except click.exceptions.Abort:
        return INTERRUPTED
    # Before its base class, which would tell a group's help as a fault.
    except click.exceptions.NoArgsIsHelpError as error:
        print(error.format_message())
        return 2
    except click.ClickException as error:
        return _told(_as_usage(error))
    except AmphoraError as error:
        if "--debug" in sys.argv:
            traceback.print_exc()
        return _told(error)
    except KeyboardInterrupt:
        say(["Interrupted."])
        return INTERRUPTED
    except BrokenPipeError:
        silence(sys.stdout)  # whoever read along has had enough
        return 0
    except OSError as error:
        return _told(_as_file_trouble(error) if error.filename else _as_output_trouble(error))
    except Exception as error:
        return _fault(error)


def _as_file_trouble(error: OSError) -> UsageFault:
    """A file that was named can't be opened or written: the request's trouble, not ours."""
    words = (error.strerror or type(error).__name__).lower()
    return UsageFault(
        f"{error.filename} can't be used: {words}.",
        subject=str(error.filename),
        next_step=advice("Name a file that is there, or a place where files can be written."),
    )


def _as_output_trouble(error: OSError) -> Unavailable:
    silence(sys.stdout)
    return Unavailable(
        f"The result could not be written: {(error.strerror or type(error).__name__).lower()}.",
        next_step=advice("Make room, or write it elsewhere, and run the same command again."),
    )


def _as_usage(error: click.ClickException) -> UsageFault:
    context = getattr(error, "ctx", None)
    path = context.command_path if context else "amphora"
    message = error.format_message().rstrip(".")
    if isinstance(error, click.NoSuchOption):
        # The library's own words run into each other, or list in brackets.
        near = f". Did you mean {' or '.join(error.possibilities)}?" if error.possibilities else ""
        message = f"No such option: {error.option_name}{near}"
    end = "" if message.endswith("?") else "."
    return UsageFault(message + end, next_step=advice(f"{path} --help"))


def _told(error: AmphoraError) -> int:
    code = code_of(error)
    # Looked up in the words themselves: the error may have come up before any option was parsed.
    if "--json" in sys.argv:
        from amphora.render.json_text import error_json

        try:
            print(error_json(error, code), flush=True)
        except OSError:
            silence(sys.stdout)  # nobody reads it, or it can't be written: the code says it still
        return code
    where = f" At {error.place}." if error.place else ""
    details = cut(error.details)
    after = [f"Next: {error.next_step}"] if error.next_step else []
    say([f"{error.message}{where}", *(f"  {line}" for line in details), *after])
    return code


def cut(lines: Sequence[str]) -> list[str]:
    """As many lines as a person reads, with how many more there are and where the whole is."""
    if len(lines) <= MOST_LINES:
        return list(lines)
    more = len(lines) - MOST_LINES
    return [*lines[:MOST_LINES], f"… and {more:,} more; all of them with --json"]


def say(lines: Sequence[str]) -> None:
    """Tells on stderr, in the manner in which progress was asked for: who reads JSON there reads nothing else."""
    words = " ".join(sys.argv).replace("=", " ")
    if "--progress json" in words:
        from amphora.cli.progress import Progress

        Progress("json").say(lines)
    else:
        complain(lines)


def _fault(error: Exception) -> int:
    if "--debug" in sys.argv:
        traceback.print_exc()
    else:
        frame = traceback.extract_tb(error.__traceback__)[-1]
        spot = f"{frame.filename.rpartition('/')[2]}:{frame.lineno}"
        say(
            [
                f"A fault in Amphora: {type(error).__name__} at {spot}. Nothing more is known here.",
                "Next: run the same command with --debug and report what it prints.",
            ]
        )
    return FAULT
