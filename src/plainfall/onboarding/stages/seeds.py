"""Seeds: run once for a database; and the account that they make."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from plainfall.errors import CommandFailed
from plainfall.kept_records import DataStep
from plainfall.onboarding.part.planning import Planned, data_step
from plainfall.onboarding.part.steps import State, Step, StepResult
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.stages.filling_data import (
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

__all__ = ["plan", "seeds"]


def plan(planned: Planned) -> Iterator[Step]:
    """The step that fills the part's tables."""
    yield from data_step(planned, Stage.SEEDS, seeds)


def seeds(work: Work) -> StepResult:
    """Runs the seed command once for a database. An account whose name and password stand in the seeds is kept
    for the probe, unless one is known already. Raises CommandFailed."""
    return as_listed(work, Stage.SEEDS.value, _with_account)


def _with_account(work: Work) -> StepResult:
    command = work.part.candidates("seeds")[0]
    result = unless_it_serves(work, command, lambda: _as_found(work))
    account = next((one.seeded for one in work.part.frameworks if one.seeded is not None), None)
    known = work.state.accounts()
    key = work.part.key or "."
    if account is None or result.state is not State.DONE or key in known:
        return result
    work.state.keep_accounts(
        {**known, key: {"name": account.name, "password": account.password, "page": account.page}}
    )
    words = f"the seeds make an account, {account.name!r}; its password stands in {account.evidence}"
    return replace(result, remarks=(*result.remarks, f"{words}; plainfall probe --sign-in signs in with it"))


def _as_found(work: Work) -> StepResult:
    """Runs the seed command once for a database. Raises CommandFailed; then the database is as before."""
    command = work.part.candidates("seeds")[0]
    if command.line in work.choices.left_out:
        why = f"{command.line} failed before, and the server does without"
        return StepResult(State.LEFT_OUT, "no rows were added", why, (command.evidence,))
    undone = undo_unfinished(work)
    before = work.state.kept(work.part.key, DataStep, DataStep.SEEDS)
    if not work.choices.seed_again:
        if before is not None and still_holds(work, before):
            why = "this database was seeded before; --seed-again runs it again"
            return kept_as_it_is(work, command, before, why, undone)
        result = foreign_rows(work, [DataStep.NAME])
        if result:
            return not_run(work, command, result, undone)
    try:
        return run_on_database(work, command, DataStep.SEEDS, DataStep(), undone)
    except CommandFailed as error:
        if not command.may_fail:
            raise
        why = f"{command.reason} did not load, and the database is as before: {error.cause}"
        return StepResult(State.LEFT_OUT, "no rows were added", why, (command.evidence,))
