"""Files written, replaced and removed inside one folder, whatever links and paths a clone brings along.

A path is resolved first: where its folder really lies must be below the root. Then it is opened one component
after the other, from the root down, without following links (openat(2) with O_NOFOLLOW), so that what was
checked is what is used. Everything that Plainfall writes in a clone goes through this module.
"""

from __future__ import annotations

import contextlib
import errno
import json
import os
import secrets
import shutil
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from plainfall.errors import PathRefused
from plainfall.evidence import Evidence

__all__ = ["PARTIAL", "Confined", "folder_below"]

# What the names of files written next to their place begin with: a stop may leave one, to be swept away.
PARTIAL = ".plainfall-"

_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_KINDS = {
    stat.S_IFDIR: "a folder",
    stat.S_IFIFO: "a named pipe",
    stat.S_IFSOCK: "a socket",
    stat.S_IFBLK: "a device",
    stat.S_IFCHR: "a device",
    stat.S_IFLNK: "a link",
}


def folder_below(root: Path, text: str, place: Evidence) -> Path:
    """The folder that foreign text names below ``root`` ("" is the root itself), as a real path.

    ``place`` is where the text stands. Raises PathRefused for a path that is absolute, climbs, holds control
    characters, leads through a link out of the root, or is no folder.

    >>> folder_below(Path("/usr"), "../etc", Evidence("a.toml", 3))
    Traceback (most recent call last):
    ...
    plainfall.errors.PathRefused: a.toml:3: '../etc' is no folder inside
    """
    pieces = text.replace("\\", "/").split("/")
    top = Path(os.path.realpath(root))
    real = Path(os.path.realpath(top / text)) if "\0" not in text else Path("/")
    plain = not text.startswith(("/", "\\")) and ".." not in pieces and text.isprintable()
    if not plain or not real.is_relative_to(top) or not real.is_dir():
        raise PathRefused(
            f"{text[:200]!r} is no folder inside",
            place=place,
            remedy="Correct the path where it is written; it may lead nowhere but into what was fetched.",
        )
    return real


class Confined:
    """The root that writing stays in. Paths may be absolute or relative to it; each operation raises
    PathRefused for a path that leads out of it, and OSError of the disk."""

    def __init__(self, root: Path, name: str = "the clone") -> None:
        self.root = Path(os.path.realpath(root))
        self._name = name

    def resolve(self, path: Path | str) -> Path:
        """Where a path really lies: the links of its folders followed, its last component not."""
        given = self.root / path
        folder = Path(os.path.realpath(given.parent))
        name = given.name
        if given == self.root:
            return self.root
        if name in ("", "..") or "\0" in str(path) or not folder.is_relative_to(self.root):
            raise self._refused(path, f"it leads out of {self._name}, to {folder / name}")
        return folder / name

    def target(self, path: Path | str) -> Path:
        """Where a file is to be written: the path itself, or what it links to, if that is inside. Raises
        PathRefused for what is neither a file nor absent."""
        place = self.resolve(path)
        if place.is_symlink():
            place = Path(os.path.realpath(place))
            if not place.is_relative_to(self.root):
                raise self._refused(path, f"it is a link out of {self._name}, to {place}")
        try:
            mode = os.lstat(place).st_mode
        except FileNotFoundError:
            return place
        if not stat.S_ISREG(mode):
            raise self._refused(path, f"it is {_KINDS.get(stat.S_IFMT(mode), 'something else')}, not a file")
        return place

    def write(self, path: Path | str, content: bytes | str, *, mode: int = 0o644) -> None:
        """Writes a file next to its place and moves it there (rename(2) is atomic); makes its folders. A link
        that stays inside is followed. Text is written as UTF-8; the file gets ``mode`` whatever the umask."""
        data = content.encode() if isinstance(content, str) else content
        with self._parent(self.target(path), make=True) as (folder, name):
            partial = f"{PARTIAL}{secrets.token_hex(6)}"
            handle = os.open(
                partial, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600, dir_fd=folder
            )
            try:
                with open(handle, "wb") as file:
                    file.write(data)
                    file.flush()
                    os.fchmod(file.fileno(), mode)
                os.replace(partial, name, src_dir_fd=folder, dst_dir_fd=folder)
            except BaseException:
                # An interrupt may come just after the move: an error of this would take its place.
                with contextlib.suppress(FileNotFoundError):
                    os.unlink(partial, dir_fd=folder)
                raise

    def write_json(self, path: Path | str, value: object, *, mode: int = 0o644) -> None:
        """``write`` of the value as JSON."""
        self.write(path, json.dumps(value, separators=(",", ":")), mode=mode)

    def open(self, path: Path | str, flags: int, mode: int = 0o600) -> int:
        """A descriptor of a plain file that is opened without following a link; its folders are made if it
        may be created."""
        place = self.resolve(path)
        with self._parent(place, make=bool(flags & os.O_CREAT)) as (folder, name):
            try:
                # O_NONBLOCK: opening a named pipe would wait for its other end.
                handle = os.open(
                    name, flags | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, mode, dir_fd=folder
                )
            except OSError as error:
                if error.errno in (errno.ELOOP, errno.ENXIO):
                    raise self._refused(path, "it is a link or a named pipe, not a file") from error
                error.filename = str(place)
                raise
        status = os.fstat(handle)
        if not stat.S_ISREG(status.st_mode):
            os.close(handle)
            raise self._refused(path, "it is not a plain file")
        return handle

    def make_folder(self, path: Path | str) -> Path:
        """Makes a folder and those above it, where they are missing; returns where it really lies. A link to a
        folder inside counts as that folder."""
        place = self.resolve(path)
        if place.is_symlink():
            place = Path(os.path.realpath(place))
            if not place.is_relative_to(self.root):
                raise self._refused(path, f"it is a link out of {self._name}, to {place}")
        if place != self.root:
            with self._parent(place, make=True) as (folder, name):
                self._make(folder, name, path)
        return place

    def own_folder(self, path: Path | str) -> Path:
        """``make_folder`` for a folder that must not be a link at all, wherever it leads."""
        place = self.resolve(path)
        if place.is_symlink():
            raise self._refused(path, "it is a link, and Plainfall keeps its own files there")
        return self.make_folder(place)

    def remove(self, path: Path | str) -> bool:
        """Removes a file, a link (never what it leads to) or a folder with all that is in it; returns
        whether it was there."""
        place = self.resolve(path)
        if place == self.root:
            raise self._refused(path, f"it is {self._name} itself")
        try:
            with self._parent(place) as (folder, name):
                if self._is_folder(name, folder):
                    shutil.rmtree(name, dir_fd=folder)
                else:
                    os.unlink(name, dir_fd=folder)
        except FileNotFoundError:
            return False
        return True

    def remove_empty(self, path: Path | str) -> bool:
        """Removes a folder that has nothing in it; returns whether it did."""
        place = self.resolve(path)
        if place == self.root:
            raise self._refused(path, f"it is {self._name} itself")
        try:
            with self._parent(place) as (folder, name):
                os.rmdir(name, dir_fd=folder)
        except OSError:
            return False  # something is in it, or it is none
        return True

    @staticmethod
    def _is_folder(name: str, folder: int) -> bool:
        return stat.S_ISDIR(os.stat(name, dir_fd=folder, follow_symlinks=False).st_mode)

    def rename(self, old: Path | str, new: Path | str) -> None:
        """Moves a file or folder to another place inside; makes the folders above that."""
        with (
            self._parent(self.resolve(old)) as (source, old_name),
            self._parent(self.resolve(new), make=True) as (target, new_name),
        ):
            os.rename(old_name, new_name, src_dir_fd=source, dst_dir_fd=target)

    def link(self, path: Path | str, target: str) -> None:
        """Makes a symbolic link, in place of an existing one; makes the folders above it."""
        with self._parent(self.resolve(path), make=True) as (folder, name):
            try:
                os.symlink(target, name, dir_fd=folder)
            except FileExistsError:
                if not stat.S_ISLNK(os.stat(name, dir_fd=folder, follow_symlinks=False).st_mode):
                    raise
                os.unlink(name, dir_fd=folder)
                os.symlink(target, name, dir_fd=folder)

    @contextmanager
    def _parent(self, place: Path, *, make: bool = False) -> Iterator[tuple[int, str]]:
        """The folder of a resolved place, opened, and the name in it."""
        current = os.open(self.root, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            for piece in place.parent.relative_to(self.root).parts:
                if make:
                    self._make(current, piece, place)
                try:
                    inner = os.open(piece, _FOLDER, dir_fd=current)
                except OSError as error:
                    if error.errno in (errno.ELOOP, errno.ENOTDIR):
                        raise self._refused(place, f"{piece} is not a folder") from error
                    raise
                os.close(current)
                current = inner
            yield current, place.name
        finally:
            os.close(current)

    def _make(self, folder: int, name: str, path: Path | str) -> None:
        try:
            os.mkdir(name, dir_fd=folder)
        except FileExistsError as error:
            if not self._is_folder(name, folder):
                raise self._refused(path, f"{name} is not a folder") from error

    def _refused(self, path: Path | str, why: str) -> PathRefused:
        return PathRefused(
            f"it is not touched: {why}",
            place=Evidence(str(path)),
            remedy="Look at who made it so. If it is right for you, put a plain file or folder in its place.",
        )
