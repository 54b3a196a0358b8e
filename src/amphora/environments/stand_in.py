"""Objects that stand before an environment and pass on what they don't do themselves."""

from __future__ import annotations


def stands_before(outer: object, inside: object) -> None:
    """Lays what `inside` can do into `outer`, as `outer` does it. Whether an object keeps a protocol is asked without
    `__getattr__` from Python 3.12 on, so that what is only passed on would count as missing."""
    for name in dir(inside):
        told = vars(inside).get(name) or getattr(type(inside), name, None)
        if not name.startswith("_") and callable(told) and not hasattr(type(outer), name):
            vars(outer)[name] = getattr(outer, name)
