"""Migrations and seeds: run once for what they depend on, with the database looked at before and after."""

from __future__ import annotations

import os
import re
from pathlib import Path
from typing import Any

from plainfall.data.guard import DatabaseGuard
from plainfall.data.sqlite import (
    DatabaseFound,
    Look,
    databases_below,
    difference,
    look_into,
)
from plainfall.errors import CommandFailed
from plainfall.evidence import Evidence
from plainfall.onboarding.commands import end_leftovers, run_command
from plainfall.onboarding.steps import State, StepResult
from plainfall.onboarding.work import Work
from plainfall.server.process import new_mark
from plainfall.survey.commands import Command
from plainfall.writing import digest_of, digest_of_files

__all__ = ["migrations", "seeds"]

_MIGRATION_FOLDER = re.compile(r"(^|/)(migrations?|migrate|versions|alembic|db)/", re.IGNORECASE)


def migrations(work: Work) -> StepResult:
    """Runs the migration command unless command, migration files, dependencies and database are those of
    the run before. Raises CommandFailed; then the database is as it was before."""
    command = work.part.candidates("migrations")[0]
    _undo_unfinished(work)
    fingerprint = digest_of(
        command.line,
        digest_of_files(work.clone, _files(work, command)),
        work.fingerprints.get("dependencies"),
        str(work.database.file) if work.database else work.fingerprints.get("settings"),
    )
    before = work.state.record(work.part.key, "migrations")
    if before.get("fingerprint") == fingerprint and _still_holds(work, before):
        return _kept(work, command, before, "command, migration files and database are unchanged")
    return _run(work, command, "migrations", {"fingerprint": fingerprint})


def seeds(work: Work) -> StepResult:
    """Runs the seed command once for a database. Raises CommandFailed; then the database is as before."""
    command = work.part.candidates("seeds")[0]
    _undo_unfinished(work)
    before = work.state.record(work.part.key, "seeds")
    if before and not work.wishes.seed_again and _still_holds(work, before):
        why = "this database was seeded before; --seed-again runs it again"
        return _kept(work, command, before, why)
    return _run(work, command, "seeds", {})


def _run(work: Work, command: Command, stage: str, more: dict[str, Any]) -> StepResult:
    """Runs the command and keeps the record of it, with what ``more`` says."""
    database = _database(work)
    before = look_into(database.file) if database else Look(False)
    if database and not database.file.parent.exists():
        work.making("folder", database.file.parent, exclude=False)
        database.file.parent.mkdir(parents=True)
    guard, mark = _guard(work), new_mark()
    guard.begin(stage, database.file if database else None, mark)
    try:
        left = run_command(work, stage, command.line, mark, command.evidence)
    except CommandFailed as error:
        guard.put_back()
        if database:
            error.remedy += " The database was put back as it was before this step."
        raise
    except BaseException:
        guard.put_back()
        raise
    database = database or _database(work)
    after = look_into(database.file) if database else Look(False)
    record = {
        **more,
        "mark": mark,
        "command": command.line,
        "database": str(database.file) if database else None,
        "inode": _inode(database),
        "rows": after.rows(),
        "filled": [name for name, count in after.rows().items() if count > before.rows().get(name, 0)],
    }
    # In this order: a kill between the two leaves a step that is done, with a copy that nobody needs.
    work.state.keep(work.part.key, stage, record)
    guard.end()
    changes = difference(before, after)
    said = "; ".join(changes) if changes else "the database is as it was"
    return StepResult(
        State.DONE,
        f"{command.line}: {_in_short(before, after)}" if database else command.line,
        command.reason,
        (command.evidence,),
        (*left, said) if database else tuple(left),
        {
            "command": command.line,
            "database": record["database"],
            "changes": changes,
            "tables_before": before.as_json(),
            "tables_after": after.as_json(),
        },
    )


def _in_short(before: Look, after: Look) -> str:
    made = [name for name in after.tables if name not in before.tables]
    gained = sum(after.rows().values()) - sum(before.rows().values())
    said = []
    if made:
        said.append(f"{len(made)} tables made" if len(made) > 1 else "1 table made")
    if gained:
        said.append(f"{gained:+,} rows")
    return ", ".join(said) or "nothing to change"


def _kept(work: Work, command: Command, before: dict[str, Any], why: str) -> StepResult:
    rows = before.get("rows", {})
    where = f"{len(rows)} tables, {sum(rows.values()):,} rows" if rows else "done before"
    detail: dict[str, Any] = {
        "command": command.line,
        "database": before.get("database"),
        "changes": [],
    }
    return StepResult(State.KEPT, f"{command.line}: {where}", why, (command.evidence,), (), detail)


def _still_holds(work: Work, before: dict[str, Any]) -> bool:
    """Whether the database is the one that the record speaks of: the same file, and the tables it had are
    there; of those that the step filled at least one still has rows (a new file may get an old inode)."""
    database = _database(work)
    if before.get("database") != (str(database.file) if database else None):
        return False
    if database is None:
        return True
    if before.get("inode") != _inode(database):
        return False
    rows = look_into(database.file).rows()
    filled = before.get("filled", [])
    return set(before.get("rows", {})) <= set(rows) and (not filled or any(rows.get(name) for name in filled))


def _database(work: Work) -> DatabaseFound | None:
    if work.database is None:
        below = databases_below(work.folder)
        if len(below) == 1:
            name = str(below[0].relative_to(work.clone))
            return DatabaseFound(below[0], Evidence(name))
    return work.database


def _inode(database: DatabaseFound | None) -> list[int] | None:
    if database is None or not database.file.exists():
        return None
    state = os.stat(database.file)
    return [state.st_dev, state.st_ino]


def _guard(work: Work) -> DatabaseGuard:
    return DatabaseGuard(work.state.folder / "guard" / (work.part.key.replace("/", "-") or "top"))


def _undo_unfinished(work: Work) -> None:
    """A step that a kill cut off: its processes are ended, its database is put back, unless it was done and
    recorded already."""
    guard = _guard(work)
    mark = guard.under_way()
    if mark is None:
        return
    end_leftovers(mark)
    if any(work.state.record(work.part.key, stage).get("mark") == mark for stage in ("migrations", "seeds")):
        guard.end()
    else:
        guard.put_back()


def _files(work: Work, command: Command) -> list[str]:
    """The files that decide what the migrations do: those in migration folders, and files that the
    command names."""
    place = f"{work.part.path}/" if work.part.path else ""
    words = set(re.split(r"[\s=]+", command.line))
    return [
        place + path
        for path in work.tree.below(work.part.path)
        if (_MIGRATION_FOLDER.search(path) and Path(path).suffix not in (".db", ".sqlite3")) or path in words
    ]
