"""The framework's development mode, by a module of ours that takes over the project's settings."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from plainfall.failure_kinds import FailureKind
from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Change, Failure

ORDER = 21
STAGES = frozenset({Stage.MIGRATIONS, Stage.SEEDS, Stage.TASKS, Stage.SERVER, Stage.PROBE})


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """That of the framework whose rule recognised the failure."""
    mode = work.development_mode(failure.error.rule)
    if mode is None or failure.error.rule not in mode.adds or work.decisions.development_mode:
        return
    module = work.settings.get(mode.variable, mode.module)
    place = work.development_folder().relative_to(work.clone).as_posix()
    words = (
        f"{failure.error.cause}: settings of {place}, which take over {module} and "
        f"{mode.adds[failure.error.rule]}, are used in this clone"
    )
    stage = Stage.SERVER if failure.stage is Stage.PROBE else failure.stage
    if failure.error.rule is FailureKind.TABLE_MISSING:
        stage = Stage.MIGRATIONS
    yield Change(words, replace(work.decisions, development_mode=True), stage)
