"""What Plainfall keeps in a clone counts only if this user's Plainfall wrote it for this very folder.

A sealed document holds its content, the folder that it is about (path, device, inode), its name, and a
keyed digest over these (HMAC, RFC 2104, with SHA-256). The key lies in the user's state folder and nowhere
else, so that no clone, archive or copy can bring such a document along.
"""

from __future__ import annotations

import contextlib
import hashlib
import hmac
import json
import os
import secrets
from pathlib import Path
from typing import Any

from msgspec import Struct

from plainfall.errors import PlainfallError
from plainfall.evidence import Evidence

__all__ = ["Seal", "Sealed"]

_KEY = "key"
_LENGTH = 32  # bytes


class Sealed(Struct, frozen=True):
    """The content of a document that this user's Plainfall wrote; ``folder`` is where it was written, ``here``
    whether that is the folder it is read for now (not: a copy of it, or it under another name)."""

    content: Any
    folder: Path
    here: bool


class Seal:
    """Seals documents about one folder. ``state`` is the user's state folder, where the key is made when it
    is first needed. Raises PlainfallError if that cannot be."""

    def __init__(self, state: Path, folder: Path) -> None:
        self._state = state
        self._folder = Path(os.path.realpath(folder))
        self._key_bytes: bytes | None = None

    def text(self, name: str, content: Any) -> str:
        """The sealed document of a content (JSON values), under a name that tells what it is."""
        about = self._about()
        document = {"about": about, "name": name, "content": content}
        return json.dumps({**document, "seal": self._digest(document)}, separators=(",", ":"))

    def read(self, data: bytes, name: str) -> Sealed | None:
        """What a sealed document holds; None if it was not sealed by this user under that name."""
        try:
            document = json.loads(data)
            seal = str(document.pop("seal"))
            if set(document) != {"about", "name", "content"} or document["name"] != name:
                return None
            if not hmac.compare_digest(seal, self._digest(document)):
                return None
            about = document["about"]
            return Sealed(document["content"], Path(about[0]), about == self._about())
        except (ValueError, KeyError, TypeError, AttributeError, RecursionError, OSError):
            return None

    def read_file(self, path: Path, name: str) -> Sealed | None:
        """``read`` of a file; None, too, if it does not exist or is a link."""
        try:
            handle = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
            with open(handle, "rb") as file:
                return self.read(file.read(), name)
        except OSError:
            return None

    def mark(self, *words: str) -> str:
        """A short keyed digest of words, for marks in files of other formats (64 hex digits)."""
        return hmac.new(self._key(), "\0".join(("mark", *words)).encode(), hashlib.sha256).hexdigest()

    def _about(self) -> list[Any]:
        status = os.stat(self._folder)
        return [str(self._folder), status.st_dev, status.st_ino]

    def _digest(self, document: dict[str, Any]) -> str:
        text = json.dumps(document, ensure_ascii=False, separators=(",", ":"))
        return hmac.new(self._key(), text.encode("utf-8", "surrogatepass"), hashlib.sha256).hexdigest()

    def _key(self) -> bytes:
        if self._key_bytes is None:
            self._key_bytes = _key_of(self._state)
        return self._key_bytes


def _key_of(state: Path) -> bytes:
    """The user's key, made on first use (mode 600)."""
    path = state / _KEY
    try:
        state.mkdir(parents=True, exist_ok=True, mode=0o700)
        try:
            key = path.read_bytes()
        except FileNotFoundError:
            partial = state / f".{_KEY}-{secrets.token_hex(6)}"
            handle = os.open(partial, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
            with open(handle, "wb") as file:
                file.write(secrets.token_bytes(_LENGTH))
            try:
                with contextlib.suppress(
                    FileExistsError
                ):  # of two that make it at once the first one's stays
                    os.link(partial, path)
            finally:
                partial.unlink()
            key = path.read_bytes()
    except OSError as error:
        raise PlainfallError(
            f"the state folder cannot be used: {error.strerror or error}",
            place=Evidence(str(path)),
            remedy="Check its owner and mode, or move it with PLAINFALL_STATE=FOLDER.",
        ) from error
    if len(key) != _LENGTH:
        raise PlainfallError(
            f"the key of {_LENGTH} bytes has {len(key)}",
            place=Evidence(str(path)),
            remedy="Take this file away: a new one is made, and clones are onboarded as new ones.",
        )
    return key
