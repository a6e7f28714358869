"""Carrying out the steps of parts: one after the other, and the early ones of further parts meanwhile."""

from __future__ import annotations

import itertools
import os
import threading
import time
from collections.abc import Sequence
from types import TracebackType
from typing import TYPE_CHECKING, Any

from msgspec.structs import replace

from plainfall.errors import PlainfallError, disk_full_explained
from plainfall.onboarding.events import Event, Listener, StepFinished, StepProgress, StepStarted
from plainfall.onboarding.other_versions import taken_back
from plainfall.onboarding.stages.configuring import with_open_values
from plainfall.onboarding.stages.supporting import with_lacking_services
from plainfall.onboarding.steps import Stage, State, Step, StepResult
from plainfall.onboarding.work import Work

if TYPE_CHECKING:
    from concurrent.futures import Future, ThreadPoolExecutor

__all__ = ["EarlySteps", "PartRun", "waiting", "workers"]


_MEMORY = 512 * 1024**2  # bytes that one part's install may need at its height


def workers() -> int:
    """How many parts may be installed at the same time as the first one: within the processors that this process
    may use,
    and the memory that is free."""
    affinity = getattr(os, "sched_getaffinity", None)
    cores = len(affinity(0)) if affinity else os.cpu_count() or 1
    try:
        free = os.sysconf("SC_AVPHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")
    except (ValueError, OSError):
        free = cores * _MEMORY  # a system that does not tell
    return max(1, min(cores - 1, free // _MEMORY))


_TRIES = 8  # things that are changed after failures of one step


class PartRun:
    """The steps of one part. ``results`` holds each that was carried out (or waits since one before it
    failed) with its seconds; ``failure`` the first that failed."""

    def __init__(self, work: Work, steps: Sequence[Step], tell: Listener) -> None:
        self.work = work
        last = Stage.DEPENDENCIES.position  # where settings come before dependencies, those are no early step
        self.early = [*itertools.takewhile(lambda step: step.stage.position <= last, steps)]
        self.late = [step for step in steps if step not in self.early]
        self.results: list[tuple[Step, StepResult, float]] = []
        self.failure: tuple[Step, PlainfallError] | None = None
        self.tell = tell
        self._were_mended: set[Stage] = set()

    def carry_out(self, steps: Sequence[Step]) -> None:
        """Carries steps out; after a failure the rest waits. Nothing is raised for a failure."""
        for step in steps:
            if self.failure:
                self._finish(step, waiting(step), 0.0)
                continue
            self.tell(StepStarted(step))
            start = time.perf_counter()
            error = None
            self.work.progress = self._reporter(step)
            tried: list[str] = []
            try:
                result = self._with_mending(step, tried)
            except PlainfallError as problem:
                error = problem
                place = (problem.place,) if problem.place else ()
                result = StepResult(State.FAILED, step.title, problem.cause, place, tuple(tried))
                self.failure = step, problem
            self._finish(step, result, time.perf_counter() - start, error)

    def _with_mending(self, step: Step, tried: list[str]) -> StepResult:
        """Carries a step out; after a failure that can be mended (and is to be), or that something else to try
        makes good, again. What was done is added to ``tried``."""
        while True:
            try:
                result = _explained(step, self.work)
                return replace(result, remarks=(*tried, *result.remarks))
            except PlainfallError as error:
                problem = with_open_values(self.work, error)
                if problem is not error:
                    raise problem from error
                done = self._mended(step, problem) if len(tried) < _TRIES else ""
                if not done:
                    with_lacking_services(self.work, error)
                    if self.work.as_of_tried:
                        taken_back(self.work)
                    raise
                tried.append(done)

    def _mended(self, step: Step, problem: PlainfallError) -> str:
        from plainfall.onboarding.mending import mend
        from plainfall.onboarding.second_try import second_try

        done = second_try(self.work, step, problem)
        if done:
            return f"{done} (before that: {problem.cause})"
        # A port that somebody took between the look and the start is nobody's wish: another one does.
        is_port = problem.mend == "port" and self.work.wishes.port is None and step.stage is Stage.SERVER
        if not (is_port or (self.work.wishes.mend and problem.mend)) or step.stage in self._were_mended:
            return ""
        self._were_mended.add(step.stage)
        done = mend(self.work, problem)
        return f"mended: {problem.cause}; {done}" if done else ""

    def _finish(
        self, step: Step, result: StepResult, seconds: float, error: PlainfallError | None = None
    ) -> None:
        self.results.append((step, result, seconds))
        self.tell(StepFinished(step, result, seconds, error))

    def _reporter(self, step: Step) -> Any:
        def report(done: int, whole: int, unit: str) -> None:
            self.tell(StepProgress(step, done, whole, unit))

        return report


class EarlySteps:
    """Carries out the early steps (runtime, environment, dependencies) of further parts in threads while the
    parts before them go on; their events are queued until ``join``.

    Left by an exception, what runs is stopped at its next report, and waited for, but after an interrupt.
    """

    def __init__(self, runs: Sequence[PartRun]) -> None:
        self._runs = runs
        self._held: dict[int, list[Event]] = {}
        self._tells: dict[int, Listener] = {}
        self._futures: dict[int, Future[None]] = {}
        self._stopping = threading.Event()
        self._pool: ThreadPoolExecutor | None = None

    def __enter__(self) -> EarlySteps:
        if self._runs:
            from concurrent.futures import ThreadPoolExecutor

            self._pool = ThreadPoolExecutor(workers())
            for run in self._runs:
                value: list[Event] = []
                self._held[id(run)] = value
                self._tells[id(run)] = run.tell
                run.tell = self._holding(value)
                self._futures[id(run)] = self._pool.submit(run.carry_out, run.early)
        return self

    def _holding(self, events: list[Event]) -> Listener:
        def hold(event: Event) -> None:
            if self._stopping.is_set():
                raise KeyboardInterrupt
            if not isinstance(event, StepProgress):
                events.append(event)

        return hold

    def join(self, run: PartRun) -> bool:
        """Waits for a part's early steps and sends their events; False if they were not started here."""
        future = self._futures.get(id(run))
        if future is None:
            return False
        future.result()
        run.tell = self._tells[id(run)]
        for event in self._held[id(run)]:
            run.tell(event)
        return True

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if kind is not None:
            self._stopping.set()
        if self._pool is not None:
            # After an interrupt nothing is waited for: what runs is ended with this process.
            self._pool.shutdown(
                wait=kind is None or not issubclass(kind, KeyboardInterrupt), cancel_futures=True
            )


def _explained(step: Step, work: Work) -> StepResult:
    """Carries the step out; what the disk refuses becomes an error with a remedy."""
    try:
        with disk_full_explained(f"step {step.stage.value}"):
            return step.carry_out(work)
    except OSError as error:
        raise PlainfallError(
            f"operating system error: {error.strerror or error}"
            + (f" ({error.filename2 or error.filename})" if error.filename else ""),
            remedy="Check the owner and mode of that place, and that its disk can be written.",
        ) from error


def waiting(step: Step) -> StepResult:
    """The result of a step that has not begun."""
    return StepResult(State.WAITING, step.title, step.why, step.evidence)
