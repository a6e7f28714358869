"""Carrying out the steps of a clone, from the survey to the probed server."""

from __future__ import annotations

import time
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from plainfall.ecosystems import ecosystem
from plainfall.errors import PlainfallError, ValueNeeded, disk_full_explained
from plainfall.onboarding.events import (
    Event,
    Listener,
    RunFinished,
    RunStarted,
    StepFinished,
    StepProgress,
    StepStarted,
)
from plainfall.onboarding.planning import plan, plan_settings
from plainfall.onboarding.settling import Settling
from plainfall.onboarding.state import CloneState, Journal
from plainfall.onboarding.steps import Stage, State, Step, StepResult
from plainfall.onboarding.work import Wishes, Work
from plainfall.settings.setting import Asker, Setting
from plainfall.sources.files import memory_file
from plainfall.surroundings import Surroundings
from plainfall.survey.look import look
from plainfall.survey.parts import Contradiction, Survey

__all__ = ["Outcome", "onboard"]


@dataclass
class Outcome:
    """The record of a run. ``outcome`` is "done", "failed" or "open"; ``steps`` holds each step with its
    result and seconds, in order; ``servers`` the servers that are up, by part; ``contradictions`` those of
    the survey and of the settings."""

    clone: Path
    survey: Survey
    outcome: str = "done"
    seconds: float = 0.0
    steps: list[tuple[Step, StepResult, float]] = field(default_factory=list)
    servers: dict[str, dict[str, Any]] = field(default_factory=dict)
    open_settings: list[Setting] = field(default_factory=list)
    failure: tuple[Step, PlainfallError] | None = None
    contradictions: list[Contradiction] = field(default_factory=list)


def onboard(
    clone: Path,
    wishes: Wishes,
    surroundings: Surroundings,
    listener: Listener,
    *,
    until: Stage | None = None,
    preview: bool = False,
    ask: Asker | None = None,
) -> Outcome:
    """Surveys the clone and carries out its steps up to and with the stage ``until``.

    With ``preview`` the steps are only listed, as waiting, and nothing on disk changes. A step that fails
    ends its part; the outcome says so, nothing is raised for it. Raises NothingToOnboard, CloneBusy, or
    BadInput of the survey. Interrupted, what the running step started is ended, and the exception goes on.
    """
    begin = time.perf_counter()
    state = CloneState(clone)
    survey, tree = look(clone, memory_file(surroundings.cache, clone), state.settings_files())
    last = until.position if until else len(Stage)
    settling = Settling(
        survey, tree, state, wishes.given, surroundings.variables, port=wishes.port, choose=not preview
    )
    planned = [
        (part, [step for step in steps if step.stage.position <= last])
        for part, steps in (
            *((part, plan(part, settling)) for part in survey.parts),
            *((part, plan_settings(part, settling)) for part in survey.others if part.language),
        )
    ]
    outcome = Outcome(clone, survey, contradictions=list(survey.contradictions))
    every = tuple(step for _, steps in planned for step in steps)
    if preview:
        listener(RunStarted(survey, every))
        outcome.steps = [(step, _waiting(step), 0.0) for step in every]
        outcome.seconds = time.perf_counter() - begin
        return outcome
    with state.held():
        journal = Journal(state)

        def tell(event: Event) -> None:
            journal(event)
            listener(event)

        tell(RunStarted(survey, every))
        for part, steps in planned:
            work = Work(
                clone,
                part,
                tree,
                ecosystem(part.language) if part in survey.parts else None,
                surroundings,
                state,
                wishes,
                tell,
                lambda done, whole, unit: None,
                ask,
                settling=settling,
                contradictions=outcome.contradictions,
            )
            _carry_out(work, steps, outcome, tell)
            if work.server:
                outcome.servers[part.path] = work.server
            outcome.open_settings += [s for s in work.settings_shown if s.origin == "open"]
        if outcome.failure:
            outcome.outcome = "open" if isinstance(outcome.failure[1], ValueNeeded) else "failed"
        outcome.seconds = time.perf_counter() - begin
        tell(RunFinished(outcome.outcome, outcome.seconds))
    return outcome


def _carry_out(work: Work, steps: list[Step], outcome: Outcome, tell: Listener) -> None:
    failed = False
    for step in steps:
        if failed:
            outcome.steps.append((step, _waiting(step), 0.0))
            tell(StepFinished(step, _waiting(step), 0.0))
            continue
        tell(StepStarted(step))
        start = time.perf_counter()
        error = None
        work.progress = _reporter(step, tell)
        try:
            result = _explained(step, work)
        except PlainfallError as problem:
            error = problem
            place = (problem.place,) if problem.place else ()
            result = StepResult(State.FAILED, step.title, problem.cause, place)
            outcome.failure = outcome.failure or (step, problem)
            failed = True
        seconds = time.perf_counter() - start
        outcome.steps.append((step, result, seconds))
        tell(StepFinished(step, result, seconds, error))


def _explained(step: Step, work: Work) -> StepResult:
    """Carries the step out; what the disk refuses becomes an error with a remedy."""
    try:
        with disk_full_explained(f"step {step.stage.value}"):
            return step.carry_out(work)
    except OSError as error:
        raise PlainfallError(
            f"the system refused: {error.strerror or error}"
            + (f" ({error.filename})" if error.filename else ""),
            remedy="Check the owner and mode of that place, and that its disk can be written.",
        ) from error


def _reporter(step: Step, tell: Listener) -> Any:
    def report(done: int, whole: int, unit: str) -> None:
        tell(StepProgress(step, done, whole, unit))

    return report


def _waiting(step: Step) -> StepResult:
    return StepResult(State.WAITING, step.title, step.why, step.evidence)
