"""The package cache: verified archives and their unpacked files, shared by all clones of this user.

::

    CACHE/archives/ab/abcd…/archive        an archive whose SHA-256 is abcd…, never changed again
    CACHE/trees/ab/abcd…/manifest.json     what its files are, and what the ecosystem read in them
    CACHE/trees/ab/abcd…/stamps.json       when the entries of its files were changed last, by us
    CACHE/trees/ab/abcd…/files/…           its files, linked into environments
    CACHE/partial/…                        downloads under way, kept for resuming
    CACHE/building/…                       workshops of builds and checkouts under way
    CACHE/KIND/NAME.json                   conclusions (`Remembered`)

A folder under ``trees`` appears by one rename, complete or not at all. Since its files are hard links'
sources, a program that edits an installed file in place would edit the cache too: each use compares them with the
manifest (`proof`), and a tree that differs is unpacked anew from its archive. What is kept is found by a `CacheKey`
alone, and no other module joins a path below the cache's folder.
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import json
import os
import re
import shutil
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from plainfall.errors import ArchiveRefused, disk_full_explained
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.digests import Digest
from plainfall.packages.placing import Folders, is_written_to
from plainfall.packages.proof import digest_of_plain_file, is_unchanged, stamps_of
from plainfall.packages.remembered import Remembered
from plainfall.packages.unpacking import Unpacked, unpack_zip
from plainfall.writing import read_json, write_replacing

__all__ = ["CachedTree", "PackageCache", "make_tree", "unpack_into_cache"]

_MANIFEST_VERSION = 3
_LEFT_FOR = 86_400.0  # seconds after which what was being made counts as given up
_PARTIAL_FOR = 7 * 86_400.0  # seconds for which a download that broke off is kept

Describe = Callable[[Path, list[Unpacked]], dict[str, Any]]


class CachedTree(Struct, frozen=True):
    """An unpacked package: its key, the folder of its files, the files, and the ecosystem's facts."""

    key: CacheKey
    folder: Path
    files: list[Unpacked]
    facts: dict[str, Any] = field(default_factory=dict)

    @property
    def sha256(self) -> str:
        """The name of its key: for a wheel the SHA-256 of the archive."""
        return self.key.name

    def damaged(self) -> bool:
        """Whether a file is gone or is no longer what was unpacked."""
        root = f"{self.folder}/"
        stamps = _stamps(self.folder.parent, len(self.files))
        try:
            rows = zip(self.files, stamps, strict=True)
            return not all(is_unchanged(root + file.path, file.row, stamp) for file, stamp in rows)
        except OSError:
            return True

    def note_links(self) -> None:
        """Notes that the entries of its files were changed by us: they were linked, or found good, a moment ago."""
        _note_stamps(self.folder.parent, [file.row for file in self.files])


class PackageCache(Remembered):
    """Looks things up in the cache folder and adds to it. Safe to use from several processes at once."""

    def archive_place(self, sha256: str) -> Path:
        """Where the archive with that SHA-256 lies or would lie. Raises ArchiveRefused for what is no digest."""
        name = CacheKey.recorded("archive", sha256).name
        return self.folder / "archives" / name[:2] / name / "archive"

    def tree_folder(self, key: CacheKey) -> Path:
        """Where the unpacked files of a key and their manifest lie or would lie."""
        return self.folder / "trees" / key.name[:2] / key.name

    @property
    def trees(self) -> Path:
        """The folder of all trees."""
        return self.folder / "trees"

    def archive(self, sha256: str) -> Path | None:
        """The verified archive with that SHA-256, if it is here."""
        place = self.archive_place(sha256)
        return place if place.is_file() else None

    @contextmanager
    def partial(self, key: CacheKey) -> Iterator[Path]:
        """A place for a download under way; the same key gives the same place, so that it can go on later.
        While another process uses that place, a temporary one."""
        folder = self.folder / "partial"
        folder.mkdir(parents=True, exist_ok=True)
        place = folder / key.name
        handle = os.open(place, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            mine = os.fstat(handle).st_ino == place.stat().st_ino
        except (BlockingIOError, FileNotFoundError):
            mine = False  # somebody is at work on it, or has just moved it to its place
        try:
            if mine:
                yield place
                return
            with tempfile.TemporaryDirectory(prefix=f".{key.name[:12]}-", dir=folder) as own:
                yield Path(own, key.name)
        finally:
            with contextlib.suppress(FileNotFoundError):
                if mine and not place.stat().st_size:
                    place.unlink()  # nothing came
            os.close(handle)

    def workshop(self) -> tempfile.TemporaryDirectory[str]:
        """A new folder for a build or a checkout, which goes with the returned object."""
        place = self.folder / "building"
        place.mkdir(parents=True, exist_ok=True)
        return tempfile.TemporaryDirectory(dir=place, ignore_cleanup_errors=True)

    def keep_archive(self, fetched: Path, sha256: str) -> Path:
        """Moves a verified download to its place; returns the place."""
        place = self.archive_place(sha256)
        place.parent.mkdir(parents=True, exist_ok=True)
        os.replace(fetched, place)
        return place

    def keep_log(self, log: str, label: str) -> Path:
        """Copies the log of a build that failed to where it stays; returns the place."""
        place = self.folder / "logs" / f"{re.sub(r'[^A-Za-z0-9.]+', '-', label).strip('.')[:120]}.log"
        place.parent.mkdir(parents=True, exist_ok=True)
        return Path(shutil.copy(log, place))

    def programs(self) -> Path:
        """The folder of server programs that were fetched."""
        return self.folder / "programs"

    def prepared(self, key: CacheKey) -> Path:
        """Where a server's prepared data folder lies or would lie."""
        return self.folder / "services" / key.name

    def tree(self, key: CacheKey) -> CachedTree | None:
        """The unpacked package, if it is here and complete."""
        manifest = _manifest(self.tree_folder(key))
        if manifest is None:
            return None
        files = [Unpacked(*row) for row in manifest["files"]]
        return CachedTree(key, self.tree_folder(key) / "files", files, manifest["facts"])

    def link_tree(
        self, key: CacheKey, target: str, folders: Folders
    ) -> tuple[list[str], dict[str, Any]] | None:
        """Links the files of a tree below a new folder (its name ends with a slash), each after a look whether it
        is still what was unpacked; returns their paths and the facts. None if the tree is not here, is
        damaged, or cannot be linked from here; some files may be linked by then."""
        folder = self.tree_folder(key)
        manifest = _manifest(folder)
        if manifest is None:
            return None
        source, link = f"{folder}/files/", os.link
        rows = manifest["files"]
        paths = []
        try:
            for row, stamp in zip(rows, _stamps(folder, len(rows)), strict=True):
                path = row[0]
                if not is_unchanged(source + path, row, stamp):
                    return None
                folders.make((target + path).rpartition("/")[0])
                if is_written_to(path):
                    shutil.copy2(source + path, target + path)
                else:
                    link(source + path, target + path)
                paths.append(path)
        except OSError:
            return None
        _note_stamps(folder, rows)
        return paths, manifest["facts"]

    def sweep(self) -> None:
        """Removes what runs that were killed left half made, at most once a day."""
        stamp = self.folder / "swept"
        now = time.time()
        with contextlib.suppress(OSError):  # another run sweeps, or nothing may be removed: it is done later
            if not self.folder.is_dir() or (stamp.exists() and now - stamp.stat().st_mtime < _LEFT_FOR):
                return
            stamp.touch()
            places = [*self.folder.glob("trees/*/.*"), *self.folder.glob("building/*")]
            for place in [*places, *self.folder.glob("partial/.*")]:
                if now - place.lstat().st_mtime > _LEFT_FOR:
                    shutil.rmtree(place, ignore_errors=True)
            for place in self.folder.glob("partial/*"):
                if place.is_file() and now - place.lstat().st_mtime > _PARTIAL_FOR:
                    place.unlink(missing_ok=True)


def _manifest(folder: Path) -> dict[str, Any] | None:
    """The manifest of a tree's folder; None for none, or one of another version."""
    manifest = read_json(folder / "manifest.json")
    if not isinstance(manifest, dict) or manifest.get("version") != _MANIFEST_VERSION:
        return None
    return manifest


def _stamps(folder: Path, count: int) -> list[int]:
    """The noted times of a tree's files; zeros where none are noted."""
    stamps = read_json(folder / "stamps.json")
    return stamps if isinstance(stamps, list) and len(stamps) == count else [0] * count


def _note_stamps(folder: Path, rows: list[Any]) -> None:
    """Notes the times of a tree's files. Where nothing can be written, their content is compared the next time."""
    with contextlib.suppress(OSError):
        write_replacing(folder / "stamps.json", json.dumps(stamps_of(f"{folder}/files/", rows)))


def unpack_into_cache(
    cache_folder: Path, archive: Path, sha256: str, name: str, describe: Describe
) -> CachedTree:
    """Unpacks a verified wheel into the cache (or anew over a damaged tree) and returns the tree. ``name`` is what
    messages call the archive.

    ``describe`` reads the ecosystem's facts from the unpacked files; what it raises passes through.
    Raises ArchiveRefused or DiskFull; then the cache is as it was. May run in a worker process.
    """
    key = CacheKey.of_content("python", Digest("sha256", sha256))
    try:
        return make_tree(cache_folder, key, name, lambda folder: unpack_zip(archive, folder, name), describe)
    except ArchiveRefused:
        shutil.rmtree(PackageCache(cache_folder).archive_place(sha256).parent, ignore_errors=True)
        raise


def make_tree(
    cache_folder: Path,
    key: CacheKey,
    name: str,
    unpack: Callable[[Path], list[Unpacked]],
    describe: Describe,
) -> CachedTree:
    """Makes the tree of a key, or replaces a damaged one. A good one that another process has made meanwhile is
    returned instead.

    ``unpack`` writes the files into a new folder and lists them; ``describe`` may change their modes and
    returns facts. What they raise passes through, and the cache is as it was; DiskFull names the archive.
    """
    place = PackageCache(cache_folder).tree_folder(key)
    place.parent.mkdir(parents=True, exist_ok=True)
    with disk_full_explained(f"unpacking {name}"):
        making = Path(tempfile.mkdtemp(prefix=f".{key.name[:12]}-", dir=place.parent))
        try:
            (making / "files").mkdir()
            files = unpack(making / "files")
            facts = describe(making / "files", files)
            files = [_with_digest(making / "files", file) for file in files]
            rows = [file.row for file in files]
            manifest = {"version": _MANIFEST_VERSION, "files": rows, "facts": facts}
            write_replacing(making / "manifest.json", json.dumps(manifest, separators=(",", ":")))
            _note_stamps(making, rows)
            making.chmod(0o755)
            other = _put_in_place(making, place, key)
        except BaseException:
            shutil.rmtree(making, ignore_errors=True)
            raise
    return other or CachedTree(key, place / "files", files, facts)


def _with_digest(folder: Path, file: Unpacked) -> Unpacked:
    """The file with its content's digest, where the unpacker has not stated it."""
    return file if file.digest else replace(file, digest=digest_of_plain_file(folder / file.path))


def _put_in_place(making: Path, place: Path, key: CacheKey) -> CachedTree | None:
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
        value = cache.tree(key)
        if value is None or value.damaged():
            aside = Path(tempfile.mkdtemp(prefix=".old-", dir=place.parent))
            with contextlib.suppress(FileNotFoundError):
                os.rename(place, aside / "tree")
            shutil.rmtree(aside, ignore_errors=True)
            try:
                os.rename(making, place)
                return None
            except OSError:
                value = cache.tree(key)  # somebody came in between
                if value is None:
                    raise
    finally:
        os.close(handle)
    shutil.rmtree(making, ignore_errors=True)
    return value
