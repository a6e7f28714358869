"""What is in a database: its tables with columns and counts, and rows of them."""

from __future__ import annotations

import datetime
import re
import time
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from plainfall.data.opened import DatabasePlace, opened
from plainfall.errors import UsageProblem
from plainfall.patterns import regex

if TYPE_CHECKING:
    from sqlalchemy import Connection

__all__ = ["Column", "Rows", "Table", "answer_of", "rows_of", "tables_of"]

_EXACT = 100_000  # rows up to which a server's table is counted
_COUNTING = 0.25  # seconds for the count of one table of a file
_TIMES = regex(
    r"(^|_)(at|on|time|date|day|when|timestamp)$|^(created|inserted|added|posted|time|date)", re.IGNORECASE
)
_BATCH = 1000


class Column(Struct, frozen=True):
    """A column: its type as the database says it, whether it may be null and is of the key, and what it refers to
    (``table.column``, "" for nothing)."""

    name: str
    type: str
    nullable: bool
    key: bool
    refers: str = ""


class Table(Struct, frozen=True):
    """A table: its columns, and its count of rows; ``estimated`` tells that this is the database's own guess."""

    name: str
    columns: tuple[Column, ...]
    rows: int
    estimated: bool = False

    def as_json(self) -> dict[str, Any]:
        """The form that ``data --json`` shows."""
        return {
            "table": self.name,
            "rows": self.rows,
            "estimated": self.estimated,
            "columns": [
                {
                    "name": one.name,
                    "type": one.type,
                    "nullable": one.nullable,
                    "key": one.key,
                    "refers_to": one.refers or None,
                }
                for one in self.columns
            ],
        }


class Rows(Struct, frozen=True):
    """Rows of a table or a query, with the names of their columns; ``order`` says in words how they are sorted
    ("" for as they come), ``more`` whether there are others."""

    columns: tuple[str, ...]
    rows: list[tuple[Any, ...]]
    order: str = ""
    more: bool = False


def tables_of(place: DatabasePlace) -> list[Table]:
    """Every table with its columns and counts, by name. Raises DatabaseProblem."""
    from sqlalchemy import inspect

    with opened(place) as connection:
        inspector = inspect(connection)
        names = sorted(inspector.get_table_names())
        columns: dict[Any, Any] = dict(inspector.get_multi_columns())
        keys: dict[Any, Any] = dict(inspector.get_multi_pk_constraint())
        references: dict[Any, Any] = dict(inspector.get_multi_foreign_keys())
        guesses = _guesses(connection, place.kind)
        found = []
        for name in names:
            refers = {
                column: f"{one['referred_table']}.{other}"
                for one in references.get((None, name), ())
                for column, other in zip(one["constrained_columns"], one["referred_columns"], strict=False)
            }
            key = set((keys.get((None, name)) or {}).get("constrained_columns") or ())
            own = tuple(
                Column(
                    str(one["name"]),
                    _type(one["type"]),
                    bool(one.get("nullable", True)) and one["name"] not in key,
                    one["name"] in key,
                    refers.get(str(one["name"]), ""),
                )
                for one in columns.get((None, name), ())
            )
            rows, estimated = _count(connection, place.kind, name, guesses.get(name))
            found.append(Table(name, own, rows, estimated))
        return found


def _type(kind: Any) -> str:
    try:
        return str(kind).lower().partition(" collate")[0]
    except Exception:  # a type that SQLAlchemy has no word for says so by any error
        return type(kind).__name__.lower()


def _guesses(connection: Connection, kind: str) -> dict[str, int]:
    """What a server itself believes of its tables' sizes: to count millions of rows would take it long."""
    if kind == "postgresql":
        rows = connection.exec_driver_sql(
            "SELECT c.relname, GREATEST(c.reltuples, s.n_live_tup)::bigint FROM pg_class c "
            "LEFT JOIN pg_stat_user_tables s ON s.relid = c.oid WHERE c.relkind IN ('r', 'p')"
        )
    elif kind == "mysql":
        rows = connection.exec_driver_sql(
            "SELECT table_name, table_rows FROM information_schema.tables WHERE table_schema = DATABASE()"
        )
    else:
        return {}
    return {str(name): int(count or 0) for name, count in rows}


def _count(connection: Connection, kind: str, name: str, guess: int | None) -> tuple[int, bool]:
    if guess is not None and guess > _EXACT:
        return guess, True
    quoted = connection.dialect.identifier_preparer.quote(name)
    if kind != "sqlite":
        return int(connection.exec_driver_sql(f"SELECT COUNT(*) FROM {quoted}").scalar() or 0), False
    from sqlalchemy.exc import OperationalError

    raw = connection.connection.driver_connection
    assert raw is not None
    until = time.monotonic() + _COUNTING
    raw.set_progress_handler(lambda: time.monotonic() > until, 10_000)
    try:
        return int(connection.exec_driver_sql(f"SELECT COUNT(*) FROM {quoted}").scalar() or 0), False
    except OperationalError:  # too many to count in time: rows are numbered
        raw.set_progress_handler(None, 0)
        try:
            return int(connection.exec_driver_sql(f"SELECT MAX(rowid) FROM {quoted}").scalar() or 0), True
        except OperationalError:
            return 0, True  # a table without row numbers
    finally:
        raw.set_progress_handler(None, 0)


def rows_of(
    place: DatabasePlace, table: Table, limit: int | None, condition: str = "", *, covered: Sequence[str] = ()
) -> Rows:
    """Rows of a table, the newest first where a time or a key tells which these are; ``condition`` is SQL,
    ``covered`` names columns whose values are not fetched. Raises DatabaseProblem."""
    with opened(place) as connection:
        quote = connection.dialect.identifier_preparer.quote
        newest, order = _newest(table)
        names = [one.name for one in table.columns]
        chosen = ", ".join(
            f"CASE WHEN {quote(name)} IS NULL THEN NULL ELSE '••••••' END AS {quote(name)}"
            if name in covered
            else quote(name)
            for name in names
        )
        text = f"SELECT {chosen or '*'} FROM {quote(table.name)}"
        text += f" WHERE ({condition})" if condition else ""
        text += f" ORDER BY {', '.join(f'{quote(one)} DESC' for one in newest)}" if newest else ""
        text += f" LIMIT {limit + 1}" if limit is not None else ""
        result = connection.exec_driver_sql(_literal(place, text))
        rows = [tuple(row) for row in result.fetchall()]
        columns = tuple(map(str, result.keys()))
    more = limit is not None and len(rows) > limit
    return Rows(columns, rows[:limit] if limit is not None else rows, order, more)


def answer_of(place: DatabasePlace, query: str, limit: int | None) -> Rows:
    """What a query of the person's answers, in a transaction that may only read. Raises DatabaseProblem,
    UsageProblem for a statement that answers with no rows."""
    with opened(place) as connection:
        result = connection.exec_driver_sql(_literal(place, query))
        if not result.returns_rows:
            raise UsageProblem("that query answers with no rows", remedy="Write one that selects: SELECT …")
        columns = tuple(map(str, result.keys()))
        rows: list[tuple[Any, ...]] = []
        for batch in _batches(result):
            rows += batch
            if limit is not None and len(rows) > limit:
                return Rows(columns, rows[:limit], "", True)
        return Rows(columns, rows)


def _batches(result: Any) -> Iterator[list[tuple[Any, ...]]]:
    while batch := result.fetchmany(_BATCH):
        yield [tuple(row) for row in batch]


def _literal(place: DatabasePlace, text: str) -> str:
    """A statement without parameters, in which a percent sign is one."""
    return text.replace("%", "%%") if place.kind != "sqlite" else text


def _newest(table: Table) -> tuple[list[str], str]:
    """The columns that tell which rows are the newest, and that in words."""
    times = [one.name for one in table.columns if _MAY_BE_TIME.search(one.type) and _TIMES.search(one.name)]
    keys = [one.name for one in table.columns if one.key]
    key = keys if len(keys) == 1 else []
    if times:
        best = next((name for name in times if re.match(r"creat|insert|add|post", name)), times[0])
        return [best, *(one for one in key if one != best)], f"newest {best} first"
    return key, f"highest {key[0]} first" if key else ""


_MAY_BE_TIME = regex(r"date|time|text")  # SQLite has no types of its own for times


def shown(value: Any) -> str:
    """A value of a row as text."""
    match value:
        case None:
            return "null"
        case bytes() | memoryview():
            return f"({len(bytes(value)):,} bytes)"
        case datetime.datetime():
            return value.isoformat(" ", "seconds")
        case _:
            return str(value)
