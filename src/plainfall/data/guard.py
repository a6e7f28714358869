"""A step on a database either happens or leaves the database as it was, even across a kill; and a copy stays.

Before the step the database is copied into the clone's state folder; a sealed note says which step is under
way. If the step fails, or a later run finds the note, the copy is put back, and its contents at that moment are
kept as a copy, too. The newest three copies stay. Only a database inside the clone is ever written.
"""

from __future__ import annotations

import os
import time
from pathlib import Path
from typing import Any

from msgspec import Struct

from plainfall.confinement import Confined
from plainfall.data.sqlite import copy_database
from plainfall.errors import DatabaseProblem, PathRefused
from plainfall.sealing import Seal

__all__ = ["DatabaseGuard", "PutBack"]

_NOTE = "under-way.json"
_KEPT = 3  # copies
_COMPANIONS = ("-wal", "-shm", "-journal")


class PutBack(Struct, frozen=True):
    """A step that was undone: its name, the database, and where its contents at that moment are kept (None: nothing
    was worth it, or the database lies outside the clone)."""

    step: str
    database: Path | None
    kept: Path | None


class DatabaseGuard(Struct, frozen=True):
    """Guards one part's database; ``folder`` is a place of its own in the clone's state folder, ``name`` the
    part's name there."""

    folder: Path
    name: str
    confined: Confined
    seal: Seal

    def begin(self, step: str, database: Path | None, mark: str) -> Path | None:
        """Notes that the step starts, after the copy is safe; returns the copy, if one was made. ``database``
        is None if none is known; ``mark`` is what the step's processes bear."""
        inside = self._inside(database)
        copy = self._copy(inside, f"before-{step}") if inside is not None and inside.exists() else None
        note = {
            "step": step,
            "database": str(inside) if inside is not None else None,
            "copy": str(copy) if copy else None,
            "mark": mark,
        }
        self.confined.write(self._note, self.seal.text(self._name, note), mode=0o600)
        return copy

    def end(self) -> None:
        """The step is done: the note goes, the copies stay."""
        self.confined.remove(self._note)

    def under_way(self) -> str | None:
        """The mark of the step that was begun and not ended, if there is one."""
        note = self._read()
        return str(note["mark"]) if note is not None else None

    def put_back(self) -> PutBack | None:
        """Undoes the step that the note names (whose processes must have ended); None if no step was under
        way."""
        note = self._read()
        if note is None:
            self.confined.remove(self._note)
            return None
        database = self._inside(Path(note["database"]) if note["database"] else None)
        kept = None
        if database is not None and note["copy"] is not None and Path(note["copy"]).exists():
            kept = self._kept(database, str(note["step"]))
            copy_database(Path(note["copy"]), database)
        elif database is not None and note["copy"] is None and database.exists():
            kept = self._kept(database, str(note["step"]))
            for ending in ("", *_COMPANIONS):
                self.confined.remove(f"{database}{ending}")
        self.end()
        return PutBack(str(note["step"]), database, kept)

    @property
    def _note(self) -> Path:
        return self.folder / _NOTE

    @property
    def _name(self) -> str:
        return f"step under way in {self.name}"

    def _read(self) -> dict[str, Any] | None:
        result = self.seal.read_file(self._note, self._name)
        note = result.content if result is not None and result.here else None
        return note if isinstance(note, dict) else None

    def _inside(self, database: Path | None) -> Path | None:
        """The database's own place, if it is inside the clone; None for one that is not ours to write."""
        if database is None:
            return None
        try:
            return self.confined.target(database)
        except PathRefused:
            return None

    def _kept(self, database: Path, step: str) -> Path | None:
        try:
            return self._copy(database, f"cut-off-{step}")
        except DatabaseProblem:
            return None  # the step left it damaged: there is nothing to keep

    def _copy(self, database: Path, label: str) -> Path:
        """A new copy; the oldest beyond three go."""
        copies = self.confined.own_folder(self.folder / "copies")
        name = f"{time.strftime('%Y%m%d-%H%M%S')}-{time.time_ns() % 10**9:09d}-{label}.db"
        copy = copies / name
        os.close(self.confined.open(copy, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600))
        copy_database(database, copy)
        for old in sorted(path for path in copies.iterdir() if path.suffix == ".db")[:-_KEPT]:
            self.confined.remove(old)
        return copy
