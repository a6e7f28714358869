"""Files written so that a stop at any moment leaves the old content or the new, never half of it."""

from __future__ import annotations

import fcntl
import hashlib
import json
import os
import tempfile
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from plainfall.plain_files import plain_digest

__all__ = ["BESIDE", "digest_of", "digest_of_files", "locked", "read_json", "write_json", "write_replacing"]

# What the names of files written next to their place begin with: a stop may leave one, to be swept away.
BESIDE = ".plainfall-"


def write_replacing(path: Path, content: bytes | str, *, mode: int = 0o644) -> None:
    """Writes ``content`` next to ``path``, then moves it into place (rename(2) is atomic).

    Text is written as UTF-8 with its line ends untouched. The file gets ``mode`` whatever the umask.
    Raises OSError; then ``path`` is as it was and nothing is left next to it.
    """
    data = content.encode() if isinstance(content, str) else content
    handle, neighbour = tempfile.mkstemp(prefix=BESIDE, dir=path.parent)
    try:
        with open(handle, "wb") as file:
            file.write(data)
            file.flush()
            os.fchmod(file.fileno(), mode)
        os.replace(neighbour, path)
    except BaseException:
        Path(neighbour).unlink(missing_ok=True)
        raise


@contextmanager
def locked(path: Path) -> Iterator[None]:
    """Holds a lock file (made if need be) against every other process while the block runs; waits for it. The
    lock is the kernel's (flock(2)): it ends with the process, however that ends."""
    path.parent.mkdir(parents=True, exist_ok=True)
    handle = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX)
        yield
    finally:
        os.close(handle)


def write_json(path: Path, value: object, *, mode: int = 0o644) -> None:
    """``write_replacing`` of the value as JSON, in ASCII: names of files need not be UTF-8."""
    write_replacing(path, json.dumps(value, separators=(",", ":")), mode=mode)


def read_json(path: Path) -> Any:
    """The value in a JSON file that Plainfall wrote; None if it does not exist or was damaged (such files
    only spare work, so a damaged one counts as absent)."""
    try:
        return json.loads(path.read_bytes())
    except (OSError, ValueError):
        return None


def digest_of(*pieces: object) -> str:
    """A short stable fingerprint (32 hex digits of SHA-256) of the pieces' JSON form."""
    text = json.dumps(pieces, ensure_ascii=False, sort_keys=True, default=str)
    return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()[:32]


def digest_of_files(folder: Path, names: Iterable[str]) -> str:
    """One fingerprint over the named files' contents; an absent file counts as such."""
    entire = hashlib.sha256()
    for name in sorted(names):
        try:
            content = plain_digest(folder / name)
        except OSError:
            content = b"\0absent"
        entire.update(f"{name}\0{len(content)}\0".encode("utf-8", "surrogateescape"))
        entire.update(content)
    return entire.hexdigest()[:32]
