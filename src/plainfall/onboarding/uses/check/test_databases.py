"""Databases of tests: never the development database. Settings that name that one get another, and what changes it
all the same is undone."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path

from msgspec import Struct, field

from plainfall.data.guard import DatabaseGuard
from plainfall.data.sqlite import copy_database, database_of_settings, difference, look_into
from plainfall.errors import BadInput, PlainfallError
from plainfall.formats.addresses import parse_address
from plainfall.formats.dotenv import parse_dotenv
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.records.state import FOLDER
from plainfall.onboarding.services.private_servers import place_of
from plainfall.plain_files import plain_text
from plainfall.server.process import new_mark
from plainfall.server.process_table import holders_of
from plainfall.services.engine import Account, engine_of
from plainfall.services.needs import kind_of_scheme

__all__ = ["TestSettings", "settings_for_tests", "watched_database"]

_MODE_FILES = (".env.test", ".env.testing", ".env.test.local")
# Frameworks whose runners have databases of their own for tests, in whatever settings.
_OWN = frozenset({"Django", "Rails"})
_OF_TESTS = "_test"
_LAST_OF_CACHE = 15  # the number of the last database that a cache has by itself
_LARGEST = 256 << 20  # bytes of a database that is copied
_NAME_KEY = re.compile(
    r"(^|_)(DB|DATABASE)(_NAME|_DATABASE)?$|(^|_)(POSTGRES_DB|MYSQL_DATABASE|DB_DATABASE)$"
)


class TestSettings(Struct):
    """The part's settings as its tests get them: ``values``; keys that are not passed on, since the part's own
    file for tests has them (``own``); what was done, in words; and why tests cannot be run with them ("": they
    can)."""

    values: dict[str, str] = field(default_factory=dict)
    own: frozenset[str] = frozenset()
    notes: list[str] = field(default_factory=list)
    refused: str = ""


def settings_for_tests(work: Work) -> TestSettings:
    """Settings with which the part's tests reach no database that somebody works with. Copies and makes databases
    where they are missing."""
    own = _own_file(work)
    found = TestSettings(dict(work.settings), frozenset(own))
    if work.language.reads_own_settings:
        # Its frameworks read the file themselves, and their runners' own values go over it: variables would win.
        return TestSettings({}, frozenset(work.settings))
    if {one.name for one in work.part.frameworks} & _OWN:
        return found
    for key, value in work.settings.items():
        if key in own:
            continue
        address = parse_address(value)
        kind = kind_of_scheme(address.scheme) if address is not None else None
        one = database_of_settings({key: value}, work.folder, ".env")
        if one is not None:
            found.values[key] = _with_path(value, _copied(work, one.file))
            found.notes.append(f"{key} names a copy of the database")
        elif address is not None and kind is not None and kind.name == "redis":
            found.values[key] = str(address.with_name(str(_LAST_OF_CACHE)))
        elif address is not None and kind is not None and kind.name in ("postgres", "mysql"):
            named = f"{address.name}{_OF_TESTS}"
            account = Account(address.user or "", address.password or "", named)
            if not _made(work, kind.name, address.port or kind.port, account):
                found.refused = f"{key} names a database that is not this clone's own, and tests may empty it"
                return found
            found.values[key] = str(address.with_name(named))
            found.notes.append(f"{key} names the database {named}")
        elif _NAME_KEY.search(key) and value and _served(work, value):
            account = _account_in_pieces(work.settings, value)
            if not _made(work, "", 0, account, value):
                found.refused = f"{key} names a database that is not this clone's own, and tests may empty it"
                return found
            found.values[key] = f"{value}{_OF_TESTS}"
            found.notes.append(f"{key} is {value}{_OF_TESTS}")
    return found


def _served(work: Work, name: str) -> bool:
    """Whether the settings put the address of a server's database together from pieces, this being its name."""
    hosts = [key for key in work.settings if re.search(r"(^|_)(DB|DATABASE|POSTGRES|MYSQL|PG)_?HOST$", key)]
    return bool(hosts) and re.fullmatch(r"\w{1,60}", name) is not None


def _own_file(work: Work) -> set[str]:
    keys: set[str] = set()
    for name in _MODE_FILES:
        path = work.folder / name
        if path.is_file() and not path.is_symlink():
            try:
                keys |= parse_dotenv(plain_text(path, "utf-8", "replace"), name).values().keys()
            except (OSError, BadInput):
                continue  # the program itself says so
    return keys


def _with_path(value: str, path: Path) -> str:
    """The value with another file for the one that it names, in the same form."""
    match = re.match(r"(sqlite3?(?:\+\w+)?):", value)
    if match:
        return f"{match.group(1)}:///{path}"
    return f"file:{path}" if value.startswith("file:") else str(path)


def _copied(work: Work, file: Path) -> Path:
    """A copy of a database for tests, made anew; an empty place for one that is not there, or large."""
    folder = work.state.confined.own_folder(f"{FOLDER}/checks/{work.state.name_of(work.part.key)}")
    copy = folder / file.name
    for ending in ("", "-wal", "-shm", "-journal"):
        work.state.confined.remove(f"{copy}{ending}")
    if file.is_file() and file.stat().st_size <= _LARGEST:
        copy_database(file, copy)
    return copy


def _account_in_pieces(settings: Mapping[str, str], name: str) -> Account:
    def value(pattern: str) -> str:
        return next((text for key, text in settings.items() if re.search(pattern, key)), "")

    user = value(r"(^|_)(DB|DATABASE|POSTGRES|MYSQL|PG)_?(USER|USERNAME)$")
    password = value(r"(^|_)(DB|DATABASE|POSTGRES|MYSQL|PG)_?(PASSWORD|PASS)$")
    return Account(user, password, f"{name}{_OF_TESTS}")


def _made(work: Work, kind: str, port: int, account: Account, beside: str = "") -> bool:
    """Makes a database in a private server of the clone, the one on this port, or the one that has ``beside``;
    whether there is such a server."""
    for name, row in work.state.services.items():
        if row.used or (kind and row.kind != kind) or (port and row.port != port):
            continue
        engine = engine_of(row.kind)
        if engine is None or (beside and not engine.keeps_rows):
            continue
        try:
            engine.admit(place_of(work.state, work.surroundings, name, row), row.port, (account,))
        except PlainfallError:
            continue  # it does not run: the tests say what they miss
        return True
    return False


@contextmanager
def watched_database(work: Work, remarks: list[str]) -> Iterator[None]:
    """While the block runs the part's database file is watched: what changes its tables or counts is undone, and
    said, and what was there by then is kept: rows may be among it that the person added meanwhile. While the part's
    server runs, or another program has the database open, nothing is undone, since it may have been that."""
    file = work.database.file if work.database is not None else None
    inside = file is not None and file.is_relative_to(work.state.confined.root) and file.is_file()
    if file is None or not inside or file.stat().st_size > _LARGEST:
        yield
        return
    before = look_into(file)
    name = work.state.name_of(work.part.key)
    guard = DatabaseGuard(work.state.folder / "guard" / name, name, work.state.confined, work.state.seal)
    guard.begin("check", file, new_mark())
    try:
        yield
    finally:
        changes = difference(before, look_into(file)) if file.exists() else ["the file is gone"]
        shown = os.path.relpath(file, work.clone)
        others = holders_of(file) if changes else []
        if changes and not work.state.servers and not others:
            result = guard.put_back()
            kept = (
                f"; what was in it is kept in {os.path.relpath(result.kept, work.clone)}"
                if result and result.kept
                else ""
            )
            what = "; ".join(changes)
            remarks.append(
                f"the development database {shown} changed while it ran ({what}) and was put back{kept}"
            )
        else:
            guard.end()
            if changes:
                remarks.append(f"meanwhile the development database {shown} changed: {'; '.join(changes)}")
