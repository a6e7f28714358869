"""What the package cache holds, by kind and age, and what of it may go.

A package counts as used while an environment has links to its files (the link count tells, whoever made it), or a
name in ``in_use``, which lists trees that clones run programs from. The time of its last use is that of the last
change of one of its files' entries: linking and unlinking change it (stat(2), st_ctime).
"""

from __future__ import annotations

import os
import shutil
import tempfile
import time
from collections.abc import Callable, Collection, Iterator
from pathlib import Path

from msgspec import Struct

from plainfall.packages.cache import PackageCache

__all__ = ["Stocked", "removable", "remove", "stock"]

_DAY = 86_400.0
# A package that was linked a moment ago may be one that a run is about to link.
_FRESH = 600.0
_LOOKED_AT = 200  # files of a package whose links are counted


class Stocked(Struct, frozen=True):
    """One thing in the cache: its kind ("packages", "archives", "half finished", "server programs", "prepared
    data", "conclusions"), its places, bytes, days since its last use, and whether something uses it."""

    kind: str
    places: tuple[Path, ...]
    size: int
    days: float
    used: bool

    @property
    def is_fresh(self) -> bool:
        """Whether it was used, or came, so short a time ago that a run may be about to use it."""
        return not self.used and self.days < _FRESH / _DAY


def stock(cache: PackageCache, in_use: Collection[str]) -> list[Stocked]:
    """All that is there, kinds together."""
    found = [*_packages(cache, in_use), *_half_finished(cache.folder)]
    known = {"trees", "archives", "partial", "building"}
    for folder in sorted(_folders(cache.folder)):
        if folder.name in known or folder.name.startswith("."):
            continue
        if folder.name in ("programs", "services"):
            kind = "server programs" if folder.name == "programs" else "prepared data"
            # Whether a server runs from it cannot be seen here.
            found += [
                Stocked(kind, (one,), _size(one), _days(one), folder.name == "programs")
                for one in sorted(_folders(folder))
                if not one.name.startswith(".")
            ]
        else:
            found.append(Stocked("conclusions", (folder,), _size(folder), _days(folder), False))
    return found


def _packages(cache: PackageCache, in_use: Collection[str]) -> Iterator[Stocked]:
    keys: dict[str, list[Path]] = {}
    for name in ("trees", "archives"):
        for above in _folders(cache.folder / name):
            for place in _folders(above):
                if not place.name.startswith("."):
                    keys.setdefault(place.name, []).append(place)
    for key, places in sorted(keys.items()):
        tree = next((one for one in places if one.parent.parent.name == "trees"), None)
        used, last = (key in in_use, 0.0) if tree is None else _links(tree)
        last = max(last, *(one.stat().st_mtime for one in places))
        size = sum(_size(one) for one in places)
        kind = "packages" if tree is not None else "archives"
        yield Stocked(kind, tuple(places), size, (time.time() - last) / _DAY, used or key in in_use)


def _links(tree: Path) -> tuple[bool, float]:
    """Whether a file of the tree has another name somewhere, and when a name came or went last."""
    used, last, seen = False, 0.0, 0
    for folder, _, names in os.walk(tree / "files"):
        for name in names:
            status = os.lstat(os.path.join(folder, name))
            used = used or status.st_nlink > 1
            last = max(last, status.st_ctime)
            seen += 1
        if used or seen > _LOOKED_AT:
            break
    return used, last


def _half_finished(folder: Path) -> Iterator[Stocked]:
    places = [*folder.glob("partial/*"), *folder.glob("building/*"), *folder.glob(".checkout-*")]
    for place in sorted([*places, *folder.glob("trees/*/.*")]):
        days = _days(place)
        yield Stocked("half finished", (place,), _size(place), days, days < 1)


def _folders(folder: Path) -> list[Path]:
    try:
        return [Path(one.path) for one in os.scandir(folder) if one.is_dir(follow_symlinks=False)]
    except OSError:
        return []


def _days(place: Path) -> float:
    return (time.time() - place.lstat().st_mtime) / _DAY


def _size(place: Path) -> int:
    """Bytes of the files of a folder, or of one file."""
    if place.is_symlink() or not place.is_dir():
        return place.lstat().st_size
    rows = ((folder, name) for folder, _, names in os.walk(place) for name in names)
    return sum(os.lstat(os.path.join(folder, name)).st_size for folder, name in rows)


def removable(things: Collection[Stocked], *, older_than: float, everything: bool) -> list[Stocked]:
    """Those that may go: what nothing uses, and was not used for so many days; or all."""
    return [one for one in things if everything or not (one.used or one.is_fresh or one.days < older_than)]


def remove(things: Collection[Stocked], tell: Callable[[str], None]) -> list[str]:
    """Takes them away, each by one rename first; returns what could not be, in words."""
    failed = []
    for number, one in enumerate(things, 1):
        tell(f"{number} of {len(things)}")
        for place in one.places:
            try:
                if place.is_dir() and not place.is_symlink():
                    aside = Path(tempfile.mkdtemp(prefix=".old-", dir=place.parent))
                    os.rename(place, aside / "going")
                    shutil.rmtree(aside)
                else:
                    place.unlink()
            except FileNotFoundError:
                continue  # another run was faster
            except OSError as error:
                failed.append(f"{place}: {error.strerror or error}")
    return failed
