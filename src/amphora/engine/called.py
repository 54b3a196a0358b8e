"""What people call the items of a package: as it does, or as one of its targets does."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from functools import cached_property, partial

from amphora.core.form.routes import converted_contents, keys_there
from amphora.core.needs.selection import Unknown, choose, the_one
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents, Listed
from amphora.engine.check import sheets_packed
from amphora.engine.export import listed_items
from amphora.engine.session import Session
from amphora.engine.sides import target_side


@dataclass(frozen=True)
class Called:
    """The items of a package by their names. A target is looked at only where the package has none of a name: there
    an item has another id and link, perhaps another title, and its kind may go by another word."""

    session: Session
    contents: Contents
    targets: Sequence[str]

    def choose(self, names: Sequence[str]) -> list[Key]:
        """The keys that all names together mean, sorted; UsageFault for a name that means none or several."""
        return sorted({key for name in names for key in self._meant(partial(choose, [name]))})

    def the_one(self, name: str) -> Key:
        """The one key that a name means; UsageFault for a pattern that means several."""
        [key] = self._meant(lambda rows, where: [the_one(name, rows, where)])
        return key

    def _meant(self, named: Callable[[Mapping[Key, Listed], str], list[Key]]) -> list[Key]:
        try:
            return named(listed_items(self.contents), self.contents.title)
        except Unknown as unknown:
            for target, (rows, keys) in self._there.items():
                with suppress(Unknown):
                    return [keys[key] for key in named(rows, target)]
            raise unknown from None

    @cached_property
    def _there(self) -> dict[str, tuple[Mapping[Key, Listed], Mapping[Key, Key]]]:
        """What each target has of the package, by the keys that it goes by there; and these keys in the package."""
        return {target: self._in(target) for target in self.targets}

    def _in(self, target: str) -> tuple[Mapping[Key, Listed], Mapping[Key, Key]]:
        opened = self.session.open(target)
        sheets, packed = opened.description.sheets, sheets_packed(self.contents)
        taken = converted_contents(self.contents, sheets, packed)[0]
        side = target_side(opened, self.session.ledger, self.session.crosswalk, taken, ())
        there = keys_there(self.contents, sheets, packed)
        keys = {there(key): key for key in self.contents.items}
        return {key: side.by_key[key] for key in keys if key in side.by_key}, keys
