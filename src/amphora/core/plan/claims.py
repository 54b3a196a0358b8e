"""Claims: whose is this item? Everybody who asks (checks, dockets, withdrawing, verifying) asks here."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence

from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Claim, Contents
from amphora.core.values.versions import is_version, version_order


@dataclass(frozen=True)
class Claims:
    """The claims on the items of one environment."""

    rows: Sequence[Claim]

    def of(self, package: str, source_uid: str | None = None) -> list[Claim]:
        """The claims of one package; of every package of that name where no source is given."""
        return [c for c in self.rows if c.package == package and source_uid in (None, c.source_uid)]

    def others(self, key: Key, package: str, source_uid: str) -> list[Claim]:
        """The claims of other packages on an item."""
        return [c for c in self.rows if c.key == key and (c.package, c.source_uid) != (package, source_uid)]

    def shared(self, keys: Iterable[Key], package: str, source_uid: str) -> dict[Key, tuple[str, ...]]:
        """Of these items those that other packages claim as well, with those packages (`NAME VERSION`)."""
        wanted = set(keys)
        found: dict[Key, tuple[str, ...]] = {}
        for claim in self.rows:
            if claim.key in wanted and (claim.package, claim.source_uid) != (package, source_uid):
                found[claim.key] = (*found.get(claim.key, ()), f"{claim.package} {claim.version}".strip())
        return found

    def alone(self, package: str, source_uid: str | None = None) -> list[Key]:
        """The items that nobody claims but this package."""
        mine, held = set[Key](), set[Key]()
        for claim in self.rows:
            # By the whole claim: two packages of one name from two sources are two packages.
            is_mine = claim.package == package and source_uid in (None, claim.source_uid)
            (mine if is_mine else held).add(claim.key)
        return sorted(mine - held)

    def keepers(self, last: Mapping[Key, tuple[str, str]]) -> dict[Key, set[tuple[str, str]]]:
        """Whose promise items are, given which package delivered each last, as (package, source uid): that one's if
        it still claims it, and else that of everybody who does."""
        found: dict[Key, set[tuple[str, str]]] = {key: set() for key in last}
        for claim in self.rows:
            if claim.key in found:
                found[claim.key].add((claim.package, claim.source_uid))
        return {key: mine & {last[key]} or mine for key, mine in found.items()}

    def custody(self, package: str, source_uid: str) -> str | None:
        """In whose hands the items of a package are; None where it has none there, or not all in the same."""
        found = {c.custody for c in self.of(package, source_uid)}
        return found.pop() if len(found) == 1 else None

    def dropped(self, contents: Contents) -> list[Key]:
        """What the package alone claims, in its own custody, and no longer holds; nothing on the way back to
        a lower version, which is expected to know less."""
        mine = self.of(contents.name, contents.source_uid)
        # By the order of versions, not by the time of delivery: who goes back on purpose delivers the older one last.
        # Versions of folders and old ledgers may be none: they can't tell which is later.
        latest = max((version_order(c.version) for c in mine if is_version(c.version)), default=None)
        if latest is not None and is_version(contents.version) and version_order(contents.version) < latest:
            return []
        return self.not_held(contents)

    def not_held(self, contents: Contents) -> list[Key]:
        """The same whatever the version, for contents that have none yet."""
        # An item in the custody of the target is its own: a package that drops it has nothing to say about it any
        # more.
        kept = {c.key for c in self.of(contents.name, contents.source_uid) if c.custody == "package"}
        return sorted((kept - set(contents.items)).intersection(self.alone(contents.name, contents.source_uid)))

    def handed_over(self, keys: Collection[Key]) -> set[Key]:
        """Of these items those that somebody claims, and every claim leaves in the hands of the target."""
        return self.claimed(keys) - {c.key for c in self.rows if c.custody == "package"}

    def claimed(self, keys: Collection[Key]) -> set[Key]:
        """Of these items those that anybody claims."""
        return {c.key for c in self.rows} & set(keys)
