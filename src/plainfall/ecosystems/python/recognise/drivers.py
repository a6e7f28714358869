"""Which packages can speak to the database that an address names."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping

__all__ = ["missing_driver"]

_DRIVERS = {
    "postgres": ("psycopg", "psycopg2", "psycopg2-binary", "psycopg-binary", "asyncpg", "pg8000"),
    "postgresql": ("psycopg", "psycopg2", "psycopg2-binary", "psycopg-binary", "asyncpg", "pg8000"),
    "mysql": ("mysqlclient", "pymysql", "mysql-connector-python", "aiomysql", "asyncmy"),
    "mariadb": ("mysqlclient", "pymysql", "mariadb", "aiomysql", "asyncmy"),
    "redis": ("redis", "aioredis", "valkey"),
    "mongodb": ("pymongo", "motor"),
    "amqp": ("pika", "aio-pika", "amqp", "kombu"),
}
_NAMED = {
    "psycopg2": ("psycopg2", "psycopg2-binary"),
    "mysqldb": ("mysqlclient",),
    "aiosqlite": ("aiosqlite",),
}


def missing_driver(settings: Mapping[str, str], names: Collection[str]) -> tuple[str, str] | None:
    """The key of the first address whose driver is not among the installed names, and the package that it
    calls for; None if every address can be spoken to. ``postgresql+asyncpg://`` names its driver itself."""
    for key, value in settings.items():
        match = re.match(r"^([a-z]+)(?:\+([a-z0-9]+))?://", value)
        if not match:
            continue
        scheme, named = match.groups()
        fitting = _NAMED.get(named, (named,)) if named else _DRIVERS.get(scheme, ())
        if fitting and named not in ("http", "https", "pysqlite", "srv") and not set(fitting) & set(names):
            return key, fitting[0] if named else {"postgres": "psycopg2-binary"}.get(scheme, fitting[0])
    return None
