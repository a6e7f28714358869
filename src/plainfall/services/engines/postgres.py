"""A private PostgreSQL: its manual's chapters on server set-up, client authentication and role attributes."""

from __future__ import annotations

import contextlib
import re
import signal
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from plainfall.errors import ServiceFailed
from plainfall.plain_files import plain_text
from plainfall.services.engine import Account, Place, Program, Reach, found_programs
from plainfall.writing import write_replacing

if TYPE_CHECKING:
    import psycopg

__all__ = ["ENGINE"]

_ADMIN = "plainfall own"  # no clone calls a role so: the blank is refused in most places where one is named
_ADMINS = (_ADMIN, "plainfall")  # the second in data folders of earlier versions
_RIGHTS = "NOSUPERUSER NOREPLICATION NOBYPASSRLS CREATEDB NOCREATEROLE LOGIN"
_LARGEST_COPY = 256 * 1024**2  # bytes


class _Postgres:
    """Roles own their databases, and may make others; none but ours, over the socket, is a superuser, nor may one
    make roles: a superuser runs programs as the user of the server, up to release 15 who makes roles may give
    himself the role that does, and whoever knows a role's password (which a template states) is that role."""

    kind = "postgres"
    title = "PostgreSQL"
    stop_signal = int(signal.SIGINT)  # the fast shutdown
    restarts_for_accounts = False
    leaves_root = True
    keeps_rows = True
    localhost_is_a_socket = False

    def programs(self, path: Sequence[str]) -> list[Program]:
        """Distributions hide it below a folder by version."""
        hidden = ["/usr/lib/postgresql/*/bin", "/usr/pgsql-*/bin", "/usr/libexec/postgresql*"]
        hidden += ["/opt/homebrew/opt/postgresql*/bin", "/usr/local/opt/postgresql*/bin"]
        found = found_programs(("postgres",), path, hidden, "--version", r"PostgreSQL\) (\d+(?:\.\d+)*)")
        return [one for one in found if (one.path.parent / "initdb").exists()]

    def made_by(self, data: Path) -> str:
        """The folder says it in a file."""
        try:
            return plain_text(data / "PG_VERSION", "ascii").strip()
        except OSError:
            return ""

    def make(self, program: Program, place: Place) -> None:
        """Over its socket, which only this user reaches, everybody is let in; over the port by password."""
        place.run(
            [
                str(program.path.parent / "initdb"), "-D", str(place.data), "-U", _ADMIN,
                "-E", "UTF8", "--locale=C.UTF-8", "--auth-local=trust", "--auth-host=scram-sha-256",
                "--wal-segsize=1", "--no-sync",
            ]
        )  # fmt: skip

    def words(self, program: Program, place: Place, port: int, accounts: Sequence[Account]) -> list[str]:
        """All of its configuration that matters, so that no file of the data folder decides."""
        settings = {
            "listen_addresses": "127.0.0.1", "port": str(port), "unix_socket_directories": str(place.sockets),
            "unix_socket_permissions": "0700", "shared_buffers": "32MB", "max_connections": "100",
            "max_wal_size": "256MB", "logging_collector": "off",
            "password_encryption": "scram-sha-256",
        }  # fmt: skip
        words = [str(program.path), "-D", str(place.data)]
        for name, value in settings.items():
            words += ["-c", f"{name}={value}"]
        return words

    def is_ready(self, place: Place, port: int, pid: int) -> bool:
        """Line 1 of its own file is our process, line 8 says so."""
        try:
            lines = plain_text(place.data / "postmaster.pid", "utf-8", "replace").splitlines()
        except OSError:
            return False
        return len(lines) > 7 and lines[0].strip() == str(pid) and lines[7].strip() == "ready"

    def admit(self, place: Place, port: int, accounts: Sequence[Account]) -> list[str]:
        """A role without a password is let in without one, on this loopback address alone."""
        from psycopg import sql

        made = []
        with _administered(place, port) as database:
            roles = {str(row[0]) for row in database.execute("SELECT rolname FROM pg_roles")}
            names = {str(row[0]) for row in database.execute("SELECT datname FROM pg_database")}
            for account in accounts:
                if account.user in _ADMINS:
                    raise ServiceFailed(
                        f"the clone names {account.user!r} as its database user, which is this server's superuser",
                        remedy="Name another user in the settings.",
                    )
                if account.user and account.user not in roles:
                    database.execute(sql.SQL("CREATE ROLE {}").format(sql.Identifier(account.user)))
                    roles.add(account.user)
                    made.append(f"role {account.user}")
                if account.user:
                    database.execute(sql.SQL("ALTER ROLE {} " + _RIGHTS).format(sql.Identifier(account.user)))
                if account.user and account.password:
                    words = sql.SQL("ALTER ROLE {} PASSWORD {}")
                    database.execute(
                        words.format(sql.Identifier(account.user), sql.Literal(account.password))
                    )
                if account.database and account.database not in names:
                    words = sql.SQL("CREATE DATABASE {} OWNER {}")
                    owner = sql.Identifier(account.user or database.info.user)
                    database.execute(words.format(sql.Identifier(account.database), owner))
                    names.add(account.database)
                    made.append(f"database {account.database}")
            if self._let_in(place, accounts):
                database.execute("SELECT pg_reload_conf()")
        return made

    def _let_in(self, place: Place, accounts: Sequence[Account]) -> bool:
        """Writes who comes in how; returns whether that is new."""
        rows = ["local all all trust", *(f'host all "{name}" all reject' for name in _ADMINS)]
        rows += [
            f'host all "{name}" 127.0.0.1/32 trust'
            for name in sorted({one.user for one in accounts if one.user and not one.password})
            if '"' not in name and "\n" not in name
        ]
        text = "\n".join([*rows, "host all all 127.0.0.1/32 scram-sha-256", ""])
        file = place.data / "pg_hba.conf"
        if plain_text(file, "utf-8", "replace") == text:
            return False
        write_replacing(file, text, mode=0o600)  # the folder is the server's, which could put a link there
        place.own(file)
        return True

    def keep_copy(self, place: Place, port: int, database: str, copy: str) -> str:
        """By the server's own way, with the database as the template: fast, if nobody is connected to it."""
        from psycopg import sql

        with _administered(place, port) as server:
            row = server.execute(
                "SELECT pg_database_size(d.oid), (SELECT rolname FROM pg_roles r WHERE r.oid = d.datdba), "
                "(SELECT count(*) FROM pg_stat_activity a "
                "WHERE a.datid = d.oid) FROM pg_database d WHERE datname = %s",
                (database,),
            ).fetchone()
            if row is None:
                return "it does not exist yet"
            size, owner, sessions = row
            if sessions:
                return f"{sessions} programs are connected to it"
            if size > _LARGEST_COPY:
                return f"it has {size // 1024**2:,} MB"
            server.execute(sql.SQL("DROP DATABASE IF EXISTS {}").format(sql.Identifier(copy)))
            words = sql.SQL("CREATE DATABASE {} TEMPLATE {} OWNER {}")
            server.execute(words.format(*map(sql.Identifier, (copy, database, str(owner)))))
        return ""

    def put_copy_back(self, place: Place, port: int, database: str, copy: str) -> str:
        """Whoever is still connected to the database is sent away."""
        from psycopg import sql

        with _administered(place, port) as server:
            there = server.execute("SELECT 1 FROM pg_database WHERE datname = %s", (copy,)).fetchone()
            if there is None:
                return "there is no copy"
            server.execute(
                "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = %s", (database,)
            )
            for words, names in (
                ("DROP DATABASE IF EXISTS {}", (database,)),
                ("ALTER DATABASE {} RENAME TO {}", (copy, database)),
            ):
                server.execute(sql.SQL(words).format(*map(sql.Identifier, names)))
        return ""

    def drop_copy(self, place: Place, port: int, copy: str) -> str:
        """If it is there."""
        from psycopg import sql

        with _administered(place, port) as server:
            server.execute(sql.SQL("DROP DATABASE IF EXISTS {}").format(sql.Identifier(copy)))
        return ""

    def make_database(self, host: str, port: int, account: Account) -> None:
        """As the role itself, by way of the database that every server has."""
        from psycopg import sql

        with _connected(**_login(host, port, account), dbname="postgres") as database:
            database.execute(sql.SQL("CREATE DATABASE {}").format(sql.Identifier(account.database)))

    def driver_variables(self, sockets: str, port: int, account: Account | None) -> dict[str, str]:
        """Those of the client library (libpq)."""
        found = {"PGHOST": sockets, "PGPORT": str(port)} if account is not None else {}
        if account is not None:
            found |= {"PGUSER": account.user} if account.user else {}
            found |= {"PGPASSWORD": account.password} if account.password else {}
        return found

    def reach(self, host: str, port: int, account: Account) -> Reach:
        """A login, and which tables there are beyond the system's."""
        login = _login(host, port, account)
        try:
            with _connected(**login, dbname=account.database or account.user or "postgres") as database:
                row = database.execute(
                    "SELECT count(*) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
                    "WHERE c.relkind IN ('r', 'p') AND n.nspname <> 'information_schema' "
                    "AND n.nspname NOT LIKE 'pg\\_%'"
                ).fetchone()
                count = int(row[0]) if row else 0
                return Reach("filled", f"{count} tables") if count else Reach("empty")
        except ServiceFailed as failure:
            cause = str(failure.__cause__)
            if re.search(r'database ".*" does not exist', cause):
                return Reach("no database")
            return Reach("silent" if "Connection refused" in cause else "other", cause)


@contextlib.contextmanager
def _administered(place: Place, port: int) -> Iterator[psycopg.Connection[tuple[Any, ...]]]:
    """A connection as the superuser, over the socket that this user alone reaches."""
    login = {"host": str(place.sockets), "port": port, "dbname": "postgres"}
    first: ServiceFailed | None = None
    for name in _ADMINS:
        try:
            opened = contextlib.ExitStack()
            database = opened.enter_context(_connected(**login, user=name))
        except ServiceFailed as failure:
            first = first or failure
            continue
        with opened:
            yield database
        return
    assert first is not None  # there are names to try
    raise first


def _login(host: str, port: int, account: Account) -> dict[str, Any]:
    login = {"host": host, "port": port, "user": account.user, "password": account.password}
    return {name: value for name, value in login.items() if value}


@contextlib.contextmanager
def _connected(**login: Any) -> Iterator[psycopg.Connection[tuple[Any, ...]]]:
    import psycopg

    try:
        with psycopg.connect(
            **login,
            autocommit=True,
            connect_timeout=5,
            passfile="/dev/null/none",
            sslmode="disable",
            gssencmode="disable",
        ) as database:
            yield database
    except psycopg.Error as error:
        text = str(error).strip().splitlines()
        raise ServiceFailed(
            f"PostgreSQL does not do what is asked: {text[0] if text else type(error).__name__}",
            lines=tuple(text[1:6]),
            remedy="Read the lines above and the server's log.",
        ) from error


ENGINE = _Postgres()
