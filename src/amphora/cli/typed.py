"""What was typed, for whoever has to type it again: the next command says all that this one said."""

from __future__ import annotations

import click
from click.core import ParameterSource

OF_ONE_CALL = frozenset("preview yes dry json workspace debug progress wait break_lock".split())
"""Options that say how a call is made, and nothing of what it is about."""


def typed_but(*names: str) -> list[str]:
    """The options of the present command that were typed, but for those of every call and those that are named: what
    would be passed over without a word."""
    return [words[0] for words in retyped(*names)]


def retyped(*but: str) -> tuple[tuple[str, ...], ...]:
    """The options of the present command as they were typed, each with its value; without those of one call, and
    without those whose parameters are named."""
    context = click.get_current_context()
    found: list[tuple[str, ...]] = []
    for option in context.command.params:
        name = option.name or ""
        is_typed = context.get_parameter_source(name) is ParameterSource.COMMANDLINE
        if not isinstance(option, click.Option) or not is_typed or name in {*OF_ONE_CALL, *but}:
            continue
        value = context.params[name]
        if option.is_flag:
            found.append((option.opts[0],))
        else:
            found += [(option.opts[0], str(one)) for one in (value if option.multiple else [value])]
    return tuple(found)
