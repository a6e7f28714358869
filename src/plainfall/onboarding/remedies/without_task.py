"""Without a task that failed (a build, collected files), or a seed, where the server may show its page all the
same."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Change, Failure
from plainfall.onboarding.stages.start_commands import means_this_project

ORDER = 95
STAGES = frozenset({Stage.TASKS, Stage.SEEDS})


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """The steps that are left, without the one that the failure is of; whether the page is good the probe says."""
    place, before = failure.error.place, work.decisions.left_out
    steps = (
        work.part.candidates("seeds")[:1] if failure.stage is Stage.SEEDS else work.part.candidates("tasks")
    )
    if failure.stage is Stage.SEEDS and (
        work.choices.seed_again or not steps or means_this_project(work, steps[0])
    ):
        return  # the person asked for them, or the project runs them by itself
    failed = [one for one in steps if one.evidence == place and one.line not in before]
    shown = work.part.is_secondary or work.part.candidates("server")
    if len(failed) != 1 or not shown:
        return
    line = failed[0].line
    words = f"`{line}` failed ({failure.error.cause}), and was left out: the server starts without it"
    yield Change(words, replace(work.decisions, left_out=(*before, line)), failure.stage)
