"""Migrations and seeds: run once for what they depend on, with the database looked at before and after.

A framework's own migrations only add what is missing, and run again when their inputs change. What any other
command does to existing rows is unknown (many drop the tables first): it runs once for a database, and
never on one that holds rows which no step of ours put there.
"""

from __future__ import annotations

import os
import re
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from plainfall.clone.commands import Command
from plainfall.data.guard import DatabaseGuard, PutBack
from plainfall.data.sqlite import (
    DatabaseFound,
    Look,
    databases_below,
    difference,
    look_into,
)
from plainfall.ecosystems.frameworks import is_made_by_migrations
from plainfall.errors import CommandFailed, PathRefused
from plainfall.evidence import Evidence
from plainfall.kept_records import DataStep
from plainfall.onboarding.part.steps import State, StepResult
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.services.guard import ServerGuard, checked
from plainfall.onboarding.stages.commands import end_leftovers, run_command
from plainfall.onboarding.stages.foreseen import foreseen_command, new_files
from plainfall.patterns import regex
from plainfall.repository import exclude_locally
from plainfall.server.process import new_mark

__all__ = [
    "again_words",
    "files_of",
    "foreign_rows",
    "kept_as_it_is",
    "not_run",
    "rows_at_stake",
    "run_on_database",
    "still_holds",
    "undo_unfinished",
]

_MIGRATION_FOLDER = regex(r"(^|/)(migrations?|migrate|versions|alembic|db)/", re.IGNORECASE)
_OF_SERVER = regex(
    r"(postgres|postgresql|psql|mysql|mariadb|mongodb|redis|mssql|oracle|cockroachdb)(\+\w+)?://",
    re.IGNORECASE,
)
_SCHEMA = regex(
    r"(^|/)(schema\.(prisma|rb|sql|js|ts)|[^/]*(schema|init|create|tables|setup)[^/]*\.sql)$", re.I
)


def again_words(command: Command) -> str:
    return (
        f"the files that `{command.line}` reads changed since: run it yourself, if the rows may go: "
        f"plainfall inside -- {command.line}"
    )


def foreign_rows(work: Work, stages: list[str]) -> str:
    """Tables with rows that none of our steps added, in words; "" for none."""
    database = _database(work)
    if database is None:
        return ""
    rows = {name: count for name, count in look_into(database.file).rows().items() if count}
    known: dict[str, int] = {}
    for stage in stages:
        record = work.state.read(work.part.key, DataStep, stage)
        if record.database == str(database.file) and record.inode == _inode(database):
            known |= record.rows
    more = {name: count for name, count in rows.items() if count > known.get(name, 0)}
    listed = ", ".join(f"{name} ({count:,})" for name, count in list(more.items())[:4])
    return f"{_shown(work, database.file)} holds rows already: {listed}" if more else ""


def rows_at_stake(work: Work) -> str:
    """A database with rows that a command nobody knows could change, in words; "" where none is known: every SQLite
    file of the part, and a server's database that a setting names, which is not looked into."""
    named = next((key for key, value in work.settings.items() if _OF_SERVER.match(value)), "")
    if named:
        return f"{named} names a server's database"
    files = [one.file for one in (_database(work),) if one is not None]
    for file in [*files, *databases_below(work.folder)]:
        if any(look_into(file).rows().values()):
            return f"{_shown(work, file)} holds rows"
    return ""


def not_run(work: Work, command: Command, reason: str, undone: list[str]) -> StepResult:
    how = "--seed-again runs it" if command.stage == "seeds" else f"plainfall inside -- {command.line}"
    return StepResult(
        State.LEFT_OUT,
        f"{command.line}: not run",
        f"{reason}, which may be yours; to run it all the same: {how}",
        (command.evidence,),
        tuple(undone),
        {"command": command.line, "database": None, "changes": []},
    )


def run_on_database(
    work: Work, command: Command, stage: str, stands_on: DataStep, undone: list[str]
) -> StepResult:
    """Runs the command and keeps the record of it, with what it stands on."""
    if work.preview:
        return foreseen_command(
            work, command, stage, undone, files_of(work, command) if stage == "migrations" else ()
        )
    new = new_files(work.state.read(work.part.key, DataStep, stage), files_of(work, command))
    database = _database(work)
    before = look_into(database.file) if database else Look(False)
    _make_folder(work, database)
    guard, mark = _guard(work), new_mark()
    copy = guard.begin(stage, database.file if database else None, mark)
    servers = ServerGuard(work)
    not_copied = servers.begin(stage, mark)
    try:
        left = run_command(work, stage, command.line, mark, command.evidence)
    except CommandFailed as error:
        error.remedy += _put_back_words(work, guard.put_back()) + servers.put_back()
        raise
    except BaseException:
        guard.put_back()
        raise
    database = database or _database(work)
    after = look_into(database.file) if database else Look(False)
    record = replace(
        stands_on,
        mark=mark,
        command=command.line,
        database=str(database.file) if database else None,
        inode=_inode(database),
        rows=after.rows(),
        servers=work.servers_used,
        files=tuple(files_of(work, command)) if stage == DataStep.NAME else None,
        filled=tuple(name for name, count in after.rows().items() if count > before.rows().get(name, 0)),
    )
    # In this order: a kill between the two leaves a step that is done, with a note that nobody needs.
    work.state.keep(work.part.key, record, stage)
    guard.end()
    servers.end()
    if database is not None and not before.exists and after.exists:
        _exclude(work, database.file)
    done = _done(work, command, before, after, copy, bool(database))
    detail = {**done.detail, "new_files": new, "database": record.database}
    remarks = (*undone, *left, *done.remarks)
    return replace(done, remarks=remarks, detail=detail, notes=(*done.notes, *not_copied))


def _done(
    work: Work, command: Command, before: Look, after: Look, copy: Path | None, has_database: bool
) -> StepResult:
    """What a step has changed in the part's database."""
    changes = difference(before, after)
    words = "; ".join(changes) if changes else "the database is as it was"
    kept = f"the database as it was before is kept in {_shown(work, copy)}" if copy is not None else ""
    return StepResult(
        State.DONE,
        f"{command.line}: {_in_short(before, after)}" if has_database else command.line,
        command.reason,
        (command.evidence,),
        (kept,) if kept else (),
        {
            "command": command.line,
            "copy": str(copy) if copy else None,
            "changes": changes,
            "tables_before": before.as_json(),
            "tables_after": after.as_json(),
        },
        (words,) if has_database else (),
    )


def _make_folder(work: Work, database: DatabaseFound | None) -> None:
    """The folder of a database that is inside the clone; elsewhere it is the project's own business."""
    if database is None or database.file.parent.exists():
        return
    try:
        place = work.state.confined.resolve(database.file.parent)
    except PathRefused:
        return
    work.making("folder", database.file.parent, exclude=False)
    work.state.confined.make_folder(place)


def _exclude(work: Work, file: Path) -> None:
    """A database that a step made, and the files that its engine keeps next to it, are by-products."""
    if file.is_relative_to(work.clone) and not work.state.is_tracked(file):
        inner = file.relative_to(work.clone).as_posix()
        exclude_locally(work.clone, [f"/{inner}{ending}" for ending in ("", "-wal", "-shm", "-journal")])


def _shown(work: Work, path: Path) -> str:
    """A path as people know it: from the clone, where it is inside."""
    real = work.state.confined.root
    for root in (work.clone, real):
        if path.is_relative_to(root):
            return path.relative_to(root).as_posix()
    return str(path)


def _put_back_words(work: Work, undone: PutBack | None) -> str:
    if undone is None or undone.database is None:
        return ""
    kept = f"; what it held by then is in {_shown(work, undone.kept)}" if undone.kept else ""
    return f" The database was put back as it was before this step{kept}."


def _in_short(before: Look, after: Look) -> str:
    made = [name for name in after.tables if name not in before.tables]
    gained = sum(after.rows().values()) - sum(before.rows().values())
    text = []
    if made:
        text.append(f"{len(made)} tables made" if len(made) > 1 else "1 table made")
    if gained:
        text.append(f"{gained:+,} rows")
    return ", ".join(text) or "nothing to change"


def kept_as_it_is(work: Work, command: Command, before: DataStep, why: str, remarks: list[str]) -> StepResult:
    rows = before.rows
    where = f"{len(rows)} tables, {sum(rows.values()):,} rows" if rows else "done before"
    detail: dict[str, Any] = {
        "command": command.line,
        "database": before.database,
        "changes": [],
    }
    return StepResult(
        State.KEPT, f"{command.line}: {where}", why, (command.evidence,), tuple(remarks), detail
    )


def still_holds(work: Work, before: DataStep | None) -> bool:
    """Whether the database is the one that the record speaks of: the same file, and the tables it had are
    there; of those that the step filled at least one still has rows (a new file may get an old inode)."""
    if before is None:
        return False
    database = _database(work)
    if before.servers is not None and work.servers_used is not None and before.servers != work.servers_used:
        return False  # the server's data is another one
    if before.database != (str(database.file) if database else None):
        return False
    if database is None:
        return True
    if before.inode != _inode(database):
        return False
    rows = look_into(database.file).rows()
    emptied = before.filled and not any(rows.get(name) for name in before.filled)
    return set(before.rows) <= set(rows) and not emptied


def _database(work: Work) -> DatabaseFound | None:
    if work.database is None:
        below = databases_below(work.folder)
        if len(below) == 1:
            name = str(below[0].relative_to(work.clone))
            return DatabaseFound(below[0], Evidence(name))
    return work.database


def _inode(database: DatabaseFound | None) -> tuple[int, int] | None:
    if database is None or not database.file.exists():
        return None
    state = os.stat(database.file)
    return state.st_dev, state.st_ino


def _guard(work: Work) -> DatabaseGuard:
    name = work.state.name_of(work.part.key)
    return DatabaseGuard(work.state.folder / "guard" / name, name, work.state.confined, work.state.seal)


def undo_unfinished(work: Work) -> list[str]:
    """A step that a kill cut off: its processes are ended, its database is put back, unless it was done and
    recorded already. Returns remarks for people."""
    cut_off = ServerGuard(work).under_way()[0]
    if work.preview:
        under_way = cut_off or _guard(work).under_way()
        return ["a step that was cut off is undone first"] if under_way else []
    if cut_off:
        end_leftovers(cut_off, work.state.commands.get(cut_off, ("", ""))[1])
    of_servers = checked(work)
    return [*_undo_in_file(work), *([of_servers] if of_servers else [])]


def _undo_in_file(work: Work) -> list[str]:
    guard = _guard(work)
    mark = guard.under_way()
    if mark is None:
        return []
    end_leftovers(mark, work.state.commands.get(mark, ("", ""))[1])
    work.state.keep_command(mark, None)
    if work.state.step_of(work.part.key, mark) is not None:
        guard.end()
        return []
    undone = guard.put_back()
    words = _put_back_words(work, undone).strip()
    return [f"{undone.step} were cut off in a run before. {words}"] if undone is not None and words else []


def files_of(work: Work, command: Command) -> list[str]:
    """The files that decide what the migrations do: those in migration folders, schema files, and files that
    the command names."""
    place = f"{work.part.path}/" if work.part.path else ""
    words = set(re.split(r"[\s=]+", command.line))
    loads_schema = "schema" in command.line
    return [
        place + path
        for path in work.tree.below(work.part.path)
        if (loads_schema or not is_made_by_migrations(path, work.part.language))
        and (
            (_MIGRATION_FOLDER.search(path) and Path(path).suffix not in (".db", ".sqlite3"))
            or _SCHEMA.search(path)
            or path in words
        )
    ]
