"""The Environment protocol over a runtime: keeps ids, writes everything in one atomic, revision-checked call."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Collection, Iterable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from urllib.parse import quote, urlsplit

from amphora.core.form.bindings import IdStyle
from amphora.core.form.kinds import Outward
from amphora.core.form.spots import mask_secrets, reference_values
from amphora.core.plan.states import Image
from amphora.core.values.errors import EnvironmentRefused, RevisionMoved, UsageFault
from amphora.core.values.model import Found, Listed, Supply
from amphora.core.values.next_step import advice
from amphora.environments.contract import (
    NEXT,
    Capabilities,
    Description,
    Identity,
    Reserved,
    Seen,
    Take,
    Wanted,
    Write,
    Written,
)
from amphora.environments.nodered.client import Client
from amphora.environments.nodered.flowfile import (
    BUILT_IN,
    CONTAINERS,
    FileItem,
    compose,
    sendable,
    split,
    with_masked_credentials,
)
from amphora.environments.nodered.order import Change, Node, rewritten
from amphora.environments.nodered.sheets import nodered_sheets
from amphora.files.sheets import read_sheet

ID_PATTERN = r"[0-9a-zA-Z._-]{8,}"
MOST_AT_ONCE = 8
"""So many calls are under way at a time: a runtime serves people, too."""
_PLAIN_TYPES = frozenset({
    "inject", "debug", "complete", "catch", "status", "comment", "function", "switch", "change", "range",
    "template", "delay", "trigger", "exec", "rbe", "split", "join", "sort", "batch", "csv", "html", "json",
    "xml", "yaml", "file", "file in", "watch", "junction", "unknown", "link in", "link out", "link call",
    "http in", "http response", "mqtt in", "mqtt out",
})  # fmt: skip
"""Node types that never hold credentials, so that nobody has to ask for each node."""
_ALL = frozenset({"read", "write", "publish", "switch", "retire", "grant"})


def connect(location: str, folder: Path, user: str, secret: str, ca_file: str = "") -> NodeRed:
    """Opens `nodered+http://HOST:PORT`."""
    base_url = location.partition("+")[2]
    parts = urlsplit(base_url)
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise UsageFault(
            f"{location!r} is no location of a runtime.",
            subject=location,
            next_step=advice("Write it like nodered+http://127.0.0.1:1880"),
        )
    outward = nodered_sheets()["integration"].outward
    # The one rule of a kind sheet that has to be known before there are items at all.
    ours = folder / "kinds" / "integration.toml"
    if ours.is_file():
        outward = outward.with_more(read_sheet(ours).outward)
    return NodeRed(Client(base_url, user, secret, ca_file=ca_file), outward)


class NodeRed:
    """A runtime as an environment. Its uid is made from its address, as a runtime has none of its own."""

    def __init__(self, client: Client, outward: Outward | None = None) -> None:
        self.client = client
        self._outward = outward
        self._credentials: dict[tuple[str, str], tuple[str, ...]] = {}
        self._split: tuple[list[Node], set[str], dict[str, FileItem]] = ([], set(), {})

    def describe(self) -> Description:
        settings = self.client.table("/settings")
        return Description(
            # By address: nothing in a runtime stays the same through a change of its flows and of its version.
            uid="nodered-" + hashlib.sha256(self.client.base_url.encode()).hexdigest()[:16],
            release=str(settings.get("version", "")),
            region="",
            base_url=self.client.base_url,
            capabilities=Capabilities(is_atomic=True, keeps_ids=True, has_drafts=False, writes_states=True),
            id_style=IdStyle(ID_PATTERN),
            sheets=nodered_sheets(),
            features=frozenset(self.client.types()) | BUILT_IN,
        )

    def whoami(self) -> Identity:
        user = self.client.table("/settings").get("user")
        if not isinstance(user, dict) or not user:
            return Identity("nobody", "open to everybody", _ALL)
        # A text for one, a list for several: both come from real runtimes.
        given = user.get("permissions", [])
        scopes = {given} if isinstance(given, str) else set(given)
        may = set(_ALL) if "*" in scopes else set()
        if scopes & {"read", "flows.read", "*"}:
            may.add("read")
        if scopes & {"write", "flows.write"}:
            may |= {"write", "switch", "retire", "grant"}
        return Identity(str(user.get("username", "")), " ".join(sorted(map(str, scopes))), frozenset(may))

    def index(self) -> list[Listed]:
        items, _, _ = self._items()
        return [self._listed(item) for _, item in sorted(items.items()) if item.kind != "connection"]

    def read(self, native_ids: Sequence[str], take: Take = "live") -> list[Found]:
        items, _, _ = self._items()
        self._learn([node for id_ in native_ids if id_ in items for node in items[id_].nodes])
        return [self._found(self._one(items, id_)) for id_ in native_ids]

    def look(self, native_ids: Sequence[str]) -> dict[str, Image]:
        items, _, _ = self._items()
        self._learn([node for id_ in native_ids if id_ in items for node in items[id_].nodes])
        return {
            id_: self._image(items[id_]) for id_ in native_ids if id_ in items and items[id_].kind != "connection"
        }

    def supplies(self) -> list[Supply]:
        items, _, _ = self._items()
        return [
            Supply(
                "connection",
                id_,
                item.told(self._outward),
                str(item.head["type"]),
                is_unnamed=not item.head.get("name"),
            )
            for id_, item in sorted(items.items())
            if item.kind == "connection"
        ]

    def reserve(self, wanted: Sequence[Wanted]) -> list[Reserved]:
        items, flows, _ = self._items()
        held = {str(node["id"]) for node in flows}
        return [self._reserved(one, items, held) for one in wanted]

    def write(self, writes: Sequence[Write]) -> list[Written]:
        items, flows, revision = self._items()
        changes: list[Change] = []
        held = {str(node["id"]) for node in flows}
        for write in writes:
            present = self._seen(write, items)
            nodes = _composed(write, present)
            held -= {str(node["id"]) for node in present.nodes} if present else set()
            # Ids are those of nodes all over the file: one that is written twice takes the node from another item.
            if twice := sorted(held & {str(node["id"]) for node in nodes}):
                raise EnvironmentRefused(
                    f"{write.states.title!r} would take the node {twice[0]} from another item.", subject=twice[0]
                )
            held |= {str(node["id"]) for node in nodes}
            changes.append((present.nodes if present else (), nodes))
        after = rewritten(flows, changes)
        self._deploy(flows, after, revision)
        # What was written is known; reading it back is not part of the call, and may fail without undoing it.
        plain = [{name: part for name, part in node.items() if name != "credentials"} for node in after]
        written = split(plain, outward=self._outward)
        done = [self._listed(self._one(written, str(write.native_id))) for write in writes]
        return [Written(row.native_id, row.revision, row.link) for row in done]

    def switch(self, item: Seen, is_on: bool) -> None:
        items, flows, revision = self._items()
        head = {**self._as_seen(items, item).head, "disabled": not is_on}
        self._deploy(flows, [head if node["id"] == item.native_id else node for node in flows], revision)

    def retire(self, items: Sequence[Seen]) -> None:
        there, flows, revision = self._items()
        leaving = {item.native_id: self._as_seen(there, item) for item in items}
        self._refuse_used(there, leaving)
        self._deploy(flows, rewritten(flows, [(item.nodes, ()) for item in leaving.values()]), revision)

    def close(self) -> None:
        self.client.close()

    def _items(self) -> tuple[dict[str, FileItem], list[Node], str]:
        flows, revision = self.client.flows()
        config = [node for node in flows if not node.get("z") and node["type"] not in ("tab", "subflow")]
        self._learn(config)
        holding = {str(node["id"]) for node in config if self._credential_fields(node)}
        known, held, items = self._split
        # By the very list: the client gives the same one while the file says the same.
        if known is not flows or held != holding:
            items = split(flows, holding, self._outward)
            self._split = flows, holding, items
        return items, flows, revision

    def _refuse_used(self, there: Mapping[str, FileItem], leaving: Mapping[str, FileItem]) -> None:
        """A runtime deletes what others use without a word, and leaves them with a dead id."""
        for native_id, item in there.items():
            if native_id in leaving or item.kind not in nodered_sheets():
                continue
            used = {value for _, value, _ in reference_values(item.definition(), nodered_sheets()[item.kind])}
            if dead := sorted(used & leaving.keys()):
                raise EnvironmentRefused(
                    f"{leaving[dead[0]].title!r} is used by {item.title!r}.",
                    subject=native_id,
                    next_step=NEXT["in-use"],
                )

    def _one(self, items: Mapping[str, FileItem], native_id: str) -> FileItem:
        if native_id not in items:
            raise EnvironmentRefused(f"{self.client.base_url} has no item {native_id!r}.", subject=native_id)
        return items[native_id]

    def _found(self, item: FileItem) -> Found:
        marked = self._with_credentials(item)
        return Found(self._listed(item), mask_secrets(marked.definition(), nodered_sheets()[item.kind]))

    def _with_credentials(self, item: FileItem) -> FileItem:
        return with_masked_credentials(item, {str(n["id"]): self._credential_fields(n) for n in item.nodes})

    def _learn(self, nodes: Sequence[Node]) -> None:
        """Asks for the names of several nodes' credentials side by side: each is a call of its own, and for a file of
        hundreds one after the other took a minute."""
        # Those that were asked after already are known until the next deploy.
        unknown = [node for node in nodes if self._has_unknown_credentials(node)]
        if len(unknown) > 1:
            with ThreadPoolExecutor(MOST_AT_ONCE) as pool:
                list(pool.map(self._credential_fields, unknown))

    def _has_unknown_credentials(self, node: Node) -> bool:
        type_ = re.sub(r"\s+", "-", str(node["type"]))
        return _may_hold_credentials(node, type_) and (type_, str(node["id"])) not in self._credentials

    def _credential_fields(self, node: Node) -> Collection[str]:
        """The names of a node's credentials that are set; the values never leave the runtime."""
        type_, id_ = re.sub(r"\s+", "-", str(node["type"])), str(node["id"])
        if not _may_hold_credentials(node, type_):
            return ()
        if (type_, id_) not in self._credentials:
            answer = self.client.table(f"/credentials/{quote(type_, safe='')}/{quote(id_, safe='')}")
            names = {name.removeprefix("has_") for name, value in answer.items() if value not in ("", False, None)}
            self._credentials[type_, id_] = tuple(sorted(names))
        return self._credentials[type_, id_]

    def _image(self, item: FileItem) -> Image:
        found = self._found(item)
        return Image.of(found.listed, found.definition)

    def _listed(self, item: FileItem) -> Listed:
        # A page is opened by those who work with it, everything else in the editor.
        path = f"/dashboard{item.head.get('path', '')}" if item.kind == "app" else f"/#flow/{item.native_id}"
        parts = tuple(str(node["id"]) for node in item.members)
        return Listed(
            native_id=item.native_id,
            kind=item.kind,
            segments=(item.title,),
            states=item.states,
            revision=item.revision(),
            link=self.client.base_url + path,
            parts=parts,
        )

    def _reserved(self, wanted: Wanted, items: Mapping[str, FileItem], held: set[str]) -> Reserved:
        # Ids travel as they are where they are free: links, scripts and people then find the node where they
        # expect it.
        present = items.get(wanted.native_id) if not wanted.is_new else None
        mine = {str(node["id"]) for node in present.nodes} if present else set()
        native_id = wanted.native_id
        if wanted.is_anew and wanted.is_new:
            # As if they were taken: whoever asks for others gets others.
            held |= {wanted.native_id, *wanted.parts}
        if wanted.is_new:
            native_id = _free_id(f"{self.client.base_url}/{wanted.key}", wanted.native_id, held)
            held.add(native_id)
        inner = {}
        for part in wanted.parts:
            known = wanted.inner.get(part)
            if known is None and part in mine and part not in wanted.inner.values():
                continue
            there = known or _free_id(f"{self.client.base_url}/{wanted.key}#{part}", part, held)
            held.add(there)
            if there != part:
                inner[part] = there
        return Reserved(native_id, inner)

    def _seen(self, write: Write, items: Mapping[str, FileItem]) -> FileItem | None:
        present = items.get(str(write.native_id))
        if write.is_new and present is None:
            return None
        if write.is_new or present is None or present.revision() != write.revision:
            raise self._moved(write.states.title)
        return present

    def _as_seen(self, items: Mapping[str, FileItem], item: Seen) -> FileItem:
        present = self._one(items, item.native_id)
        # Per item and not by the file's revision: others work in the same file all day.
        if present.revision() != item.revision:
            raise self._moved(present.title)
        return present

    def _moved(self, title: str) -> RevisionMoved:
        return RevisionMoved(
            f"{title!r} was changed in {self.client.base_url} meanwhile.",
            subject=title,
            next_step=advice("Run the same command again."),
        )

    def _deploy(self, before: Sequence[Node], after: Sequence[Node], revision: str) -> None:
        """Writes the file, if anything in it changed."""
        # A deploy may set credentials or do away with them.
        self._credentials.clear()
        if sendable(after) != sendable(before):
            self.client.deploy(sendable(after), revision)


def _composed(write: Write, present: FileItem | None) -> list[Node]:
    """The nodes of what is to be written; EnvironmentRefused where one lacks what every node has."""
    try:
        nodes = compose(write.kind, str(write.native_id), write.definition, write.states, present)
        lacking = [name for node in nodes for name in ("id", "type") if not node.get(name)]
    except KeyError as error:
        nodes, lacking = [], [str(error.args[0])]
    if lacking:
        title = write.states.title
        raise EnvironmentRefused(f"{title!r} has a node without {lacking[0]!r}.", subject=str(write.native_id))
    return nodes


def _may_hold_credentials(node: Node, type_: str) -> bool:
    """Whether a node has to be asked about: one call for each takes minutes for a file of thousands, so that nobody
    is asked about nodes that never hold credentials."""
    if node["type"] in _PLAIN_TYPES or type_.startswith("ui-"):
        return False
    is_container = type_ in (*CONTAINERS, "group") or type_.startswith("subflow:")
    entries = node.get("env")
    entries = entries if isinstance(entries, list) else []
    return not is_container or any(isinstance(e, dict) and e.get("type") == "cred" for e in entries)


def _free_id(seed: str, wanted: str, held: Iterable[str]) -> str:
    """The wanted id where it is free, else one made from the seed: the same every time."""
    candidate, number = wanted, 0
    while not candidate or candidate in held:
        number += 1
        # Not random: an import that is done again after a crash has to arrive at the same ids.
        candidate = hashlib.sha256(f"{seed}/{number}".encode()).hexdigest()[:16]
    return candidate
