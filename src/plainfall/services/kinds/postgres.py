"""PostgreSQL and what is built on it."""

from __future__ import annotations

from plainfall.services.shape import ServiceKind

__all__ = ["KIND"]

KIND = ServiceKind(
    name="postgres",
    title="PostgreSQL",
    image=r"postg(res|is)|timescale|pgvector",
    port=5432,
    schemes=r"^postg",
    new_scheme="postgresql",
    key_words={
        "POSTGRES": 1,
        "POSTGRESQL": 1,
        "PSQL": 1,
        "PG": 1,
        "DB": 1,
        "DATABASE": 1,
        "SQL": 1,
        "SQLALCHEMY": 1,
        "DATASOURCE": 1,
        "SQLALCHEMY_DATABASE": 1,
    },
    variables={"user": ("POSTGRES_USER",), "password": ("POSTGRES_PASSWORD",), "name": ("POSTGRES_DB",)},
    default_user="postgres",
    adapter=r"^(django\.db\.backends\.|django\.contrib\.gis\.db\.backends\.|django_\w+\.)?(postg|pgsql|pg$)",
    drivers=r"""psycopg|asyncpg|pg8000|["'](pg|postgres)["']|pg-promise|postgrator|aiopg""",
    fetched="24 MB",
    has_accounts=True,
    precedence=1,
)
