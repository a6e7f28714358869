"""Putting cached files into an environment: hard links, or copies where links cannot be."""

from __future__ import annotations

import errno
import os
import shutil
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

__all__ = ["Placement", "place_files", "remove_empty_folders"]

# Another device; a file system without hard links; too many links on one file.
_NO_LINK = frozenset({errno.EXDEV, errno.EPERM, errno.EMLINK, errno.EOPNOTSUPP, errno.ENOSYS, errno.EACCES})


@dataclass(frozen=True, slots=True)
class Placement:
    """One file to place: where it comes from and where it goes (absolute paths)."""

    source: str
    target: str


def place_files(placements: Iterable[Placement], made: set[str]) -> bool:
    """Links (or copies) every source to its target, making folders as needed; an older file at a target
    gives way. ``made`` is the set of folders known to be there, and grows. Returns whether links were
    possible. Raises OSError; targets placed by then stay."""
    link = os.link
    linking = True
    for placement in placements:
        target = placement.target
        parent = target.rpartition("/")[0]
        if parent not in made:
            os.makedirs(parent, exist_ok=True)
            made.add(parent)
        if linking:
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
        shutil.copy2(placement.source, target)
    return linking


def remove_empty_folders(folders: Iterable[str], stop: Path) -> None:
    """Removes those of the folders, and of their parents below ``stop``, that hold nothing (a left-over
    ``__pycache__`` counts as nothing)."""
    for folder in sorted(set(folders), key=len, reverse=True):
        current = Path(folder)
        while current != stop and stop in current.parents:
            shutil.rmtree(current / "__pycache__", ignore_errors=True)
            try:
                current.rmdir()
            except OSError:
                break
            current = current.parent
