"""Commands that documents name among the steps of the set-up, and that are servers."""

from __future__ import annotations

from collections.abc import Callable

from msgspec.structs import replace

from plainfall.clone.commands import Command
from plainfall.kept_records import StepsThatServe
from plainfall.onboarding.part.results import TasksResult
from plainfall.onboarding.part.steps import State, StepResult
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.stages.commands import StepServes

__all__ = ["unless_it_serves"]

_RANK = 1  # behind every start command that something names as one


def unless_it_serves(work: Work, command: Command, carry_out: Callable[[], StepResult]) -> StepResult:
    """The step's result; left out where its command turns out to be a server, now or in an earlier run. Then it
    is the last of the start commands. Raises what the step raises."""
    known = work.state.read(work.part.key, StepsThatServe).lines
    if command.line not in known:
        try:
            return carry_out()
        except StepServes:
            work.state.keep(work.part.key, StepsThatServe(lines=(*known, command.line)))
    start = replace(
        command, stage="server", rank=_RANK, reason="it listens on a port when it runs", may_fail=True
    )
    return StepResult(
        State.LEFT_OUT,
        f"{command.line}: it is a server",
        f"{command.reason}; it listens on a port and does not end, so that it is no step of the set-up",
        (command.evidence,),
        hands_on=TasksResult(replace(work.part, commands=(*work.part.commands, start))),
    )
