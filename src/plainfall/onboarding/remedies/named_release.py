"""The versions that the project says it works with, where newer ones were taken and do not work: the newest that it
names, then the one before that."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Change, Failure
from plainfall.onboarding.run.versions import is_of_versions

ORDER = 60
STAGES = frozenset(
    {Stage.DEPENDENCIES, Stage.MIGRATIONS, Stage.SEEDS, Stage.TASKS, Stage.SERVER, Stage.PROBE}
)

_MOST = 4  # release lines that are tried, the newest first


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """One release line after the other; none where a run before found the one that does."""
    if work.part.dependencies is None or not is_of_versions(failure):
        return
    said = list(work.installing.says_to_work_with(work.tree, work.part).items())[:_MOST]
    lines = [wish for wish, _ in said]
    at = lines.index(work.decisions.release) + 1 if work.decisions.release in lines else 0
    if work.decisions.release and not at:
        return
    for wish, place in said[at:]:
        yield Change(
            f"newer ones do not work: {wish}, as the project names it, was taken ({place}): {{result}}",
            replace(work.decisions, release=wish),
            Stage.DEPENDENCIES,
        )
