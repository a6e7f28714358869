"""The events that a run sends to its listeners. The terminal view, the JSON form and the journal are
three of them."""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct

from plainfall.clone.parts import Survey
from plainfall.errors import PlainfallError
from plainfall.onboarding.part.steps import Stage, Step, StepResult

__all__ = [
    "Attempt",
    "Event",
    "Listener",
    "Making",
    "RunFinished",
    "RunStarted",
    "StepFinished",
    "StepProgress",
    "StepStarted",
]


class RunStarted(Struct, frozen=True):
    """The survey is done, the steps are known."""

    survey: Survey
    steps: tuple[Step, ...]


class StepStarted(Struct, frozen=True):
    """A step begins."""

    step: Step


class StepProgress(Struct, frozen=True):
    """How far a step is: ``done`` of ``total`` (0 if that is not known), counted in ``unit``."""

    step: Step
    done: int
    total: int
    unit: str


class Attempt(Struct, frozen=True):
    """Something was tried after a failure of the step, in words; the stage at which the run failed then, None
    where it did not, and whether that is further than before."""

    step: Step
    words: str
    reached: Stage | None
    further: bool


class Making(Struct, frozen=True):
    """Something is about to be made in the clone: its kind ("folder", "file", "server", "line in") and its
    path. Sent before it is made, so that the journal records it whatever happens."""

    kind: str
    path: str


class StepFinished(Struct, frozen=True):
    """A step has ended, after so many seconds; ``error`` is set if it failed."""

    step: Step
    result: StepResult
    seconds: float
    error: PlainfallError | None = None


class RunFinished(Struct, frozen=True):
    """The run has ended: "done", "failed" or "open"; seconds in all."""

    outcome: str
    seconds: float


Event = RunStarted | StepStarted | StepProgress | Attempt | Making | StepFinished | RunFinished
Listener = Callable[[Event], None]
