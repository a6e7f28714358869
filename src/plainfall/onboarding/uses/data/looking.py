"""A look into the databases of a clone: which there are, what they hold, and what changed since the last look."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from plainfall.clone.parts import PartFound
from plainfall.data.applied import Applied, applied_in
from plainfall.data.keys import Keys, keys_of
from plainfall.data.letters import Letter, letters_in
from plainfall.data.opened import DatabasePlace, opened
from plainfall.data.sqlite import database_of_settings, databases_below
from plainfall.data.tables import Table, tables_of
from plainfall.errors import DatabaseProblem, NothingToOnboard, UsageProblem
from plainfall.evidence import Evidence
from plainfall.formats.values import is_secret
from plainfall.kept_records import DatabaseCounts
from plainfall.onboarding.part.settling import Settling
from plainfall.onboarding.records.state import CloneState
from plainfall.onboarding.run.clone_root import CloneFolder, survey_of
from plainfall.onboarding.services.service_records import mail_folders
from plainfall.settings.setting import Setting
from plainfall.surroundings import Surroundings

__all__ = ["Change", "DatabaseLook", "LookAtClone", "Found", "table_named"]

_KINDS = {"postgres": "postgresql", "mysql": "mysql", "redis": "redis"}
_TITLES = {"postgresql": "PostgreSQL", "mysql": "MySQL or MariaDB", "redis": "Redis"}


class Change(Struct, frozen=True):
    """A table since the look before: rows then and now; None where the table was not there."""

    table: str
    before: int | None
    now: int | None


class DatabaseLook(Struct):
    """One database: its tables and migrations, or its keys; ``problem`` says why it could not be looked into."""

    part: str
    place: DatabasePlace
    tables: list[Table] = field(default_factory=list)
    applied: list[Applied] = field(default_factory=list)
    keys: list[Keys] = field(default_factory=list)
    more_keys: bool = False
    changes: list[Change] | None = None
    since: str = ""
    problem: DatabaseProblem | None = None

    def as_json(self) -> dict[str, Any]:
        """The form that ``data --json`` shows. No password is in it."""
        place = self.place
        return {
            "part": self.part,
            "kind": place.kind,
            "label": place.label,
            "file": str(place.file) if place.file else None,
            "port": place.port or None,
            "database": place.database or None,
            "named": place.named.as_json(),
            "tables": [one.as_json() for one in self.tables],
            "migrations": [
                {
                    "framework": one.framework,
                    "applied": one.applied,
                    "pending": list(one.pending),
                    "unknown": list(one.unknown),
                }
                for one in self.applied
            ],
            "keys": [one.as_json() for one in self.keys],
            "changes": None
            if self.changes is None
            else [{"table": one.table, "before": one.before, "now": one.now} for one in self.changes],
            "since": self.since or None,
            "problem": {"cause": self.problem.cause, "remedy": self.problem.remedy} if self.problem else None,
        }


class Found(Struct, frozen=True):
    """A database of a part."""

    part: PartFound
    place: DatabasePlace


class LookAtClone:
    """Knows a clone's databases. Raises NothingToOnboard for a folder that is none, UsageProblem for a part that
    does not exist."""

    def __init__(self, place: CloneFolder, part: str | None, surroundings: Surroundings) -> None:
        if not place.clone.is_dir():
            raise NothingToOnboard(f"{place.clone} is not a folder", remedy="Name the folder of a clone.")
        self._state = CloneState(place.clone, surroundings.state)
        names = [part] if part is not None else []
        survey, tree, parts = survey_of(place, names, self._state, surroundings)
        self._tree = tree
        self._clone = place.clone
        settling = Settling(survey, tree, self._state, {}, surroundings.variables)
        self.found: list[Found] = []
        for one in parts if parts is not None else survey.parts:
            known = {_identity(other.place) for other in self.found}
            for database in self._of_part(one, settling):
                if _identity(database) not in known:
                    known.add(_identity(database))
                    self.found.append(Found(one, database))

    def _of_part(self, part: PartFound, settling: Settling) -> Iterator[DatabasePlace]:
        folder = self._clone / part.path
        shown: list[Setting] = []
        values: dict[str, str] = {}
        for unit in (settling.shared, settling.unit(part.path)):
            if unit is not None:
                settled = settling.settle(unit, None)
                shown += settled.settings
                values |= settled.values
        target = next((one.file for one in shown if one.value and "sqlite" in one.value), "the settings")
        named = database_of_settings(values, folder, target)
        if named is not None and named.file.exists():
            yield DatabasePlace("sqlite", self._label(named.file), named.evidence, named.file)
        for file in databases_below(folder):
            yield DatabasePlace("sqlite", self._label(file), Evidence(self._label(file)), file)
        for need in settling.needs_with(part, shown, values):
            kind = _KINDS.get(need.kind)
            for account in need.accounts if kind else ():
                if kind is None or (kind != "redis" and not account.database):
                    continue
                title = f"{_TITLES[kind]} database {account.database}" if kind != "redis" else _TITLES[kind]
                yield DatabasePlace(
                    kind, title, need.place, None, need.port, account.user, account.password, account.database
                )

    def _label(self, file: Path) -> str:
        return str(file.relative_to(self._clone)) if file.is_relative_to(self._clone) else str(file)

    def letters(self, limit: int | None) -> list[Letter] | None:
        """What the clone sent to its mail stand-in, the newest first; None where it has none."""
        folders = mail_folders(self._state)
        return letters_in(folders, limit) if folders else None

    def chosen(self, name: str | None) -> list[Found]:
        """The databases that are meant: all, or those whose label, kind or name is as said. Raises UsageProblem."""
        if not self.found:
            raise UsageProblem(
                "no database of this clone was found", remedy="Bring the clone up first: plainfall onboard"
            )
        if name is None:
            return self.found
        meant = [one for one in self.found if name in (one.place.label, one.place.kind, one.place.database)]
        if not meant:
            names = ", ".join(one.place.label for one in self.found)
            raise UsageProblem(f"{name} is no database of this clone", remedy=f"There are: {names}")
        return meant

    def look(self, found: Found, *, reveal: bool = False) -> DatabaseLook:
        """Tables, migrations or keys of a database; what it refuses is its ``problem``. Values under keys that
        tell of secrets or sessions are covered but for ``reveal``."""
        place = found.place
        look = DatabaseLook(found.part.key, place)
        try:
            if place.kind == "redis":
                keys, look.more_keys = keys_of(place)
                look.keys = keys if reveal else [_covered(one) for one in keys]
                return look
            look.tables = tables_of(place)
            files = [path for path in self._tree.files if path.startswith(_inside(found.part))]
            with opened(place) as connection:
                names = [one.name for one in look.tables]
                look.applied = applied_in(connection, names, files, self._tree.text)
        except DatabaseProblem as problem:
            look.problem = problem
        return look

    def compare(self, looks: Sequence[DatabaseLook]) -> None:
        """Tells each look what changed since the one before, and keeps it for the next."""
        with self._state.locked():
            for look in looks:
                if look.problem is not None or look.place.kind == "redis":
                    continue
                label = DatabaseCounts.NAME + look.place.label
                before = self._state.kept(look.part, DatabaseCounts, label)
                now = {one.name: one.rows for one in look.tables}
                then = before.rows if before is not None else {}
                look.since = before.when if before is not None else ""
                if before is not None:
                    look.changes = [
                        Change(name, then.get(name), now.get(name))
                        for name in sorted({*now, *then})
                        if then.get(name) != now.get(name)
                    ]
                when = datetime.now(UTC).isoformat(timespec="seconds")
                self._state.keep(look.part, DatabaseCounts(rows=now, when=when), label)


def table_named(looks: Sequence[DatabaseLook], name: str) -> tuple[DatabaseLook, Table]:
    """The table of that name, or the only one whose name ends so. Raises UsageProblem with those that are near."""
    every = [(look, table) for look in looks for table in look.tables]
    exact = [one for one in every if one[1].name == name]
    near = [one for one in every if one[1].name.lower().endswith(name.lower())]
    for some in (exact, near):
        if len(some) == 1:
            return some[0]
    problem = next((look.problem for look in looks if look.problem is not None), None)
    if not every and problem is not None:
        raise problem
    if len(exact) > 1 or len(near) > 1:
        names = ", ".join(f"{table.name} in {look.place.label}" for look, table in (exact or near)[:8])
        raise UsageProblem(f"{name} may be several tables", remedy=f"Name one, with --database: {names}")
    names = ", ".join(sorted({table.name for _, table in every})[:20])
    raise UsageProblem(
        f"there is no table {name}", remedy=f"There are: {names}" if names else "There are none."
    )


def _covered(keys: Keys) -> Keys:
    samples = (
        (key, "••••••" if is_secret(key) or "sess" in key.lower() else value) for key, value in keys.samples
    )
    return replace(keys, samples=tuple(samples))


def _inside(part: PartFound) -> str:
    return f"{part.path}/" if part.path else ""


def _identity(place: DatabasePlace) -> tuple[str, str, int, str]:
    return place.kind, str(place.file.resolve()) if place.file else "", place.port, place.database
