"""What Plainfall made in a clone, as it is now: what may be taken away, what is put back, what stays and why."""

from __future__ import annotations

import os
import stat
import time
from collections.abc import Iterator, Sequence
from functools import cached_property
from pathlib import Path

from msgspec import Struct

from plainfall.data.sqlite import is_database
from plainfall.ecosystems import languages
from plainfall.ecosystems.frameworks import is_made_by_migrations
from plainfall.ignoring import ignore_rules
from plainfall.kept_records import LeftBehind, MadeKept
from plainfall.onboarding.part.byproducts import PACKAGES, close_span
from plainfall.onboarding.records.inventory import Inventory
from plainfall.onboarding.records.restoring import SETTINGS, as_written
from plainfall.onboarding.records.state import FOLDER, CloneState
from plainfall.patterns import regex
from plainfall.server.process import Running, belonging

__all__ = ["GO", "PUT_BACK", "STAY", "Thing", "private_data", "things", "weigh"]

GO, PUT_BACK, STAY = "goes", "put back", "stays"
_MOST_EDITS = 500  # changed files of installed packages that are kept
_MOST_FILES = 200_000  # that are looked at in one folder
# Folders and files that programs alone write.
_CACHE = regex(r"\..+|__pycache__|.+\.py[co]")
# Of what lies directly in a folder of packages these are caches of tools; bytecode is nobody's text.
_BYTECODE = (".pyc", ".pyo")


class Thing(Struct, frozen=True):
    """Something in the clone. ``path`` counts from there (absolute for what lies elsewhere); ``kind`` is
    "packages", "settings", "left behind", "folder", "database", "uploads", "private data", "records" or "other";
    ``fate`` one of GO, PUT_BACK and STAY, with the reason; ``kept`` are changed files in it that are moved aside
    before it goes. ``size`` is in bytes, ``shared`` the part of it that other folders share through links."""

    path: str
    kind: str
    fate: str
    why: str = ""
    size: int = 0
    shared: int = 0
    kept: tuple[str, ...] = ()


def things(state: CloneState, *, data: bool) -> list[Thing]:
    """All of it, in the order of paths, the state folder last. With ``data`` databases and uploads go, too. The
    clone is locked by the caller."""
    close_span(state)
    look = _Look(state, data)
    inventory = Inventory.of(state)
    found = [*look.settings()]
    for path in inventory.since():
        if path.rstrip("/") not in look.settled:
            found += look.sort_out(path)
    if not inventory.is_known:
        found += look.unknown()
    return sorted(found, key=lambda one: one.path)


class _Look:
    def __init__(self, state: CloneState, data: bool) -> None:
        self._state = state
        self._data = data
        self._made = state.made
        self._record = state.read("", LeftBehind)
        left, uploads = self._record.patterns
        self._left, self._uploads = ignore_rules(left), ignore_rules(uploads)
        self.settled: set[str] = set()

    @cached_property
    def _databases(self) -> set[str]:
        found = self._state.databases()
        root = self._state.clone
        return {os.path.relpath(one, root) for one in found if Path(one).is_relative_to(root)}

    def settings(self) -> Iterator[Thing]:
        """The settings files that were made or added to."""
        for path, row in sorted(self._made.items()):
            if row.kind != SETTINGS:
                continue
            self.settled.add(path)
            size = weigh(self._state.clone / path)[0]
            if not os.path.lexists(self._state.clone / path):
                continue
            if not as_written(self._state, path):
                why = "it was changed since Plainfall wrote to it"
                yield Thing(path, SETTINGS, STAY, why, size)
            elif row.was:
                why = "gets the text that it had before the first run"
                yield Thing(path, SETTINGS, PUT_BACK, why, size)
            else:
                yield Thing(path, SETTINGS, GO, "", size)

    def sort_out(self, path: str, since: int | None = None) -> list[Thing]:
        """What becomes of an entry that came since the first run; ``since`` is the end of the run in which a folder
        above it was made, None where that is not known."""
        plain, is_folder = path.rstrip("/"), path.endswith("/")
        place = self._state.clone / plain
        row = self._made.get(plain, MadeKept())
        since = self._record.paths.get(path, since)
        if plain in self.settled:
            return []
        if self._uploads.match_file(path):
            return [self._of_data(path, "uploads")]
        if row.kind == PACKAGES:
            return [self._packages(path, row)]
        if self._left.match_file(path):
            return self._by_name(path)
        if not is_folder:
            recorded = {*self._databases, *self._record.paths, *self._record.named}
            known = plain in recorded or _main_file(plain) in recorded
            if known and (is_database(place) or _is_empty_database(place)):
                return [self._of_data(path, "database")]
            # A schema that the migrations wrote goes with what they made.
            if plain in recorded and any(is_made_by_migrations(plain, one.name) for one in languages()):
                return [self._of_data(path, "database")]
            if since is not None and self._is_of_runs(place, since) and not is_database(place):
                return [Thing(path, "left behind", GO, "", *weigh(place))]
            return [Thing(path, "other", STAY, self._why(path, since), *weigh(place))]
        return self._folder(path, since, made=row.kind == "folder")

    def _by_name(self, path: str) -> list[Thing]:
        """What becomes of an entry whose name says that programs leave it behind: a cache goes as it is; of
        what may hold anything (``tmp/``, ``output/``) all that was written last while commands or servers of
        ours ran."""
        plain = path.rstrip("/")
        place, name = self._state.clone / plain, plain.rpartition("/")[2]
        if _CACHE.fullmatch(name):
            return [Thing(path, "left behind", GO, "", *weigh(place))]
        if not path.endswith("/") or place.is_symlink():
            if self._was_written_by_runs(place):
                return [Thing(path, "left behind", GO, "", *weigh(place))]
            return [
                Thing(path, "other", STAY, "written while no command of a run was at work", *weigh(place))
            ]
        inside: list[Thing] = []
        for entry in sorted(os.scandir(place), key=lambda one: one.name)[:_MOST_FILES]:
            inside += self._by_name(
                f"{path}{entry.name}" + ("/" if entry.is_dir(follow_symlinks=False) else "")
            )
        if all(one.fate == GO for one in inside):
            return [Thing(path, "left behind", GO, "", *weigh(place))]
        return inside

    def _was_written_by_runs(self, place: Path) -> bool:
        """Whether a file was changed last while commands of a run, or a server of the clone's, were at work."""
        return _within(
            os.lstat(place).st_mtime_ns,
            [*self._record.spans, *self._record.served, *self._of_servers],
        )

    @cached_property
    def _of_servers(self) -> list[tuple[int, int]]:
        """When the servers that are recorded still ran, in nanoseconds; of one that has ended its log tells until
        when."""
        spans = []
        for record in self._state.servers.values():
            running = Running.of_record(record)
            try:
                until = time.time_ns() if belonging(running) else os.lstat(running.log).st_mtime_ns
            except OSError:
                continue  # its log is gone, and with it the knowledge
            spans.append((int(running.started * 1e9), until))
        return spans

    def _folder(self, path: str, since: int | None, *, made: bool) -> list[Thing]:
        """The things in a new folder; where nothing of it goes, the folder alone."""
        inside: list[Thing] = []
        try:
            entries = sorted(os.scandir(self._state.clone / path), key=lambda one: one.name)
        except OSError:
            entries = []
        for entry in entries[:_MOST_FILES]:
            inner = f"{path}{entry.name}" + ("/" if entry.is_dir(follow_symlinks=False) else "")
            inside += self.sort_out(inner, since)
        if not made and since is None and inside and all(one.kind == "other" for one in inside):
            return [Thing(path, "other", STAY, self._why(path, None), *weigh(self._state.clone / path))]
        if all(one.fate == GO for one in inside):
            if {one.kind for one in inside} <= {"left behind"}:
                kind = "left behind" if since is not None else "folder"
                if made or since is not None:
                    return [Thing(path, kind, GO, "", *weigh(self._state.clone / path))]
            elif made or since is not None:
                inside.append(Thing(path, "folder", GO))
        return inside or [Thing(path, "other", STAY, self._why(path, since))]

    def _why(self, path: str, since: int | None) -> str:
        if path in self._record.named:
            return "it came while commands of the project ran, and is not ignored: it may be yours"
        return "changed since the run that made it" if since is not None else "not made by Plainfall"

    def _packages(self, path: str, row: MadeKept) -> Thing:
        place = self._state.clone / path
        status = os.lstat(place)
        size = weigh(place)
        number = row.inode  # none yet where the run that made it was killed
        if number not in (None, (status.st_dev, status.st_ino)) or not stat.S_ISDIR(status.st_mode):
            return Thing(path, PACKAGES, STAY, "it is another folder than the one that was made", *size)
        if number and self._is_remade(place, status):
            why = "all in it is newer than the last run: it may be yours"
            return Thing(path, PACKAGES, STAY, why, *size)
        edits = self._edits(place)
        if len(edits) > _MOST_EDITS:
            why = f"over {_MOST_EDITS} files in it are newer than what was installed: take it away yourself"
            return Thing(path, PACKAGES, STAY, why, *size)
        return Thing(path, PACKAGES, GO, "", *size, tuple(edits))

    def _is_remade(self, place: Path, status: os.stat_result) -> bool:
        """Whether a folder was made anew since the last run: a file system gives a number again once it is free,
        but where we installed some folder is as old as a run."""
        spans = self._record.spans
        return bool(spans) and all(one > spans[-1][1] for one in _folder_times(place, status))

    def _edits(self, place: Path) -> list[str]:
        """Files of installed packages that changed, or came, while no run was at work."""
        spans = self._record.spans
        if not spans:
            return []
        first, found = spans[0][0], []
        for file, status in _files(place):
            inner = os.path.relpath(file, place)
            hidden = inner.startswith(".") and "/" in inner
            if status.st_mtime_ns <= first or hidden or file.endswith(_BYTECODE):
                continue
            if not _within(status.st_mtime_ns, spans):
                found.append(os.path.relpath(file, self._state.clone))
                if len(found) > _MOST_EDITS:
                    break
        return found

    def _is_of_runs(self, place: Path, since: int) -> bool:
        """Whether a file's last change was a run's, and not the person's or a server's later on."""
        when = os.lstat(place).st_mtime_ns
        return when <= since or _within(when, self._record.spans)

    def _of_data(self, path: str, kind: str) -> Thing:
        size = weigh(self._state.clone / path)
        return Thing(
            path, kind, GO if self._data else STAY, "" if self._data else "--data takes it away", *size
        )

    def unknown(self) -> Iterator[Thing]:
        """What was made, as far as that was noted, where nobody knows what else was there before."""
        for path, row in sorted(self._made.items()):
            place = self._state.clone / path
            if row.kind == PACKAGES and os.path.lexists(place) and not self._state.is_tracked(place):
                yield self._packages(f"{path}/", row)


def _is_empty_database(place: Path) -> bool:
    """Whether a file has a database's ending and nothing in it yet."""
    return place.suffix in (".db", ".sqlite", ".sqlite3") and place.is_file() and not place.stat().st_size


def _main_file(path: str) -> str:
    """The database that a file is kept next to."""
    for ending in ("-wal", "-shm", "-journal"):
        path = path.removesuffix(ending)
    return path


def _within(when: int, spans: Sequence[Sequence[int]]) -> bool:
    # A file's time is that of the system's last tick: it may lie a moment before the clock.
    return any(begin - 20_000_000 <= when <= end for begin, end in spans)


def _files(place: Path) -> Iterator[tuple[str, os.stat_result]]:
    rest, seen = [str(place)], 0
    while rest:
        try:
            with os.scandir(rest.pop()) as found:
                entries = list(found)
        except OSError:
            continue  # it went meanwhile
        for entry in entries:
            if entry.is_dir(follow_symlinks=False):
                rest.append(entry.path)
            elif seen < _MOST_FILES and entry.is_file(follow_symlinks=False):
                seen += 1
                yield entry.path, entry.stat(follow_symlinks=False)


def _folder_times(place: Path, status: os.stat_result) -> Iterator[int]:
    """When a folder, and those directly in it and in these, were last changed, in nanoseconds."""
    yield status.st_ctime_ns
    for pattern in ("*", "*/*"):
        for one in place.glob(pattern):
            if one.is_dir() and not one.is_symlink():
                yield os.lstat(one).st_ctime_ns


def weigh(place: Path) -> tuple[int, int]:
    """The bytes of a file, or of the files in a folder, and how many of them other folders share through links."""
    try:
        status = os.lstat(place)
    except OSError:
        return 0, 0
    rows = [status] if not place.is_dir() or place.is_symlink() else [one for _, one in _files(place)]
    return sum(one.st_size for one in rows), sum(one.st_size for one in rows if one.st_nlink > 1)


def private_data(state: CloneState) -> list[Thing]:
    """The data of the clone's private servers, and copies of databases from before steps."""
    found = []
    for name, row in sorted(state.services.items()):
        data = Path(row.data or "/nonexistent")
        if not row.used and data.is_dir() and not data.is_symlink():
            inside = data.is_relative_to(state.folder)
            path = os.path.relpath(data, state.clone) if inside else str(data)
            found.append(Thing(path, "private data", STAY, row.title or name, *weigh(data)))
    guard = state.folder / "guard"
    copies = weigh(guard)
    if copies[0]:
        found.append(
            Thing(f"{FOLDER}/guard", "private data", STAY, "databases as they were before steps", *copies)
        )
    return found
