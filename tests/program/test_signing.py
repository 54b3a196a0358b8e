"""Signatures through the real program, checked by an independent reading of RFC 7515."""

from __future__ import annotations

import base64
import json
import shutil
import zipfile
from pathlib import Path
from typing import Any

import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

from tests.conftest import Done, Program, run_program


def decoded(text: str) -> bytes:
    return base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))


@pytest.fixture
def signer(halcyon: Path, tmp_path: Path) -> Program:
    """The program with a configuration folder of its own."""

    def run(*words: str | Path, **variables: str) -> Done:
        return run_program(halcyon, *words, XDG_CONFIG_HOME=str(tmp_path / "home"), **variables)

    assert run("export", "grove-dev", "Harvest Intake", "--as", "olive-intake").code == 0
    return run


def required(halcyon: Path) -> None:
    toml = halcyon / "amphora.toml"
    toml.write_text(toml.read_text() + '[policies]\nsignature = "required"\n', encoding="utf-8")


def test_a_signed_package_verifies_by_the_letter_of_the_standard(
    signer: Program, halcyon: Path, tmp_path: Path
) -> None:
    package = halcyon / "packages" / "olive-intake-1.0.0.amphora"
    digest = signer("peek", "olive-intake", "--json").json["package_digest"]
    assert signer("keys", "new", "ines").code == 0
    private = tmp_path / "home" / "amphora" / "keys" / "ines.private.jwk.json"
    assert private.stat().st_mode & 0o077 == 0
    assert "d" not in json.loads((halcyon / "keys" / "ines.jwk.json").read_text())
    assert signer("sign", "olive-intake", "--key", "ines").code == 0
    with zipfile.ZipFile(package) as archive:
        jws: dict[str, Any] = json.loads(archive.read("olive-intake-1.0.0/signature.json"))
        manifest = archive.read("olive-intake-1.0.0/tagmanifest-sha256.txt")
    public = json.loads((halcyon / "keys" / "ines.jwk.json").read_text())
    assert (public["kty"], public["crv"]) == ("OKP", "Ed25519")
    assert decoded(jws["payload"]) == manifest
    signed = f"{jws['protected']}.{jws['payload']}".encode()
    Ed25519PublicKey.from_public_bytes(decoded(public["x"])).verify(decoded(jws["signature"]), signed)
    seen = signer("peek", "olive-intake", "--json").json
    assert seen["package_digest"] == digest
    assert seen["signature"] == "signed by a trusted key (ines)"


def test_where_a_signature_is_required_nothing_else_gets_in(signer: Program, halcyon: Path) -> None:
    package = halcyon / "packages" / "olive-intake-1.0.0.amphora"
    required(halcyon)
    order = ("import", "olive-intake", "grove-live", "--yes")
    missing = signer(*order)
    assert (missing.code, "not signed" in missing.err) == (7, True)
    signer("keys", "new", "ines")
    signer("sign", "olive-intake", "--key", "ines")
    shutil.move(halcyon / "keys" / "ines.jwk.json", halcyon / "ines.jwk.json")
    unknown = signer(*order)
    assert (unknown.code, "not trusted here" in unknown.err) == (7, True)
    assert signer("keys", "trust", "ines.jwk.json", "--as", "ines").code == 0
    with zipfile.ZipFile(package) as archive:
        signature = archive.read("olive-intake-1.0.0/signature.json")
    signer(
        "export", "grove-dev", "Harvest Intake", "--as", "olive-intake", "--version", "1.0.1", "--leave-out", "Olive"
    )
    other = halcyon / "packages" / "olive-intake-1.0.1.amphora"
    with zipfile.ZipFile(other, "a") as archive:
        archive.writestr("olive-intake-1.0.1/signature.json", signature)
    wrong = signer("import", "olive-intake-1.0.1", "grove-live", "--yes")
    assert (wrong.code, "not over these contents" in wrong.err) == (7, True)
    assert signer("import", "olive-intake-1.0.0", "grove-live", "--yes").code == 0


def test_keys_that_are_none_are_refused(signer: Program, halcyon: Path, tmp_path: Path) -> None:
    signer("keys", "new", "ines")
    private = tmp_path / "home" / "amphora" / "keys" / "ines.private.jwk.json"
    assert "private key" in signer("keys", "trust", str(private), "--as", "x").err
    (halcyon / "no.json").write_text('{"kty": "RSA"}', encoding="utf-8")
    assert signer("keys", "trust", "no.json", "--as", "x").code == 2
    assert signer("keys", "new", "ines").code == 2
    assert signer("sign", "olive-intake", "--key", "nobody").code == 2
    assert signer("keys", "list", "--json").json["keys"] == ["ines"]
