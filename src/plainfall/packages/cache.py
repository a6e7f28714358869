"""The package cache: verified archives and their unpacked files, shared by all clones of this user.

::

    CACHE/archives/ab/abcd…/NAME.whl       an archive whose SHA-256 is abcd…, never changed again
    CACHE/trees/ab/abcd…/manifest.json     what its files are, and what the ecosystem read in them
    CACHE/trees/ab/abcd…/files/…           its files, linked into environments
    CACHE/partial/…                        downloads under way, kept for resuming

A folder under ``trees`` appears by one rename, complete or not at all. Since its files are hard links'
sources, a program that edits an installed file in place would edit the cache too: each use compares size
and modification time with the manifest, and a tree that differs is unpacked anew from its archive. Nothing
becomes part of a path here before it is known to be a digest or a plain name.
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import json
import os
import shutil
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from msgspec import Struct, field

from plainfall.errors import ArchiveRefused, disk_full_explained
from plainfall.packages.digests import is_key
from plainfall.packages.placing import Folders, is_written_to
from plainfall.packages.remembered import Remembered
from plainfall.packages.unpacking import Unpacked, unpack_zip
from plainfall.patterns import regex
from plainfall.writing import read_json, write_replacing

__all__ = ["CachedTree", "PackageCache", "make_tree", "unpack_into_cache"]

_MANIFEST_VERSION = 2
_FILE_NAME = regex(r"[^./\0-\x1f][^/\0-\x1f]{0,239}")
_LEFT_FOR = 86_400.0  # seconds after which what was being made counts as given up
_PARTIAL_FOR = 7 * 86_400.0  # seconds for which a download that broke off is kept

Describe = Callable[[Path, list[Unpacked]], dict[str, Any]]


class CachedTree(Struct, frozen=True):
    """An unpacked package: its SHA-256, the folder of its files, the files, and the ecosystem's facts."""

    sha256: str
    folder: Path
    files: list[Unpacked]
    facts: dict[str, Any] = field(default_factory=dict)

    def damaged(self) -> bool:
        """Whether a file is gone or is no longer what was unpacked (by size and modification time)."""
        root = f"{self.folder}/"
        try:
            for file in self.files:
                state = os.stat(root + file.path)
                if state.st_size != file.size or state.st_mtime_ns != file.mtime:
                    return True
        except OSError:
            return True
        return False


class PackageCache(Remembered):
    """Looks things up in the cache folder and adds to it. Safe to use from several processes at once."""

    def archive_folder(self, sha256: str) -> Path:
        """Where the archive with that digest lies or would lie."""
        return self.folder / "archives" / _checked(sha256)[:2] / sha256

    def tree_folder(self, sha256: str) -> Path:
        """Where the archive's unpacked files and manifest lie or would lie."""
        return self.folder / "trees" / _checked(sha256)[:2] / sha256

    def archive(self, sha256: str) -> Path | None:
        """The verified archive with that digest, if it is here."""
        try:
            names = [entry.path for entry in os.scandir(self.archive_folder(sha256))]
        except OSError:
            return None
        return Path(names[0]) if names else None

    @contextmanager
    def partial(self, key: str) -> Iterator[Path]:
        """A place for a download under way; the same key gives the same place, so that it can go on later.
        While another process uses that place, a temporary one."""
        folder = self.folder / "partial"
        folder.mkdir(parents=True, exist_ok=True)
        place = folder / _checked(key)
        handle = os.open(place, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o644)
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            mine = os.fstat(handle).st_ino == place.stat().st_ino
        except (BlockingIOError, FileNotFoundError):
            mine = False  # somebody is at work on it, or has just moved it to its place
        try:
            if mine:
                yield place
                return
            with tempfile.TemporaryDirectory(prefix=f".{key[:12]}-", dir=folder) as own:
                yield Path(own, key)
        finally:
            with contextlib.suppress(FileNotFoundError):
                if mine and not place.stat().st_size:
                    place.unlink()  # nothing came
            os.close(handle)

    def keep_archive(self, fetched: Path, filename: str, sha256: str) -> Path:
        """Moves a verified download to its place; returns the place. Raises ArchiveRefused for a name that is
        no plain file name."""
        if not _FILE_NAME.fullmatch(filename):
            raise ArchiveRefused(f"{filename[:120]!r} is no name of an archive")
        folder = self.archive_folder(sha256)
        folder.mkdir(parents=True, exist_ok=True)
        place = folder / filename
        os.replace(fetched, place)
        return place

    def tree(self, sha256: str) -> CachedTree | None:
        """The unpacked package, if it is here and complete."""
        folder = self.tree_folder(sha256)
        manifest = read_json(folder / "manifest.json")
        if not isinstance(manifest, dict) or manifest.get("version") != _MANIFEST_VERSION:
            return None
        files = [Unpacked(*row) for row in manifest["files"]]
        return CachedTree(sha256, folder / "files", files, manifest["facts"])

    def link_tree(self, key: str, target: str, folders: Folders) -> tuple[list[str], dict[str, Any]] | None:
        """Links the files of a tree below a new folder (its name ends with a slash), each after a look whether it
        is still what was unpacked; returns their paths and the facts. None if the tree is not here, is
        damaged, or cannot be linked from here; some files may be linked by then."""
        folder = self.tree_folder(key)
        manifest = read_json(folder / "manifest.json")
        if not isinstance(manifest, dict) or manifest.get("version") != _MANIFEST_VERSION:
            return None
        source, link, stat = f"{folder}/files/", os.link, os.stat
        paths = []
        try:
            for path, _, size, mtime in manifest["files"]:
                state = stat(source + path)
                if state.st_size != size or state.st_mtime_ns != mtime:
                    return None
                folders.make((target + path).rpartition("/")[0])
                if is_written_to(path):
                    shutil.copy2(source + path, target + path)
                else:
                    link(source + path, target + path)
                paths.append(path)
        except OSError:
            return None
        return paths, manifest["facts"]

    def sweep(self) -> None:
        """Removes what runs that were killed left half made, at most once a day."""
        stamp = self.folder / "swept"
        now = time.time()
        with contextlib.suppress(OSError):  # another run sweeps, or nothing may be removed: it is done later
            if not self.folder.is_dir() or (stamp.exists() and now - stamp.stat().st_mtime < _LEFT_FOR):
                return
            stamp.touch()
            places = [*self.folder.glob("trees/*/.*"), *self.folder.glob(".checkout-*")]
            places += [*self.folder.glob("building/*"), *self.folder.glob("partial/.*")]
            for place in places:
                if now - place.lstat().st_mtime > _LEFT_FOR:
                    shutil.rmtree(place, ignore_errors=True)
            for place in self.folder.glob("partial/*"):
                if place.is_file() and now - place.lstat().st_mtime > _PARTIAL_FOR:
                    place.unlink(missing_ok=True)


def _checked(key: str) -> str:
    """The key, if it may be a folder's name. Raises ArchiveRefused for anything else."""
    if not is_key(key):
        raise ArchiveRefused(
            f"{key[:120]!r} is no digest, and nothing is looked up under it",
            remedy="The registry, the index page or the lock that states it is wrong or hostile.",
        )
    return key


def unpack_into_cache(cache_folder: Path, archive: Path, sha256: str, describe: Describe) -> CachedTree:
    """Unpacks a verified zip archive into the cache (or anew over a damaged tree) and returns the tree.

    ``describe`` reads the ecosystem's facts from the unpacked files; what it raises passes through.
    Raises ArchiveRefused or DiskFull; then the cache is as it was. May run in a worker process.
    """
    try:
        return make_tree(
            cache_folder, sha256, archive.name, lambda folder: unpack_zip(archive, folder), describe
        )
    except ArchiveRefused:
        shutil.rmtree(PackageCache(cache_folder).archive_folder(sha256), ignore_errors=True)
        raise


def make_tree(
    cache_folder: Path, key: str, name: str, unpack: Callable[[Path], list[Unpacked]], describe: Describe
) -> CachedTree:
    """Makes the tree of a key (the digest of a verified archive, in hex), or replaces a damaged one. A good
    one that another process has made meanwhile is returned instead.

    ``unpack`` writes the files into a new folder and lists them; ``describe`` may change their modes and
    returns facts. What they raise passes through, and the cache is as it was; DiskFull names the archive.
    """
    place = PackageCache(cache_folder).tree_folder(key)
    place.parent.mkdir(parents=True, exist_ok=True)
    with disk_full_explained(f"unpacking {name}"):
        making = Path(tempfile.mkdtemp(prefix=f".{key[:12]}-", dir=place.parent))
        try:
            (making / "files").mkdir()
            files = unpack(making / "files")
            facts = describe(making / "files", files)
            rows = [[file.path, file.mode, file.size, file.mtime] for file in files]
            manifest = {"version": _MANIFEST_VERSION, "files": rows, "facts": facts}
            write_replacing(making / "manifest.json", json.dumps(manifest, separators=(",", ":")))
            making.chmod(0o755)
            other = _put_in_place(making, place)
        except BaseException:
            shutil.rmtree(making, ignore_errors=True)
            raise
    return other or CachedTree(key, place / "files", files, facts)


def _put_in_place(making: Path, place: Path) -> CachedTree | None:
    """Renames the new tree into place and returns None. Where a good one stands already, another process was
    faster: it may be linking from that one, so it stays, and is returned. A damaged one is replaced."""
    try:
        os.rename(making, place)
        return None
    except OSError as error:
        if error.errno not in (errno.ENOTEMPTY, errno.EEXIST):
            raise
    cache = PackageCache(place.parents[2])
    handle = os.open(place.parent, os.O_RDONLY)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX)  # one at a time, so that nobody takes a new one for the damaged
        value = cache.tree(place.name)
        if value is None or value.damaged():
            aside = Path(tempfile.mkdtemp(prefix=".old-", dir=place.parent))
            with contextlib.suppress(FileNotFoundError):
                os.rename(place, aside / "tree")
            shutil.rmtree(aside, ignore_errors=True)
            try:
                os.rename(making, place)
                return None
            except OSError:
                value = cache.tree(place.name)  # somebody came in between
                if value is None:
                    raise
    finally:
        os.close(handle)
    shutil.rmtree(making, ignore_errors=True)
    return value
