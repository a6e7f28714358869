"""Files of installed packages that were edited in place.

Environments share the files of the package cache through hard links, so an edit in place in one clone changes all
of them. A run looks for linked files that changed since they were laid. A file that no other clone has is the
person's own: it becomes a copy of this clone's. One that other clones have, too, is installed again in all of them,
since it is not known where it was edited; the edited text is kept, and named.
"""

from __future__ import annotations

import os
import subprocess
from collections.abc import Sequence
from pathlib import Path

from msgspec import Struct, field

from plainfall.confinement import Confined
from plainfall.errors import PathRefused
from plainfall.onboarding.records.state import FOLDER, CloneState
from plainfall.packages.cache import PackageCache
from plainfall.plain_files import plain_bytes
from plainfall.processes import release, start
from plainfall.surroundings import Surroundings
from plainfall.writing import locked, read_json, write_json

__all__ = ["Edits", "note_environment", "trees_in_use"]

_LONGEST = 60.0  # seconds that a search may take
_LIST = "environments.json"


class Edits(Struct):
    """The edits in one part's environment. ``restored`` are paths whose packages are to be laid again."""

    state: CloneState
    user_state: Path
    environment: Path
    stamp: Path
    _search: subprocess.Popen[bytes] | None = None
    restored: dict[str, tuple[int, Path]] = field(default_factory=dict)
    own: list[str] = field(default_factory=list)

    @classmethod
    def begin(cls, state: CloneState, user_state: Path, part: str, environment: Path) -> Edits:
        """Starts the search in the background."""
        stamp = state.folder / "laid" / state.name_of(part)
        result = cls(state, user_state, environment, stamp)
        if stamp.is_file() and environment.is_dir() and not environment.is_symlink():
            result._search = _find([environment], ["-links", "+1", "-newer", str(stamp)])
        return result

    def settle(self) -> frozenset[str]:
        """Waits for the search and decides about each file; returns the paths to be laid again. What was edited
        is kept in the state folder."""
        files = _result(self._search)
        self._search = None
        if not files:
            return frozenset()
        inodes = {os.lstat(path).st_ino for path in files}
        others = [one for one in _environments(self.user_state) if one != self.environment and one.is_dir()]
        shared = (
            {os.lstat(path).st_ino for path in _result(_find(others, _inodes(inodes)))} if others else set()
        )
        for path in files:
            inode = os.lstat(path).st_ino
            try:
                if inode in shared:
                    kept = self.state.folder / "edited" / Path(path).relative_to(self.environment.parent)
                    self.state.confined.write(kept, plain_bytes(Path(path)), mode=0o600)
                    self.restored[path] = inode, kept
                else:
                    _unshare(self.state.confined, Path(path))
                    self.own.append(path)
            except (OSError, PathRefused):
                continue  # gone or replaced since it was seen
        return frozenset(self.restored)

    def finish(self) -> list[str]:
        """The packages were laid again: puts their files into the other clones, too, and notes that all is as it
        was installed. Returns remarks for people."""
        remarks = []
        changed: set[Path] = set()
        for path, (inode, _) in self.restored.items():
            if not os.path.isfile(path) or os.lstat(path).st_ino == inode:
                continue
            others = [one for one in _environments(self.user_state) if one != self.environment]
            for other in _result(_find(others, _inodes({inode}))):
                home = next(one for one in others if Path(other).is_relative_to(one))
                _relink(Path(path), Path(other), Confined(home, "that environment"))
                changed.add(home)
        if self.restored:
            names = _short(self.environment, list(self.restored))
            where = ", ".join(str(one) for one in sorted(changed))
            remarks.append(
                f"edited in place, and shared with other clones through links: {names}; installed again here"
                + (f" and in {where}" if where else "")
                + f"; the edited text is in {FOLDER}/edited"
            )
        if self.own:
            names = _short(self.environment, self.own)
            remarks.append(f"edited in place: {names}; from now on this clone's own copies")
        self.state.confined.write(self.stamp, "")
        note_environment(self.user_state, self.environment)
        return remarks


def note_environment(user_state: Path, environment: Path) -> None:
    """Notes for this user that an environment has links into the package cache."""
    with locked(user_state / "environments.lock"):
        known = [str(one) for one in _environments(user_state)]
        if str(environment) not in known:
            rows = [one for one in known if os.path.isdir(one)]
            write_json(user_state / _LIST, {"environments": [*rows, str(environment)]}, mode=0o600)


def trees_in_use(surroundings: Surroundings) -> set[str]:
    """The keys of cached packages that clones of this user run programs from without a link to their files: a
    runtime that was fetched."""
    found = set()
    cache = os.path.realpath(PackageCache(surroundings.cache).trees)
    for environment in _environments(surroundings.state):
        clone = next((one for one in environment.parents if (one / FOLDER).is_dir()), None)
        for name in (clone / FOLDER / "commands").glob("*/*") if clone is not None else ():
            place = os.path.realpath(name)
            if name.is_symlink() and place.startswith(f"{cache}/"):
                found.add(place.removeprefix(f"{cache}/").split("/")[1])
    return found


def _environments(user_state: Path) -> list[Path]:
    data = read_json(user_state / _LIST)
    rows = data.get("environments") if isinstance(data, dict) else None
    return [Path(str(row)) for row in rows] if isinstance(rows, list) else []


def _find(roots: Sequence[Path], words: Sequence[str]) -> subprocess.Popen[bytes] | None:
    """Starts find(1) for plain files below the roots; None where there are none, or it is not here."""
    existing = [str(root) for root in roots if root.is_dir()]
    if not existing:
        return None
    command = ["find", *existing, "-xdev", "-type", "f", "!", "-name", "*.pyc", *words, "-print0"]
    try:
        return start(
            command,
            {"PATH": "/usr/bin:/bin", "LC_ALL": "C"},
            folder="/",
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
        )
    except OSError:
        return None


def _inodes(inodes: set[int]) -> list[str]:
    words = [word for inode in sorted(inodes) for word in ("-o", "-inum", str(inode))]
    return ["(", *words[1:], ")"]


def _result(search: subprocess.Popen[bytes] | None) -> list[str]:
    if search is None:
        return []
    try:
        output, _ = search.communicate(timeout=_LONGEST)
    except subprocess.TimeoutExpired:
        search.kill()
        search.communicate()
        return []
    finally:
        release(search.pid)
    return [os.fsdecode(path) for path in output.split(b"\0") if path]


def _unshare(confined: Confined, path: Path) -> None:
    """A copy in place of a link, with the same mode and time."""
    status = os.lstat(path)
    confined.write(path, plain_bytes(path), mode=status.st_mode & 0o7777)
    os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns), follow_symlinks=False)


def _relink(source: Path, target: Path, confined: Confined) -> None:
    """The laid file in place of an edited one of another clone."""
    place = confined.resolve(target)
    partial = place.with_name(f".plainfall-{os.getpid()}-{source.name}"[:200])
    try:
        os.link(source, partial)
        confined.rename(partial, place)
    except OSError:
        confined.write(place, plain_bytes(source), mode=source.stat().st_mode & 0o7777)


def _short(environment: Path, paths: Sequence[str]) -> str:
    names = [str(Path(path).relative_to(environment.parent)) for path in sorted(paths)]
    more = f" and {len(names) - 4} more" if len(names) > 4 else ""
    return ", ".join(names[:4]) + more
