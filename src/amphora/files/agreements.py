"""Agreement to a docket: whoever looked at it signs what stands in it (JWS, RFC 7515, with EdDSA), inside the file.

What is signed is the document without the agreements, in canonical bytes (RFC 8785): comments, order and quoting may
change, and nothing else.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from amphora.core.plan.docket import Docket
from amphora.core.values.canon import digest
from amphora.core.values.errors import NotReady
from amphora.core.values.late import dataclass
from amphora.core.values.next_step import advice
from amphora.files.docket_file import (
    AGREED,
    HEADER,
    OPEN,
    DocketFile,
    document_of,
    fault,
    is_docket,
    json_of,
    read_docket,
    write_docket,
)
from amphora.files.signatures import Trust, Verdict, own_keys, private_key, signed_text, verdict_on
from amphora.files.yaml_text import dump_yaml, load_yaml, write_text


@dataclass(frozen=True)
class Agreement:
    """One person's agreement: what the signature is worth, whose it is, and when it was given. `is_own` tells that
    the private half of the key is the user's at this machine: nobody agrees to what they bring themselves."""

    verdict: Verdict
    at: str
    is_own: bool = False

    @property
    def counts(self) -> bool:
        """Whether it is an agreement of somebody trusted, to what stands in the docket now."""
        return self.verdict.trust is Trust.GOOD

    @property
    def words(self) -> str:
        """Who agreed, and when."""
        return f"{self.verdict.key} ({self.at})" if self.counts else f"{self.verdict.words}, {self.at}"


def agree(path: Path, name: str, at: str) -> DocketFile:
    """Signs a docket with the user's key of that name. NotReady while it has open questions: nobody agrees to what is
    still to be decided."""
    file = read_docket(path)
    if places := open_questions(file):
        raise NotReady(
            f"{path.name} has questions that nobody has answered: nothing was signed.",
            subject=str(path),
            details=places,
            next_step=advice("Answer them in the file, and sign it then."),
        )
    key = private_key(name)
    document = load_yaml(path)
    # With the time inside: it could be moved otherwise, and with it whether they had seen the last change.
    payload = {"docket": agreed_part(path, document), "at": at}
    signature = signed_text(json.dumps(payload, sort_keys=True).encode(), key)
    document[AGREED] = [*(document.get(AGREED) or []), {"by": name, "at": at, "signature": signature}]
    text = dump_yaml(document)
    # A document that was read keeps its comments; one that somebody has stripped of them gets the header again.
    write_text(path, text if text.lstrip().startswith("#") else HEADER + text)
    return read_docket(path)


def write_again(path: Path, docket: Docket) -> None:
    """Writes a docket. Over one that somebody has agreed to only where it says the same, and then their agreements
    stay: NotReady where they would be lost."""
    # Any other file of that name is not our matter here: `write_docket` says what it thinks of it.
    there = load_yaml(path) if is_docket(path) else {}
    rows = there.get(AGREED) if isinstance(there, Mapping) else None
    if not rows:
        write_docket(path, docket)
        return
    if agreed_part(path, there) != agreed_part(path, document_of(docket)):
        raise NotReady(
            f"{path.name} is a docket that {len(rows)} agreed to, and is another one now; it was left as it is.",
            subject=str(path),
            next_step=advice("Write the new one into another file, and have it agreed to anew."),
        )


def agreed_part(path: Path, document: Mapping[str, Any]) -> str:
    """The digest of what is agreed to."""
    return digest(
        {str(name): json_of(value, path, document, name) for name, value in document.items() if name != AGREED}
    )


def open_questions(file: DocketFile) -> list[str]:
    """The places of a docket at which somebody has to choose."""
    found = []
    for key, row in file.document["items"].items():
        if row.get("choice") == OPEN:
            found.append(str(key))
        found += [f"{key} {place}" for place, one in (row.get("changes") or {}).items() if one.get("choice") == OPEN]
    return found


def agreements(file: DocketFile, trusted: Path) -> list[Agreement]:
    """Who agreed to a docket, and what that is worth: a signature over another state of it is worth nothing."""
    path, document = Path(file.decisions.file), file.document
    rows = document.get(AGREED) or []
    if not isinstance(rows, list):
        raise fault(path, f"`{AGREED}` has to be a list.", document, AGREED)
    if not rows:
        return []
    mine, part = own_keys(), agreed_part(path, document)
    found: dict[str, Agreement] = {}
    for row in rows:
        if not isinstance(row, Mapping) or set(row) != {"by", "at", "signature"}:
            raise fault(path, "An agreement is by, at and signature.", document, AGREED)
        verdict, payload, kid = verdict_on(str(row["signature"]), trusted)
        said = payload if isinstance(payload, Mapping) else {}
        # A good signature over something else: the docket was changed since, or it is another one's.
        if verdict.trust is Trust.GOOD and said != {"docket": part, "at": str(row["at"])}:
            verdict = Verdict(Trust.WRONG, verdict.key)
        # One person counts once, however often they sign.
        if kid not in found or not found[kid].counts:
            found[kid] = Agreement(verdict, str(row["at"]), kid in mine)
    return list(found.values())
