"""Source archives: packages of sources and whole projects, in the kinds of archives that tar and zip make."""

from __future__ import annotations

import lzma
import os
import shutil
import tarfile
import zlib
from pathlib import Path

from plainfall.errors import ArchiveRefused
from plainfall.packages.paths import check_amount, check_no_clashes, is_of_archive, member_path
from plainfall.packages.unpacking import unpack_zip

__all__ = ["unpack_source"]

_LARGEST = 4 * 1024**3  # bytes of a source package, unpacked
_GROWTH = 200  # and how many times it may grow, beyond the next
_GROWTH_FREE = 256 * 1024**2


def unpack_source(archive: Path, folder: Path) -> Path:
    """Unpacks a source package into ``folder`` and returns its one top folder.

    Raises ArchiveRefused for a name that leads out, a device, a link that leads out, or a size bomb.
    """
    if archive.name.endswith(".zip"):
        unpack_zip(archive, folder)
    else:
        _unpack_tar(archive, folder)
    tops = list(folder.iterdir())
    return tops[0] if len(tops) == 1 and tops[0].is_dir() else folder


def _unpack_tar(archive: Path, folder: Path) -> None:
    try:
        with tarfile.open(archive) as opened:
            links: set[str] = set()
            names: list[str] = []
            files: dict[str, int] = {}  # their sizes
            total, limit = 0, max(_GROWTH_FREE, min(_LARGEST, archive.stat().st_size * _GROWTH))
            for member in opened:
                if not member.name.strip("./"):
                    continue
                path = member_path(member.name, archive.name)
                same = member_path(member.linkname, archive.name) if member.islnk() else ""
                if member.islnk() and same not in files:
                    raise ArchiveRefused(
                        f"{archive.name} holds {member.name!r}, a hard link to what is no file of it before"
                    )
                size = files[same] if same else max(0, member.size)
                total += size
                if total > limit:
                    raise ArchiveRefused(f"{archive.name} unpacks to over {limit:,} bytes: a size bomb")
                if any(path == link or path.startswith(f"{link}/") for link in links):
                    raise ArchiveRefused(f"{archive.name} holds {member.name!r} behind a link of its own")
                if not member.isdir():
                    names.append(path)
                    check_amount(len(names), archive.name)
                _write_member(opened, member, folder / path, folder, archive.name, folder / same)
                if member.issym():
                    links.add(path)
                elif not member.isdir():
                    files[path] = size
            check_no_clashes(names, archive.name)
    except (tarfile.TarError, EOFError, OSError, ValueError, zlib.error, lzma.LZMAError) as error:
        if isinstance(error, OSError) and not is_of_archive(error):
            raise
        raise ArchiveRefused(f"{archive.name} is damaged: {error}") from error


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
