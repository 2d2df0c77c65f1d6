"""Signatures of packs: Ed25519 (RFC 8032) over ``pack.json``, which holds the hash of every other file."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any

from plucky_heron.errors import FileError
from plucky_heron.files import check_path, is_file, read_bytes

SIGNATURE = "signature.json"


def make_key(path: Path) -> str:
    """Write a new private key (PEM, readable by its owner alone); returns the public one in hexadecimal digits.

    Raises
    ------
    FileError
        There is something already.
    """
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
    from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat

    check_path(path)
    if path.exists():
        raise FileError(path, "", None, "is there already; a key is never written over")
    key = Ed25519PrivateKey.generate()
    text = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    try:
        with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as out:
            out.write(text)
    except OSError as error:
        raise FileError(path, "", None, f"cannot be written: {error.strerror}") from error
    return key.public_key().public_bytes_raw().hex()


def sign(description: bytes, path: Path) -> str:
    """``signature.json`` for ``pack.json``, by the private key in a file.

    Raises
    ------
    FileError
        No Ed25519 key in PEM.
    """
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
    from cryptography.hazmat.primitives.serialization import load_pem_private_key

    try:
        key = load_pem_private_key(read_bytes(path), None)
    except (ValueError, TypeError) as error:
        raise FileError(path, "", None, "is no private key in PEM without a password; heron key makes one") from error
    if not isinstance(key, Ed25519PrivateKey):
        raise FileError(path, "", None, "is no Ed25519 key; heron key makes one")
    told = {
        "algorithm": "Ed25519",
        "public_key": key.public_key().public_bytes_raw().hex(),
        "signature": key.sign(description).hex(),
    }
    return json.dumps(told, indent=2)


def signer_of(folder: Path, description: bytes) -> str:
    """The public key that signed a pack, in hexadecimal digits; "" where it is not signed.

    Raises
    ------
    FileError
        A signature that is not of this ``pack.json``.
    """
    from cryptography.exceptions import InvalidSignature
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

    path = folder / SIGNATURE
    if not is_file(path):
        if path.exists() or path.is_symlink():
            raise FileError(path, "", None, "is no file")
        return ""
    try:
        told: Any = json.loads(read_bytes(path))
        key, signature = bytes.fromhex(told["public_key"]), bytes.fromhex(told["signature"])
        if told["algorithm"] != "Ed25519" or len(key) != 32:
            raise ValueError("algorithm")
        Ed25519PublicKey.from_public_bytes(key).verify(signature, description)
    except InvalidSignature as error:
        raise FileError(
            path,
            "signature",
            None,
            "is not of this pack.json: it was changed after it was signed, or signed for another",
        ) from error
    except (ValueError, TypeError, KeyError, RecursionError) as error:
        raise FileError(path, "", None, "is no signature") from error
    return str(told["public_key"])


def check_signer(folder: Path, signer: str, wanted: str) -> None:
    """Whether a pack is signed by the key that is wanted.

    Raises
    ------
    FileError
        It is not signed, or by another.
    """
    if not signer:
        raise FileError(folder, "", None, f"is not signed; wanted the signature of {wanted[:16]}…")
    if signer.lower() != wanted.lower():
        raise FileError(folder / SIGNATURE, "public_key", signer, f"wanted {wanted[:16]}…")
