"""What the project's own commands do to the clone while Plainfall runs them: tracked files that they change are
named, what interpreters leave behind is excluded locally, other new files are named."""

from __future__ import annotations

import threading
from collections.abc import Iterable
from pathlib import Path

from plainfall.clone.parts import PartFound
from plainfall.clone.walk import Tree, walk
from plainfall.ecosystems import language_named
from plainfall.ecosystems.frameworks import every_traits
from plainfall.onboarding.state import CloneState
from plainfall.repository import escaped_path, exclude_locally, repository_of

__all__ = ["ByProducts"]

_SHOWN = 6


def _left_behind(parts: Iterable[PartFound]) -> tuple[list[str], list[str]]:
    """What interpreters and dev servers of these parts leave: names at any depth, and patterns below the folder
    of a part. Those of others could hide what the person makes."""
    names: dict[str, None] = {}
    patterns: dict[str, None] = {}
    for part in parts:
        language = language_named(part.language)
        shown = {one.name for one in part.frameworks}
        left = list(language.left_behind) if language is not None else []
        left += [pattern for one in every_traits() if shown & {*one.names} for pattern in one.left_behind]
        for pattern in left:
            if pattern.startswith("/"):
                patterns[f"/{escaped_path(part.path)}{pattern}" if part.path else pattern] = None
            else:
                names[pattern] = None
    return list(names), list(patterns)


class ByProducts:
    """Looks at the clone before the first command of a run and after the last. Safe in several threads."""

    def __init__(self, state: CloneState, tree: Tree, parts: Iterable[PartFound]) -> None:
        self._state = state
        self._left = _left_behind(parts)
        self._tree = tree
        self._lock = threading.Lock()
        self._before: dict[str, tuple[int, int]] | None = None

    def begin(self) -> None:
        """A command is about to run."""
        with self._lock:
            if self._before is None:
                exclude_locally(self._state.clone, self._left[0], self._left[1])
                repository = self._state.repository
                self._before = repository.states() if repository is not None else {}

    def remarks(self) -> list[str]:
        """What the commands changed and created, in words; empty if none ran."""
        if self._before is None:
            return []
        remarks = []
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
            made = [
                path for path in walk(self._state.clone).files if path not in known and path not in tracked
            ]
            if made:
                remarks.append(f"new files that version control does not ignore: {_list(made)}")
        return remarks


def _inner(path: str, top: Path) -> str:
    """A path of the repository as it is called from the clone."""
    prefix = "" if top == Path() else f"{top.as_posix()}/"
    return path.removeprefix(prefix) if path.startswith(prefix) else f"/{path}"


def _list(paths: list[str]) -> str:
    more = f" and {len(paths) - _SHOWN} more" if len(paths) > _SHOWN else ""
    return ", ".join(paths[:_SHOWN]) + more
