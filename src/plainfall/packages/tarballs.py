"""Unpacking of gzipped tar archives into a new folder, fast and without trust in what they say.

Read are the ustar format (POSIX.1-1988), its ``path`` and ``size`` extensions (POSIX.1-2001, pax) and the GNU
long names. The first piece of each member's name is left out, as registries of Node packages have it. A small
reader of our own, since the standard library's costs several times more for the many small files of a tree.
"""

from __future__ import annotations

import mmap
import os
import stat
import tempfile
import zlib
from collections.abc import Iterator
from pathlib import Path

from plainfall.errors import ArchiveRefused
from plainfall.packages.paths import check_amount, check_no_clashes, member_path
from plainfall.packages.proof import digest_of_content
from plainfall.packages.unpacking import Unpacked
from plainfall.patterns import regex

__all__ = ["gzip_pieces", "unpack_tarball"]

_BLOCK = 512
# A package of more than this, or one that grows more than this many times, is taken for a size bomb.
_LARGEST = 2 * 1024**3
_GROWTH = 200
_GROWTH_FREE = 64 * 1024**2
_PIECE = 1 << 20
_FIRST_PORTION = 512  # bytes that a gzip member is given at first
_OCTAL = regex(rb"[0-7]*")
_PAX = regex(rb"(?<!\d)\d+ ([^=\n]+)=([^\n]*)\n")


def unpack_tarball(data: bytes, folder: Path, name: str, *, wrapped: bool = True) -> list[Unpacked]:
    """Writes every file of the archive below ``folder`` (which exists and is empty) and lists them.

    Files can be read and written by all and get the archive's bits for running, less the umask. Links that
    stay inside are skipped, as registries' clients do; a ``.gitignore`` becomes an ``.npmignore`` where the folder
    has none, as npm lays it; neither this nor taking the first folder off is done to an archive that is not
    ``wrapped`` into one folder. Raises ArchiveRefused, naming the archive, for anything damaged or hostile; what
    was written by then is the caller's to remove."""
    entire = _inflated(data, name, folder)
    members = list(_members(entire, name, wrapped=wrapped))
    members = _with_ignore_files(members) if wrapped else members
    check_no_clashes((path for path, _, _, _ in members), name)
    written: list[Unpacked] = []
    root, made = f"{folder}/", {""}
    for path, mode, start, size in members:
        parent = path.rpartition("/")[0]
        if parent not in made:
            os.makedirs(root + parent, exist_ok=True)
            while parent not in made:
                made.add(parent)
                parent = parent.rpartition("/")[0]
            check_amount(len(written) + len(made), name)
        bits = (mode | 0o666) & 0o777
        handle = os.open(root + path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, bits)
        try:
            view = memoryview(entire)[start : start + size]
            digest = digest_of_content(view)
            while len(view):
                view = view[os.write(handle, view) :]
            state = os.fstat(handle)
        finally:
            os.close(handle)
        bits = stat.S_IMODE(state.st_mode)
        written.append(Unpacked(path, bits, state.st_size, state.st_mtime_ns, digest))
    return written


def _with_ignore_files(members: list[tuple[str, int, int, int]]) -> list[tuple[str, int, int, int]]:
    """The members with the names that npm gives them."""
    paths = {path for path, _, _, _ in members}
    named = []
    for path, mode, start, size in members:
        folder, _, base = path.rpartition("/")
        if base == ".gitignore":
            path = f"{folder}/.npmignore".removeprefix("/")
            if path in paths:
                continue
        named.append((path, mode, start, size))
    return named


def _inflated(data: bytes, name: str, folder: Path) -> bytes | mmap.mmap:
    """The archive itself: in memory where it is small, else a map of a nameless file in ``folder``."""
    limit = max(_GROWTH_FREE, min(_LARGEST, len(data) * _GROWTH))
    pieces, size = [], 0
    for piece in gzip_pieces(data, name):
        pieces.append(piece)
        size += len(piece)
        if size > _GROWTH_FREE:
            break
    else:
        return b"".join(pieces)
    with tempfile.TemporaryFile(dir=folder) as file:
        size = 0
        for piece in gzip_pieces(data, name):
            size += len(piece)
            if size > limit:
                raise ArchiveRefused(
                    f"{name} of {len(data):,} bytes unpacks to over {limit:,} bytes: a size bomb"
                )
            file.write(piece)
        file.flush()
        return mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ)


def gzip_pieces(data: bytes | mmap.mmap, name: str) -> Iterator[bytes]:
    """The inflated bytes of all gzip members, a piece after the other.

    A member is given what follows it a little at a time: what it does not use is copied, and an archive may consist
    of hundreds of thousands of members of 20 bytes."""
    view, position = memoryview(data), 0
    try:
        while position < len(view):
            inflate = zlib.decompressobj(31)
            given, portion = position, _FIRST_PORTION
            while not inflate.eof:
                if given >= len(view):
                    raise ArchiveRefused(f"{name} is damaged: it ends too early", remedy=_AGAIN)
                piece: bytes | memoryview = view[given : given + portion]
                given += len(piece)
                portion = min(portion * 4, _PIECE)
                while piece and not inflate.eof:
                    yield inflate.decompress(piece, _PIECE)
                    piece = inflate.unconsumed_tail
            position = given - len(inflate.unused_data)
            if bytes(view[position : position + 2]) != b"\x1f\x8b":
                return  # padding after the last member
    except zlib.error as error:
        raise ArchiveRefused(f"{name} is damaged: {error}", remedy=_AGAIN) from error


_AGAIN = "Run the same command again to fetch it again; if it stays so, the registry's copy is bad."


def _members(
    whole: bytes | mmap.mmap, name: str, *, wrapped: bool = True
) -> Iterator[tuple[str, int, int, int]]:
    """(path, mode, start, size) of every regular file; a later member of a name replaces an earlier one."""
    results: dict[str, tuple[str, int, int, int]] = {}
    position, end = 0, len(whole)
    long_name: str | None = None
    extended: dict[str, str] = {}
    while position + _BLOCK <= end:
        header = whole[position : position + _BLOCK]
        if header == bytes(_BLOCK):
            break
        if sum(header[:148]) + 256 + sum(header[156:]) != _octal(header[148:156], name):
            raise ArchiveRefused(f"{name} is damaged: a header's checksum is wrong", remedy=_AGAIN)
        size = _octal(header[124:136], name)
        if "size" in extended:
            stated = extended["size"]
            if not stated.isascii() or not stated.isdigit() or len(stated) > 18:
                raise ArchiveRefused(f"{name} is damaged: {stated[:40]!r} is no size", remedy=_AGAIN)
            size = int(stated)
        kind = header[156:157]
        start = position + _BLOCK
        position = start + (size + _BLOCK - 1) // _BLOCK * _BLOCK
        if start + size > end:
            raise ArchiveRefused(f"{name} is damaged: it ends within a member", remedy=_AGAIN)
        if kind == b"x":
            if size > _PIECE:
                raise ArchiveRefused(f"{name} holds a header of {size:,} bytes", remedy=_HOSTILE)
            pairs = _PAX.findall(whole[start : start + size])
            extended = {
                key.decode("utf-8", "replace"): value.decode("utf-8", "replace") for key, value in pairs
            }
            continue
        if kind == b"L":
            if size > _PIECE:
                raise ArchiveRefused(f"{name} holds a name of {size:,} bytes", remedy=_HOSTILE)
            long_name = whole[start : start + size].rstrip(b"\0").decode("utf-8", "replace")
            continue
        if kind in (b"g", b"K"):
            continue
        path = extended.get("path") or long_name or _name(header)
        link = extended.get("linkpath") or header[157:257].rstrip(b"\0").decode("utf-8", "replace")
        long_name, extended = None, {}
        inner = _inner(path, name) if wrapped else member_path(path, name) if path.strip("./") else ""
        if kind in (b"0", b"\0", b"7") and inner and not path.endswith("/"):
            results[inner] = (inner, _octal(header[100:108], name), start, size)
            check_amount(len(results), name)
        elif kind in (b"1", b"2"):
            _check_link(inner, link, name, hard=kind == b"1" and wrapped)
        elif kind in (b"3", b"4", b"6"):
            raise ArchiveRefused(f"{name} holds {path!r}, which is a device, not a file", remedy=_HOSTILE)
    yield from results.values()


_HOSTILE = "Nothing of it was used. Do not install it by other means either; tell its publisher."


def _octal(field: bytes, name: str) -> int:
    if field[:1] == b"\x80":
        return int.from_bytes(field[1:], "big")
    text = field.strip(b" \0")
    if not _OCTAL.fullmatch(text):
        raise ArchiveRefused(f"{name} is damaged: {field!r} is no number", remedy=_AGAIN)
    return int(text, 8) if text else 0


def _name(header: bytes) -> str:
    path = header[:100].split(b"\0", 1)[0].decode("utf-8", "replace")
    prefix = header[345:500].split(b"\0", 1)[0].decode("utf-8", "replace")
    return f"{prefix}/{path}" if header[257:262] == b"ustar" and prefix else path


def _inner(path: str, name: str) -> str:
    """A member's name without its first piece; "" for the first folder itself."""
    entire = member_path(path, name) if path.strip("./") else ""
    return entire.partition("/")[2]


def _check_link(inner: str, target: str, name: str, *, hard: bool) -> None:
    """Raises ArchiveRefused for a link that leads out of the package; others are no files, and left out."""
    base = "" if hard else os.path.dirname(inner)
    pieces = target.split("/")[1:] if hard else target.split("/")
    resolved = os.path.normpath(os.path.join(base, *pieces)) if pieces else ""
    if target.startswith("/") or resolved == ".." or resolved.startswith("../"):
        raise ArchiveRefused(
            f"{name} holds {inner!r}, a link that leads out of the package, to {target!r}", remedy=_HOSTILE
        )
