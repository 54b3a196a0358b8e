"""Results of sign and keys."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from amphora.core.values.model import Contents
from amphora.core.values.next_step import blank, to_type
from amphora.core.values.words import counted
from amphora.render.result import Cell, Grid, Result


def sign_result(contents: Contents, key: str, path: Path) -> Result:
    """A package was signed."""
    data = {"package": contents.title, "key": key, "file": str(path), "package_digest": contents.package_digest}
    return Result(
        "sign", f"{contents.title} is signed by {key}.", "good", data=data, next_step=to_type("peek", str(path))
    )


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
