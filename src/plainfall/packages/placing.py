"""Putting cached files into an environment: hard links, or copies where links cannot be or should not be.

A folder that files are placed in is made here, or is seen to be a real folder before anything is put into it: a
link that stands in its place (one that a clone brought along) is refused.
"""

from __future__ import annotations

import errno
import os
import re
import shutil
import stat
from collections.abc import Iterable
from pathlib import Path

from msgspec import Struct

from plainfall.errors import PathRefused
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["Folders", "Placement", "is_written_to", "place_files", "remove_empty_folders"]

# Another device; a file system without hard links; too many links on one file.
_NO_LINK = frozenset({errno.EXDEV, errno.EPERM, errno.EMLINK, errno.EOPNOTSUPP, errno.ENOSYS, errno.EACCES})
# Files of packages that programs are known to write into while they run: a link would change every clone's.
_WRITTEN_TO = regex(
    r"\.(db|db3|sqlite3?|mdb|log|pid|lock|env|ini|cfg|conf)$|(^|/)(\.cache|cache|tmp|var|logs?)/",
    re.IGNORECASE,
)


class Placement(Struct, frozen=True):
    """One file to place: where it comes from and where it goes (absolute paths)."""

    source: str
    target: str


class Folders:
    """Makes folders below a root that is known to be a real folder, and knows those that were made."""

    def __init__(self, root: Path) -> None:
        self.root = str(root)
        self._made = {self.root}

    def make(self, folder: str) -> None:
        """Makes a folder with those above it. Raises PathRefused for one outside the root, or if a link or a
        file stands in the place of one."""
        if folder in self._made:
            return
        if not folder.startswith(f"{self.root}/") or ".." in folder.split("/"):
            raise PathRefused(f"it is outside of {self.root}", place=Evidence(folder))
        self.make(folder.rpartition("/")[0])
        try:
            os.mkdir(folder)
        except FileExistsError as error:
            if not stat.S_ISDIR(os.lstat(folder).st_mode):
                raise PathRefused(
                    "a folder is needed here, and a link or a file exists",
                    place=Evidence(folder),
                    remedy="Look at who put it there, and take it away.",
                ) from error
        self._made.add(folder)


def is_written_to(path: str) -> bool:
    """Whether a package's file is of a kind that programs write into: it is copied, not linked."""
    return _WRITTEN_TO.search(path) is not None


def place_files(placements: Iterable[Placement], folders: Folders, *, copy: bool = False) -> bool:
    """Links every source to its target (or copies it), making folders as needed; an older file at a target
    gives way. Returns whether links were possible. Raises OSError and PathRefused; targets placed by then
    stay."""
    link, inner = os.link, len(folders.root)
    linking = not copy
    for placement in placements:
        target = placement.target
        folders.make(target.rpartition("/")[0])
        if linking and not is_written_to(target[inner:]):
            try:
                link(placement.source, target)
                continue
            except FileExistsError:
                os.unlink(target)
                link(placement.source, target)
                continue
            except OSError as error:
                if error.errno not in _NO_LINK:
                    raise
                linking = False
        if os.path.lexists(target):
            os.unlink(target)
        shutil.copy2(placement.source, target, follow_symlinks=False)
    return linking


def remove_empty_folders(folders: Iterable[str], stop: Path) -> None:
    """Removes those of the folders, and of their parents below ``stop``, that hold nothing (a left-over
    ``__pycache__`` counts as nothing)."""
    for folder in sorted(set(folders), key=len, reverse=True):
        current = Path(folder)
        while current != stop and stop in current.parents and not current.is_symlink():
            shutil.rmtree(current / "__pycache__", ignore_errors=True)  # never follows a link
            try:
                current.rmdir()
            except OSError:
                break
            current = current.parent
