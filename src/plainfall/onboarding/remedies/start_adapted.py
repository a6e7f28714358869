"""The same start command with what it lacks: from the folder above, without a check or an
option, as root, with its file."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from plainfall.onboarding.part.decisions import StartCommand
from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Change, Failure
from plainfall.onboarding.stages.start_commands import (
    as_root,
    command_named,
    from_above,
    from_below,
    with_its_file,
    without_check,
    without_option,
)

ORDER = 50
STAGES = frozenset({Stage.SERVER})


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """Each of the ways that fits the failure."""
    if not failure.command or work.start_is_chosen:
        return
    command = command_named(work, failure.command)
    for adapted in (from_above, from_below, without_check, without_option, with_its_file, as_root):
        for one in adapted(work, command, failure.error):
            start = StartCommand(one.line, one.reason)
            yield Change(
                f"{one.line} instead of {failure.command}: {one.reason}",
                replace(work.decisions, start=start),
                Stage.SERVER,
            )
