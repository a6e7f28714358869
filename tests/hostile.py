"""What the hostile suite stands on: things of the person's outside of the clone, which nothing may touch."""

from __future__ import annotations

import hashlib
import os
import sqlite3
import stat
import struct
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest
from conftest import Machine

__all__ = ["OUTSIDE", "Outside", "gzip_bomb", "laid_out", "outside"]

# Every such folder of the session, with what it was like: the last test looks at all of them again.
OUTSIDE: list[tuple[Path, str]] = []


@dataclass(frozen=True)
class Outside:
    """A folder beside the clone, with what a person may have in it."""

    folder: Path
    database: Path

    @property
    def print(self) -> str:
        """A digest over every name, mode, size and content."""
        return laid_out(self.folder)


def laid_out(folder: Path) -> str:
    """A digest over a folder with all that is in it, times aside."""
    whole = hashlib.sha256()
    for root, folders, files in os.walk(folder):
        folders.sort()
        for name in sorted([*files, *folders]):
            path = Path(root, name)
            status = path.lstat()
            whole.update(f"{path.relative_to(folder)} {status.st_mode} {status.st_size}\n".encode())
            if path.is_symlink():
                whole.update(os.readlink(path).encode())
            elif stat.S_ISREG(status.st_mode):
                whole.update(path.read_bytes())
    return whole.hexdigest()


def gzip_bomb(megabytes: int, byte: bytes = b"\0") -> bytes:
    """A gzip file (RFC 1952) of that many equal megabytes, made without packing each: after a full flush the next
    block does not look back, so that its packed bytes can stand there as often as one likes."""
    block = byte * 1_000_000
    packer = zlib.compressobj(9, zlib.DEFLATED, -zlib.MAX_WBITS)
    again = packer.compress(block) + packer.flush(zlib.Z_FULL_FLUSH)
    check = 0
    for _ in range(megabytes):
        check = zlib.crc32(block, check)
    ending = struct.pack("<II", check, megabytes * len(block))
    return b"\x1f\x8b\x08\0\0\0\0\0\2\xff" + again * megabytes + packer.flush() + ending


@pytest.fixture
def outside(machine: Machine) -> Iterator[Outside]:
    """Made before the test; the same after it, or the test fails."""
    folder = machine.home / "outside"
    for path, text in {
        "letters/precious.txt": "the only copy\n",
        "node_modules/good/index.js": "module.exports = 'the stranger\\'s own';\n",
        "good/keep.js": "// mine\n",
        "readings.log": "3 mm\n",
        "bin/python": "#!/bin/sh\necho mine\n",
    }.items():
        file = folder / path
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(text)
    database = folder / "stations.db"
    with sqlite3.connect(database) as opened:
        opened.execute("CREATE TABLE stations (name TEXT)")
        opened.execute("INSERT INTO stations VALUES ('Upper Mill')")
    opened.close()
    made = Outside(folder, database)
    before = made.print
    OUTSIDE.append((folder, before))
    yield made
    assert made.print == before, "something outside of the clone was touched"
