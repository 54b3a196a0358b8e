"""Pages for people without Amphora: one file each, that needs nothing else."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from amphora.core.values.visible import visible


def page(name: str, words: Mapping[str, Any]) -> str:
    """A page by its template: `name`.html beside this module, in the frame that all share. Texts are escaped, and
    shown without what moves or turns anything; `Markup` stays as it is."""
    from importlib.resources import files

    from jinja2 import DictLoader, Environment, StrictUndefined

    folder = files("amphora.render")
    sources = {each: (folder / f"{each}.html").read_text(encoding="utf-8") for each in ("frame", name)}
    environment = Environment(
        loader=DictLoader(sources),
        autoescape=True,
        finalize=_shown,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    return environment.get_template(name).render(**words)


def _shown(value: object) -> object:
    # By exact type: markup of our own is a subclass, and has been looked at.
    return visible(value) if type(value) is str else value
