"""The index of a git repository: which files it tracks (gitformat-index(5)). Read here, since the clone's own git
can be made to run programs."""

from __future__ import annotations

import os
import struct
from pathlib import Path

from plainfall.plain_files import plain_bytes

__all__ = ["read_index"]

_LARGEST_INDEX = 256 * 1024**2  # bytes; that of two million files
_HEADER = struct.Struct(">4sII")
_ENTRY = struct.Struct(">10I")  # without the digest and the flags behind it
_FLAGS = struct.Struct(">H")


def read_index(path: Path, common: Path, digest: int) -> dict[str, tuple[int, int]] | None:
    """The entries of an index of version 2, 3 or 4, and of the shared one that a split index adds to, with size
    (bytes) and time of change (ns); none where there is no index yet, None for one that cannot be read.
    ``common`` is the repository's own folder, ``digest`` the bytes of its digests: 20 or 32."""
    if not os.path.lexists(path):
        return {}
    try:
        data = plain_bytes(path, largest=_LARGEST_INDEX)
        results, rest = _entries(data, digest)
        shared = _extension(data, rest, b"link", digest)[:digest]
        if any(shared):
            # It lies beside the index; older versions of git had it with the repository.
            places = [folder / f"sharedindex.{shared.hex()}" for folder in (path.parent, common)]
            base = next((one for one in places if one.exists()), places[0])
            results = {**_entries(plain_bytes(base, largest=_LARGEST_INDEX), digest)[0], **results}
    except (OSError, ValueError, struct.error, IndexError):
        return None
    results.pop("", None)  # a split index replaces entries by position, without their names
    return results


def _extension(data: bytes, position: int, wanted: bytes, digest: int) -> bytes:
    """The content of an extension of an index, which begin at a position; empty if it has none. Raises
    ValueError for an extension that changes what the entries mean and is not known here."""
    while position + 8 < len(data) - digest:
        name, size = data[position : position + 4], int.from_bytes(data[position + 4 : position + 8], "big")
        if name[:1].islower() and name not in (b"link", b"sdir"):
            raise ValueError(f"the extension {name!r} has to be understood, and is not known")
        if name == wanted:
            return data[position + 8 : position + 8 + size]
        position += 8 + size
    return b""


def _entries(data: bytes, digest: int) -> tuple[dict[str, tuple[int, int]], int]:
    signature, version, count = _HEADER.unpack_from(data, 0)
    if signature != b"DIRC" or version not in (2, 3, 4):
        raise ValueError("not an index of a known version")
    results: dict[str, tuple[int, int]] = {}
    position, name = _HEADER.size, b""
    for _ in range(count):
        fields = _ENTRY.unpack_from(data, position)
        (flags,) = _FLAGS.unpack_from(data, position + _ENTRY.size + digest)
        start = position + _ENTRY.size + digest + (4 if flags & 0x4000 else 2)
        if version == 4:
            cut, start = _varint(data, start)
            end = data.index(0, start)
            name = name[: len(name) - cut] + data[start:end]
            position = end + 1
        else:
            end = data.index(0, start)
            name = data[start:end]
            position += (end - position + 8) // 8 * 8
        results[name.decode("utf-8", "surrogateescape")] = fields[9], fields[2] * 10**9 + fields[3]
    return results, position


def _varint(data: bytes, position: int) -> tuple[int, int]:
    value = data[position] & 0x7F
    while data[position] & 0x80:
        position += 1
        value = ((value + 1) << 7) | (data[position] & 0x7F)
    return value, position + 1
