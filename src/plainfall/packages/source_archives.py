"""Source archives: packages of sources and whole projects, in the kinds of archives that tar and zip make."""

from __future__ import annotations

import bz2
import lzma
import mmap
import os
import shutil
import tarfile
import tempfile
import zlib
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import IO, Any

from plainfall.errors import ArchiveRefused
from plainfall.packages.paths import check_amount, check_no_clashes, is_of_archive, member_path
from plainfall.packages.tarballs import gzip_pieces
from plainfall.packages.unpacking import unpack_zip

__all__ = ["unpack_source"]

_LARGEST = 4 * 1024**3  # bytes of a source package, unpacked
_GROWTH = 200  # and how many times it may grow, beyond the next
_GROWTH_FREE = 256 * 1024**2
_LARGEST_HEADER = 1 << 20  # bytes that are read in one piece: a header, or a piece of content
_LARGEST_HEADERS = 16 << 20  # bytes of all extended headers


def unpack_source(archive: Path, folder: Path, name: str = "") -> Path:
    """Unpacks a source package into ``folder`` and returns its one top folder; ``name`` is what messages call
    it. What kind of archive it is its first bytes say.

    Raises ArchiveRefused for a name that leads out, a device, a link that leads out, or a size bomb.
    """
    name = name or archive.name
    with open(archive, "rb") as file:
        is_zip = file.read(4) in (b"PK\x03\x04", b"PK\x05\x06")
    if is_zip:
        unpack_zip(archive, folder, name)
    else:
        _unpack_tar(archive, folder, name)
    tops = list(folder.iterdir())
    return tops[0] if len(tops) == 1 and tops[0].is_dir() else folder


class _Bounded:
    """An inflated tar archive, of which no header may be large: tarfile reads each header in one piece and
    keeps it, while content is read in pieces of ours."""

    def __init__(self, file: IO[bytes], name: str) -> None:
        self._file, self._name = file, name
        self.seek, self.tell = file.seek, file.tell

    def read(self, size: int) -> bytes:
        """At most ``size`` bytes. Raises ArchiveRefused for more at once than any header has."""
        if size > _LARGEST_HEADER:
            raise ArchiveRefused(f"{self._name} holds a header of {size:,} bytes")
        return self._file.read(size)


def _pieces(file: IO[bytes], name: str) -> Iterator[bytes]:
    """The bytes of the archive itself, whatever it is compressed with."""
    start = file.read(6)
    file.seek(0)
    if start.startswith(b"\x1f\x8b"):
        yield from gzip_pieces(mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ), name)
        return
    opened: Any = file
    if start.startswith(b"BZh"):
        opened = bz2.BZ2File(file)
    elif start.startswith((b"\xfd7zXZ\0", b"\x5d\0\0")):
        opened = lzma.LZMAFile(file)  # noqa: SIM115 - closing it would not close the file, and the caller does
    while piece := opened.read(1 << 20):
        yield piece


def _unpack_tar(archive: Path, folder: Path, name: str) -> None:
    limit = max(_GROWTH_FREE, min(_LARGEST, archive.stat().st_size * _GROWTH))
    try:
        with tempfile.TemporaryFile(dir=folder.parent) as plain:
            with open(archive, "rb") as file:
                size = 0
                for piece in _pieces(file, name):
                    size += len(piece)
                    if size > limit:
                        raise ArchiveRefused(f"{name} unpacks to over {limit:,} bytes: a size bomb")
                    plain.write(piece)
            plain.seek(0)
            bounded: Any = _Bounded(plain, name)
            with tarfile.open(fileobj=bounded, mode="r:") as opened:
                _write_members(opened, folder, name, limit)
    except (tarfile.TarError, EOFError, OSError, ValueError, zlib.error, lzma.LZMAError) as error:
        if isinstance(error, OSError) and not is_of_archive(error):
            raise
        raise ArchiveRefused(f"{name} is damaged: {error}") from error


def _write_members(opened: tarfile.TarFile, folder: Path, name: str, limit: int) -> None:
    links: set[str] = set()
    names: list[str] = []
    folders: set[str] = set()
    files: dict[str, int] = {}  # their sizes
    total = extended = 0
    while (member := opened.next()) is not None:
        vars(opened)["members"] = []  # it keeps every one with its headers
        extended += sum(len(key) + len(value) for key, value in member.pax_headers.items())
        if extended > _LARGEST_HEADERS:
            raise ArchiveRefused(f"{name} has headers of over {_LARGEST_HEADERS:,} bytes")
        if not member.name.strip("./"):
            continue
        path = member_path(member.name, name)
        same = member_path(member.linkname, name) if member.islnk() else ""
        if member.islnk() and same not in files:
            raise ArchiveRefused(f"{name} holds {member.name!r}, a hard link to what is no file of it before")
        size = files[same] if same else max(0, member.size)
        total += size
        if total > limit:
            raise ArchiveRefused(f"{name} unpacks to over {limit:,} bytes: a size bomb")
        above = list(_above(path))
        if links.intersection([path, *above]):
            raise ArchiveRefused(f"{name} holds {member.name!r} behind a link of its own")
        folders.update([path, *above] if member.isdir() else above)
        if not member.isdir():
            names.append(path)
        check_amount(len(names) + len(folders), name)
        _write_member(opened, member, folder / path, folder, name, folder / same)
        if member.issym():
            links.add(path)
        elif not member.isdir():
            files[path] = size
    check_no_clashes(names, name)
    _check_links(folder, links, name)


def _above(path: str) -> Iterator[str]:
    """The folders above a path."""
    while "/" in path:
        path = path.rpartition("/")[0]
        yield path


def _check_links(folder: Path, links: Iterable[str], name: str) -> None:
    """Raises ArchiveRefused if a link leads out of the folder now that all of them are there: one may lead through
    another that came later."""
    root = os.path.realpath(folder)
    for path in links:
        if not f"{os.path.realpath(folder / path)}/".startswith(f"{root}/"):
            raise ArchiveRefused(f"{name} holds {path!r}, a link that leads out of its folder")


def _write_member(
    opened: tarfile.TarFile, member: tarfile.TarInfo, place: Path, folder: Path, name: str, same: Path
) -> None:
    """Writes one member; what is a hard link in the archive, to ``same``, becomes a file of its own."""
    place.parent.mkdir(parents=True, exist_ok=True)
    if member.isdir():
        place.mkdir(exist_ok=True)
    elif member.islnk():
        with open(same, "rb") as source, open(place, "xb") as file:
            shutil.copyfileobj(source, file, 1 << 20)
        shutil.copymode(same, place)
    elif member.isreg():
        content = opened.extractfile(member)
        flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW
        handle = os.open(place, flags, 0o755 if member.mode & 0o111 else 0o644)
        with open(handle, "wb") as file:
            if content is not None:
                shutil.copyfileobj(content, file, 1 << 20)
    elif member.issym():
        _link(member, place, folder, name)
    else:
        raise ArchiveRefused(f"{name} holds {member.name!r}, a device")


def _link(member: tarfile.TarInfo, place: Path, folder: Path, name: str) -> None:
    target = os.path.realpath(place.parent / member.linkname)
    if member.linkname.startswith("/") or not f"{target}/".startswith(f"{os.path.realpath(folder)}/"):
        raise ArchiveRefused(f"{name} holds {member.name!r}, a link that leads out of its folder")
    place.symlink_to(member.linkname)
