"""A key for an application that signs sessions and has none: a developer would set any."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from plainfall.failure_kinds import FailureKind
from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Change, Failure

ORDER = 20
STAGES = frozenset({Stage.MIGRATIONS, Stage.SEEDS, Stage.TASKS, Stage.SERVER, Stage.PROBE})


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """One under the names that frameworks read by themselves."""
    if failure.error.rule == FailureKind.SECRET_KEY and not work.decisions.secret_key:
        words = "the application has no secret key: it got one, as SECRET_KEY and FLASK_SECRET_KEY"
        stage = Stage.SERVER if failure.stage is Stage.PROBE else failure.stage
        yield Change(words, replace(work.decisions, secret_key=True), stage)
