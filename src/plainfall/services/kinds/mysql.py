"""MySQL and MariaDB."""

from __future__ import annotations

from plainfall.services.shape import ServiceKind

__all__ = ["KIND", "SOCKET"]

SOCKET = "private.sock"  # the name of a private server's socket in its folder
KIND = ServiceKind(
    name="mysql",
    title="MariaDB",
    image=r"mysql|mariadb|percona",
    port=3306,
    schemes=r"^(mysql|mariadb)",
    new_scheme="mysql",
    key_words={
        "MYSQL": 1,
        "MARIADB": 1,
        "DB": 2,
        "DATABASE": 2,
        "SQL": 2,
        "SQLALCHEMY": 2,
        "DATASOURCE": 2,
        "SQLALCHEMY_DATABASE": 2,
    },
    variables={
        "user": ("MYSQL_USER", "MARIADB_USER"),
        "password": ("MYSQL_PASSWORD", "MARIADB_PASSWORD"),
        "name": ("MYSQL_DATABASE", "MARIADB_DATABASE"),
    },
    root_variables=("MYSQL_ROOT_PASSWORD", "MARIADB_ROOT_PASSWORD"),
    adapter=r"^(django\.db\.backends\.|django_\w+\.)?(mysql|mariadb)",
    drivers=r"""mysqlclient|pymysql|aiomysql|asyncmy|mysql-connector|["'](mysql2?|mariadb|trilogy)["']|ext-(pdo_mysql|mysqli)""",
    host="127.0.0.1",  # "localhost" is a socket to drivers on the C client, at a place of their own
    has_accounts=True,
    precedence=2,
)
