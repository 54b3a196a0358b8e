"""Hostile folders, repositories and names: what leads out, what runs, what stands in for something else."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

from amphora.core.values.errors import AmphoraError, PackageDamaged
from amphora.core.values.keys import encode_segment
from amphora.core.values.raw import whole
from amphora.environments.folder import connect
from amphora.files.folder import read_folder, read_git, write_folder
from amphora.files.package import read_package
from amphora.files.sources import open_package
from attack import Case
from attack.packages import ITEM, ROOT, honest, mended, zipped

Twist = Callable[[Path, Path], None]
"""Turns an honest folder into a hostile one: the folder, and what lies outside of it."""


def cases() -> Iterator[Case]:
    """All of them."""
    for name, twist in _twists().items():
        yield Case("folders read", name, partial(_read, twist))
        yield Case("folders written", name, partial(_write, twist))
    for name, twist in _environment_twists().items():
        yield Case("folder environments", name, partial(_environment, twist))
    for name, setting in _repositories().items():
        yield Case("repositories", name, partial(_repository, setting))
    for name, location in _locations().items():
        yield Case("repositories", name, partial(_located, location))
    for name in ("olive", "olive-1.2.0"):
        for what in ("folder", "file", "older folder"):
            yield Case("names", f"{what} called {name}", partial(_stands_in, name, what))


def _laid_out(folder: Path) -> tuple[Path, Path]:
    """An honest package as a folder, and a folder outside with something in it that has to stay."""
    package = zipped(folder / "p.amphora", mended(honest(folder)))
    inside, outside = folder / "inside", folder / "outside"
    write_folder(read_package(package), inside)
    outside.mkdir()
    (outside / "kept.json").write_text('{"kept": true}', encoding="utf-8")
    (outside / "ticket.json").write_text('{"kept": true}', encoding="utf-8")
    return inside, outside


def _twists() -> dict[str, Twist]:
    def link(name: str, to: str = "kept.json") -> Twist:
        def twist(inside: Path, outside: Path) -> None:
            path = inside / name
            if path.is_dir():
                subprocess.run(["rm", "-r", str(path)], check=True)
            else:
                path.unlink(missing_ok=True)
            path.symlink_to(outside / to if to else outside)

        return twist

    return {
        "an item is a link": link("data/items/flow/mill/ticket.json"),
        "a folder of items is a link": link("data/items/flow/mill", ""),
        "a kind is a link": link("data/items/flow", ""),
        "the items are a link": link("data/items", ""),
        "the data are a link": link("data", ""),
        "the packing list is a link": link("data/packing-list.json"),
        "a layout is a link": link("data/layout/flow/mill/ticket.json"),
        "a sheet is a link": link("data/kinds/flow.toml"),
        "rows are a link": link("data/records/table/log.jsonl"),
        "a link more": link("data/items/flow/more.json"),
        "a link to nothing": link("data/items/flow/nothing.json", "nothing.json"),
        "a folder more is a link": link("data/files", ""),
    }


def _state(outside: Path) -> dict[str, bytes]:
    return {path.name: path.read_bytes() for path in sorted(outside.iterdir())}


def _read(twist: Twist, folder: Path) -> str:
    inside, outside = _laid_out(folder)
    twist(inside, outside)
    try:
        read_folder(inside)
    except PackageDamaged:
        return ""
    return "it was read"


def _write(twist: Twist, folder: Path) -> str:
    inside, outside = _laid_out(folder)
    contents = read_package(folder / "p.amphora")
    twist(inside, outside)
    before = _state(outside)
    try:
        write_folder(contents, inside)
    except AmphoraError:
        return "" if _state(outside) == before else "refused, and something outside has changed"
    return "it was written"


def _environment_twists() -> dict[str, Twist]:
    item = "items/flow/fl-000001.json"

    def link(name: str, to: str) -> Twist:
        def twist(inside: Path, outside: Path) -> None:
            path = inside / name
            subprocess.run(["rm", "-rf", str(path)], check=True)
            path.symlink_to(outside / to if to else outside)

        return twist

    return {
        "an item is a link": link(item, "kept.json"),
        "a kind is a link": link("items/flow", ""),
        "the items are a link": link("items", ""),
        "the description is a link": link("environment.json", "kept.json"),
        "the sheets are a link": link("kinds", ""),
        "a sheet is a link": link("kinds/flow.toml", "kept.json"),
        "an item of a kind that leads out": lambda inside, _: (inside / item).write_text(
            '{"id": "fl-000001", "kind": "../../outside", "title": "x", "definition": {}}', encoding="utf-8"
        ),
    }


def _environment(twist: Twist, folder: Path) -> str:
    inside, outside = folder / "inside", folder / "outside"
    inside.mkdir()
    outside.mkdir()
    connect(f"folder:{inside}", folder, "", "").close()
    (inside / "items" / "flow").mkdir(parents=True)
    (inside / "items" / "flow" / f"{encode_segment('fl-000001')}.json").write_text(
        '{"id": "fl-000001", "kind": "flow", "name": "a", "title": "A", "definition": {}}', encoding="utf-8"
    )
    (outside / "kept.json").write_text(
        '{"id": "kept", "kind": "flow", "title": "K", "definition": {}}', encoding="utf-8"
    )
    twist(inside, outside)
    before = _state(outside)
    try:
        rows = connect(f"folder:{inside}", folder, "", "").index()
    except AmphoraError:
        return "" if _state(outside) == before else "refused, and something outside has changed"
    return f"it was read: {rows}"


def _git(repository: Path, *words: str) -> None:
    who = {
        "GIT_AUTHOR_NAME": "a",
        "GIT_AUTHOR_EMAIL": "a@x.example",
        "GIT_COMMITTER_NAME": "a",
        "GIT_COMMITTER_EMAIL": "a@x.example",
    }
    subprocess.run(["git", "-C", str(repository), *words], check=True, capture_output=True, env=os.environ | who)


def _committed(folder: Path) -> Path:
    inside, _ = _laid_out(folder)
    _git(inside, "init", "-q")
    _git(inside, "add", "-A")
    _git(inside, "commit", "-q", "-m", "one")
    return inside


def _repositories() -> dict[str, tuple[str, ...]]:
    """Settings and files with which a repository would have something run; `MARK` is what it would make."""
    run = "sh -c 'touch MARK; cat'"
    return {
        "a filter": ("config:filter.x.smudge", run, "* filter=x"),
        "a filter that has to": ("config:filter.x.process", run, "* filter=x"),
        "a text conversion": ("config:diff.x.textconv", "sh -c 'touch MARK'", "* diff=x"),
        "an archive filter": ("config:tar.tar.command", run, "* export-subst"),
        "a file monitor": ("config:core.fsmonitor", "touch MARK", ""),
        "a pager": ("config:core.pager", "touch MARK", ""),
        "an alias": ("config:alias.ls-tree", "!touch MARK", ""),
        "another alias": ("config:alias.cat-file", "!touch MARK", ""),
        "an ssh command": ("config:core.sshCommand", "touch MARK", ""),
        "an external diff": ("config:diff.external", "touch MARK", ""),
        "words that are filled in": ("", "", "* export-subst ident"),
        "files that are left out": ("", "", "* export-ignore"),
        "other ends of lines": ("config:core.autocrlf", "true", "* text eol=crlf"),
        "another encoding": ("", "", "* working-tree-encoding=UTF-16"),
        "a replaced object": ("replace", "", ""),
    }


def _repository(setting: tuple[str, ...], folder: Path) -> str:
    """A repository with such a setting: nothing of it is run, and every byte is the committed one."""
    inside = _committed(folder)
    name, value, attributes = setting
    mark = folder / "MARK"
    honest_forms = {key: item.form_bytes for key, item in read_folder(inside).items.items()}
    (inside / ".git" / "info").mkdir(exist_ok=True)
    (inside / ".git" / "info" / "attributes").write_text(attributes + "\n", encoding="utf-8")
    if name.startswith("config:"):
        _git(inside, "config", name.removeprefix("config:"), value.replace("MARK", str(mark)))
    if name == "replace":
        _git(inside, "hash-object", "-w", "data/packing-list.json")
        ids = [
            subprocess.run(
                ["git", "-C", str(inside), "rev-parse", f"HEAD:{one}"], capture_output=True, text=True, check=True
            ).stdout.strip()
            for one in ("data/items/flow/mill/ticket.json", "data/items/table/log.json")
        ]
        _git(inside, "replace", *ids)
    contents = read_git(f"git:{inside}@HEAD:")
    if mark.exists():
        return "something of it was run"
    got = {key: item.form_bytes for key, item in contents.items.items()}
    rows = whole(contents.records["table:log"])
    return "" if got == honest_forms and rows == b'{"a":1}\n{"a":2}\n' else "bytes were changed"


def _locations() -> dict[str, str]:
    return {
        "an option for a revision": "git:IN@--output=OUT:",
        "another option": "git:IN@--upload-pack=touch OUT:",
        "a revision of reflogs": "git:IN@HEAD@{99}:",
        "a folder that leads out": "git:IN@HEAD:../../outside",
        "a revision that is none": "git:IN@nowhere:",
        "no revision": "git:IN@:",
        "no repository": "git:@HEAD:",
        "a link in it": "git:IN@links:",
        "an option for a repository": "git:--exec-path=OUT@HEAD:",
    }


def _located(location: str, folder: Path) -> str:
    inside = _committed(folder)
    _git(inside, "checkout", "-q", "-b", "links")
    (inside / "data/items/flow/mill/ticket.json").unlink()
    (inside / "data/items/flow/mill/ticket.json").symlink_to("/etc/hostname")
    _git(inside, "add", "-A")
    _git(inside, "commit", "-q", "-m", "two")
    _git(inside, "checkout", "-q", "HEAD~1")
    out = folder / "OUT"
    try:
        read_git(location.replace("IN", str(inside)).replace("OUT", str(out)))
    except AmphoraError:
        return "" if not out.exists() else "refused, and something was written"
    return "it was read"


def _stands_in(name: str, what: str, folder: Path) -> str:
    """A bare name means the workspace's package, or is refused where something else here bears it."""
    packages = folder / "packages"
    packages.mkdir()
    members = mended(honest(folder))
    zipped(packages / "olive-1.2.0.amphora", members)
    wanted = read_package(packages / "olive-1.2.0.amphora").digest()
    here = folder / "here"
    here.mkdir()
    if what == "file":
        zipped(here / name, mended({**members, ROOT + "data/records/table/log.jsonl": b'{"a":9}\n'}))
    else:
        write_folder(read_package(packages / "olive-1.2.0.amphora"), here / name)
        path = here / name / ITEM.removeprefix(ROOT)
        path.write_bytes(path.read_bytes().replace(b"see", b"saw"))
    before = Path.cwd()
    os.chdir(here)
    try:
        contents = open_package(name, packages)
    except AmphoraError:
        return ""
    finally:
        os.chdir(before)
    return "" if contents.digest() == wanted and not contents.file else "something else was taken for it"
