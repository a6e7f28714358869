"""The one way to read files that somebody else put on the disk: a clone's, a checkout's, those of an environment.

A path of a clone may be a link to the person's keys, a named pipe that waits for ever, or a device without an
end. So a file is opened without following a link and without waiting, must be a plain one, and is read to a
size.
"""

from __future__ import annotations

import errno
import hashlib
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

__all__ = ["LARGEST", "NotPlain", "opened_plain", "plain_bytes", "plain_digest", "plain_text"]

LARGEST = 64 << 20  # bytes of a document; the largest locks in use have some 10 MB


class NotPlain(OSError):
    """A path at which no plain file of a bearable size lies; ``strerror`` says what does."""

    def __init__(self, path: Path | str, reason: str) -> None:
        super().__init__(errno.EINVAL, reason, str(path))

    def __reduce__(self) -> tuple[object, ...]:
        """A worker's failure comes back to its caller."""
        return type(self), (self.filename, self.strerror)


@contextmanager
def opened_plain(path: Path | str, *, inside: Path | None = None) -> Iterator[BinaryIO]:
    """A plain file, opened for reading. A link counts only where it leads to a place ``inside`` a folder.

    Raises OSError, FileNotFoundError among them, for whatever is no such file.
    """
    place = str(path)
    if inside is not None:
        place = os.path.realpath(place)
        if not f"{place}/".startswith(f"{os.path.realpath(inside)}/"):
            raise NotPlain(path, "it leads out of the clone, and is not read")
    try:
        handle = os.open(place, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
    except OSError as error:
        if error.errno in (errno.ELOOP, errno.ENXIO):
            raise NotPlain(path, "it is a link or a socket, not a plain file") from error
        raise
    with open(handle, "rb") as file:
        if not stat.S_ISREG(os.fstat(handle).st_mode):
            raise NotPlain(path, "it is not a plain file")
        yield file


def plain_bytes(path: Path | str, *, largest: int = LARGEST, inside: Path | None = None) -> bytes:
    """The bytes of a plain file. Raises OSError, also for one of more than ``largest`` bytes."""
    with opened_plain(path, inside=inside) as file:
        data = file.read(largest + 1)
    if len(data) > largest:
        raise NotPlain(path, f"it is larger than {largest // 1024**2} MiB, too large for what it should be")
    return data


def plain_text(
    path: Path | str,
    encoding: str = "utf-8",
    errors: str = "strict",
    *,
    largest: int = LARGEST,
    inside: Path | None = None,
) -> str:
    """The text of a plain file, line ends as they stand. Raises OSError, UnicodeDecodeError."""
    return plain_bytes(path, largest=largest, inside=inside).decode(encoding, errors)


def plain_digest(path: Path | str) -> bytes:
    """The SHA-256 of a plain file of any size. Raises OSError."""
    whole = hashlib.sha256()
    with opened_plain(path) as file:
        while piece := file.read(1 << 20):
            whole.update(piece)
    return whole.digest()
