"""Unpacking of zip archives into a new folder, fast and without trust in what they say.

The central directory is read by the standard library; members are inflated straight from a map of the
file, since the library's member objects cost more than the inflating for the small files packages hold.
"""

from __future__ import annotations

import lzma
import mmap
import os
import stat
import struct
import zipfile
import zlib
from pathlib import Path

from msgspec import Struct

from plainfall.errors import ArchiveRefused
from plainfall.packages.paths import check_amount, check_no_clashes, is_of_archive, member_path
from plainfall.packages.proof import digest_of_content

__all__ = ["Unpacked", "moved_into", "unpack_zip"]

# A package of more than this, or one that grows more than this many times, is taken for a size bomb. The
# largest wheels in use are under 4 GiB; well-compressed source text grows 5 to 20 times.
_LARGEST = 16 * 1024**3
_GROWTH = 200
_GROWTH_FREE = 64 * 1024**2
_WHOLE_IN_MEMORY = 64 * 1024**2
# What the standard library raises for damaged archives; bzip2's errors are OSErrors without a number.
_DAMAGED = (
    *(zipfile.BadZipFile, zlib.error, lzma.LZMAError, struct.error),
    *(EOFError, RuntimeError, ValueError, NotImplementedError, OverflowError),
)
_LOCAL_HEADER = struct.Struct("<4s5H3I2H")


class Unpacked(Struct, frozen=True):
    """One file that was written: path below the folder, mode bits, size in bytes, mtime in nanoseconds, and the
    digest of its content ("" where it was not taken yet)."""

    path: str
    mode: int
    size: int
    mtime: int
    digest: str = ""

    @property
    def row(self) -> tuple[str, int, int, int, str]:
        """The file as manifests list it."""
        return (self.path, self.mode, self.size, self.mtime, self.digest)


def unpack_zip(archive: Path, folder: Path, name: str = "") -> list[Unpacked]:
    """Writes every file of the archive below ``folder`` (which exists and is empty) and lists them; ``name`` is
    what messages call the archive, where that is not its file name.

    Files get mode 666, or 777 where the archive marks them executable, less the umask. Raises
    ArchiveRefused, naming the archive, for anything damaged or hostile; what was written by then is the
    caller's to remove. OSError of the disk passes through.
    """
    name = name or archive.name
    try:
        with zipfile.ZipFile(archive) as opened, open(archive, "rb") as file:
            members = _checked(opened, archive, name)
            with mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as view:
                return _write_all(opened, view, members, folder, name)
    except (*_DAMAGED, OSError) as error:
        if isinstance(error, OSError) and not is_of_archive(error):
            raise
        raise ArchiveRefused(
            f"{name} is damaged: {error}",
            remedy="Run the same command again to fetch it again; if it stays so, the registry's copy is bad.",
        ) from error


def _checked(opened: zipfile.ZipFile, archive: Path, name: str) -> list[tuple[zipfile.ZipInfo, str]]:
    members = []
    total = 0
    check_amount(len(opened.infolist()), name)
    for info in opened.infolist():
        path = member_path(info.filename, name)
        kind = stat.S_IFMT(info.external_attr >> 16)
        if info.is_dir():
            continue
        if kind not in (0, stat.S_IFREG):
            raise ArchiveRefused(f"{name} holds {path!r}, which is a link or a device, not a file")
        if info.flag_bits & 0x1:
            raise ArchiveRefused(f"{name} holds {path!r}, which is encrypted")
        total += info.file_size
        members.append((info, path))
    packed = max(1, archive.stat().st_size)
    if total > _LARGEST or (total > _GROWTH_FREE and total > packed * _GROWTH):
        raise ArchiveRefused(f"{name} of {packed:,} bytes would unpack to {total:,} bytes: a size bomb")
    check_no_clashes((path for _, path in members), name)
    return members


def _write_all(
    opened: zipfile.ZipFile,
    view: mmap.mmap,
    members: list[tuple[zipfile.ZipInfo, str]],
    folder: Path,
    name: str,
) -> list[Unpacked]:
    root = f"{folder}/"
    made = {""}
    written: list[Unpacked] = []
    for info, path in members:
        parent = path.rpartition("/")[0]
        if parent not in made:
            _make_folders(root, parent, made)
            check_amount(len(written) + len(made), name)
        executable = (info.external_attr >> 16) & 0o111
        flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW
        handle = os.open(root + path, flags, 0o777 if executable else 0o666)
        digest = ""
        try:
            if info.compress_type in (0, 8) and info.file_size <= _WHOLE_IN_MEMORY:
                content = _content(view, info, path, name)
                _write_fully(handle, content)
                digest = digest_of_content(content)
            else:
                with opened.open(info) as source:
                    while piece := source.read(1 << 20):
                        _write_fully(handle, piece)
            state = os.fstat(handle)
        finally:
            os.close(handle)
        mode = stat.S_IMODE(state.st_mode)
        written.append(Unpacked(path, mode, state.st_size, state.st_mtime_ns, digest))
    return written


def _make_folders(root: str, parent: str, made: set[str]) -> None:
    above = parent.rpartition("/")[0]
    if above not in made:
        _make_folders(root, above, made)
    os.mkdir(root + parent)
    made.add(parent)


def _write_fully(handle: int, data: bytes) -> None:
    done = os.write(handle, data)
    while done < len(data):
        done += os.write(handle, memoryview(data)[done:])


def _content(view: mmap.mmap, info: zipfile.ZipInfo, path: str, name: str) -> bytes:
    """The member's bytes, their length and CRC checked (APPNOTE 6.3.10, 4.3.7 and 4.4.7)."""
    header = _LOCAL_HEADER.unpack_from(view, info.header_offset)
    if header[0] != b"PK\x03\x04":
        raise zipfile.BadZipFile(f"no member starts where {path!r} should")
    start = info.header_offset + _LOCAL_HEADER.size + header[9] + header[10]
    packed = view[start : start + info.compress_size]
    if len(packed) != info.compress_size:
        raise zipfile.BadZipFile(f"it ends within {path!r}")
    if info.compress_type == 0:
        data = packed
    else:
        inflate = zlib.decompressobj(-15)
        data = inflate.decompress(packed, info.file_size + 1)
    if len(data) != info.file_size or zlib.crc32(data) != info.CRC:
        raise zipfile.BadZipFile(f"the content of {path!r} does not have the length and checksum stated")
    return data


def moved_into(inner: Path, folder: Path) -> list[Unpacked]:
    """Moves what is in a folder into another, empty one; returns its files. Links are left out."""
    for entry in list(os.scandir(inner)):
        os.rename(entry.path, folder / entry.name)
    files = []
    for root, folders, names in os.walk(folder):
        folders.sort()
        for name in sorted(names):
            path = os.path.join(root, name)
            state = os.lstat(path)
            if not stat.S_ISREG(state.st_mode):
                os.unlink(path)
                continue
            where = os.path.relpath(path, folder)
            files.append(Unpacked(where, stat.S_IMODE(state.st_mode), state.st_size, state.st_mtime_ns))
    return files
