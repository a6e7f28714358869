"""Names inside archives, checked before anything is written: archives are foreign input."""

from __future__ import annotations

import errno
import sys
from collections.abc import Iterable

from plainfall.errors import ArchiveRefused
from plainfall.patterns import regex

__all__ = ["check_amount", "check_no_clashes", "is_of_archive", "member_path"]

_DEEPEST = 100  # folders within folders; packages have some ten
_MOST_MEMBERS = 200_000  # files and folders of an archive; the largest packages have some 60,000
_OF_ARCHIVE = frozenset(
    (
        None,
        errno.EINVAL,
        errno.ENOENT,
        errno.ENOTDIR,
        errno.EISDIR,
        errno.EEXIST,
        errno.ELOOP,
        errno.ENAMETOOLONG,
    )
)
_PIECE = r"[A-Za-z0-9_@+=,~-][A-Za-z0-9_@+=,~. -]{0,200}"
_PLAIN = regex(rf"(?:{_PIECE}/){{0,40}}{_PIECE}")
_DRIVE = regex(r"^[A-Za-z]:")

_TELLS_CASE = sys.platform not in ("darwin", "win32")  # what their disks do unless made otherwise


def member_path(name: str, archive: str) -> str:
    """The member's name as a plain relative path with forward slashes.

    Raises ArchiveRefused for a name that is empty, absolute, climbs with ``..``, holds a drive letter, a
    backslash, a NUL byte or a line end, is longer than Linux allows (PATH_MAX 4096, NAME_MAX 255), is no text, or
    is deeper than any package is.
    """
    if len(name) < 2000 and _PLAIN.fullmatch(name):
        return name  # nearly every one is: the rest of the look costs as much as writing the file
    pieces = [piece for piece in name.split("/") if piece not in ("", ".")]
    wrong = (
        not pieces
        or name.startswith("/")
        or ".." in pieces
        or _DRIVE.match(name) is not None
        or any(bad in name for bad in ("\\", "\0", "\n", "\r"))
        or len(name) > 4000
        or len(pieces) > _DEEPEST
        or any(len(piece.encode("utf-8", "surrogatepass")) > 255 for piece in pieces)
        or any(0xD800 <= ord(sign) <= 0xDFFF for sign in name)
    )
    if wrong:
        raise ArchiveRefused(
            f"{archive} holds a member named {name!r}, which would be written outside its folder "
            "or under a name that is not safe",
            remedy="Nothing of it was used. Do not install it by other means either; tell its publisher.",
        )
    return "/".join(pieces)


def check_amount(count: int, archive: str) -> None:
    """Raises ArchiveRefused for more files and folders than any package has."""
    if count > _MOST_MEMBERS:
        raise ArchiveRefused(f"{archive} holds more than {_MOST_MEMBERS:,} files and folders")


def is_of_archive(error: OSError) -> bool:
    """Whether the operating system refused what an archive says (an offset, a link without a target), and not the
    disk or its owner."""
    return error.errno in _OF_ARCHIVE


def check_no_clashes(names: Iterable[str], archive: str, *, tells_case: bool = _TELLS_CASE) -> None:
    """Raises ArchiveRefused if two names are the same, or if one is a folder of another; where this system's disks
    do not tell letters by case, also if they are the same but for that (they would overwrite each other)."""
    seen: dict[str, str] = {}
    folders: set[str] = set()
    for name in names:
        key = name if tells_case else name.casefold()
        if key in seen:
            raise ArchiveRefused(f"{archive} holds {seen[key]!r} and {name!r}, which clash")
        seen[key] = name
        while "/" in key:
            key = key.rpartition("/")[0]
            folders.add(key)
    for key in folders & seen.keys():
        raise ArchiveRefused(f"{archive} holds {seen[key]!r} both as a file and as a folder")
