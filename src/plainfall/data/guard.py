"""A step on a database either happens or leaves the database as it was, even across a kill.

Before the step the database is copied into the clone's state folder; a note says which step is under way.
If the step fails, or a later run finds the note, the copy is put back.
"""

from __future__ import annotations

import shutil
from dataclasses import dataclass
from pathlib import Path

from plainfall.data.sqlite import copy_database
from plainfall.writing import read_json, write_json

__all__ = ["DatabaseGuard"]


@dataclass(frozen=True)
class DatabaseGuard:
    """Guards one part's database; ``folder`` is a place of its own in the clone's state folder."""

    folder: Path

    @property
    def _note(self) -> Path:
        return self.folder / "under-way.json"

    def begin(self, step: str, database: Path | None, mark: str) -> None:
        """Notes that the step starts, after the copy is safe. ``database`` is None if none is known;
        ``mark`` is what the step's processes bear."""
        self.folder.mkdir(parents=True, exist_ok=True)
        there = database is not None and database.exists()
        if there and database is not None:
            copy_database(database, self.folder / "before.db")
        where = str(database) if database else None
        note = {"step": step, "database": where, "there": there, "mark": mark}
        write_json(self._note, note)

    def end(self) -> None:
        """The step is done: the note and the copy go."""
        self._note.unlink(missing_ok=True)
        shutil.rmtree(self.folder, ignore_errors=True)

    def under_way(self) -> str | None:
        """The mark of the step that was begun and not ended, if there is one."""
        note = read_json(self._note)
        return str(note["mark"]) if isinstance(note, dict) else None

    def put_back(self) -> str | None:
        """Undoes the step that the note names (whose processes must have ended); returns its name, or None
        if no step was under way."""
        note = read_json(self._note)
        if not isinstance(note, dict):
            shutil.rmtree(self.folder, ignore_errors=True)
            return None
        if note["database"]:
            database = Path(note["database"])
            if note["there"]:
                copy_database(self.folder / "before.db", database)
            else:
                for ending in ("", "-wal", "-shm", "-journal"):
                    Path(f"{database}{ending}").unlink(missing_ok=True)
        self.end()
        return str(note["step"])
