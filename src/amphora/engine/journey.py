"""A journey: items from one environment into the next, worked out from a few words."""

from __future__ import annotations

from collections.abc import Sequence

from amphora.core.values.errors import UsageFault
from amphora.core.values.late import dataclass
from amphora.core.values.near import near
from amphora.core.values.next_step import advice, blank, to_type
from amphora.core.values.versions import newest
from amphora.engine.session import Session
from amphora.files.names import name_for
from amphora.files.workspace_rules import ROLES


@dataclass(frozen=True)
class Journey:
    """What goes from where to where. `items` is empty where a saved selection says it; `target` where the route does,
    once it is known which version there is."""

    name: str
    source: str
    target: str
    items: tuple[str, ...] = ()

    @property
    def export(self) -> tuple[str, ...]:
        """The command that packs it."""
        return ("export", self.name) if not self.items else ("export", self.source, *self.items, "--as", self.name)


def journey_of(session: Session, words: Sequence[str], name: str) -> Journey:
    """What some words mean: `ITEM… FROM [TO]`, or `SELECTION [TO]`. UsageFault where they mean nothing."""
    workspace = session.workspace
    if group := next((word for word in words if word in workspace.groups), ""):
        first = workspace.groups[group][0]
        raise UsageFault(
            f"{group} is a group: the guided way goes into one environment at a time.",
            subject=group,
            details=[f"{group}: {', '.join(workspace.groups[group])}"],
            next_step=to_type("carry", *(first if word == group else word for word in words)),
        )
    # From the end: items that are called like an environment stand before.
    items, places = list(words), list[str]()
    while items and len(places) < 2 and items[-1] in workspace.environments:
        places.insert(0, items.pop())
    # One word is a selection before it is an item: for that it was saved under a name.
    saved = workspace.selections.get(items[0]) if len(items) == 1 else None
    if saved and (len(places) < 2 or places[0] == saved.environment):
        target = places[-1] if places and places != [saved.environment] else ""
        return _checked(Journey(name or items[0], saved.environment, target))
    is_slip = len(items) > 1 and near(items[-1], workspace.environments, alike=0.7)
    if not places and (is_slip or any(word in workspace.environments for word in items)):
        # An environment stands there, and behind it what was taken for one, or what should be one is misspelt:
        # refused by its name.
        workspace.environment(items[-1])
    if not items or not places:
        missing = "from which environment" if items else "what is to be carried"
        raise UsageFault(
            f"It isn't said {missing}.",
            details=[
                f"environments: {', '.join(workspace.environments) or 'none'}",
                f"saved selections: {', '.join(workspace.selections) or 'none'}",
            ],
            next_step=to_type("carry", *(items or [blank("ITEM")]), blank("FROM"), blank("TO")),
        )
    made = name or name_for(items[0])
    # It would be taken for the next version of something else.
    if not name and (other := workspace.selections.get(made)) and other.environment != places[0]:
        raise UsageFault(
            f"{made} is a selection of {other.environment} already.",
            subject=made,
            next_step=to_type("carry", *words, "--as", blank("NAME")),
        )
    return _checked(Journey(made, places[0], places[1] if len(places) > 1 else "", tuple(items)))


def _checked(journey: Journey) -> Journey:
    if journey.source == journey.target:
        raise UsageFault(
            f"{journey.name} comes from {journey.source}: there is nowhere to carry it to.",
            subject=journey.target,
            next_step=advice("Name another environment to carry it to."),
        )
    return journey


def route_from(session: Session, source: str) -> list[str]:
    """The environments behind one: by the route of the workspace, else by role."""
    workspace = session.workspace
    if source in workspace.route:
        return list(workspace.route[workspace.route.index(source) + 1 :])
    # Tests before live ones, and never back to where things are built.
    entries = [entry for entry in workspace.environments.values() if entry.name != source and entry.role != "build"]
    return [entry.name for entry in sorted(entries, key=lambda entry: ROLES.index(entry.role))]


def next_stop(session: Session, package: str, version: str, source: str) -> str:
    """The first environment behind the source in which this version of a package is not in force; empty where it is
    everywhere."""
    known = session.ledger.uids()
    for name in route_from(session, source):
        # By claims and not by runs: of one that was undone nothing is in force.
        rows = session.ledger.claims(known[name]) if name in known else []
        if newest(claim.version for claim in rows if claim.package == package) != version:
            return name
    return ""
