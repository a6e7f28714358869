"""Parts that are worked on at the same time: who waits for whom, what is told when, what a stop does."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from pathlib import Path
from types import SimpleNamespace
from typing import Any, cast

import pytest

from plainfall.errors import PlainfallError
from plainfall.onboarding.part.choices import Wishes
from plainfall.onboarding.part.decisions import Decisions
from plainfall.onboarding.part.events import Event, StepFinished, StepStarted
from plainfall.onboarding.part.steps import Stage, State, Step, StepResult
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.part_run import EarlySteps, PartRun, workers


def step(part: str, stage: Stage, action: Callable[[Any], object]) -> Step:
    def carry_out(work: Any) -> StepResult:
        action(work)
        return StepResult(State.DONE, part)

    return Step(part, stage, part, "", (), carry_out)


def run_of(part: str, told: list[tuple[str, str, str]], *steps: Step) -> PartRun:
    def tell(event: Event) -> None:
        if isinstance(event, StepStarted | StepFinished):
            told.append((event.step.part, event.step.stage.value, type(event).__name__))

    found = cast(Any, SimpleNamespace(path=part, key=part))
    nothing = cast(Any, None)
    work = Work(
        Path(), found, nothing, nothing, nothing, Wishes(attempts=0), tell, nothing, decided=Decisions()
    )
    return PartRun(work, list(steps), tell)


def carry_out_all(runs: list[PartRun]) -> None:
    with EarlySteps(runs[1:]) as early:
        for run in runs:
            if not early.join(run):
                run.carry_out(run.early)
            run.carry_out(run.late)


def test_installs_go_on_at_the_same_time_and_are_told_part_after_part() -> None:
    both = threading.Barrier(2, timeout=10)  # broken, unless two installs are under way at once
    told: list[tuple[str, str, str]] = []
    runs = [
        run_of(
            name,
            told,
            step(name, Stage.DEPENDENCIES, lambda work: both.wait()),
            step(name, Stage.SERVER, lambda work: None),
        )
        for name in ("api", "web")
    ]
    carry_out_all(runs)
    assert [part for part, _, _ in told] == ["api"] * 4 + ["web"] * 4
    assert [stage for _, stage, _ in told][:4] == ["dependencies"] * 2 + ["server"] * 2
    assert all(result.state is State.DONE for run in runs for _, result, _ in run.results)


def test_what_comes_after_the_packages_waits_for_the_part_before() -> None:
    order: list[str] = []
    runs = [
        run_of(name, [], step(name, Stage.SERVER, lambda work: order.append(work.part.path)))
        for name in ("api", "web", "feed")
    ]
    carry_out_all(runs)
    assert order == ["api", "web", "feed"]


def test_a_part_that_fails_ends_itself_alone() -> None:
    def refuse(work: Any) -> None:
        raise PlainfallError("no room")

    api = run_of(
        "api", [], step("api", Stage.DEPENDENCIES, refuse), step("api", Stage.SERVER, lambda work: None)
    )
    web = run_of("web", [], step("web", Stage.DEPENDENCIES, lambda work: None))
    carry_out_all([api, web])
    assert [result.state for _, result, _ in api.results] == [State.FAILED, State.WAITING]
    assert api.failure is not None and api.failure[1].cause == "no room"
    assert [result.state for _, result, _ in web.results] == [State.DONE]


def test_an_interrupt_stops_what_runs_ahead_at_its_next_report() -> None:
    reports = []

    def endless(work: Any) -> None:
        deadline = time.monotonic() + 20
        while time.monotonic() < deadline:
            work.progress(1, 2, "packages")
            reports.append(1)
            time.sleep(0.01)

    def interrupted(work: Any) -> None:
        time.sleep(0.1)
        raise KeyboardInterrupt

    runs = [
        run_of("api", [], step("api", Stage.DEPENDENCIES, interrupted)),
        run_of("web", [], step("web", Stage.DEPENDENCIES, endless)),
    ]
    start = time.monotonic()
    with pytest.raises(KeyboardInterrupt):
        carry_out_all(runs)
    assert time.monotonic() - start < 5 and reports


def test_no_more_installs_at_once_than_processors_and_memory_allow(monkeypatch: pytest.MonkeyPatch) -> None:
    pages = {"SC_PAGE_SIZE": 4096, "SC_AVPHYS_PAGES": 16 * 1024**3 // 4096}
    monkeypatch.setattr("os.sysconf", lambda name: pages[name])
    monkeypatch.setattr("os.sched_getaffinity", lambda pid: set(range(8)), raising=False)
    assert workers() == 7
    pages["SC_AVPHYS_PAGES"] = 1200 * 1024**2 // 4096
    assert workers() == 2
    pages["SC_AVPHYS_PAGES"] = 10
    assert workers() == 1
