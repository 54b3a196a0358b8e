"""Results for machines: one versioned JSON document."""

from __future__ import annotations

import json
from typing import Any

from amphora.core.values.errors import AmphoraError
from amphora.core.values.next_step import NextStep
from amphora.core.values.visible import escaped_json
from amphora.render.result import Result

OUTPUT_VERSION = 1


def result_json(result: Result) -> str:
    """A result as JSON text."""
    return _document({"command": result.command, "verdict": result.verdict, **result.data, "next": result.next_step})


def error_json(error: AmphoraError, code: int) -> str:
    """An error as JSON text."""
    body = {
        "message": error.message,
        "subject": error.subject,
        "place": error.place,
        "details": list(error.details),
    }
    return _document({"error": body, "next": str(error.next_step), "exit_code": code})


def _document(body: dict[str, Any]) -> str:
    text = json.dumps({"amphora_output": OUTPUT_VERSION, **body}, ensure_ascii=False, indent=2, default=_line)
    return escaped_json(text)


def _line(step: object) -> str:
    """A next step that stands inside of a result, as it can be pasted."""
    if isinstance(step, NextStep):
        return str(step)
    raise TypeError(f"{type(step).__name__} is no JSON.")
