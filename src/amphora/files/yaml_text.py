"""YAML that people edit: read with line and column, written with their comments, order and quotes kept."""

from __future__ import annotations

import io
from pathlib import Path
from typing import TYPE_CHECKING, Any

from amphora.core.values.errors import UsageFault
from amphora.core.values.next_step import advice
from amphora.files.typed import TYPED

if TYPE_CHECKING:
    from ruamel.yaml import YAML


def yaml_tool() -> YAML:
    """The round-trip reader and writer, set so that an unchanged file stays the same to the byte."""
    from ruamel.yaml import YAML

    tool = YAML(typ="rt")
    tool.preserve_quotes = True
    # Long values stay on their line: a wrapped one would show as a change that nobody made.
    tool.width = 10_000
    tool.indent(mapping=2, sequence=4, offset=2)
    return tool


def load_yaml(path: Path, text: str | None = None) -> Any:
    """The document of a file, or of its `text` where that was read already; UsageFault with line and column where it
    isn't YAML."""
    from ruamel.yaml.error import MarkedYAMLError, YAMLError

    try:
        return yaml_tool().load(path.read_text(encoding=TYPED) if text is None else text)
    except MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        place = f"line {mark.line + 1}, column {mark.column + 1}" if mark else ""
        reason = " ".join(str(part) for part in (error.context, error.problem) if part)
        raise UsageFault(
            f"{path} is not YAML: {reason}.",
            subject=str(path),
            place=place,
            next_step=advice("Mend that line."),
        ) from error
    except OSError:
        raise
    # Whatever it is: of keys that are mappings, for one, the library says nothing but that it fails.
    except Exception as error:
        told = isinstance(error, YAMLError | UnicodeDecodeError)
        words = " ".join(str(error).split()) if told else "what stands before a colon has to be plain text"
        raise UsageFault(
            f"{path} is not YAML that can be used: {words}.",
            subject=str(path),
            next_step=advice("Mend it, or put it back from a backup; git keeps one, where it is in git."),
        ) from error


def dump_yaml(document: Any) -> str:
    """The text of a document."""
    buffer = io.StringIO()
    yaml_tool().dump(document, buffer)
    return buffer.getvalue()


def write_text(path: Path, text: str) -> None:
    """Replaces a file's text in one go."""
    beside = path.with_name(f".{path.name}.writing")
    beside.write_text(text, encoding="utf-8")
    beside.replace(path)


def plain(value: Any, path: Path, place: str) -> Any:
    """A YAML scalar as a plain JSON value; UsageFault for dates and other types that JSON lacks."""
    if value is None or isinstance(value, bool):
        return value
    # The reader's own types (with their quotes and notation) as plain ones.
    for kind in (int, float, str):
        if isinstance(value, kind):
            return kind(value)
    raise UsageFault(
        f"{path}: {value!r} is neither text, number nor yes/no.",
        subject=str(path),
        place=place,
        next_step=advice("Put it in quotation marks."),
    )
