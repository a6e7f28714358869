"""The events that a run sends to its listeners. The terminal view, the JSON form and the journal are
three of them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from plainfall.clone.parts import Survey
from plainfall.errors import PlainfallError
from plainfall.onboarding.steps import Step, StepResult

__all__ = [
    "Event",
    "Listener",
    "Making",
    "RunFinished",
    "RunStarted",
    "StepFinished",
    "StepProgress",
    "StepStarted",
]


@dataclass(frozen=True)
class RunStarted:
    """The survey is done, the steps are known."""

    survey: Survey
    steps: tuple[Step, ...]


@dataclass(frozen=True)
class StepStarted:
    """A step begins."""

    step: Step


@dataclass(frozen=True)
class StepProgress:
    """How far a step is: ``done`` of ``total`` (0 if that is not known), counted in ``unit``."""

    step: Step
    done: int
    total: int
    unit: str


@dataclass(frozen=True)
class Making:
    """Something is about to be made in the clone: its kind ("folder", "file", "server", "line in") and its
    path. Sent before it is made, so that the journal records it whatever happens."""

    kind: str
    path: str


@dataclass(frozen=True)
class StepFinished:
    """A step has ended, after so many seconds; ``error`` is set if it failed."""

    step: Step
    result: StepResult
    seconds: float
    error: PlainfallError | None = None


@dataclass(frozen=True)
class RunFinished:
    """The run has ended: "done", "failed" or "open"; seconds in all."""

    outcome: str
    seconds: float


Event = RunStarted | StepStarted | StepProgress | Making | StepFinished | RunFinished
Listener = Callable[[Event], None]
