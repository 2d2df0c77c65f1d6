"""What a person trusted on this machine: own Python of projects, packs that came from elsewhere; by the hash of their bytes.

A hash is trusted, never a path: what changes must be trusted again. Nothing that is not trusted is run.
"""

from __future__ import annotations

import hashlib
import json
from pathlib import Path

from plucky_heron.errors import FileError
from plucky_heron.files import data_folder, is_file, read_bytes, read_json, write_whole


class UntrustedError(FileError):
    """Something would run here that nobody on this machine has trusted yet.

    Attributes
    ----------
    path : Path
        What brings it.
    digest : str
        Hash of the bytes that were looked at; trusting it trusts just these.
    text : str
        What would run, for whoever decides.
    """

    def __init__(self, path: Path, digest: str, text: str, what: str = "Python") -> None:
        super().__init__(
            path, "", None, f"is {what} that was not trusted on this machine yet; read it, then: heron trust {path}"
        )
        self.path, self.digest, self.text, self.what = path, digest, text, what


def trust_file() -> Path:
    """Where this machine keeps what was trusted."""
    return data_folder() / "trusted.json"


def digest_of(data: bytes) -> str:
    """Hash of bytes."""
    return hashlib.sha256(data).hexdigest()


def trusted() -> dict[str, str]:
    """Hashes that were trusted, with the path they were trusted as.

    Raises
    ------
    FileError
        What was kept is damaged: it is not taken for nothing, and not written over.
    """
    path = trust_file()
    if not is_file(path):
        return {}
    kept = read_json(path)
    if not isinstance(kept, dict) or not all(isinstance(v, str) for v in kept.values()):
        raise FileError(path, "", None, "is damaged; move it away, and trust again what you know")
    return {str(k): v for k, v in kept.items()}


def trust_digest(digest: str, path: Path) -> None:
    """Trust bytes of this hash; `path` is only for people who look into the list."""
    write_whole(trust_file(), json.dumps(trusted() | {digest: str(path)}, indent=1) + "\n")


def trust(path: Path) -> str:
    """Trust a file as it is now; returns its hash."""
    digest = digest_of(read_bytes(path))
    trust_digest(digest, path)
    return digest
