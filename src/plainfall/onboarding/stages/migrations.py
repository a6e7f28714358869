"""Migrations: run once for what they depend on, with the database looked at before and after.

A framework's own only add what is missing, and run again when their inputs change. What any other command does to
existing rows is unknown (many drop the tables first): it runs once for a database, and never on one that holds rows
which no step of ours put there.
"""

from __future__ import annotations

from collections.abc import Iterator

from plainfall.ecosystems.frameworks import is_repeatable
from plainfall.errors import CommandFailed
from plainfall.failure_kinds import FailureKind
from plainfall.kept_records import DataStep
from plainfall.onboarding.part.planning import Planned, data_step
from plainfall.onboarding.part.steps import State, Step, StepResult
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.stages.commands import USAGE
from plainfall.onboarding.stages.filling_data import (
    again_words,
    files_of,
    foreign_rows,
    kept_as_it_is,
    not_run,
    run_on_database,
    still_holds,
    undo_unfinished,
)
from plainfall.onboarding.stages.listed_tasks import as_listed
from plainfall.onboarding.stages.serving_steps import unless_it_serves
from plainfall.onboarding.stages.stage import Stage
from plainfall.writing import digest_of, digest_of_files

__all__ = ["migrations", "plan"]


def plan(planned: Planned) -> Iterator[Step]:
    """The step that makes the part's tables."""
    yield from data_step(planned, Stage.MIGRATIONS, migrations)


def migrations(work: Work) -> StepResult:
    """Runs the migrations of the part, or those that its task runner lists. Raises CommandFailed."""
    return as_listed(work, Stage.MIGRATIONS.value, _unless_it_serves)


def _unless_it_serves(work: Work) -> StepResult:
    command = work.part.candidates("migrations")[0]
    return unless_it_serves(work, command, lambda: _as_found(work))


def _as_found(work: Work) -> StepResult:
    """Runs the migration command: a framework's own when command, migration files, dependencies or database are
    not those of the run before; any other once for a database. Raises CommandFailed; then the database is as it
    was before."""
    command = work.part.candidates("migrations")[0]
    undone = undo_unfinished(work)
    if command.lacks:
        why = f"{command.reason} works through {command.lacks}, and the clone has none"
        return StepResult(State.LEFT_OUT, f"no {command.lacks}: {command.line}", why, (command.evidence,))
    inputs = digest_of(command.line, digest_of_files(work.clone, files_of(work, command)))
    repeatable = is_repeatable(command, work.part.language)
    before = work.state.kept(work.part.key, DataStep)
    holds = still_holds(work, before)
    if repeatable:
        place = str(work.database.file) if work.database else work.fingerprints.get("settings")
        moved = work.choices.settings.development_mode and work.development_mode(FailureKind.TABLE_MISSING)
        taken_over = ["a file for a database in memory"] if moved else []
        fingerprint = digest_of(
            inputs, work.fingerprints.get("dependencies"), place, work.servers_used, *taken_over
        )
        if before is not None and before.fingerprint == fingerprint and holds:
            why = "command, migration files and database are unchanged"
            return kept_as_it_is(work, command, before, why, undone)
        try:
            return run_on_database(work, command, DataStep.NAME, DataStep(fingerprint=fingerprint), undone)
        except CommandFailed as error:
            if error.rule is not FailureKind.DATABASE_NOT_NAMED:
                raise
            why = "the project's settings describe no database"
            return StepResult(State.LEFT_OUT, "no migrations were run", why, (command.evidence,))
    if before is not None and holds:
        why = "it ran before on this database; its effect on existing rows is not known"
        changed = before.inputs != inputs
        return kept_as_it_is(
            work, command, before, why, [*undone, *([again_words(command)] if changed else [])]
        )
    result = foreign_rows(work, [])
    if result:
        return not_run(work, command, result, undone)
    try:
        return run_on_database(work, command, DataStep.NAME, DataStep(inputs=inputs), undone)
    except CommandFailed as error:
        if not command.may_fail or not any(USAGE.search(line) for line in error.lines):
            raise
        why = f"{command.reason} wants to be told more, and nothing says what"
        return StepResult(State.LEFT_OUT, "no migrations were run", why, (command.evidence,))
