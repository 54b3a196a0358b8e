"""The commands by name, put together one by one."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, MutableMapping

import click
import typer

from amphora.cli.work import PlainCommand


class Commands(MutableMapping[str, click.Command]):
    """Commands by name, in the order in which help lists them. A function or an application becomes a command when it
    is first asked for: putting together all of their options takes longer than most commands run, and a call
    needs one of them."""

    def __init__(self, made_of: Mapping[str, Callable[..., None] | typer.Typer]) -> None:
        self._made_of = made_of
        self._made: dict[str, click.Command] = {}

    def __getitem__(self, name: str) -> click.Command:
        if name not in self._made:
            self._made[name] = _command(name, self._made_of[name])
        return self._made[name]

    def __setitem__(self, name: str, command: click.Command) -> None:
        self._made[name] = command

    def __delitem__(self, name: str) -> None:
        del self._made[name]

    def __iter__(self) -> Iterator[str]:
        return iter(dict.fromkeys([*self._made_of, *self._made]))

    def __len__(self) -> int:
        return len(self._made_of.keys() | self._made)


def _command(name: str, made_of: Callable[..., None] | typer.Typer) -> click.Command:
    if not isinstance(made_of, typer.Typer):
        function, made_of = made_of, typer.Typer(add_completion=False, rich_markup_mode=None)
        made_of.command(name, cls=PlainCommand)(function)
    command = typer.main.get_command(made_of)
    command.name = name
    return command
