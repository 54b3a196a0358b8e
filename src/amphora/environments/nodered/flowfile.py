"""The flow file of a runtime, seen as items: one flat array of nodes, pure functions over it.

Tabs and subflows are flows and their nodes are parts; dashboard pages with their groups are apps; config
nodes that carry credentials or a network address are connections; other config nodes are integrations.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import field, replace
from functools import cached_property

from amphora.core.form.addresses import is_address
from amphora.core.form.kinds import Outward
from amphora.core.values.canon import loose_digest
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json, States
from amphora.core.values.tokens import MASK
from amphora.environments.nodered.order import PLACE, Node, places_of
from amphora.environments.nodered.sheets import nodered_sheets

CONTAINERS = ("tab", "subflow")
PAGE, GROUP = "ui-page", "ui-group"
LINK, BASE = "ui-link", "ui-base"
BUILT_IN = frozenset({"tab", "subflow", "group", "junction", "comment"})


@dataclass(frozen=True)
class FileItem:
    """One item of a flow file: the node that stands for it and those that belong to it, in file order; `places` tells
    where each of them stands in the file."""

    kind: str
    head: Node
    members: tuple[Node, ...] = ()
    places: Mapping[str, Json] = field(default_factory=dict)

    @property
    def native_id(self) -> str:
        return str(self.head["id"])

    @property
    def title(self) -> str:
        name = self.head.get("label" if self.head["type"] == "tab" else "name")
        return str(name or self.head["type"])

    def told(self, outward: Outward | None) -> str:
        """The title of a connection; of one without a name its type and where it leads, as in "mqtt-broker at
        mill:1883": a runtime may have ten of a type, and nobody chooses among ids."""
        rules = outward or nodered_sheets()["integration"].outward
        address = "" if self.head.get("name") else _address(self.head, rules)
        return f"{self.title} at {address}" if address else self.title

    @property
    def states(self) -> States:
        """Title and switch; only tabs can be switched off."""
        is_on = not self.head.get("disabled", False) if self.head["type"] == "tab" else None
        return States(self.title, "", is_on, None)

    @property
    def nodes(self) -> tuple[Node, ...]:
        """All nodes, the head first."""
        return (self.head, *self.members)

    def revision(self) -> str:
        """Changes with everything that is written in the file about this item."""
        return self._revision

    @cached_property
    def _revision(self) -> str:
        # Of the item alone: the runtime's own revision moves with every other one's change. Worked out once: the list
        # and the single answer both tell it.
        return loose_digest([_cleaned(node) for node in self.nodes])[:16]

    def definition(self) -> Json:
        """The native definition: the head's own members, with nodes or groups under it."""
        own = {name: value for name, value in _cleaned(self.head).items() if name not in _outside(self.head)}
        # To the letter: some have no name, and some an empty one.
        own |= {"name": ""} if self.head.get("name") == "" and self.head["type"] != "tab" else {}
        link, listed = _below(self.kind)
        if self.members or self.kind != "integration":
            own[listed] = [
                self._placed(node, {n: v for n, v in _cleaned(node).items() if n != link}) for node in self.members
            ]
        return self._placed(self.head, own)

    def _placed(self, node: Node, shown: Node) -> Node:
        place = self.places.get(str(node["id"]))
        return shown if place is None else {**shown, PLACE: place}


def split(
    flows: Sequence[Node], with_credentials: Collection[str] = (), outward: Outward | None = None
) -> dict[str, FileItem]:
    """The items of a flow file by native id. `with_credentials` are the ids of config nodes that hold
    credentials. Connections come out as items of kind `connection`: `outward` tells what leads to another machine."""
    outward = outward or nodered_sheets()["integration"].outward
    heads = {str(node["id"]): node for node in flows if _is_head(node)}
    members: dict[str, list[Node]] = {}
    for node in flows:
        owner = _owner(node, heads)
        if owner is not None:
            members.setdefault(owner, []).append(node)
    known = {str(node["id"]) for node in flows}
    owned = {str(node["id"]) for nodes in members.values() for node in nodes}
    places = places_of(flows)
    return {
        id_: FileItem(_kind(node, with_credentials, known, outward), node, tuple(members.get(id_, ())), places)
        for id_, node in heads.items()
        if id_ not in owned
    }


def compose(kind: str, native_id: str, definition: Json, states: States, present: FileItem | None) -> list[Node]:
    """The nodes of an item to be written; masked secrets are taken from what is there at present."""
    before = {str(node["id"]): node for node in present.nodes} if present else {}
    link, listed = _below(kind)
    head = {name: value for name, value in definition.items() if name != listed}
    head = {"id": native_id, **head, "label" if head["type"] == "tab" else "name": states.title}
    if head["type"] == "tab":
        # Written in either case: a runtime takes a missing member for switched on, and a comparison would not.
        head["disabled"] = states.is_on is False
    # The title of a node without a name is its type: writing that as a name would be a change that nobody made.
    is_unnamed = present is None or not present.head.get("name")
    if is_unnamed and states.title == head["type"]:
        head.pop("name")
        head |= {"name": ""} if "name" in definition else {}
    nodes = [head, *(_joined(node, link, native_id) for node in definition.get(listed, ()))]
    return [unmasked(node, before.get(str(node["id"]))) for node in nodes]


def sendable(flows: Iterable[Node]) -> list[Node]:
    """A flow file without what must never be written back: computed members and masked credentials."""
    return [_sendable(node) for node in flows]


def with_masked_credentials(item: FileItem, fields: Mapping[str, Collection[str]]) -> FileItem:
    """The item with a masked `credentials` member on each node that holds some (`fields`: by node id)."""

    def marked(node: Node) -> Node:
        names = fields.get(str(node["id"]), ())
        return {**node, "credentials": dict.fromkeys(sorted(names), MASK)} if names else node

    return replace(item, head=marked(item.head), members=tuple(marked(node) for node in item.members))


def masked(node: Node) -> Node:
    """A node without the values of its secret environment entries."""
    entries = node.get("env")
    if not isinstance(entries, list):
        return node
    return {**node, "env": [{**e, "value": MASK} if _is_secret(e) else e for e in entries]}


def _is_secret(entry: Json) -> bool:
    # An empty one holds no secret, and a mask there would be taken for one.
    return isinstance(entry, dict) and bool(entry.get("type") == "cred" and entry.get("value"))


def unmasked(node: Node, before: Node | None) -> Node:
    """Masked values of typed environment entries, taken from the node as it is now."""
    entries = node.get("env")
    if not isinstance(entries, list):
        return node
    there = (before or {}).get("env")
    there = there if isinstance(there, list) else []
    # By name: entries are moved about in the editor, and a password must not go to its neighbour.
    old = {str(e.get("name")): e.get("value", "") for e in there if isinstance(e, dict)}
    kept = [
        {**e, "value": old.get(str(e.get("name")), "")} if isinstance(e, dict) and e.get("value") == MASK else e
        for e in entries
    ]
    return {**node, "env": kept}


def _is_head(node: Node) -> bool:
    return node["type"] in CONTAINERS or not node.get("z")


def _owner(node: Node, heads: Mapping[str, Node]) -> str | None:
    if node["type"] in CONTAINERS:
        return None
    # `z` is how the flow file says on which tab or subflow a node stands; what a dashboard is made of says it each in
    # its own way.
    if owner := node.get("z"):
        head = heads.get(str(owner))
        # A `z` that leads to nothing makes the node stand by itself, as the editor shows it.
        return str(owner) if head is not None and head["type"] in CONTAINERS else None
    if node["type"] == LINK:
        return _of_type(node.get("ui"), BASE, heads)
    if node["type"] == GROUP:
        return _of_type(node.get("page"), PAGE, heads)
    # What fills a group and is nobody's reference, a spacer, would otherwise never come along.
    group = heads.get(str(node.get("group")), {}) if str(node["type"]).startswith("ui-") else {}
    return _of_type(group.get("page"), PAGE, heads) if group.get("type") == GROUP else None


def _of_type(id_: Json, type_: str, heads: Mapping[str, Node]) -> str | None:
    head = heads.get(str(id_))
    return str(id_) if head is not None and head["type"] == type_ else None


def _below(kind: str) -> tuple[str, str]:
    """What leads from a node to its item, and under which name such nodes stand in the definition."""
    return {"flow": ("z", "nodes"), "app": ("page", "groups")}.get(kind, ("ui", "links"))


def _joined(node: Node, link: str, native_id: str) -> Node:
    """A node with what leads to its item: what stands in a group names that group only."""
    return node if link == "page" and node.get("type") != GROUP else {**node, link: native_id}


def _kind(node: Node, with_credentials: Collection[str], known: Collection[str], outward: Outward) -> str:
    if node["type"] in CONTAINERS:
        return "flow"
    if node["type"] == PAGE:
        return "app"
    # What leads to another machine belongs to the environment, and must never travel.
    is_addressed = any(_is_address(name, value, known, outward) for name, value in node.items())
    is_inner = node["type"].startswith("ui-") or node["type"] in outward.never
    # What holds a password belongs to its environment, whatever anybody says of its type.
    is_outward = node["type"] in outward.types or (is_addressed and not is_inner)
    return "connection" if is_outward or node["id"] in with_credentials else "integration"


def _is_address(name: str, value: Json, known: Collection[str], outward: Outward) -> bool:
    """Whether a member of a config node leads to another machine: by its name, or by what stands in it. What is the
    id of a node is a reference, whatever the member is called."""
    if isinstance(value, list):
        return any(_is_address(name, part, known, outward) for part in value)
    return isinstance(value, str) and value not in known and is_address(name, value, outward)


def _address(node: Node, outward: Outward) -> str:
    """Where a config node leads to, without what somebody signs in with there; empty where nothing tells."""
    texts = {name: value for name, value in node.items() if isinstance(value, str) and "${" not in value}
    # By the order of the members: of `host` and `path` the first tells more.
    told = [texts[name] for name in outward.members if texts.get(name)]
    told += [value for name, value in texts.items() if is_address(name, value, outward)]
    if not told:
        return ""
    if "://" in told[0]:
        return _without_sign_in(told[0])
    port = str(node.get("port") or "")
    return f"{told[0]}:{port}" if port and ":" not in told[0] else told[0]


def _without_sign_in(url: str) -> str:
    """A URL without user, password, query and fragment."""
    scheme, _, rest = url.partition("://")
    machine, slash, path = rest.partition("/")
    return f"{scheme}://{machine.rpartition('@')[2]}{slash}{path}".partition("?")[0].partition("#")[0]


def _outside(head: Node) -> tuple[str, ...]:
    return ("id", "label", "disabled") if head["type"] == "tab" else ("id", "name")


def _cleaned(node: Node) -> Node:
    if "_users" not in node and PLACE not in node:
        return node
    return {name: value for name, value in node.items() if name not in ("_users", PLACE)}


def _sendable(node: Node) -> Node:
    node = _cleaned(node)
    credentials = node.get("credentials")
    if isinstance(credentials, dict):
        # A runtime keeps what is not sent: leaving a masked field out is how to say "keep".
        given = {name: value for name, value in credentials.items() if value != MASK}
        node = {name: value for name, value in node.items() if name != "credentials"}
        if given:
            node["credentials"] = given
    return node
