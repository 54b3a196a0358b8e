"""Results of to-folder and from-folder."""

from __future__ import annotations

from pathlib import Path

from amphora.core.values.model import Contents
from amphora.core.values.next_step import to_type
from amphora.core.values.words import counted
from amphora.render.result import Result


def to_folder_result(contents: Contents, folder: Path, changed: int) -> Result:
    """A package was laid out."""
    data = {"package": contents.title, "folder": str(folder), "files_changed": changed}
    verdict = f"{contents.title} lies in {folder}: {counted(changed, 'file')} changed."
    return Result("to-folder", verdict, "good", data=data, next_step=to_type("from-folder", str(folder)))


def from_folder_result(contents: Contents, path: Path, digest: str) -> Result:
    """A package was made of a folder."""
    data = {"package": contents.title, "file": str(path), "package_digest": digest}
    verdict = f"Packed {contents.title}: {counted(len(contents.items), 'item')}, in {path}."
    return Result("from-folder", verdict, "good", data=data, next_step=to_type("peek", str(path)))
