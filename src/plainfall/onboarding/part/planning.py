"""What planning the steps of a part goes by."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from msgspec import Struct

from plainfall.clone.parts import PartFound
from plainfall.onboarding.part.decisions import NamedService
from plainfall.onboarding.part.settling import Settling
from plainfall.onboarding.part.steps import State, Step, StepResult
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.stages.stage import Stage

__all__ = ["Planned", "data_step", "left_out"]

_LISTS = "task list"  # the command that lists the tasks of a part


class Planned(Struct, frozen=True):
    """A part that is planned: what knows its settings, and the services that a failure of an earlier run named."""

    part: PartFound
    settling: Settling
    services: Sequence[NamedService] = ()


def data_step(planned: Planned, stage: Stage, carry_out: Callable[[Work], StepResult]) -> Iterator[Step]:
    """The step of a stage that works on the part's data: with its likeliest command, else with what its task runner
    lists."""
    part = planned.part
    known = part.candidates(stage.value)[:1]
    for command in known or part.candidates(_LISTS)[:1]:
        title = f"run {command.line}" if known else f"run what `{command.line}` lists for it"
        yield Step(part.key, stage, title, command.reason, (command.evidence,), carry_out)


def left_out(part: PartFound, stage: Stage, why: str) -> Step:
    """A step that does nothing, and says why."""

    def carry_out(work: Work) -> StepResult:
        return StepResult(State.LEFT_OUT, "nothing to do", why)

    return Step(part.key, stage, "nothing to do", why, (), carry_out)
