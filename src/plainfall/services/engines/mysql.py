"""A private MariaDB or MySQL: their manuals' chapters on installing the data folder and on accounts."""

from __future__ import annotations

import contextlib
import getpass
import os
import pwd
import re
import shutil
import signal
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from plainfall import processes
from plainfall.errors import ServiceFailed
from plainfall.patterns import regex
from plainfall.plain_files import plain_bytes
from plainfall.services.engine import Account, Place, Program, Reach, found_programs
from plainfall.services.kinds.mysql import SOCKET

if TYPE_CHECKING:
    import pymysql

__all__ = ["ENGINE"]

_HOSTS = "localhost", "127.0.0.1"
_LARGEST_COPY = 64 * 1024**2  # bytes
_DUMPS = ("mariadb-dump", "mysqldump")
_CLIENTS = ("mariadb", "mysql")
_SYSTEM = ("mysql", "sys", "information_schema", "performance_schema")
_STAGE = regex(r"_(development|dev|test|production)$")


class _MySql:
    """Its administrator is called as this user of the system, who comes in over the socket alone."""

    kind = "mysql"
    title = "MariaDB"
    stop_signal = int(signal.SIGTERM)
    restarts_for_accounts = False
    leaves_root = True
    keeps_rows = True
    localhost_is_a_socket = True

    def programs(self, path: Sequence[str]) -> list[Program]:
        """Either of both; the older name is a link to the newer one."""
        hidden = ("/usr/sbin", "/usr/libexec", "/usr/local/sbin", "/opt/homebrew/bin", "/usr/local/mysql/bin")
        return found_programs(("mariadbd", "mysqld"), path, hidden, "--version", r"Ver (\d+(?:\.\d+)*)")

    def made_by(self, data: Path) -> str:
        """Newer ones take over what older ones wrote."""
        return ""

    def make(self, program: Program, place: Place) -> None:
        """MariaDB has a script for it, MySQL an option."""
        script = _script(program)
        if script is None:
            place.run(
                [str(program.path), "--no-defaults", "--initialize-insecure", f"--datadir={place.data}"], 120
            )
            return
        place.run(
            [
                str(script), "--no-defaults", f"--datadir={place.data}", "--auth-root-authentication-method=socket",
                f"--auth-root-socket-user={_me()}", "--skip-test-db", f"--basedir={_base(program)}",
            ],
            120,
        )  # fmt: skip

    def words(self, program: Program, place: Place, port: int, accounts: Sequence[Account]) -> list[str]:
        """No configuration file is read."""
        return [
            str(program.path), "--no-defaults", f"--basedir={_base(program)}", f"--datadir={place.data}",
            f"--socket={place.sockets / SOCKET}", f"--port={port}", "--bind-address=127.0.0.1",
            f"--pid-file={place.data / 'private.pid'}", "--innodb-buffer-pool-size=64M", "--skip-log-bin",
            "--skip-name-resolve",  # who comes over the port is not the root of the socket
            # Files are read and written by nobody: the folder is the server's own, and holds its socket alone.
            f"--secure-file-priv={place.sockets}", "--local-infile=0",
            "--character-set-server=utf8mb4", "--tmpdir=/tmp", "--innodb-flush-log-at-trx-commit=2",
        ]  # fmt: skip

    def is_ready(self, place: Place, port: int, pid: int) -> bool:
        """It lets its root in."""
        try:
            with _connected(unix_socket=str(place.sockets / SOCKET), user=_me()):
                return True
        except ServiceFailed:
            return False

    def admit(self, place: Place, port: int, accounts: Sequence[Account]) -> list[str]:
        """Accounts for both names of this machine, as clients over socket and port are seen."""
        made = []
        with (
            _connected(unix_socket=str(place.sockets / SOCKET), user=_me()) as database,
            database.cursor() as cursor,
        ):
            cursor.execute("SHOW DATABASES")
            names = {str(row[0]) for row in cursor.fetchall()}
            cursor.execute("SELECT user, host FROM mysql.user")
            roles = {(str(user), str(host)) for user, host in cursor.fetchall()}
            for account in accounts:
                if account.database and account.database not in names:
                    cursor.execute(f"CREATE DATABASE {_name(account.database)} CHARACTER SET utf8mb4")
                    names.add(account.database)
                    made.append(f"database {account.database}")
                for host in _HOSTS if account.user else ():
                    if account.user == "root" and host == "localhost":
                        continue  # this one is ours, over the socket; people come over the port
                    who = f"{_text(database, account.user)}@'{host}'"
                    word = "ALTER" if (account.user, host) in roles else "CREATE"
                    cursor.execute(f"{word} USER {who} IDENTIFIED BY {_text(database, account.password)}")
                    cursor.execute(f"REVOKE ALL PRIVILEGES, GRANT OPTION FROM {who}")
                    for pattern in _patterns(accounts):
                        cursor.execute(
                            f"GRANT ALL PRIVILEGES ON {_name(pattern)}.* TO {who} WITH GRANT OPTION"
                        )
                    if word == "CREATE" and host == _HOSTS[-1]:
                        made.append(f"user {account.user}")
                    roles.add((account.user, host))
        return made

    def keep_copy(self, place: Place, port: int, database: str, copy: str) -> str:
        """As a dump in a file beside the data: this server copies no database by itself."""
        with (
            _connected(unix_socket=str(place.sockets / SOCKET), user=_me()) as server,
            server.cursor() as cursor,
        ):
            cursor.execute(
                "SELECT (SELECT count(*) FROM information_schema.schemata WHERE schema_name = %s), "
                "(SELECT sum(data_length + index_length) FROM information_schema.tables WHERE table_schema = %s)",
                (database, database),
            )
            there, size = cursor.fetchone() or (0, 0)
        if not there:
            return "it does not exist yet"
        if int(size or 0) > _LARGEST_COPY:
            return f"it has {int(size) // 1024**2:,} MB"
        file = _copy(place, copy)
        file.unlink(missing_ok=True)
        os.close(os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600))
        words = ["--single-transaction", "--routines", "--triggers", "--events", "--add-drop-database"]
        return _ran(place, _DUMPS, [*words, f"--result-file={file}", "--databases", database])

    def put_copy_back(self, place: Place, port: int, database: str, copy: str) -> str:
        """Whoever is still connected to the database is sent away."""
        file = _copy(place, copy)
        if not file.is_file():
            return "there is no copy"
        with (
            _connected(unix_socket=str(place.sockets / SOCKET), user=_me()) as server,
            server.cursor() as cursor,
        ):
            cursor.execute("SELECT id FROM information_schema.processlist WHERE db = %s", (database,))
            for (number,) in cursor.fetchall():
                with contextlib.suppress(ServiceFailed):
                    cursor.execute(f"KILL {int(number)}")
        problem = _ran(place, _CLIENTS, [], plain_bytes(file))
        if not problem:
            file.unlink()
        return problem

    def drop_copy(self, place: Place, port: int, copy: str) -> str:
        """If it is there."""
        _copy(place, copy).unlink(missing_ok=True)
        return ""

    def make_database(self, host: str, port: int, account: Account) -> None:
        """As the user itself."""
        with _connected(**_login(host, port, account)) as database, database.cursor() as cursor:
            cursor.execute(f"CREATE DATABASE {_name(account.database)} CHARACTER SET utf8mb4")

    def driver_variables(self, sockets: str, port: int, account: Account | None) -> dict[str, str]:
        """Those of the client library."""
        return {"MYSQL_UNIX_PORT": f"{sockets}/{SOCKET}", "MYSQL_TCP_PORT": str(port)}

    def reach(self, host: str, port: int, account: Account) -> Reach:
        """A login, and which tables there are."""
        import pymysql

        try:
            with _connected(**_login(host, port, account)) as database, database.cursor() as cursor:
                cursor.execute(
                    "SELECT (SELECT count(*) FROM information_schema.schemata WHERE schema_name = %s), "
                    "count(*) FROM information_schema.tables WHERE table_schema = %s",
                    (account.database, account.database),
                )
                row = cursor.fetchone() or (0, 0)
                if not row[0]:
                    return Reach("no database")
                return Reach("filled", f"{row[1]} tables") if row[1] else Reach("empty")
        except ServiceFailed as failure:
            cause = failure.__cause__
            refused = isinstance(cause, pymysql.err.OperationalError) and cause.args[:1] == (2003,)
            return Reach("silent" if refused else "other", str(cause))


def _patterns(accounts: Sequence[Account]) -> list[str]:
    """The names of databases, as patterns, on which every account of a clone has all rights: those that it
    names, and what is made beside them for tests and further connections. Rights on all databases would take in
    the server's own, and with them the right to write files and to load programs as the user of the server."""
    patterns: dict[str, None] = {}
    for account in accounts:
        if account.database and account.database not in _SYSTEM:
            stem = _STAGE.sub("", account.database) or account.database
            for text in (account.database, stem):
                plain = re.sub(r"([\\%_])", r"\\\1", text)
                patterns |= dict.fromkeys([plain, f"{plain}\\_%", f"test\\_{plain}", f"test\\_{plain}\\_%"])
    return list(patterns)


def _copy(place: Place, copy: str) -> Path:
    """The file of a copy; its name holds nothing but letters, digits and the like."""
    return place.data.with_name(f"{place.data.name}-{re.sub('[^A-Za-z0-9_-]', '-', copy)}.sql")


def _ran(place: Place, names: Sequence[str], words: Sequence[str], data: bytes | None = None) -> str:
    """Runs one of the server's client programs as its root, over the socket; what went wrong, "" for nothing."""
    program = next(
        (found for name in names if (found := shutil.which(name, path=place.variables["PATH"]))), None
    )
    if program is None:
        return f"{names[0]} is not on this machine"
    login = ["--no-defaults", f"--socket={place.sockets / SOCKET}", f"--user={_me()}"]
    done = processes.run([program, *login, *words], place.variables, seconds=120, data=data)
    return "" if done.status == 0 else (done.errors.strip().splitlines() or [f"status {done.status}"])[-1]


def _script(program: Program) -> Path | None:
    for folder in (program.path.parent, program.path.parent.parent / "bin", Path("/usr/bin")):
        for name in ("mariadb-install-db", "mysql_install_db"):
            if (folder / name).exists():
                return folder / name
    return None


def _base(program: Program) -> Path:
    return program.path.parent.parent


def _me() -> str:
    return pwd.getpwuid(os.geteuid()).pw_name


def _name(text: str) -> str:
    return "`" + text.replace("`", "``") + "`"


def _text(database: pymysql.Connection[Any], text: str) -> str:
    return str(database.escape(text))


def _login(host: str, port: int, account: Account) -> dict[str, Any]:
    return {
        "host": host,
        "port": port,
        "user": account.user or getpass.getuser(),
        "password": account.password,
    }


@contextlib.contextmanager
def _connected(**login: Any) -> Iterator[pymysql.Connection[Any]]:
    import pymysql

    try:
        database = pymysql.connect(
            **login, connect_timeout=5, autocommit=True, charset="utf8mb4", local_infile=False
        )
    except (pymysql.Error, OSError) as error:
        raise _failed(error) from error
    try:
        yield database
    except pymysql.Error as error:
        raise _failed(error) from error
    finally:
        database.close()


def _failed(error: Exception) -> ServiceFailed:
    return ServiceFailed(
        f"MariaDB does not do what is asked: {error.args[-1] if error.args else error}",
        remedy="Read the server's log.",
    )


ENGINE = _MySql()
