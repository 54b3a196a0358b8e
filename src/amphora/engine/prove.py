"""Whether an environment keeps what the Environment protocol promises, tried on it: for whoever writes a bridge
sheet, an adapter or a server. Everything is made in a folder of its own, and removed again."""

from __future__ import annotations

import contextlib
import re
import secrets
from dataclasses import replace

from amphora.core.form.filled import filled_in
from amphora.core.form.native import to_native
from amphora.core.form.native_ids import MARK
from amphora.core.form.portable import to_portable
from amphora.core.form.spots import is_mask, spotted
from amphora.core.form.visit import texts
from amphora.core.merge.phrase import place_phrase
from amphora.core.values.errors import AmphoraError, EnvironmentRefused, NotReady
from amphora.core.values.next_step import advice
from amphora.core.values.pointers import write_pointer
from amphora.core.values.raw import PIECE_BYTES, sha256_of
from amphora.core.values.tokens import MASK
from amphora.core.values.words import few
from amphora.engine.promises import Broken, Kept, Promise, Proving, expected
from amphora.engine.session import Session
from amphora.engine.sides import Side, own_side
from amphora.engine.specimens import remove
from amphora.engine.trial import MOST_READ, try_kind
from amphora.engine.unsaid_ids import unsaid_ids
from amphora.environments.contract import ByDescription, Environment, KeepsFiles


def prove(session: Session, name: str) -> list[Promise]:
    """Tries every promise on an environment. NotReady where people work there."""
    refuse_live(session, name)
    opened = session.open(name)
    # By chance: somebody else may be proving the same environment.
    proving = Proving(session, opened, f"amphora-proof-{secrets.token_hex(3)}")
    _read_only(proving)
    before = {row.native_id: row.revision for row in opened.environment.index()}
    try:
        for kind in sorted(opened.description.sheets) if proving.may_write else ():
            # Whatever breaks off between two promises is told as well, and the other kinds are tried all the same.
            with proving.trying("what was made can be looked at", kind):
                try_kind(proving, kind)
        if proving.may_write:
            _files(proving)
    finally:
        # Also of somebody who interrupts.
        _cleared(proving)
    with proving.trying("nothing else is touched"):
        after = {row.native_id: row.revision for row in opened.environment.index()}
        if other := sorted(id_ for id_ in before.keys() | after.keys() if before.get(id_) != after.get(id_)):
            raise Broken(f"{', '.join(other[:3])} changed meanwhile")
    return proving.promises


def refuse_live(session: Session, name: str) -> None:
    """NotReady for an environment where people work."""
    if session.workspace.environment(name).role == "live":
        raise NotReady(
            f"{name} is live: nothing is tried where people work.",
            subject=name,
            next_step=advice('Name an environment with role = "test", or one of your own.'),
        )


def _read_only(proving: Proving) -> None:
    environment, opened = proving.environment, proving.opened
    with proving.trying("it says what it is, and who is signed in"):
        if not opened.description.uid or "://" not in opened.description.base_url:
            raise Broken("it has no uid, or no address")
        if missing := sorted({"read", "write", "retire"} - environment.whoami().permissions):
            proving.may_write = False
            raise Broken(f"the account may not {', '.join(missing)}: the rest can't be tried")
    with proving.trying("its list is whole, in order, and says what single answers say"):
        _listed(environment)
    with proving.trying("what isn't there is told"):
        for nobody in _ids_of_nobody(environment):
            _nobody_is_there(environment, nobody)
    with proving.trying("definitions survive the way into a package and back"):
        _laws(proving)
    with proving.trying("no declared secret is shown"):
        _masked(proving)
    if isinstance(environment, ByDescription):
        _without_masks(proving)
        _without_slips(proving, environment)


def _listed(environment: Environment) -> None:
    rows = environment.index()
    ids = [row.native_id for row in rows]
    if ids != sorted(set(ids)):
        raise Broken("ids come twice, or not in order")
    some = rows[:MOST_READ]
    for row, found in zip(some, environment.read([row.native_id for row in some]), strict=True):
        for name in ("kind", "states", "revision", "link"):
            if (here := getattr(row, name)) != (there := getattr(found.listed, name)):
                raise Broken(
                    f"{row.states.title!r}: the list says {name} {_shown(here)}, its own answer {_shown(there)}"
                )
        # Not everything can be opened by itself; but where a link is, people have to be able to follow it.
        if not row.states.title or not row.revision or (row.link and "://" not in row.link):
            raise Broken(f"{row.native_id} has no title, no revision, or a link that is no address")


def _shown(value: object) -> str:
    text = str(value)
    return text if len(text) < 60 else f"{text[:57]}…"


def _nobody_is_there(environment: Environment, nobody: str) -> None:
    try:
        found = environment.look([nobody])
    except EnvironmentRefused as error:
        # A removal that took effect would be told as one that nobody may see.
        words = 'If that is how it says so: an [[error]] with means = "absent"'
        raise Broken(f"{error.message} {words}") from error
    if found:
        raise Broken("it shows an item under an id that nobody has")
    words = "reading an id that nobody has is not refused"
    expected(EnvironmentRefused, lambda: environment.read([nobody]), words)


def _ids_of_nobody(environment: Environment) -> list[str]:
    """Ids that nobody has, one of each kind."""
    # Of the form that the ids of a kind have: under another one it may not even be asked for.
    known: dict[str, str] = {}
    for row in environment.index():
        known[row.kind] = max(known.get(row.kind, ""), row.native_id, key=len)
    found = [_with_nobody(id_) for id_ in known.values() or ["1"]]
    # Also in something that is gone itself: what it held is looked for when that is removed.
    held = [id_.split(MARK) for id_ in known.values() if id_.count(MARK) > 1]
    return found + [MARK.join([space, _with_nobody(holder), *rest]) for space, holder, *rest in held]


_LONG_HEX = re.compile(r"[0-9a-fA-F]{4}-?[0-9a-fA-F]{12}\Z")
_OTHER_DIGITS = str.maketrans("0123456789abcdefABCDEF", "fedcba9876543210543210")


def _with_nobody(id_: str) -> str:
    if _LONG_HEX.search(id_):
        # As long as the others, or it may be refused for its looks. The last twelve digits of a UUID are plain ones.
        return id_[:-12] + id_[-12:].translate(_OTHER_DIGITS)
    return f"{id_}{'9' * 6 if id_[-1:].isdigit() else '-nobody'}"


def _laws(proving: Proving) -> None:
    side = _side(proving)
    some = list(side.by_key.items())[:MOST_READ]
    found = proving.environment.read([row.native_id for _, row in some])
    for (key, row), one in zip(some, found, strict=True):
        sheet = proving.opened.description.sheets[row.kind]
        first = to_portable(one.definition, sheet, side.names, key=key, binds_new=True)
        back = to_native(
            first.form, sheet, side.names, layout=first.layout, present=one.definition, files=first.files
        )
        # What is left out because it leads nowhere doesn't come back; then the second reading alone has to agree.
        if back.definition != one.definition and not first.dead:
            place = filled_in(one.definition, back.definition, sheet.places)[0].at
            raise Broken(f"{row.states.title!r} comes back otherwise at {place}")
        elsewhere = replace(side.names, values=dict(side.names.values), inner={}, held={})
        again = to_portable(back.definition, sheet, elsewhere, key=key, guide=first.form)
        if again.form != first.form:
            raise Broken(f"{row.states.title!r} is another thing the second time")


def _without_slips(proving: Proving, environment: ByDescription) -> None:
    promise = "something stands wherever the sheet says"
    with proving.trying(promise):
        ids = [row.native_id for row in proving.environment.index()[:MOST_READ]]
        empty, unnamed = environment.slips(ids)
        for kind, places in empty.items():
            proving.say(promise, Kept.ODD, kind, f"nothing stands at {few(places, 12)}")
        for kind, places in unnamed.items():
            words = f"it shows {few(places, 12)}, too: what no line names stays behind"
            proving.say("the sheet names what is shown", Kept.ODD, kind, words)
    promise = "ids stand where the kind sheets say"
    with proving.trying(promise):
        description = proving.opened.description
        some = [row.native_id for row in proving.environment.index()[:MOST_READ]]
        unsaid = unsaid_ids(description, proving.environment.read(some), proving.environment.supplies())
        for kind, places in unsaid.items():
            words = f"what stands at {few(places, 8)} looks like one, and would travel as it is"
            proving.say(promise, Kept.ODD, kind, f"{words}: a [[refers]] there, or volatile")


def _masked(proving: Proving) -> None:
    environment = proving.environment
    rows = environment.index()[:MOST_READ]
    for found in environment.read([row.native_id for row in rows]):
        sheet = proving.opened.description.sheets[found.listed.kind]
        for at, value, spot, _ in spotted(found.definition, sheet):
            if spot.is_secret and value not in (None, "", MASK):
                raise Broken(f"{found.listed.states.title!r} shows the secret at {write_pointer(at)}")


def _without_masks(proving: Proving) -> None:
    """A mask that no line calls a secret would be packed, and written over the secret of another environment."""
    promise = "masks of secrets stand where the kind sheets say secret"
    with proving.trying(promise):
        environment, told = proving.environment, dict[str, dict[str, None]]()
        for found in environment.read([row.native_id for row in environment.index()[:MOST_READ]]):
            for place, text in texts(found.definition):
                if is_mask(text):
                    told.setdefault(found.listed.kind, {})[place_phrase(re.sub(r"\d+", "*", place))] = None
        for kind, places in told.items():
            words = f"what stands at {few(list(places), 8)} looks like one: secret in the kind sheet"
            proving.say(promise, Kept.ODD, kind, words)


def _files(proving: Proving) -> None:
    """An attachment that no item names: it harms nobody, and may be forgotten again."""
    environment = proving.environment
    if not isinstance(environment, KeepsFiles):
        return
    with proving.trying("attachments come back to the byte, and only under their own name"):
        content = secrets.token_bytes(3 * PIECE_BYTES + 1)
        name, other = sha256_of(content), sha256_of(b"")
        expected(
            EnvironmentRefused,
            lambda: environment.keep_file(other, content),
            "an attachment is taken under the name of another",
        )
        environment.keep_file(name, content)
        # Once more, as after an answer that was lost.
        environment.keep_file(name, content)
        if environment.held_files([name, other]) != {name: len(content)}:
            raise Broken("it takes an attachment, and says something else of what it has")
        if b"".join(environment.file(name)) != content:
            raise Broken("an attachment comes back as something else")


def _side(proving: Proving) -> Side:
    return own_side(proving.opened, proving.session.ledger, proving.session.crosswalk)


def _cleared(proving: Proving) -> None:
    """Removes whatever is left, also what a creation whose answer was lost has made; what can't be is named."""
    # Where it can't be listed, the look at everything else says so right after.
    with contextlib.suppress(AmphoraError):
        lost = [row for row in proving.environment.index() if proving.is_ours(row.states.title)]
        proving.made |= {row.native_id: row.states.title for row in lost}
    for id_ in reversed(list(proving.made)):
        with proving.trying(f"{proving.made[id_]!r} ({id_}) is removed in the end"):
            remove(proving, [id_])
