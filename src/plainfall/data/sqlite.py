"""SQLite databases: found from settings and files, looked into read-only, copied and put back."""

from __future__ import annotations

import contextlib
import os
import re
import sqlite3
import time
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any
from urllib.parse import unquote

from msgspec import Struct, field

from plainfall.errors import DatabaseProblem
from plainfall.evidence import Evidence

__all__ = [
    "DatabaseFound",
    "Look",
    "copy_database",
    "database_of_settings",
    "databases_below",
    "difference",
    "is_database",
    "look_into",
]

_MAGIC = b"SQLite format 3\0"
_ENDINGS = (".db", ".sqlite", ".sqlite3", ".db3")
_SCHEMA = Path("prisma/schema.prisma")
_LONGEST = 60.0  # seconds that a copy may take
_LOOK = 5.0  # seconds that a look may take
_LARGEST_VALUE = 64 << 20  # bytes of a value or a row: a generated column may claim gigabytes
_SKIPPED = {".git", ".venv", "venv", "node_modules", "__pycache__", ".plainfall", "vendor"}


class DatabaseFound(Struct, frozen=True):
    """A SQLite database's file, and the setting or file that names it."""

    file: Path
    evidence: Evidence


class Look(Struct, frozen=True):
    """A look into a database: ``exists`` tells whether the file is; each table's columns and row count."""

    exists: bool
    tables: Mapping[str, tuple[tuple[str, ...], int]] = field(default_factory=dict)

    def rows(self) -> dict[str, int]:
        """Table to row count."""
        return {name: count for name, (_, count) in self.tables.items()}

    def as_json(self) -> dict[str, Any]:
        """Table to columns and rows."""
        return {
            name: {"columns": list(columns), "rows": rows} for name, (columns, rows) in self.tables.items()
        }


def is_database(path: Path) -> bool:
    """Whether a file is a SQLite database, by its first bytes, or one of the files that are kept next to one."""
    base = re.sub(r"-(wal|shm|journal)$", "", str(path))
    try:
        # O_NONBLOCK: opening a named pipe would wait for its other end.
        handle = os.open(base, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
        with open(handle, "rb") as file:
            return file.read(len(_MAGIC)) == _MAGIC
    except OSError:
        return False


def database_of_settings(values: Mapping[str, str], folder: Path, target: str) -> DatabaseFound | None:
    """The database that a setting's value addresses: ``sqlite:///path`` (four slashes for an absolute path),
    ``file:path``, or a path with a database's ending under a key that speaks of one. Paths count from the part's
    folder; those of ``file:`` from a schema's folder below it, if there is one (Prisma). ``target`` is the settings
    file's name, for the evidence."""
    for key, value in values.items():
        match = re.match(r"^sqlite3?(?:\+\w+)?:(?://)?(/?[^?]*)", value)
        path = ""
        if match:
            path = unquote(match.group(1))
            # sqlite:///data/x.db: the third slash only ends the (empty) host.
            path = path[1:] if value.split(":", 1)[1].startswith("///") else path
        elif value.startswith("file:") and re.search(r"DATABASE|DB|SQLITE", key):
            path = unquote(re.split(r"[?#]", value.removeprefix("file:"), maxsplit=1)[0])
            path = re.sub(r"^//(?=/)", "", path)
            if path and not path.startswith("/") and (folder / _SCHEMA).is_file():
                path = str(_SCHEMA.parent / path)
        elif re.search(r"DATABASE|DB|SQLITE", key) and value.endswith(_ENDINGS) and "://" not in value:
            path = value
        if path and path != ":memory:":
            return DatabaseFound((folder / path).absolute(), Evidence(target, 0, key))
    return None


def databases_below(folder: Path) -> list[Path]:
    """SQLite files in a part's folder, told by their first bytes; environments are skipped."""
    results = []
    for root, folders, names in os.walk(folder):
        folders[:] = [
            name
            for name in folders
            if name not in _SKIPPED
            and not name.startswith(".plainfall")
            and not Path(root, name, "pyvenv.cfg").exists()
        ]
        for name in names:
            if name.endswith(_ENDINGS):
                file = Path(root, name)
                if file.is_symlink() or not file.is_file():
                    continue
                with contextlib.suppress(OSError), file.open("rb") as opened:
                    if opened.read(16) == _MAGIC:
                        results.append(file)
    return sorted(results)


def look_into(file: Path) -> Look:
    """Tables, columns and row counts. The file is opened read-only and not changed.

    Raises DatabaseProblem if it is no SQLite database or is damaged.
    """
    if not file.exists() or file.stat().st_size == 0:
        return Look(file.exists())
    with _opened(file, read_only=True) as database:
        names = [
            str(row[0])
            for row in database.execute(
                "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%' "
                "ORDER BY name"
            )
        ]
        tables = {}
        for name in names:
            safe = name.replace('"', '""')
            columns = tuple(str(row[1]) for row in database.execute(f'PRAGMA table_info("{safe}")'))
            count = int(database.execute(f'SELECT COUNT(*) FROM "{safe}"').fetchone()[0])
            tables[name] = (columns, count)
    return Look(True, tables)


def difference(before: Look, after: Look) -> list[str]:
    """What a step changed, in words: tables made, taken away, columns and rows gained or lost."""
    text = []
    for name, (columns, rows) in after.tables.items():
        if name not in before.tables:
            text.append(f"{name}: new, {len(columns)} columns, {_rows(rows)}")
            continue
        old_columns, old_rows = before.tables[name]
        changes = [f"column {column} added" for column in columns if column not in old_columns]
        changes += [f"column {column} removed" for column in old_columns if column not in columns]
        if rows != old_rows:
            changes.append(f"{rows - old_rows:+,} rows, now {rows:,}")
        if changes:
            text.append(f"{name}: {', '.join(changes)}")
    text += [f"{name}: removed" for name in before.tables if name not in after.tables]
    return text


def copy_database(source: Path, target: Path) -> None:
    """Copies a database by the engine's own backup interface, consistent even while others write to it.
    An existing target is overwritten as one transaction; its folder must exist. Raises
    DatabaseProblem."""
    with _opened(source, read_only=True) as reading, _opened(target, read_only=False) as writing:
        reading.backup(writing)


@contextlib.contextmanager
def _opened(file: Path, *, read_only: bool) -> Iterator[sqlite3.Connection]:
    try:
        mode = "ro" if read_only else "rwc"
        database = sqlite3.connect(f"{file.absolute().as_uri()}?mode={mode}", uri=True, timeout=5)
        # A file of the clone is foreign: its schema may call nothing, and nothing it holds takes for ever.
        database.execute("PRAGMA trusted_schema = OFF")
        database.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, _LARGEST_VALUE)
        deadline = time.monotonic() + (_LOOK if read_only else _LONGEST)
        database.set_progress_handler(lambda: time.monotonic() > deadline, 100_000)
        try:
            yield database
        finally:
            database.close()
    except sqlite3.Error as error:
        raise DatabaseProblem(
            f"{file.name} cannot be used as a SQLite database: {error}",
            place=Evidence(str(file)),
            remedy="If another program holds it, close that; if it is damaged, move it away and run again.",
        ) from error


def _rows(count: int) -> str:
    return "1 row" if count == 1 else f"{count:,} rows"
