"""Whether files of the cache are still what was written there, though environments share them by links.

A program that edits an installed file in place edits the cache's file, too, and it can put size and
modification time back. It cannot put back the time of the last change of the file's entry (stat(2), st_ctime):
that is noted after each link of ours. Where it is another one (a link was made or taken away elsewhere, or
somebody wrote), the file's content is compared with its digest. What is left: a write within the same tick of
the file system's clock (about 4 ms on Linux) as a link of ours.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from plainfall.plain_files import plain_digest

__all__ = ["digest_of_content", "digest_of_plain_file", "is_unchanged", "stamps_of"]

# A row of a manifest: path, mode bits, size in bytes, modification time in nanoseconds, digest of the content.
Row = Sequence[Any]


def digest_of_content(data: bytes | memoryview) -> str:
    """The digest that manifests state for a file's content: 32 hex digits of its SHA-256.

    >>> digest_of_content(b"")
    'e3b0c44298fc1c149afbf4c8996fb924'
    """
    return hashlib.sha256(data).hexdigest()[:32]


def digest_of_plain_file(path: Path) -> str:
    """The same of a file of any size. Raises OSError.

    The unpacker has bounded what it wrote, so that no bound of documents counts here.
    """
    return plain_digest(path).hex()[:32]


def is_unchanged(path: str, row: Row, stamp: int) -> bool:
    """Whether a file is what its row says; ``stamp`` is its noted st_ctime in nanoseconds, 0 for none. Raises
    OSError for a file that is gone."""
    state = os.stat(path, follow_symlinks=False)
    if state.st_size != row[2] or state.st_mtime_ns != row[3]:
        return False
    if stamp and state.st_ctime_ns == stamp:
        return True
    with open(path, "rb") as file:
        return bool(digest_of_content(file.read()) == row[4])


def stamps_of(root: str, rows: Sequence[Row]) -> list[int]:
    """The times of the last change of the rows' files below a folder (its name ends with a slash), 0 for one
    that is gone."""
    stamps = []
    for row in rows:
        try:
            stamps.append(os.stat(root + row[0], follow_symlinks=False).st_ctime_ns)
        except OSError:
            stamps.append(0)
    return stamps
