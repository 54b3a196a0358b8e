"""Signatures: JWS (RFC 7515) with EdDSA over a package's tag manifest, keys as JWK (RFC 7517).

A private key lives in the user's own configuration folder, readable by them alone; the public keys that a
workspace trusts lie in its folder `keys`.
"""

from __future__ import annotations

import json
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Any

from amphora.core.values.errors import PackageDamaged, UsageFault
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents
from amphora.core.values.next_step import advice, blank, to_type
from amphora.core.values.raw import sha256_of, whole
from amphora.core.values.strict_json import JsonFault, parse_json
from amphora.files.archive import read_archive, write_archive
from amphora.files.bag import TAG_MANIFEST
from amphora.files.names import checked_name
from amphora.files.package import read_package

if TYPE_CHECKING:
    from jwcrypto.jwk import JWK

SIGNATURE = "signature.json"
TRUSTED_SUFFIX = ".jwk.json"
PRIVATE_SUFFIX = ".private.jwk.json"


class Trust(StrEnum):
    """What a signature is worth in a workspace."""

    NONE = "not signed"
    GOOD = "signed by a trusted key"
    UNKNOWN = "signed by a key that is not trusted here"
    WRONG = "signed wrongly: the signature is not over these contents"


@dataclass(frozen=True)
class Verdict:
    """A signature's worth, and by which key (its name, or its thumbprint where it isn't trusted)."""

    trust: Trust
    key: str = ""

    @property
    def words(self) -> str:
        """The verdict as it is told."""
        return f"{self.trust} ({self.key})" if self.key else str(self.trust)


def private_folder() -> Path:
    """The user's own folder for private keys."""
    from platformdirs import user_config_path

    return user_config_path("amphora") / "keys"


def new_key(name: str, trusted: Path) -> Path:
    """Makes a key pair; the public key is trusted in the workspace. Returns the private key's file."""
    from jwcrypto.jwk import JWK

    private = private_folder() / (checked_name(name, "a key") + PRIVATE_SUFFIX)
    # Never over another one: what was signed with it would be signed by nobody.
    if private.exists():
        raise UsageFault(
            f"There is a key {name!r} already.", subject=str(private), next_step=advice("Choose another name.")
        )
    key = JWK.generate(kty="OKP", crv="Ed25519")
    # The id of a key is its thumbprint (RFC 7638): a name is what each workspace calls it.
    key.update(kid=key.thumbprint())
    private.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    private.touch(mode=0o600)
    private.write_text(key.export_private(), encoding="utf-8")
    trust_key(json.loads(key.export_public()), name, trusted)
    return private


def trust_key(public: dict[str, Any], name: str, trusted: Path) -> Path:
    """Puts a public key among the trusted ones; UsageFault where it is none, or holds a private part."""
    from jwcrypto.jwk import JWK

    if reason := _unfit(public):
        raise UsageFault(reason, next_step=advice("Ask for the public key: a file with kty, crv and x only."))
    path = trusted / (checked_name(name, "a key") + TRUSTED_SUFFIX)
    mine = JWK(**public).thumbprint()
    if path.is_symlink() or (path.exists() and _thumbprint_in(path) != mine):
        # Whoever may write a file here could otherwise put a key of their own in place of a trusted one.
        raise UsageFault(
            f"Another key is trusted as {name!r} already.",
            subject=str(path),
            next_step=advice("Choose another name; to replace the key, take that file out first."),
        )
    trusted.mkdir(parents=True, exist_ok=True)
    path.write_text(json.dumps(public, indent=2, sort_keys=True) + "\n", encoding="utf-8")
    return path


def trusted_keys(folder: Path) -> dict[str, dict[str, Any]]:
    """The trusted public keys by name; UsageFault names a file that is none, or that holds a private part."""
    keys = {}
    for path in sorted(folder.glob(f"*{TRUSTED_SUFFIX}")):
        try:
            public = parse_json(path.read_bytes())
            reason = _unfit(public)
        except (OSError, JsonFault) as error:
            reason = str(error)
        if reason:
            raise UsageFault(
                f"{path} can't be used as a trusted key. {reason}",
                subject=str(path),
                next_step=advice("Take it out; a private key in it has to be taken for seen by others."),
            )
        keys[path.name.removesuffix(TRUSTED_SUFFIX)] = public
    return keys


def _unfit(public: Any) -> str:
    """Why this is no public Ed25519 key as JWK (RFC 8037); empty where it is one."""
    from jwcrypto.common import JWException
    from jwcrypto.jwk import JWK

    if isinstance(public, dict) and "d" in public:
        return "This file holds a private key."
    try:
        key = JWK(**public)
        key.get_op_key("verify")
        is_fit = key.get("kty") == "OKP" and key.get("crv") == "Ed25519"
    # A library that is given anything may fail in any way: whatever it is, this is no key.
    except (JWException, TypeError, ValueError, KeyError, AttributeError):
        is_fit = False
    return "" if is_fit else "This is no public Ed25519 key as JWK."


def _thumbprint_in(path: Path) -> str:
    from jwcrypto.jwk import JWK

    try:
        public = parse_json(path.read_bytes())
    except (OSError, JsonFault):
        return ""
    return str(JWK(**public).thumbprint()) if not _unfit(public) else ""


def private_key(name: str) -> JWK:
    """The user's own key of that name; UsageFault where there is none."""
    from jwcrypto.jwk import JWK

    private = private_folder() / (checked_name(name, "a key") + PRIVATE_SUFFIX)
    if not private.is_file():
        raise UsageFault(f"You have no key {name!r}.", subject=name, next_step=to_type("keys", "new", name))
    try:
        return JWK.from_json(private.read_text(encoding="utf-8"))
    # A library that is given anything may fail in any way.
    except Exception as error:
        raise UsageFault(
            f"Your key {name!r} can't be read ({type(error).__name__}).",
            subject=str(private),
            next_step=advice("Put its file back from a backup; or make another key and have that one trusted."),
        ) from error


def own_keys() -> set[str]:
    """The thumbprints of the user's own keys."""
    from jwcrypto.jwk import JWK

    found = set()
    for path in private_folder().glob(f"*{PRIVATE_SUFFIX}"):
        try:
            found.add(str(JWK.from_json(path.read_text(encoding="utf-8")).thumbprint()))
        # A library that is given anything may fail in any way: what can't be read signs nothing.
        except Exception:
            continue
    return found


def signed_text(payload: bytes, key: JWK) -> str:
    """A payload, signed, as one line of text (RFC 7515, section 7.1: compact serialization)."""
    from jwcrypto.jws import JWS

    jws = JWS(payload)
    jws.add_signature(key, alg="EdDSA", protected=json.dumps({"alg": "EdDSA", "kid": key.thumbprint()}))
    return str(jws.serialize(compact=True))


def verdict_on(text: str, trusted: Path) -> tuple[Verdict, Any, str]:
    """What a signed text is worth, the JSON value that was signed, and the thumbprint of the key that it names."""
    from jwcrypto.common import JWException, base64url_decode
    from jwcrypto.jwk import JWK
    from jwcrypto.jws import JWS

    try:
        head, payload, _ = text.split(".")
        kid = str(json.loads(base64url_decode(head))["kid"])
        said = json.loads(base64url_decode(payload))
        jws = JWS()
        jws.deserialize(text)
    except (JWException, ValueError, KeyError, TypeError):
        return Verdict(Trust.WRONG), None, ""
    for name, public in trusted_keys(trusted).items():
        key = JWK(**public)
        if key.thumbprint() == kid:
            try:
                jws.verify(key, alg="EdDSA")
            except JWException:
                return Verdict(Trust.WRONG, name), None, kid
            return Verdict(Trust.GOOD, name), said, kid
    return Verdict(Trust.UNKNOWN, kid), None, kid


def sign_package(path: Path, name: str) -> Contents:
    """Signs a package file with the user's key of that name; nothing else in it changes."""
    from jwcrypto.jws import JWS

    key = private_key(name)
    contents = read_package(path)
    folder, files = read_archive(path)
    # The tag manifest stands for everything: it holds the digest of the manifest, which holds those of all files.
    jws = JWS(whole(files[TAG_MANIFEST]))
    jws.add_signature(key, alg="EdDSA", protected=json.dumps({"alg": "EdDSA", "kid": key.thumbprint()}))
    # JSON serialization with the payload in it (RFC 7515, section 7.2.2): anybody can check it with nothing but this
    # file and the manifest.
    signature = json.dumps(json.loads(jws.serialize()), indent=2, sort_keys=True).encode() + b"\n"
    write_archive(path, folder, {**files, SIGNATURE: signature})
    return contents


def judged(contents: Contents, trusted: Path) -> Verdict:
    """What the signature of a package is worth here."""
    if not contents.signature:
        return Verdict(Trust.NONE)
    from jwcrypto.common import JWException, base64url_decode
    from jwcrypto.jwk import JWK
    from jwcrypto.jws import JWS

    try:
        jws = JWS()
        jws.deserialize(contents.signature.decode("utf-8"))
        kid = str(json.loads(base64url_decode(json.loads(contents.signature)["protected"]))["kid"])
    except (JWException, ValueError, KeyError, TypeError):
        return Verdict(Trust.WRONG)
    for name, public in trusted_keys(trusted).items():
        key = JWK(**public)
        # By thumbprint, which is what the key is; a name is only what somebody called it.
        if key.thumbprint() != kid:
            continue
        try:
            jws.verify(key, alg="EdDSA")
        except JWException:
            return Verdict(Trust.WRONG, name)
        # A right signature over another package's manifest is a wrong one here.
        return Verdict(Trust.GOOD if sha256_of(jws.payload) == contents.package_digest else Trust.WRONG, name)
    return Verdict(Trust.UNKNOWN, kid)


def require_signature(contents: Contents, trusted: Path) -> None:
    """PackageDamaged unless a package is signed by a trusted key."""
    verdict = judged(contents, trusted)
    if verdict.trust is not Trust.GOOD:
        by = f" ({verdict.key})" if verdict.key else ""
        raise PackageDamaged(
            f"{contents.title} is refused: it is {verdict.trust}{by}, and this workspace requires a signature.",
            subject=contents.title,
            next_step=advice(
                "Have it signed, or trust the key", to_type("keys", "trust", blank("FILE"), "--as", blank("NAME"))
            ),
        )
