"""Data classes that are built when the first of them is made.

`dataclasses` writes and compiles up to six methods for a class, about a millisecond each time. A call of the program
loads some 150 such classes and makes objects of a third: building the others took a quarter of its time
(docs/decisions.md). So `dataclass` here notes what was asked for, and the library does it later, with the same
result."""

from __future__ import annotations

import dataclasses
from threading import RLock
from typing import TYPE_CHECKING, Any, NoReturn

if TYPE_CHECKING:
    # To a type checker nothing is different.
    from dataclasses import dataclass as dataclass
else:

    def dataclass(cls: Any = None, /, **options: Any) -> Any:
        """As in the library, whose options it takes."""
        if cls is None:
            return lambda it: dataclass(it, **options)
        if options.get("slots"):
            # The library makes another class for these, so there is nothing that could be completed later.
            return dataclasses.dataclass(**options)(cls)

        def first(self: Any, *words: Any, **named: Any) -> None:
            _build(cls)
            # That of the object's own class: what was called may be the one it inherits.
            type(self).__init__(self, *words, **named)

        cls.__init__ = first
        _waiting[cls] = options
        return cls


_waiting: dict[Any, dict[str, Any]] = {}
_one_at_a_time = RLock()

_MADE = ("__dataclass_fields__", "__dataclass_params__", "__match_args__", "__repr__", "__eq__", "__hash__")
_OWN = ("__init__", "__dict__", "__weakref__")


def _build(cls: Any) -> None:
    """Completes a class and those that it inherits from."""
    with _one_at_a_time:
        # Bases first: the library looks for their fields, and finds them only when they are built.
        for base in reversed(cls.__mro__):
            if base in _waiting:
                _complete(base, _waiting[base])
                del _waiting[base]


def _complete(cls: Any, options: dict[str, Any]) -> None:
    # The library works on a twin. On the class itself it would leave an `__init__` that is there alone, and with
    # that taken away first, another thread could meet a class without one.
    twin = type(cls)(cls.__name__, cls.__bases__, {name: it for name, it in vars(cls).items() if name not in _OWN})
    made = vars(dataclasses.dataclass(**options)(twin))
    # What stands as `field(…)` in the class is a note for the library, and no default of anybody's.
    for name, it in list(vars(cls).items()):
        if isinstance(it, dataclasses.Field):
            if name in made:
                setattr(cls, name, made[name])
            else:
                delattr(cls, name)
    for name in _MADE:
        if name in made:
            setattr(cls, name, made[name])
    if options.get("frozen"):
        # Those of the twin would take an object of this class for a stranger.
        cls.__setattr__, cls.__delattr__ = _refuse_setting, _refuse_deleting
    # Last: from now on nobody waits for the rest.
    cls.__init__ = made["__init__"]


def _refuse_setting(self: Any, name: str, value: Any) -> NoReturn:
    raise dataclasses.FrozenInstanceError(f"cannot assign to field {name!r}")


def _refuse_deleting(self: Any, name: str) -> NoReturn:
    raise dataclasses.FrozenInstanceError(f"cannot delete field {name!r}")
