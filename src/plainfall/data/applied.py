"""Which of a clone's migrations a database has: what its framework wrote down there, against the files."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from typing import TYPE_CHECKING

from msgspec import Struct

from plainfall.patterns import regex

if TYPE_CHECKING:
    from sqlalchemy import Connection

__all__ = ["Applied", "applied_in"]


class Applied(Struct, frozen=True):
    """Migrations of one framework: how many the database has, the names of files that it lacks, and of those it has
    without a file."""

    framework: str
    applied: int
    pending: tuple[str, ...]
    unknown: tuple[str, ...] = ()


class _Book(Struct, frozen=True):
    """Where a framework writes down what it did: the table, what it selects as names, the files (a pattern of their
    paths), and the name of a file as the table has it."""

    framework: str
    table: str
    query: str
    files: re.Pattern[str]
    name: Callable[[re.Match[str]], str]


_BOOKS = (
    _Book(
        "Django", "django_migrations", "SELECT app, name FROM django_migrations",
        regex(r"(?:^|/)(\w+)/migrations/(\d\w+)\.py$"), lambda match: f"{match[1]} {match[2]}",
    ),
    _Book(
        "Knex", "knex_migrations", "SELECT name FROM knex_migrations",
        regex(r"(?:^|/)migrations/([^/]+\.[cm]?[jt]s)$"), lambda match: match[1],
    ),
    _Book(
        "Sequelize", "SequelizeMeta", 'SELECT name FROM "SequelizeMeta"',
        regex(r"(?:^|/)migrations/([^/]+\.[cm]?[jt]s)$"), lambda match: match[1],
    ),
    _Book(
        "Laravel", "migrations", "SELECT migration FROM migrations",
        regex(r"(?:^|/)database/migrations/(\d{4}_\d\d_\d\d_\w+)\.php$"), lambda match: match[1],
    ),
    _Book(
        "Doctrine", "doctrine_migration_versions", "SELECT version FROM doctrine_migration_versions",
        regex(r"(?:^|/)migrations/(?:.+/)?(Version\w+)\.php$"), lambda match: match[1],
    ),
    _Book(
        "Prisma", "_prisma_migrations",
        "SELECT migration_name FROM _prisma_migrations WHERE finished_at IS NOT NULL",
        regex(r"(?:^|/)migrations/([^/]+)/migration\.sql$"), lambda match: match[1],
    ),
)  # fmt: skip
_REVISION = regex(r"^(revision|down_revision)\s*(?::[^=\n]+)?=\s*(.+)$", re.MULTILINE)
_ALEMBIC = regex(r"(?:^|/)versions/[^/]+\.py$")


def applied_in(
    connection: Connection, tables: Iterable[str], files: Iterable[str], text_of: Callable[[str], str]
) -> list[Applied]:
    """What each framework whose table is there has applied; ``files`` are the clone's paths, ``text_of`` gives a
    file's text."""
    names, paths = set(tables), list(files)
    books = [book for book in _BOOKS if book.table in names and book.table != "migrations"]
    books += [  # several have a table of that name
        book for book in _BOOKS if book.table == "migrations" in names and any(map(book.files.search, paths))
    ]
    results = [_by_names(connection, book, paths) for book in books]
    if "alembic_version" in names:
        rows = connection.exec_driver_sql("SELECT version_num FROM alembic_version")
        at = {str(row[0]) for row in rows}
        results.append(_alembic(at, {path: text_of(path) for path in paths if _ALEMBIC.search(path)}))
    return results


def _by_names(connection: Connection, book: _Book, paths: Iterable[str]) -> Applied:
    query = book.query.replace('"', "`") if connection.dialect.name in ("mysql", "mariadb") else book.query
    there = [" ".join(str(piece) for piece in row) for row in connection.exec_driver_sql(query)]
    if book.framework == "Doctrine":
        there = [one.rpartition("\\")[2] for one in there]  # a class with its namespace
    known = {book.name(match): path for path in paths if (match := book.files.search(path))}
    own = {name.partition(" ")[0] for name in known}
    pending = sorted(known.keys() - set(there))
    # Of an application that comes as a package the files are no part of the clone.
    gone = [
        one
        for one in there
        if one not in known and (book.framework != "Django" or one.partition(" ")[0] in own)
    ]
    return Applied(book.framework, len(there), tuple(pending), tuple(sorted(gone)) if known else ())


def _alembic(at: set[str], texts: Mapping[str, str]) -> Applied:
    """Revisions form a graph: those that the present one stands on are applied."""
    below: dict[str, set[str]] = {}
    for text in texts.values():
        stated = {
            name: set(re.findall(r"['\"]([^'\"]+)['\"]", value)) for name, value in _REVISION.findall(text)
        }
        for revision in stated.get("revision", ()):
            below[revision] = stated.get("down_revision", set())
    applied: set[str] = set()
    waiting = [one for one in at if one in below]
    while waiting:
        one = waiting.pop()
        if one not in applied:
            applied.add(one)
            waiting += below.get(one, ())
    pending = sorted(below.keys() - applied)
    return Applied("Alembic", len(applied) or len(at), tuple(pending), tuple(sorted(at - below.keys())))
