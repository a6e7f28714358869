"""The versions as of the last commit, for an old clone whose versions are not pinned."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime, timedelta

from msgspec.structs import replace

from plainfall.errors import DependencyProblem
from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Change, Failure
from plainfall.onboarding.run.versions import is_of_versions
from plainfall.repository import last_commit_day

ORDER = 61
STAGES = frozenset(
    {Stage.DEPENDENCIES, Stage.MIGRATIONS, Stage.SEEDS, Stage.TASKS, Stage.SERVER, Stage.PROBE}
)

_OLD = timedelta(days=30)  # before that, the versions are those that the project was written with


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """Those of that day, and a runtime of that time."""
    if work.part.dependencies is None or work.choices.packages.as_of:
        return
    if not isinstance(failure.error, DependencyProblem) and not is_of_versions(failure):
        return
    if not work.installing.may_resolve(work.part):
        return
    day = last_commit_day(work.clone, work.surroundings)
    if not day or day > (datetime.now(UTC) - _OLD).date().isoformat():
        return
    yield Change(
        f"versions were taken as of {day}, when the clone was last changed: {{result}}",
        replace(work.decisions, day=day),
        Stage.RUNTIME,
    )
