"""What the project's own commands do to the clone while Plainfall runs them: tracked files that they change are
named, what interpreters leave behind is excluded locally, other new files are named."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Iterable, Sequence
from pathlib import Path

from msgspec.structs import replace

from plainfall.clone.frameworks import Traits
from plainfall.clone.parts import PartFound
from plainfall.clone.walk import Tree, walk
from plainfall.data.sqlite import databases_below, is_database
from plainfall.ecosystems import language_named
from plainfall.ecosystems.frameworks import every_traits
from plainfall.kept_records import LeftBehind, MadeKept
from plainfall.onboarding.records.inventory import Inventory
from plainfall.onboarding.records.state import CloneState
from plainfall.repository import escaped_path, exclude_locally, repository_of

__all__ = ["PACKAGES", "ByProducts", "close_span", "note_span"]

PACKAGES = "packages"  # the kind of a folder that is made for installed packages

# The record of what commands made ("paths", each with the end of the run that it was new in; "named": what is not
# ignored), of when the commands of each run ran ("spans", and "open": one that has begun, with what was there by
# then), and of the patterns of what is left behind and of uploads, and of when servers ran ("served"); times in
# nanoseconds.
_SPANS = 500  # runs that are remembered
_MOST_NAMED = 1_000

_SHOWN = 6


def _left_behind(parts: Iterable[PartFound]) -> tuple[list[str], list[str]]:
    """What interpreters and dev servers of these parts leave, and where people's uploads go: names at any depth,
    and patterns below the folder of a part. Those of others could hide what the person makes."""
    names: dict[str, None] = {}
    patterns: dict[str, None] = {}
    for part in parts:
        language = language_named(part.language)
        left = list(language.left_behind) if language is not None else []
        left += [pattern for one in _traits(part) for pattern in one.left_behind]
        for pattern in left:
            (patterns if pattern.startswith("/") else names)[_below(part, pattern)] = None
    return list(names), [*patterns, *_uploads(parts)]


def _uploads(parts: Iterable[PartFound]) -> list[str]:
    found = [_below(part, pattern) for part in parts for one in _traits(part) for pattern in one.uploads]
    return list(dict.fromkeys(found))


def _traits(part: PartFound) -> list[Traits]:
    shown = {one.name for one in part.frameworks}
    return [one for one in every_traits() if shown & {*one.names}]


def _below(part: PartFound, pattern: str) -> str:
    anchored = pattern.startswith("/") and part.path
    return f"/{escaped_path(part.path)}{pattern}" if anchored else pattern


class ByProducts:
    """Looks at the clone before the first command of a run and after the last. Safe in several threads."""

    def __init__(self, state: CloneState, tree: Tree, parts: Sequence[PartFound]) -> None:
        self._state = state
        self._left = _left_behind(parts)
        self._uploads = _uploads(parts)
        self._tree = tree
        self._lock = threading.Lock()
        self._before: dict[str, tuple[int, int]] | None = None
        self.claimed: set[str] = set()  # paths that a command of ours is known to have made, ignored or not

    def begin(self) -> None:
        """A command is about to run."""
        with self._lock:
            if self._before is None:
                exclude_locally(self._state.clone, self._left[0], self._left[1])
                repository = self._state.repository
                self._before = repository.states() if repository is not None else {}
                close_span(self._state)  # of a run that was killed
                patterns = (*self._left[0], *self._left[1]), tuple(self._uploads)
                stood = Inventory.of(self._state).since()
                before = self._state.read("", LeftBehind)
                opened = time.time_ns(), tuple(stood)
                self._state.keep("", replace(before, open=opened, patterns=patterns))

    def remarks(self) -> list[str]:
        """What the commands changed and created, in words; empty if none ran."""
        if self._before is None:
            return []
        remarks = []
        seen = walk(self._state.clone).files
        repository = repository_of(self._state.clone)
        if repository is not None:
            now = repository.states()
            top = self._state.confined.root.relative_to(repository.top)
            changed = [
                _inner(path, top) for path, state in self._before.items() if now.get(path, (-1, -1)) != state
            ]
            if changed:
                remarks.append(f"the project's own commands changed tracked files: {_list(sorted(changed))}")
            known = set(self._tree.files)
            tracked = {_inner(path, top) for path in repository.tracked}
            made = [path for path in seen if path not in known and path not in tracked]
            if made:
                remarks.append(f"new files that version control does not ignore: {_list(made)}")
        close_span(self._state, seen, self.claimed)
        return remarks


def close_span(state: CloneState, seen: Sequence[str] | None = None, claimed: Iterable[str] = ()) -> None:
    """Notes what is new since the first command of a run, and ignored (``seen`` are the files that are not), and
    when this was: `clear` takes it away. Of a run that was killed (``seen`` is None) the journal tells when it
    ended."""
    record = state.read("", LeftBehind)
    if record.open is None:
        return
    began, stood = record.open
    now = time.time_ns() if seen is not None else _last_note(state)
    seen = walk(state.clone).files if seen is None else seen
    paths, named, made = dict(record.paths), list(record.named), state.made
    for path in Inventory.of(state).since():
        ignored = not any(one == path or (path.endswith("/") and one.startswith(path)) for one in seen)
        if path not in stood and (ignored or path in claimed or is_database(state.clone / path)):
            paths.setdefault(path, now)
        elif path not in stood:
            named.append(path)
        if path.endswith("/") and made.get(path.rstrip("/"), MadeKept()).kind != PACKAGES:
            for file in databases_below(state.clone / path):  # those that come later are not a run's
                paths.setdefault(os.path.relpath(file, state.clone), now)
    spans = (*record.spans, (began, now))[-_SPANS:]
    names = tuple(sorted({*named})[:_MOST_NAMED])
    state.keep("", replace(record, open=None, paths=paths, named=names, spans=spans))


def note_span(state: CloneState, began: float) -> None:
    """Notes that a server ran from a moment (seconds since 1970) until now: what it wrote is no person's."""
    record = state.kept("", LeftBehind)
    if record is not None:
        spans = (*record.served, (int(began * 1e9), time.time_ns()))[-_SPANS:]
        state.keep("", replace(record, served=spans))


def _last_note(state: CloneState) -> int:
    try:
        return os.lstat(state.folder / "journal.jsonl").st_mtime_ns
    except OSError:
        return time.time_ns()


def _inner(path: str, top: Path) -> str:
    """A path of the repository as it is called from the clone."""
    prefix = "" if top == Path() else f"{top.as_posix()}/"
    return path.removeprefix(prefix) if path.startswith(prefix) else f"/{path}"


def _list(paths: list[str]) -> str:
    more = f" and {len(paths) - _SHOWN} more" if len(paths) > _SHOWN else ""
    return ", ".join(paths[:_SHOWN]) + more
