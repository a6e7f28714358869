"""Carrying out the steps of parts: one after the other, and the early ones of further parts meanwhile."""

from __future__ import annotations

import itertools
import os
import threading
import time
from collections.abc import Callable, Sequence
from types import TracebackType
from typing import TYPE_CHECKING, Any

from msgspec.structs import replace

from plainfall.errors import PlainfallError, disk_full_explained
from plainfall.onboarding.part.events import Attempt, Event, Listener, StepFinished, StepProgress, StepStarted
from plainfall.onboarding.part.steps import Stage, State, Step, StepResult
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.stages.root_cause import with_root
from plainfall.onboarding.stages.services import with_lacking_services
from plainfall.onboarding.stages.settings import with_open_values

if TYPE_CHECKING:
    from concurrent.futures import Future, ThreadPoolExecutor

    from plainfall.onboarding.run.search import Search

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


class PartRun:
    """The steps of one part; ``every`` are those that a search may carry out again. ``results`` holds each that
    was carried out (or waits since one before it failed) with its seconds; ``failure`` the first that failed."""

    def __init__(self, work: Work, steps: Sequence[Step], tell: Listener, every: Sequence[Step] = ()) -> None:
        self.work = work
        last = Stage.DEPENDENCIES.position  # where settings come before dependencies, those are no early step
        self.early = [*itertools.takewhile(lambda step: step.stage.position <= last, steps)]
        self.late = [step for step in steps if step not in self.early]
        self.results: list[tuple[Step, StepResult, float]] = []
        self.failure: tuple[Step, PlainfallError] | None = None
        self.tell = tell
        self._steps = every or steps
        self._search: Search | None = None

    def carry_out(self, steps: Sequence[Step]) -> None:
        """Carries steps out; after a failure the rest waits. Nothing is raised for a failure."""
        for step in steps:
            if self.failure:
                self._finish(step, waiting(step), 0.0)
                continue
            self.tell(StepStarted(step))
            start = time.perf_counter()
            error = None
            self.work = replace(self.work, progress=self._reporter(step))
            try:
                result = self._found(step)
            except PlainfallError as problem:
                error = problem
                place = (problem.place,) if problem.place else ()
                said = tuple(self._search.said) if self._search is not None else ()
                result = StepResult(State.FAILED, step.title, problem.cause, place, said)
                self.failure = step, problem
            self._finish(step, result, time.perf_counter() - start, error)

    def _found(self, step: Step) -> StepResult:
        """The step's result; after a failure that of other decisions, where the search finds some that help."""
        try:
            return self.explained(step)
        except PlainfallError as error:
            if self._search is None:
                from plainfall.onboarding.run.search import Search  # after a failure only

                self._search = Search(self, self._steps, self._attempted(step))
            try:
                result = self._search.go_on(step, error)
            except PlainfallError as problem:
                none = self._without_server(step)
                if none is None:
                    with_lacking_services(self.work, problem)
                    raise
                result = none
            return replace(result, remarks=(*self._search.said, *result.remarks))

    def _without_server(self, step: Step) -> StepResult | None:
        """The result of a part whose start commands turn out to be guesses; None for all else."""
        if step.stage is not Stage.SERVER or self._search is None:
            return None
        from plainfall.onboarding.stages.server import without_server

        return without_server(self.work, self._search.errors)

    def explained(self, step: Step) -> StepResult:
        """Carries the step out; what the disk refuses becomes an error with a remedy, and values that are open, and
        that the output names, are what is needed."""
        try:
            result = _explained(step, self.work)
        except PlainfallError as error:
            problem = with_open_values(self.work, error)
            if step.stage.position > Stage.DEPENDENCIES.position:
                problem = with_root(self.work, problem)
            if problem is error:
                raise
            raise problem from error
        if result.hands_on is not None:
            self.work = self.work.after_stage(result.hands_on)
        return result

    def _attempted(self, step: Step) -> Callable[[str, Stage | None, bool], None]:
        def tell(words: str, reached: Stage | None, further: bool) -> None:
            self.tell(Attempt(step, words, reached, further))

        return tell

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
