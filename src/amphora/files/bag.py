"""The bag inside a package: manifests as RFC 8493 has them."""

from __future__ import annotations

from collections.abc import Mapping

from amphora.core.values.errors import PackageDamaged
from amphora.core.values.raw import Raw, sha256_of, size_of, whole

DECLARATION = b"BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n"
MANIFEST = "manifest-sha256.txt"
TAG_MANIFEST = "tagmanifest-sha256.txt"
UNLISTED = frozenset({TAG_MANIFEST, "signature.json"})


def tag_files(identifier: str, payload: Mapping[str, Raw]) -> dict[str, bytes]:
    """The tag files of a bag over a payload (names start with `data/`). No date, no version of ours:
    the same contents give the same bag."""
    # Payload-Oxum (RFC 8493, section 2.2.2): octets and files, for a quick look whether anything is missing.
    # Over the payload only, as the standard says; tag files have a manifest of their own.
    size = sum(map(size_of, payload.values()))
    tags = {
        "bagit.txt": DECLARATION,
        "bag-info.txt": (
            f"Bag-Software-Agent: amphora\nExternal-Identifier: {identifier}\nPayload-Oxum: {size}.{len(payload)}\n"
        ).encode(),
        MANIFEST: manifest_of(payload),
    }
    return {**tags, TAG_MANIFEST: manifest_of(tags)}


def manifest_of(files: Mapping[str, Raw]) -> bytes:
    """Manifest lines, sorted by name."""
    return "".join(f"{sha256_of(files[name])}  {name}\n" for name in sorted(files)).encode()


def parse_manifest(raw: bytes, name: str) -> dict[str, str]:
    """File name to digest; PackageDamaged for a malformed or doubled line."""
    result: dict[str, str] = {}
    try:
        text = raw.decode("utf-8")
    except UnicodeDecodeError as error:
        raise PackageDamaged(f"{name} is not UTF-8.") from error
    # By line feeds alone, as we and `sha256sum` write them. Python's own splitting knows eight more ends of lines:
    # two readers would see two manifests.
    *lines, end = text.split("\n")
    if end or not all(line.isprintable() for line in lines):
        raise PackageDamaged(f"{name} has other ends of lines than a manifest of ours.", place=name)
    for number, line in enumerate(lines, 1):
        digest, gap, file = line.partition("  ")
        # Two spaces, as `sha256sum` writes them; a doubled line could hide which of two digests is meant.
        if not gap or len(digest) != 64 or file in result:
            raise PackageDamaged(f"{name} is malformed.", place=f"line {number}")
        result[file] = digest
    return result


def verify_bag(files: Mapping[str, Raw]) -> None:
    """Every file listed, every listed file there, every digest right; else PackageDamaged."""
    for name in ("bagit.txt", "bag-info.txt", MANIFEST, TAG_MANIFEST):
        if name not in files:
            raise PackageDamaged(f"The package has no {name}.", place=name)
    # Either end of line is allowed there (RFC 8493, section 2.1.1); everything else is fixed.
    if whole(files["bagit.txt"]).replace(b"\r\n", b"\n") != DECLARATION:
        raise PackageDamaged("The package does not declare itself as a bag of version 1.0.", place="bagit.txt")
    payload = {name for name in files if name.startswith("data/")}
    tags = set(files) - payload - UNLISTED
    _verify(files, parse_manifest(whole(files[TAG_MANIFEST]), TAG_MANIFEST), tags, TAG_MANIFEST)
    _verify(files, parse_manifest(whole(files[MANIFEST]), MANIFEST), payload, MANIFEST)
    _verify_count(whole(files["bag-info.txt"]), {name: files[name] for name in payload})


def _verify_count(info: bytes, payload: Mapping[str, Raw]) -> None:
    """The Payload-Oxum (RFC 8493, section 2.2.2): octets and files, as they are."""
    wanted = f"{sum(map(size_of, payload.values()))}.{len(payload)}"
    said = [line[14:] for line in info.decode("utf-8", "replace").split("\n") if line.startswith("Payload-Oxum: ")]
    if said != [wanted]:
        raise PackageDamaged("Its bag-info.txt counts another payload than there is.", place="bag-info.txt")


def _verify(files: Mapping[str, Raw], listed: Mapping[str, str], present: set[str], manifest: str) -> None:
    for name in sorted(set(listed) - present):
        raise PackageDamaged(f"{name} is listed but not in the package.", place=manifest)
    # The standard takes extra tag files as they come; a package does not, as nobody would have verified them.
    for name in sorted(present - set(listed)):
        raise PackageDamaged(f"{name} is in the package but not listed.", place=manifest)
    for name in sorted(present):
        if sha256_of(files[name]) != listed[name]:
            raise PackageDamaged(f"{name} is not what was packed: its SHA-256 differs.", place=name)
