"""The workspace: `amphora.toml` and the folders beside it."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import field
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from amphora.core.values.errors import UsageFault
from amphora.core.values.late import dataclass
from amphora.core.values.near import near
from amphora.core.values.next_step import advice, blank, to_type
from amphora.files.names import NAME, SUFFIX
from amphora.files.schemas import SCHEMAS, write_schemas
from amphora.files.typed import TYPED
from amphora.files.workspace_faults import fault_at, secret_fault
from amphora.files.workspace_rules import ROLES, approvals_of, levels_of, policies_of, silenced_of

if TYPE_CHECKING:
    from amphora.core.checks import Waiver
    from amphora.core.form.kinds import KindSheet

FILE = "amphora.toml"
_TOP = {"amphora", "environments", "silenced", "rules", "selections", "policies", "groups"}
_ABOUT = {"format": int, "ledger": str, "ledger_sign_in": str, "route": list}
_SELECTION = {
    "environment": str,
    "items": list,
    "leave_out": list,
    "take": str,
    "with": list,
    "without": list,
    "afterwards": list,
}
_ENVIRONMENT = {"location", "role", "region", "customer", "sign_in", "user", "ca_file", "bridge", "own"}


@dataclass(frozen=True)
class EnvironmentEntry:
    """What the workspace says of an environment. `sign_in` is `env:NAME` or `keyring:NAME`, or empty;
    `ca_file` the certificates of whoever vouches for its server, where that is not one that everybody knows; `bridge`
    the file (beside the workspace's) or the name of the sheet that describes its REST interface, `own` what that asks
    of each environment."""

    name: str
    location: str
    role: str = "build"
    region: str = ""
    customer: str = ""
    sign_in: str = ""
    user: str = ""
    ca_file: str = ""
    bridge: str = ""
    own: Mapping[str, str] = field(default_factory=dict)

    @property
    def own_words(self) -> list[str]:
        """On a server with several, which of them it is, in words."""
        return [f"{name} {value}" for name, value in self.own.items()]

    @property
    def place(self) -> str:
        """Where it is, for people."""
        return f"{self.location} ({', '.join(self.own_words)})" if self.own else self.location


@dataclass(frozen=True)
class Selection:
    """Which items to take, kept by the name of the package so that an export can be repeated."""

    environment: str
    items: tuple[str, ...]
    leave_out: tuple[str, ...] = ()
    take: str = "live"
    with_: tuple[str, ...] = ()
    without: tuple[str, ...] = ()
    afterwards: tuple[str, ...] = ()


@dataclass(frozen=True)
class Workspace:
    """An opened workspace; paths are absolute."""

    folder: Path
    environments: Mapping[str, EnvironmentEntry] = field(default_factory=dict)
    silenced: tuple[Waiver, ...] = ()
    selections: Mapping[str, Selection] = field(default_factory=dict)
    is_signature_required: bool = False
    rule_levels: Mapping[str, str] = field(default_factory=dict)
    groups: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    ledger_url: str = ""
    ledger_sign_in: str = ""
    stay: tuple[str, ...] = ()
    approvals: Mapping[str, int] = field(default_factory=dict)
    """How many people beside the one who imports have to agree, by the role of the target."""
    route: tuple[str, ...] = ()
    """The environments in the order in which things go from one to the next."""
    is_verified_before: bool = False
    """Whether a package has to be as promised in the environment before the target on the route."""

    @cached_property
    def sheets(self) -> list[KindSheet]:
        """The workspace's own kind sheets, `kinds/KIND.toml`: they stand over those of the environments. SheetFault
        for one that can't be used: a rule that is written down and not in force would be worse than none."""
        from amphora.files.sheets import read_sheet

        # Sorted, so that what is wrong is told in the same order everywhere.
        files = sorted((self.folder / "kinds").glob("*.toml"))
        return [read_sheet(path) for path in files]

    @property
    def keys(self) -> Path:
        """Where the trusted public keys lie."""
        return self.folder / "keys"

    @property
    def packages(self) -> Path:
        """Where packages are kept."""
        return self.folder / "packages"

    @property
    def crosswalk(self) -> Path:
        """The crosswalk file."""
        return self.folder / "crosswalk.yaml"

    @property
    def runs(self) -> Path:
        """Where runs keep what they retire, a folder for each."""
        return self.folder / "runs"

    @property
    def ledger(self) -> Path | str:
        """The ledger's database: a file, or the address of a server."""
        return self.ledger_url or self.ledger_file

    @property
    def ledger_file(self) -> Path:
        """The file of a ledger that is on no server."""
        return self.folder / "ledger.sqlite"

    @property
    def has_ledger(self) -> bool:
        """Whether anything may have been recorded yet: asking must not make an empty ledger."""
        return bool(self.ledger_url) or self.ledger_file.exists()

    def targets(self, names: Iterable[str]) -> list[str]:
        """The environments that names of environments and groups mean, each once, in the order in which they are
        named; UsageFault for a name that is neither."""
        # Groups hold environments only: one that named a group would be a riddle on a Friday.
        found = [one for name in names for one in self.groups.get(name, (name,))]
        return [self.environment(name).name for name in dict.fromkeys(found)]

    def environment(self, name: str, may_be_new: bool = True) -> EnvironmentEntry:
        """The entry of an environment; UsageFault names those that are known, and how to add one where that may be
        what is wanted."""
        if name in self.environments:
            return self.environments[name]
        if name in self.groups:
            raise UsageFault(
                f"{name!r} is a group, and this is done with one environment.",
                subject=name,
                details=[f"it holds: {', '.join(self.groups[name])}"],
                next_step=advice("Name one of these."),
            )
        # Groups too: whoever types a name means either.
        names = sorted([*self.environments, *self.groups])
        hints = [f"near: {one}" for one in near(name, names)]
        hints += [f"{name!r} is a package"] if self.is_package(name) else []
        could_be_new = may_be_new and NAME.fullmatch(name) and not hints
        raise UsageFault(
            f"The workspace has no environment {name!r}.",
            subject=name,
            details=[*hints, f"known: {', '.join(names) or 'none yet'}"],
            next_step=to_type("env", "add", name, blank("LOCATION")) if could_be_new else to_type("env", "list"),
        )

    def is_package(self, name: str) -> bool:
        """Whether a package of this name, or this version of one, lies in the workspace."""
        return any(name in (path.stem, path.stem.rpartition("-")[0]) for path in self.packages.glob(f"*{SUFFIX}"))


def init_workspace(folder: Path) -> Workspace:
    """Starts a workspace in a folder; UsageFault where one is already."""
    path = folder / FILE
    if path.exists():
        raise UsageFault(
            f"There is a workspace in {folder} already.",
            subject=str(path),
            next_step=to_type("env", "list"),
        )
    folder.mkdir(parents=True, exist_ok=True)
    # At once, so that a package that somebody sends has a place before the first export.
    (folder / "packages").mkdir(exist_ok=True)
    write_schemas(folder)
    path.write_text(
        f"#:schema {SCHEMAS}/amphora.schema.json\n"
        '# An Amphora workspace. Secrets never stand here: write sign_in = "env:NAME" and set NAME.\n'
        "\n[amphora]\nformat = 1\n",
        encoding="utf-8",
    )
    return Workspace(folder.resolve())


def find_workspace(start: Path) -> Workspace:
    """The workspace of a folder or of the nearest folder above it."""
    # Like a version control system: people are seldom in the topmost folder.
    for folder in (start.resolve(), *start.resolve().parents):
        if (folder / FILE).is_file():
            return read_workspace(folder)
    raise UsageFault(
        f"There is no workspace in {start.resolve()} or above it.",
        subject=FILE,
        next_step=to_type("init"),
    )


def read_workspace(folder: Path) -> Workspace:
    """Reads `amphora.toml`; UsageFault with line and column for what is wrong in it."""
    path = folder / FILE
    try:
        text = path.read_text(encoding=TYPED)
        table = tomllib.loads(text)
    except (ValueError, RecursionError) as error:
        # The library says the place only in its words.
        found = re.search(r"^(.*?) \(at (.*)\)$", str(error))
        reason, place = (found[1], found[2]) if found else (str(error), "")
        raise UsageFault(
            f"{path} is not TOML: {reason}.",
            subject=str(path),
            place=place,
            next_step=advice("Mend that line and try again."),
        ) from error
    for name in table.keys() - _TOP:
        raise fault_at(path, text, (), name, f"{name!r} is not known here")
    for name, value in table.items():
        # All of them before any is read: a number where a table should be is a slip of the hand, not a fault of ours.
        is_list = name == "silenced"
        if not isinstance(value, list if is_list else dict):
            raise fault_at(path, text, (), name, f"{name!r} has to be {'tables' if is_list else 'a table'}")
    about = _about(path, text, table.get("amphora", {}))
    entries = {name: entry_of(path, text, name, entry) for name, entry in table.get("environments", {}).items()}
    silenced = tuple(silenced_of(path, text, row) for row in table.get("silenced", []))
    selections = {name: _selection(path, text, name, row) for name, row in table.get("selections", {}).items()}
    policies = policies_of(path, text, table.get("policies", {}))
    levels = levels_of(path, text, table.get("rules", {}))
    groups = _groups(path, text, table.get("groups", {}), entries)
    server = (about.get("ledger", ""), about.get("ledger_sign_in", ""))
    return Workspace(
        folder.resolve(),
        entries,
        silenced,
        selections,
        policies.get("signature") == "required",
        levels,
        groups,
        *server,
        tuple(policies.get("stay", ())),
        approvals_of(policies),
        _route(path, text, about.get("route", []), entries),
        policies.get("verified") == "required",
    )


def checked_ledger(url: str, sign_in: str, path: Path, text: str = "") -> None:
    """UsageFault where an address is not that of a ledger's server, or holds a password."""
    name, is_clear = ledger_misfit(url, sign_in)
    within = ("amphora",)
    if name and not is_clear:
        raise fault_at(path, text, within, name, "ledger has to be an address like postgresql://NAME@HOST/DATABASE")
    if name:
        fault = secret_fault(path, text, within, name)
        if name == "ledger":
            fault.next_step = advice('Take the password out, write ledger_sign_in = "env:SOME_NAME", and change it.')
        raise fault


def ledger_misfit(url: str, sign_in: str) -> tuple[str, bool]:
    """What is wrong with the address of a ledger's server and where its password is kept: which of the two, by its
    name in the file (empty: neither), and whether it holds a secret in clear."""
    if url and not url.startswith(("postgresql://", "postgres://")):
        return "ledger", False
    # At the last @: a password may hold one, and is to be found all the same.
    user = url.partition("://")[2].rpartition("@")[0]
    if ":" in user or "password" in url.partition("?")[2]:
        return "ledger", True
    return ("ledger_sign_in", True) if sign_in and not sign_in.startswith(("env:", "keyring:")) else ("", False)


def _about(path: Path, text: str, table: Any) -> Mapping[str, Any]:
    """The table on the workspace itself."""
    for name, value in table.items():
        if name not in _ABOUT or not isinstance(value, _ABOUT[name]):
            raise fault_at(path, text, ("amphora",), name, f"{name!r} is not right there")
    if table.get("format", 1) > 1:
        # Read as if it were ours it would be changed as if it were, and what is new in it would count for nothing.
        fault = fault_at(path, text, ("amphora",), "format", "it is written for a newer Amphora than this one")
        fault.next_step = advice("Install the newer Amphora.")
        raise fault
    checked_ledger(table.get("ledger", ""), table.get("ledger_sign_in", ""), path, text)
    found: Mapping[str, Any] = table
    return found


def _route(path: Path, text: str, names: Any, known: Mapping[str, EnvironmentEntry]) -> tuple[str, ...]:
    # As text: a list in the list is no name either, and can't even be looked up.
    if unknown := [name for name in names if str(name) not in known]:
        raise fault_at(path, text, ("amphora",), "route", f"the route names {unknown[0]!r}, which is no environment")
    # Or the next one on the route would depend on where one begins to count.
    if len(set(names)) < len(names):
        raise fault_at(path, text, ("amphora",), "route", "the route names an environment twice")
    return tuple(names)


def _selection(path: Path, text: str, name: str, table: Any) -> Selection:
    within = ("selections", name)
    for field_name, value in table.items() if isinstance(table, dict) else ():
        if field_name not in _SELECTION or not isinstance(value, _SELECTION[field_name]):
            raise fault_at(path, text, within, field_name, f"{field_name!r} is not right in a selection")
    if not isinstance(table, dict) or "environment" not in table or not table.get("items"):
        raise fault_at(path, text, within, name, f"selection {name!r} needs environment and items")
    lists = {n: tuple(map(str, table.get(n, []))) for n in ("items", "leave_out", "with", "without", "afterwards")}
    take = table.get("take", "live")
    rest = (lists["leave_out"], take, lists["with"], lists["without"], lists["afterwards"])
    return Selection(table["environment"], lists["items"], *rest)


def entry_of(path: Path, text: str, name: str, table: Any) -> EnvironmentEntry:
    """One environment's table; UsageFault with its line for what is wrong in it."""
    within = ("environments", name)
    if not isinstance(table, dict):
        raise fault_at(path, text, ("environments",), name, f"environment {name!r} has to be a table")
    for field_name, value in table.items():
        if field_name not in _ENVIRONMENT:
            from amphora.core.form.detector import kind_of_name

            # Somebody means to write a password down: told why not, instead of that the name is unknown.
            if kind_of_name(field_name):
                raise secret_fault(path, text, within, field_name)
            raise fault_at(path, text, within, field_name, f"{field_name!r} is not known for an environment")
        if field_name == "own":
            own_of(path, text, name, value)
        elif not isinstance(value, str):
            raise fault_at(path, text, within, field_name, f"{field_name!r} has to be text")
    # Last what is missing: a misspelt `location` was told by its own name above.
    if "location" not in table:
        raise fault_at(path, text, within, name, f"environment {name!r} has no location")
    if not table.get("sign_in", "env:").startswith(("env:", "keyring:")) or _holds_secret(table["location"]):
        raise secret_fault(path, text, within, "sign_in" if "sign_in" in table else "location")
    if "own" in table and "bridge" not in table:
        raise fault_at(path, text, within, "own", "'own' is what a bridge sheet asks for, and there is no 'bridge'")
    if table.get("role", "build") not in ROLES:
        raise fault_at(path, text, within, "role", f"the role has to be one of {', '.join(ROLES)}")
    return EnvironmentEntry(name, **table)


def own_of(path: Path, text: str, name: str, table: Any) -> None:
    """UsageFault where what an environment says for itself is no table of texts, or holds a secret."""
    within = ("environments", name)
    if not isinstance(table, dict) or not all(isinstance(one, str) for one in table.values()):
        raise fault_at(path, text, within, "own", "'own' has to be a table of texts")
    from amphora.core.form.detector import hits_in, kind_of_name

    # It stands in paths and headers, and so a key may well be put here.
    if any(kind_of_name(one) or any(hit.is_sure for hit in hits_in(value)) for one, value in table.items()):
        raise secret_fault(path, text, within, "own")


def _holds_secret(location: str) -> bool:
    """Whether a location holds a name, a password or a token: it is shown everywhere, and written into dockets."""
    # Before the first slash only: an @ further on is part of a path.
    if "@" in location.partition("://")[2].partition("/")[0]:
        return True
    if "://" not in location or not set(location) & set("?#;"):
        return False
    from amphora.core.form.detector import hits_in

    return any(hit.is_sure for hit in hits_in(location))


def _groups(path: Path, text: str, table: Any, entries: Mapping[str, EnvironmentEntry]) -> dict[str, tuple[str, ...]]:
    for name, members in table.items():
        # One name, one meaning: it can stand wherever an environment can.
        if name in entries:
            raise fault_at(path, text, ("groups",), name, f"{name!r} is an environment already")
        if not isinstance(members, list) or not members or not all(isinstance(one, str) for one in members):
            raise fault_at(path, text, ("groups",), name, "a group is a list of environments")
        if unknown := [one for one in members if one not in entries]:
            raise fault_at(path, text, ("groups",), name, f"there is no environment {unknown[0]!r}")
    return {name: tuple(dict.fromkeys(members)) for name, members in table.items()}
