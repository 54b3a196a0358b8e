"""Results of sign and keys."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from amphora.core.values.model import Contents
from amphora.core.values.next_step import advice, blank, to_type
from amphora.core.values.words import counted
from amphora.files.agreements import Agreement
from amphora.files.docket_file import DocketFile
from amphora.files.signatures import Trust
from amphora.render.result import Block, Cell, Grid, Result, Row


def sign_result(contents: Contents, key: str, path: Path) -> Result:
    """A package was signed."""
    data = {"package": contents.title, "key": key, "file": str(path), "package_digest": contents.package_digest}
    return Result(
        "sign", f"{contents.title} is signed by {key}.", "good", data=data, next_step=to_type("peek", str(path))
    )


def agreed_result(file: DocketFile, found: Sequence[Agreement], needed: int, key: str) -> Result:
    """Somebody agreed to a docket."""
    path = file.decisions.file
    good = [one for one in found if one.counts]
    verdict = f"{key} has agreed: {file.package} {file.version} into {file.target}."
    if not any(one.verdict.key == key for one in good):
        verdict = f"Signed by {key}, whose key is not trusted in this workspace."
    blocks: list[Block] = [agreement_block(found)]
    data = {"docket": path, "key": key, "agreed": agreements_json(found), "needed": needed}
    lacking = needed - len(good)
    # Whoever agreed can't be the one who imports: it would be refused.
    after = advice("Somebody else imports it", to_type("import", path)) if needed else to_type("import", path)
    if lacking > 0:
        verdict += f" {lacking} more needed."
        after = to_type("sign", path, "--key", blank("NAME"))
    return Result("sign", verdict, "good", blocks, data, after)


def agreement_block(found: Sequence[Agreement]) -> Block:
    """Who agreed, and what that is worth."""
    rows: list[Row] = [
        [Cell(one.verdict.key or "(nobody)", "strong"), one.at, Cell(worth(one), "good" if one.counts else "bad")]
        for one in found
    ]
    return Grid(["agreed", "when", ""], rows)


def worth(one: Agreement) -> str:
    """What an agreement is worth, in a few words."""
    if one.verdict.trust is Trust.WRONG:
        return "not to what stands in the docket now"
    return "trusted here" if one.counts else str(one.verdict.trust)


def agreements_json(found: Sequence[Agreement]) -> list[dict[str, object]]:
    """The same for machines."""
    return [{"by": one.verdict.key, "at": one.at, "counts": one.counts, "worth": worth(one)} for one in found]


def key_result(name: str, private: Path) -> Result:
    """A key pair was made."""
    verdict = f"Made the key {name}; its private half is in {private}, for you alone."
    data = {"key": name, "private_file": str(private)}
    return Result("keys new", verdict, "good", data=data, next_step=to_type("sign", blank("PACKAGE"), "--key", name))


def trust_result(name: str, path: Path) -> Result:
    """A key is trusted from now on."""
    data = {"key": name, "file": str(path)}
    return Result(
        "keys trust", f"{name} is trusted in this workspace.", "good", data=data, next_step=to_type("keys", "list")
    )


def keys_result(names: Sequence[str], is_required: bool) -> Result:
    """The trusted keys."""
    policy = "imports need a signature" if is_required else "imports need no signature"
    return Result(
        "keys list",
        f"{counted(len(names), 'trusted key')}; {policy}.",
        blocks=[Grid([], [[Cell(name, "strong")] for name in names])] if names else [],
        data={"keys": list(names), "signature_required": is_required},
        next_step=to_type("sign", blank("PACKAGE"), "--key", blank("NAME"))
        if names
        else to_type("keys", "new", blank("NAME")),
    )
