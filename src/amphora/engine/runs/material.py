"""Where the definitions come from that steps write: a docket's forms, or the images of what was before."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from dataclasses import field, replace

from amphora.core.form.bindings import Bindings, IdStyle
from amphora.core.form.hollow import hollowed
from amphora.core.form.kinds import KindSheet
from amphora.core.form.native import to_native
from amphora.core.form.portable import to_portable
from amphora.core.form.spots import mask_secrets, masked_places
from amphora.core.needs.crosswalk import Mapped, MapState
from amphora.core.plan.docket import Docket
from amphora.core.plan.states import Image
from amphora.core.plan.steps import Create, CreateBare, Drawn, Move, Step, Update, WriteAll
from amphora.core.values.errors import EnvironmentRefused, NotReady
from amphora.core.values.keys import Key, decode_segment, path_of
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.core.values.next_step import to_type
from amphora.core.values.pointers import parse_pointer, without_value
from amphora.core.values.raw import Raw
from amphora.core.values.sought import Sought
from amphora.core.values.strict_json import pretty_bytes
from amphora.environments.contract import Description
from amphora.environments.locations import kept_secret
from amphora.files.rows import rows_of


class DocketMaterial:
    """The definitions that a docket decided on, rendered with its bindings and the ids made so far."""

    comes_back = False

    def __init__(self, docket: Docket, description: Description) -> None:
        self._docket = docket
        self._description = description
        self._actions = {action.key: action for action in docket.actions}
        self._names = with_secrets(docket)

    def draw(self, step: Step, key: Key, now: Image | None) -> Drawn:
        """The item's form in native words, laid over what is there."""
        # A move writes what is there, into another folder: no package and no image has a say in it.
        if isinstance(step, Move):
            return moved(step, key, now)
        action = self._actions[key]
        sheet = self._description.sheets[action.item.kind]
        later = set(step.later) if isinstance(step, CreateBare) else set()
        later |= self._docket.bare.get(key, frozenset())
        states = self._docket.at_first(action.states, action)
        native = to_native(
            hollowed(action.form, later, sheet) if later else action.form,
            sheet,
            self._names,
            inner=self._names.inner.get(key),
            layout=action.to_lay,
            present=now.newest if now else None,
            files=self._docket.files,
        )
        if native.missing:
            place, missing = native.missing[0]
            raise NotReady(
                f"{missing} has no value in {self._docket.target}.",
                subject=key,
                place=place,
                next_step=to_type("map", self._docket.name, self._docket.target),
            )
        segments = tuple(decode_segment(part) for part in path_of(key).split("/"))
        masked = mask_secrets(native.definition, sheet)
        return Drawn(action.item.kind, segments, states, native.definition, masked)

    def rows(self, key: Key) -> Iterator[Json]:
        """The rows that the package holds."""
        return rows_of(self._docket.records[key])

    def file(self, name: str) -> Raw | None:
        """An attachment of the package, or one that the target had already."""
        return self._docket.files.get(name)

    def chosen_id(self, key: Key) -> str | None:
        """The id that was reserved for a new item."""
        # Only where the environment takes our word for it; elsewhere an id in `values` is one that it has given
        # already.
        is_ours = self._description.capabilities.keeps_ids
        return str(self._names.values[key]) if is_ours and key in self._names.values else None

    def uses(self, key: Key) -> frozenset[Key]:
        """What the package's item uses; nothing where it has none, as of what is to go."""
        action = self._actions.get(key)
        return frozenset(action.item.uses()) if action else frozenset()

    def learn(self, key: Key, native_id: str) -> None:
        """Binds the id."""
        self._names.bind(key, native_id)


@dataclass
class ImageMaterial:
    """The definitions of what was before a run, in native words: no crosswalk has a say in them. Where an item
    had to be made again under a new id, whatever refers to it follows."""

    before: Mapping[Key, Image | None]
    description: Description
    kept_rows: Mapping[Key, Raw] = field(default_factory=dict)
    renamed: dict[Key, str] = field(default_factory=dict)
    kept_file: Callable[[str], Raw | None] = lambda name: None
    comes_back: bool = True
    _old_ids: Sought = field(default_factory=Sought)

    def __post_init__(self) -> None:
        self.follow(self.renamed)

    def follow(self, renamed: Mapping[Key, str]) -> None:
        """Remembers the new ids of items, so that what refers to them follows."""
        for key, native_id in renamed.items():
            self.renamed[key] = native_id
            if image := self.before.get(key):
                self._old_ids.add(image.native_id, key)

    def draw(self, step: Step, key: Key, now: Image | None) -> Drawn:
        """One of the image's two definitions."""
        if isinstance(step, Move):
            return moved(step, key, now)
        image = self.before[key]
        assert image is not None
        assert isinstance(step, Create | Update | WriteAll)
        sheet = self.description.sheets[image.kind]
        version = image.draft if step.version == "draft" else image.newest if image.live is None else image.live
        later = set(step.later) if isinstance(step, CreateBare) else set()
        definition = self.following(version, key, sheet, later)
        # A mask that nobody can fill any more would be refused, or worse, written as a secret.
        definition = keepable(definition, now.newest if now else None, sheet)
        return Drawn(image.kind, image.segments, image.states, definition, definition)

    def rows(self, key: Key) -> Iterator[Json]:
        """The rows that were kept when the item was retired."""
        return rows_of(self.kept_rows[key])

    def file(self, name: str) -> Raw | None:
        """An attachment that was kept when a run took it away."""
        return self.kept_file(name)

    def chosen_id(self, key: Key) -> str | None:
        """The id that the item had, where it is ours to choose."""
        image = self.before.get(key)
        return image.native_id if image and self.description.capabilities.keeps_ids else None

    def uses(self, key: Key) -> frozenset[Key]:
        """Nobody has asked, so it may be anything of the run."""
        return frozenset(self.before)

    def learn(self, key: Key, native_id: str) -> None:
        """Remembers the new id of an item that was made again; one that has its old id again has no new one."""
        image = self.before.get(key)
        if image and image.native_id != native_id:
            self.follow({key: native_id})
        else:
            self.renamed.pop(key, None)
            if image:
                self._old_ids.discard(image.native_id)

    def following(self, definition: Json, key: Key, sheet: KindSheet, later: Collection[Key] = ()) -> Json:
        """The definition with the new ids of what was made again, without references to what comes `later`."""
        text = pretty_bytes(definition).decode()
        named = {*self._old_ids.inside(text), *later}
        old = {k: image.native_id for k in named if (image := self.before.get(k)) and image.native_id in text}
        # Nearly always: then the definition is given back as it is, to the byte, without going through a portable
        # form.
        if not old:
            return definition
        style: IdStyle = self.description.id_style
        names = Bindings(style, dict(old))
        portable = to_portable(definition, sheet, names, key=key)
        form = hollowed(portable.form, later, sheet) if later else portable.form
        today = Bindings(style, {**names.values, **{k: self.renamed[k] for k in old if k in self.renamed}})
        files = portable.files
        return to_native(form, sheet, today, layout=portable.layout, present=definition, files=files).definition


def moved(step: Move, key: Key, now: Image | None) -> Drawn:
    """The item as it is, in another folder."""
    if now is None:
        raise EnvironmentRefused("It is not there (any more).", subject=key)
    states = replace(now.states, folder=step.folder)
    return Drawn(now.kind, now.segments, states, now.newest, now.newest)


def keepable(definition: Json, present: Json, sheet: KindSheet) -> Json:
    """A definition without the masks of secrets that nobody holds any more: a mask means `keep what is there`."""
    for pointer in lost_secrets(definition, present, sheet):
        definition = without_value(definition, parse_pointer(pointer))
    return definition


def lost_secrets(definition: Json, present: Json, sheet: KindSheet) -> list[str]:
    """The places at which a secret stood that is not there now: a mask is all that was ever kept of it."""
    held = set(masked_places(present, sheet).values()) if present is not None else set()
    return [pointer for pointer, named in masked_places(definition, sheet).items() if named not in held]


def secrets_at_hand(mapped: Iterable[Mapped], environment: str) -> dict[Key, str]:
    """The secrets that the crosswalk points to and that are where it says."""
    places = {
        one.need.key: str(one.value) for one in mapped if one.need.kind == "secret" and one.state is MapState.MAPPED
    }
    return {key: secret for key, place in places.items() if (secret := kept_secret(place, environment))}


def with_secrets(docket: Docket) -> Bindings:
    """A copy of the docket's bindings to which created ids are added, with the secrets that the crosswalk
    points to read from where they are kept; nothing of it is ever stored."""
    names = replace(docket.bindings, values=dict(docket.bindings.values))
    for key, secret in secrets_at_hand(docket.mapped, docket.target).items():
        names.bind(key, secret)
    return names
