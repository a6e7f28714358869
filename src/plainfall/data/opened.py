"""Databases of a clone, opened for reading alone: SQLite, PostgreSQL, MySQL and MariaDB, by SQLAlchemy.

The modules that drive a database are slow to import: they are imported by what uses them.
"""

from __future__ import annotations

import contextlib
import sqlite3
import time
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from plainfall.errors import DatabaseProblem
from plainfall.evidence import Evidence

if TYPE_CHECKING:
    from sqlalchemy import Connection

__all__ = ["DatabasePlace", "opened"]

_LARGEST_VALUE = 64 << 20  # bytes of a value or a row
_LONGEST = 20.0  # seconds that one statement may take
_CONNECTING = 3
_DRIVERS = {"postgresql": "postgresql+psycopg", "mysql": "mysql+pymysql"}


class DatabasePlace(Struct, frozen=True):
    """One database: its kind ("sqlite", "postgresql", "mysql", "redis"), what people call it, where it is named,
    and its file, or the port of this machine with who comes in."""

    kind: str
    label: str
    named: Evidence
    file: Path | None = None
    port: int = 0
    user: str = ""
    password: str = ""
    database: str = ""


@contextlib.contextmanager
def opened(place: DatabasePlace) -> Iterator[Connection]:
    """A connection in a transaction that may only read, which ends with the block. Raises DatabaseProblem for
    whatever the database refuses."""
    from sqlalchemy import create_engine, exc
    from sqlalchemy.pool import NullPool

    if place.file is not None:
        engine = create_engine("sqlite://", creator=lambda: _sqlite(place), poolclass=NullPool)
    else:
        engine = create_engine(_address(place), poolclass=NullPool, connect_args=_arguments(place))
    try:
        with engine.connect() as connection:
            if place.kind == "mysql":
                connection.exec_driver_sql("SET SESSION TRANSACTION READ ONLY")
                connection.rollback()
            yield connection
            connection.rollback()
    except exc.SQLAlchemyError as error:
        raise _problem(place, error) from error


def _address(place: DatabasePlace) -> Any:
    from sqlalchemy import URL

    return URL.create(
        _DRIVERS[place.kind],
        place.user or None,
        place.password or None,
        "127.0.0.1",
        place.port,
        place.database,
    )


def _arguments(place: DatabasePlace) -> dict[str, Any]:
    if place.kind == "postgresql":
        # A statement goes by itself: none can end the transaction and begin another one behind a semicolon.
        limits = f"-c default_transaction_read_only=on -c statement_timeout={int(_LONGEST * 1000)}"
        return {"connect_timeout": _CONNECTING, "options": limits, "prepare_threshold": 0}
    return {"connect_timeout": _CONNECTING, "read_timeout": int(_LONGEST)}


def _sqlite(place: DatabasePlace) -> sqlite3.Connection:
    assert place.file is not None
    database = sqlite3.connect(f"{place.file.absolute().as_uri()}?mode=ro", uri=True, timeout=5)
    # A file of the clone is foreign: its schema may call nothing, and nothing it holds takes for ever.
    database.execute("PRAGMA trusted_schema = OFF")
    database.execute("PRAGMA query_only = ON")
    database.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, _LARGEST_VALUE)
    deadline = time.monotonic() + _LONGEST
    database.set_progress_handler(lambda: time.monotonic() > deadline, 100_000)
    return database


def _problem(place: DatabasePlace, error: Exception) -> DatabaseProblem:
    said = str(getattr(error, "orig", None) or error).strip().splitlines()
    text = said[0] if said else type(error).__name__
    if place.file is None and ("refused" in text or "Can't connect" in text or "connection failed" in text):
        return DatabaseProblem(
            f"{place.label} cannot be reached on port {place.port}: {text}",
            place=place.named,
            remedy="Start the clone's servers with: plainfall serve",
        )
    if "read-only" in text or "READ ONLY" in text or "readonly" in text:
        return DatabaseProblem(
            f"{place.label}: this would change data, and here it is only read: {text}",
            remedy="Change data through the application, or its own database client: plainfall inside -- COMMAND",
        )
    if "interrupted" in text or "statement timeout" in text:
        return DatabaseProblem(
            f"{place.label}: no answer within {_LONGEST:.0f} s",
            remedy="Ask for less: a condition on a column with an index, --limit.",
        )
    return DatabaseProblem(
        f"{place.label}: {text}", remedy="Check names, spelling, and that it is one statement."
    )
