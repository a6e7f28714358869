"""What lies in a clone and is not tracked by version control: as it was before the first run, and what came since.

What was there before is the person's, whatever it is called. A folder in which nothing is tracked stands for all
that is in it.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator
from functools import cached_property

from msgspec import Struct

from plainfall.errors import disk_full_explained
from plainfall.onboarding.records.state import FOLDER, CloneState

__all__ = ["Inventory", "note_inventory"]

_NAME = "before.json"
_MOST = 300_000  # entries; a folder with more is taken as all known
_PACKAGES = frozenset({"node_modules", "bower_components", "vendor"})


class Inventory(Struct, dict=True):
    """The entries of a clone that are not tracked. ``before`` are those that were there before the first run, None
    where that was never noted: "a/b" is a file or a link, "a/b/" a folder with all that is in it, "a/b/." a folder
    whose entries are listed one by one."""

    state: CloneState
    before: frozenset[str] | None = None

    @classmethod
    def of(cls, state: CloneState) -> Inventory:
        """The clone's, with what was noted before its first run."""
        found = state.seal.read_file(state.folder / _NAME, _NAME)
        rows = found.content.get("entries") if found is not None and isinstance(found.content, dict) else None
        return cls(state, frozenset(map(str, rows)) if isinstance(rows, list) else None)

    @property
    def is_known(self) -> bool:
        """Whether it is known what was there before the first run."""
        return self.before is not None and len(self.before) < _MOST

    @cached_property
    def _tracked(self) -> tuple[frozenset[str], frozenset[str]]:
        """Tracked paths from the clone, and the folders that have some."""
        repository = self.state.repository
        if repository is None:
            return frozenset(), frozenset()
        top = self.state.confined.root.relative_to(repository.top).as_posix()
        prefix = "" if top == "." else f"{top}/"
        files = frozenset(one[len(prefix) :] for one in repository.tracked if one.startswith(prefix))
        return files, _folders_above(files)

    def _scanned(self, folder: str) -> Iterator[tuple[str, os.DirEntry[str]]]:
        """Path and entry of what is in a folder and not tracked itself, by name."""
        try:
            found = sorted(os.scandir(self.state.confined.root / folder), key=lambda one: one.name)
        except OSError:
            return  # what we may not read is not ours
        for entry in found:
            path = f"{folder}/{entry.name}" if folder else entry.name
            if path not in (".git", FOLDER) and path not in self._tracked[0]:
                yield path, entry

    def now(self) -> list[str]:
        """The entries as they are."""
        found: list[str] = []
        for one in self._now(""):
            found.append(one)
            if len(found) >= _MOST:
                break
        return found

    def _now(self, folder: str) -> Iterator[str]:
        for path, entry in self._scanned(folder):
            if not entry.is_dir(follow_symlinks=False):
                yield path
            elif path in self._tracked[1]:
                yield from self._now(path)
            elif self._tracked[0] or _stands_for_all(entry):
                yield f"{path}/"
            else:
                yield f"{path}/."
                yield from self._now(path)

    def since(self) -> list[str]:
        """The entries that came since the first run, in the order of their folders; a new folder stands for all in
        it. Empty where nobody knows what was there before."""
        return list(self._since("")) if self.is_known else []

    @cached_property
    def _known_above(self) -> frozenset[str]:
        return _folders_above(one.rstrip("/.") for one in self.before or ())

    def _since(self, folder: str) -> Iterator[str]:
        before = self.before or frozenset()
        for path, entry in self._scanned(folder):
            if not entry.is_dir(follow_symlinks=False):
                if path not in before:
                    yield path
            elif path in self._tracked[1] or path in self._known_above or f"{path}/." in before:
                yield from self._since(path)
            elif f"{path}/" not in before:
                yield f"{path}/"


def _folders_above(paths: Iterable[str]) -> frozenset[str]:
    found: set[str] = set()
    for path in paths:
        while "/" in path:
            path = path.rpartition("/")[0]
            if path in found:
                break
            found.add(path)
    return frozenset(found)


def _stands_for_all(entry: os.DirEntry[str]) -> bool:
    return entry.name in _PACKAGES or os.path.lexists(f"{entry.path}/pyvenv.cfg") or entry.name == ".git"


def note_inventory(state: CloneState) -> None:
    """Notes what is there before the first run; once. The clone is locked by the caller."""
    if state.has_records() or state.seal.read_file(state.folder / _NAME, _NAME) is not None:
        return
    entries = Inventory(state).now()
    with disk_full_explained("the state folder"):
        state.confined.write(f"{FOLDER}/{_NAME}", state.seal.text(_NAME, {"entries": entries}), mode=0o600)
