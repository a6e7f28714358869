"""What people name: a folder, a repository under git, an archive."""

from __future__ import annotations

import posixpath
import re
from pathlib import Path
from urllib.parse import unquote, urlsplit

from msgspec import Struct

from plainfall.patterns import regex

__all__ = ["Source", "project_name", "source_of"]

_ARCHIVE = regex(r"\.(zip|tar\.(gz|bz2|xz)|tgz|tbz2|txz|tar)$", re.IGNORECASE)
_SCP = regex(r"\w[\w.-]{0,63}@\w[\w.-]{0,254}:(?!//)\S{1,1000}")
_SCHEME = regex(r"(https?|ssh|git|file)://", re.IGNORECASE)
# What a code host or a release puts behind the name of the folder that it wraps around.
_ENDING = regex(r"-(?:main|master|trunk|develop|dev|v?\d[\w.]*|[0-9a-f]{7,40})$")


class Source(Struct, frozen=True):
    """What was named: its kind ("folder", "git", "archive"), the folder, file or address, the name that a clone of
    it gets, and whether it is on this machine."""

    kind: str
    address: str
    name: str
    is_here: bool = False


def project_name(name: str) -> str:
    """A name for a folder, of an archive's or a repository's: without its endings."""
    plain = _ARCHIVE.sub("", name.rstrip("/").rpartition("/")[2].rpartition(":")[2])
    plain = re.sub(r"\.(git|bundle)$", "", plain)
    plain = re.sub(r"[^A-Za-z0-9._-]", "-", plain).strip(".-")
    return _ENDING.sub("", plain) or plain or "clone"


def source_of(named: str, here: Path) -> Source:
    """What a word of the command line means; ``here`` is the current folder. A word that means nothing else is a
    folder, there or not."""
    path = here / named
    if path.is_dir():
        bare = (path / "HEAD").is_file() and (path / "objects").is_dir() and (path / "refs").is_dir()
        return Source("git" if bare else "folder", str(path), project_name(path.name), True)
    if path.is_file():
        if _ARCHIVE.search(path.name):
            return Source("archive", str(path), project_name(path.name), True)
        return Source("git", str(path), project_name(path.name), True)  # a bundle; git says so if it is none
    match = _SCHEME.match(named)
    if match:
        parts = urlsplit(named)
        name = project_name(posixpath.basename(unquote(parts.path.rstrip("/"))))
        scheme = match.group(1).lower()
        if _ARCHIVE.search(parts.path) and scheme in ("http", "https"):
            return Source("archive", named, name)
        if scheme == "file" and _ARCHIVE.search(parts.path):
            return Source("archive", unquote(parts.path), name, True)
        return Source("git", named, name, scheme == "file")
    if _SCP.fullmatch(named):
        return Source("git", named, project_name(named))
    return Source("folder", str(path), project_name(path.name), True)
