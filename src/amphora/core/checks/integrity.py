"""Rules on integrity: is the package what it says, and from whom? (A damaged one can't even be opened.)"""

from __future__ import annotations

from collections.abc import Iterable

from amphora.core.checks.context import CheckContext, Rule, Todo
from amphora.core.values.model import Finding, Level
from amphora.core.values.next_step import blank, to_type

FAMILY = "integrity"
NOT_SIGNED = "not signed"


def signature_missing(context: CheckContext) -> Iterable[Finding]:
    """The package isn't signed, and the workspace requires it."""
    if context.signature == NOT_SIGNED and context.is_signature_required:
        yield context.finding(
            "signature-missing",
            Level.ERROR,
            f"{context.contents.title} is not signed, and this workspace requires it.",
            next_step=to_type("sign", f"{context.contents.name}-{context.contents.version}", "--key", blank("NAME")),
        )


def signature_doubtful(context: CheckContext) -> Iterable[Finding]:
    """The package has a signature that is wrong, or by a key that nobody here trusts."""
    if context.signature not in ("", NOT_SIGNED) and "by a trusted" not in context.signature:
        yield context.finding(
            "signature-doubtful",
            Level.ERROR if context.is_signature_required else Level.WARNING,
            f"{context.contents.title} is {context.signature}.",
            next_step=to_type("keys", "list"),
        )


def format_newer(context: CheckContext) -> Iterable[Finding]:
    """The package has a newer minor format than this Amphora."""
    # Read all the same: a newer minor format only adds (design, section 4); a newer major one is refused when it is
    # opened.
    if context.contents.format_minor > context.known_minor:
        yield context.finding(
            "format-newer",
            Level.NOTE,
            f"{context.contents.title} has format 1.{context.contents.format_minor}; what that adds was not read.",
        )


RULES = (
    Rule(
        "signature-missing",
        FAMILY,
        Level.ERROR,
        Todo.MEND,
        "The package isn't signed, and the workspace requires a signature.",
        "Nobody can say who made it; the import is refused.",
        signature_missing,
    ),
    Rule(
        "signature-doubtful",
        FAMILY,
        Level.WARNING,
        Todo.DECIDE,
        "The package's signature is wrong, or by a key that nobody here trusts.",
        "It may have been changed on its way.",
        signature_doubtful,
    ),
    Rule(
        "format-newer",
        FAMILY,
        Level.NOTE,
        Todo.KNOW,
        "The package has a newer minor format than this Amphora.",
        "What the newer format adds is not taken into account.",
        format_newer,
    ),
)
