"""Titles, folders and values that would move a cursor, forge a line, run in a spreadsheet or draw in a page; and keys
of people that nobody knows.
"""

from __future__ import annotations

import contextlib
import csv
import io
import json
import os
import re
import shutil
import subprocess
import sys
import unicodedata
from collections.abc import Iterator, Sequence
from functools import cache, partial
from pathlib import Path

from tests.conftest import run_program, workspace_of

from amphora.core.values.errors import AmphoraError, UsageFault
from amphora.files.signatures import new_key, trust_key, trusted_keys
from amphora.practice.halcyon import make_halcyon
from amphora.practice.platform import Platform
from attack import Case, folder_until_the_end

TITLES = {
    "escape sequences": "Red \x1b[31mtitle\x1b[2J\x1b]0;owned\x07",
    "a forged line": "Ticket\nNext: amphora undo last --yes",
    "a carriage return": "Ticket\rDone: all is well",
    "C1 controls": "Ticket \x9b31m\x85next",
    "turned round": "Ticket \u202efdp.exe\u2066x",
    "line separators": "Ticket\u2028Done.\u2029",
    "a bell and a backspace": "Ticket\x07\x08\x08\x08gone",
    "a tab and a form feed": "Ticket\t\x0b\x0cx",
    "what is invisible": "Tick\u200bet\ufeff\u00ad\U000e0041",
    "markup of terminals": "[bold red]Ticket[/] [link=x]y[/link]",
    "an image": "![x](https://halcyon.example/pixel.png) <img src=x onerror=alert(1)>",
    "a link and a mention": "[x](javascript:alert(1)) @everyone https://halcyon.example www.x.example",
    "a table": "a | b | c\n|---|---|",
    "code": "`x` ``y`` </code><script>alert(1)</script>",
    "a formula": '=HYPERLINK("https://halcyon.example")',
    "another formula": "@SUM(1+1)*cmd|' /C calc'!A0",
    "a shell": "$(touch OWNED) `touch OWNED`; touch OWNED",
    "an option": "--yes",
}
COMMANDS: tuple[tuple[str, ...], ...] = (
    ("survey", "grove-dev", "Theme*"),
    ("survey", "grove-dev", "--csv"),
    ("survey", "grove-dev", "--json"),
    ("uses", "grove-dev", "theme:house/t0"),
    ("export", "grove-dev", "theme:house/*", "--as", "odd"),
    ("peek", "odd"),
    ("peek", "odd", "--json"),
    ("peek", "odd", "theme:house/t0"),
    ("check", "odd", "grove-live"),
    ("check", "odd", "grove-live", "--md"),
    ("compare", "odd", "grove-live"),
    ("compare", "odd", "grove-live", "--md"),
    ("compare", "odd", "grove-live", "--html", "odd.html"),
    ("compare", "grove-dev", "grove-live", "--side-by-side"),
    ("compare", "odd", "grove-live", "--docket", "odd.docket.yaml"),
    ("import", "odd", "grove-live", "--preview"),
    ("import", "odd", "grove-live", "--yes"),
    ("verify", "odd", "grove-live"),
    ("history", "last"),
    ("deliveries", "grove-live", "theme:house/t0"),
    ("edits", "grove-live"),
    ("survey", "grove-dev", "Ticket\x1b[2J\nNext: x"),
    ("peek", "no\x1b[2Jne"),
    ("undo", "last", "--yes"),
)
_FORBIDDEN = re.compile(
    "[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ufeff\u200b\u00ad\U000e0000-\U000e007f]"
)


def cases() -> Iterator[Case]:
    """All of them."""
    for number, command in enumerate(COMMANDS):
        yield Case("texts shown", " ".join(command).encode("unicode_escape").decode(), partial(_shown, number))
        yield Case(
            "texts at a terminal",
            " ".join(command).encode("unicode_escape").decode(),
            partial(_at_a_terminal, number),
        )
    yield Case("texts shown", "Markdown brings nothing in", _markdown)
    yield Case("texts shown", "a page runs nothing", _page)
    yield Case("texts shown", "a table runs nothing", _table)
    yield Case("texts shown", "a table comes back unchanged", _comes_back)
    for name, attack in _keys().items():
        yield Case("keys", name, attack)


@cache
def _workspace() -> Path:
    """A workspace whose source holds an item for each title, made once."""
    parent = folder_until_the_end()
    files = parent / "files"
    make_halcyon(files)
    folder = workspace_of(files, parent)
    platform = Platform(folder / "grove-dev.practice", "ines@halcyon.example", lambda: "2026-05-01T00:00:00Z")
    for number, title in enumerate(TITLES.values()):
        platform.create("theme", "house", f"t{number}", title, {"note": title, "colour": "green"}, None, f"t{number}")
    platform.close()
    return folder


@cache
def _told(number: int) -> tuple[str, str]:
    """What the commands up to this one print, stdout and stderr of the last; in order, each once."""
    if number:
        _told(number - 1)
    done = run_program(_workspace(), *COMMANDS[number])
    assert done.code != 70, done.err
    return done.out, done.err


def _faults(text: str, allowed: str = "\n") -> str:
    found = sorted({char for char in _FORBIDDEN.findall(text) if char not in allowed})
    if found:
        return f"raw characters: {[f'U+{ord(char):04X}' for char in found]}"
    forged = [
        line
        for line in text.splitlines()
        if line.startswith(("Next: amphora undo last --yes", "Done: all is well", "Next: x"))
    ]
    return f"a forged line: {forged[0]}" if forged and "undo" not in text.splitlines()[-1] else ""


def _shown(number: int, folder: Path) -> str:
    out, err = _told(number)
    is_csv = "--csv" in COMMANDS[number]
    if (_workspace() / "OWNED").exists():
        return "a shell ran something"
    return _faults(out, "\n\r" if is_csv else "\n") or _faults(err)


def _at_a_terminal(number: int, folder: Path) -> str:
    """The same through a pseudo-terminal, where colours are allowed and nothing else."""
    import pty

    _told(number)  # in order, so that what it is about is there
    words: Sequence[str] = COMMANDS[number]
    if words[0] in ("import", "undo", "export") and "--preview" not in words:
        words = [*words[:-1], "--preview"] if words[0] == "undo" else ["survey", "grove-dev", "Theme*"]
    leader, follower = pty.openpty()
    command = [sys.executable, "-m", "amphora", *words]
    variables = {**os.environ, "TERM": "xterm-256color", "COLUMNS": "120"}
    with subprocess.Popen(
        command, cwd=_workspace(), stdin=follower, stdout=follower, stderr=follower, env=variables
    ) as process:
        os.close(follower)
        raw = b""
        with contextlib.suppress(OSError):
            while piece := os.read(leader, 65536):
                raw += piece
        process.wait()
    os.close(leader)
    text = re.sub(r"\x1b\[[0-9;]*m", "", raw.decode("utf-8", "replace")).replace("\r\n", "\n")
    # The line that tells of progress is drawn anew with these and nothing else.
    text = re.sub(r"\x1b\[(?:\?25[lh]|2K|1A|0?K)|\r", "", text)
    return _faults(text)


def _markdown(folder: Path) -> str:
    from markdown_it import MarkdownIt

    for number in (i for i, words in enumerate(COMMANDS) if "--md" in words):
        text = _told(number)[0]
        # Some dialects make a link of whatever looks like an address, without being asked.
        if "https://halcyon.example/pixel" in text or "www.x.example" in text:
            return "it holds an address that becomes a link by itself"
        html = MarkdownIt("commonmark").enable("table").render(text)
        if found := re.findall(r"<(?:img|a|script|iframe)\b|&lt;script&gt;alert\(1\)&lt;/script&gt;.*<script", html):
            return f"it holds {found[0]}"
        if "@everyone" in _told(number)[0]:
            return "it mentions somebody"
    return ""


def _page(folder: Path) -> str:
    for number in range(len(COMMANDS)):
        _told(number)
    page = (_workspace() / "odd.html").read_text(encoding="utf-8")
    if re.search(r"<script>alert|<img src=x|javascript:alert\(1\)\"", page):
        return "markup of a title is in the page"
    return _faults(page)


def _table(folder: Path) -> str:
    out, _ = _told(next(i for i, words in enumerate(COMMANDS) if "--csv" in words))
    cells = [cell for row in csv.reader(io.StringIO(out)) for cell in row]
    bad = [
        cell
        for cell in cells
        if unicodedata.normalize("NFKC", cell)[:1] in ("=", "+", "@", "\t", "\r") or re.match(r"-\D", cell)
    ]
    return f"a formula: {bad[0]}" if bad else ""


def _comes_back(folder: Path) -> str:
    values = ["=1+1", "+39 055", "-x", "@a", "'quoted", "''two", "plain", "＝2", "a\tb", '"', ","]
    for path in (_workspace() / "grove-dev.practice",):
        shutil.copy(path, folder / path.name)
    (folder / "amphora.toml").write_text(
        '[amphora]\nformat = 1\n[environments.grove-dev]\nlocation = "practice:grove-dev.practice"\n',
        encoding="utf-8",
    )
    rows = "\n".join(f"  s{n}: {{grove-dev: {json.dumps(value)}}}" for n, value in enumerate(values))
    crosswalk = folder / "crosswalk.yaml"
    crosswalk.write_text(f"settings:\n{rows}\n", encoding="utf-8")
    before = crosswalk.read_bytes()
    from amphora.engine.session import Session
    from amphora.files.crosswalk_file import csv_cells, csv_text, read_crosswalk, write_cells
    from amphora.files.workspace import read_workspace

    session = Session(read_workspace(folder))
    text = csv_text(session.crosswalk, ["grove-dev"])
    session.close()
    if any(cell.startswith(("=", "+", "@", "-", "＝")) for row in csv.reader(io.StringIO(text)) for cell in row):
        return "a formula is in the table"
    crosswalk.write_text("settings:\n  other: {grove-dev: 1}\n", encoding="utf-8")
    write_cells(crosswalk, csv_cells(text, read_crosswalk(crosswalk), "t.csv"))
    found = read_crosswalk(crosswalk).rows["settings"]
    wrong = [v for n, v in enumerate(values) if found.get(f"s{n}", {}).get("grove-dev") != v]
    crosswalk.write_bytes(before)
    return f"came back otherwise: {wrong}" if wrong else ""


def _keys() -> dict[str, partial[str]]:
    files = {
        "a private key": '{"kty":"OKP","crv":"Ed25519","x":"11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo","d":"nWGxne_9WmC6hEr0kuwsxERJxWl7MmkZcDusAxyuf2A"}',
        "another kind of key": '{"kty":"oct","k":"AAAA"}',
        "another curve": '{"kty":"OKP","crv":"X25519","x":"11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"}',
        "half a key": '{"kty":"OKP","crv":"Ed25519"}',
        "a key of nonsense": '{"kty":"OKP","crv":"Ed25519","x":"!!!"}',
        "a key too short": '{"kty":"OKP","crv":"Ed25519","x":"AAAA"}',
        "a list": "[]",
        "a number": "5",
        "nothing": "",
        "no JSON": "olive",
        "doubled names": '{"kty":"OKP","kty":"oct"}',
        "nested for ever": "[" * 100_000,
        "a number for a kind": '{"kty":5,"crv":"Ed25519","x":"AAAA"}',
    }
    found = {f"{name} in the folder": partial(_in_folder, text) for name, text in files.items()}
    found |= {f"{name} trusted": partial(_trusted, text) for name, text in files.items()}
    for name in ("../evil", "/etc/evil", "a/b", ".hidden", "-x", "", "a\nb", "a\x00b", "..", "n" * 200):
        found[f"trusted as {name!r}"] = partial(_named, name)
    found["another one of that name"] = partial(_replaced)
    found["a link of that name"] = partial(_linked)
    return found


PUBLIC = {"kty": "OKP", "crv": "Ed25519", "x": "11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"}
OTHER = {"kty": "OKP", "crv": "Ed25519", "x": "IFCPVAhw4xChhG0TKJtUQ7ZzBfF2EAuxxTbXhnnpMTg"}


def _in_folder(text: str, folder: Path) -> str:
    path = folder / "petra.jwk.json"
    path.write_text(text, encoding="utf-8")
    try:
        trusted_keys(folder)
    except UsageFault as error:
        return "" if str(path) in error.message and "nWGxne" not in error.message else "the file is not named"
    return "it is trusted"


def _trusted(text: str, folder: Path) -> str:
    try:
        trust_key(json.loads(text), "petra", folder / "keys")
    except (AmphoraError, ValueError, RecursionError):
        return "" if not (folder / "keys").exists() else "something was written"
    return "it is trusted"


def _named(name: str, folder: Path) -> str:
    for make in (partial(trust_key, PUBLIC), new_key):
        try:
            make(name, folder / "keys")
        except AmphoraError:
            continue
        return "it was written"
    return "" if not list(folder.rglob("*evil*")) else "something was written"


def _replaced(folder: Path) -> str:
    path = trust_key(PUBLIC, "petra", folder)
    before = path.read_bytes()
    trust_key(PUBLIC, "petra", folder)  # the same again is fine
    try:
        trust_key(OTHER, "petra", folder)
    except UsageFault:
        return "" if path.read_bytes() == before else "it was replaced"
    return "it was replaced"


def _linked(folder: Path) -> str:
    out = folder / "out"
    out.write_text("kept", encoding="utf-8")
    (folder / "petra.jwk.json").symlink_to(out)
    try:
        trust_key(PUBLIC, "petra", folder)
    except UsageFault:
        return "" if out.read_text(encoding="utf-8") == "kept" else "written through a link"
    return "written through a link"
