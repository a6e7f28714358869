"""Carrying out the steps of a clone, from the survey to the probed server."""

from __future__ import annotations

import os
import time
from collections.abc import Collection, Sequence

from msgspec.structs import replace

from plainfall.errors import PlainfallError, ValueNeeded
from plainfall.evidence import Evidence
from plainfall.kept_records import LastRun, SkippedStages
from plainfall.onboarding.part.byproducts import PACKAGES, ByProducts
from plainfall.onboarding.part.choices import Wishes
from plainfall.onboarding.part.events import Event, Listener, RunFinished, RunStarted, StepFinished
from plainfall.onboarding.part.steps import Stage, State, Step, StepResult
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.records.inventory import note_inventory
from plainfall.onboarding.records.journal import Journal
from plainfall.onboarding.records.outcome import Outcome, note_run_record
from plainfall.onboarding.records.restoring import bring_settings_back
from plainfall.onboarding.records.since import changes_since, note_run
from plainfall.onboarding.records.state import FOLDER, CloneState
from plainfall.onboarding.run.clone_root import CloneFolder
from plainfall.onboarding.run.part_run import EarlySteps, PartRun, waiting
from plainfall.onboarding.run.planned import RunPlan, run_plan
from plainfall.onboarding.stages.dependencies import may_install
from plainfall.onboarding.stages.install_wishes import may_ask
from plainfall.onboarding.stages.second_processes import running_processes
from plainfall.packages.cache import PackageCache
from plainfall.settings.setting import Asker
from plainfall.surroundings import Surroundings
from plainfall.tracing import trace
from plainfall.workers import end_workers, worker_pool

__all__ = ["Outcome", "onboard"]


def onboard(
    place: CloneFolder,
    wishes: Wishes,
    surroundings: Surroundings,
    listener: Listener,
    *,
    until: Stage | None = None,
    only: Collection[Stage] | None = None,
    names: Sequence[str] = (),
    preview: bool = False,
    ask: Asker | None = None,
) -> Outcome:
    """Surveys the clone and carries out its steps up to and with the stage ``until``, or those of the stages
    ``only``; of all parts in the folder that was named, or of those with these names.

    With ``preview`` the steps are only listed, as waiting, and nothing on disk changes. A step that fails
    ends its part; the outcome says so, nothing is raised for it. Raises what ``run_plan`` raises, and CloneBusy.
    Interrupted, what the running step started is ended, and the exception goes on.
    """
    begin = time.perf_counter()
    plan = run_plan(
        place, wishes, surroundings, until=until, only=only, names=names, preview=preview, ask=ask
    )
    outcome = Outcome(plan.clone, plan.survey, contradictions=list(plan.survey.contradictions))
    if preview:
        _preview(plan, outcome, listener)
        outcome.seconds = time.perf_counter() - begin
        return outcome
    with plan.state.locked():
        outcome.is_first = plan.state.kept("", LastRun) is None
        note_inventory(plan.state)
        outcome.remarks += bring_settings_back(plan.state)
        if wishes.skip:
            plan.state.keep("", SkippedStages(names=tuple(sorted(plan.left_out))))
        plan.state.sweep()
        tell = _told(Journal(plan.state), listener)
        remarks = [(text, Evidence(FOLDER)) for text in plan.state.remarks]
        outcome.survey = replace(plan.survey, remarks=(*plan.survey.remarks, *remarks))
        tell(RunStarted(outcome.survey, plan.steps))
        byproducts = ByProducts(plan.state, plan.tree, plan.survey.parts)
        runs = [
            PartRun(
                plan.work_for(one.part, tell, ask=ask, byproducts=byproducts),
                one.steps,
                tell,
                one.every,
            )
            for one in plan.parts
        ]
        _carry_out(runs, outcome)
        _pass_by(runs, outcome)
        plan.state.sweep()
        outcome.processes = running_processes(plan.state)
        PackageCache(surroundings.cache).sweep()
        if outcome.failure:
            outcome.outcome = "open" if isinstance(outcome.failure[1], ValueNeeded) else "failed"
        outcome.seconds = time.perf_counter() - begin
        _note(plan.state, outcome, byproducts)
        tell(RunFinished(outcome.outcome, outcome.seconds))
    return outcome


def _preview(plan: RunPlan, outcome: Outcome, listener: Listener) -> None:
    """What each step of the plan would come to."""
    listener(RunStarted(plan.survey, plan.steps))
    for one in plan.parts:
        steps, work = _foreseen(plan.work_for(one.part, listener, preview=True), one.steps)
        outcome.steps += steps
        _add_choices(outcome, work)
        _add_contradictions(outcome, work)
    outcome.remarks += bring_settings_back(plan.state, preview=True)


def _told(journal: Journal, listener: Listener) -> Listener:
    """Who hears of events: the debug log, the journal, the listener."""

    def tell(event: Event) -> None:
        if isinstance(event, StepFinished):
            where, result = event.step.stage.value, event.result
            trace.debug("%s %s: %s (%s)", where, result.state.value, result.title, result.why)
        journal(event)
        listener(event)

    return tell


def _carry_out(runs: Sequence[PartRun], outcome: Outcome) -> None:
    """The steps of all parts: one part after the other, early ones of further parts meanwhile, but for those
    that may ask the person something."""
    if len(runs) > 1 and any(may_install(run.work) for run in runs if run.early):
        worker_pool()  # before the threads of the further parts
    try:
        with EarlySteps([one for one in runs[1:] if not may_ask(one.work)]) as early:
            for run in runs:
                if not early.join(run):
                    run.carry_out(run.early)
                run.carry_out(run.late)
                _gather(run, outcome)
    finally:
        end_workers()  # they hold the clone's lock as long as they live


def _pass_by(runs: Sequence[PartRun], outcome: Outcome) -> None:
    """Parts that failed before any server of theirs, and that serve nothing, stop no run that has shown a page of
    another part: they are said."""
    failed = [run for run in runs if run.failure is not None]
    shown = any(run.failure is None and run.work.part.key in outcome.servers for run in runs)
    needless = [run for run in failed if run.work.part.is_secondary or not run.work.part.candidates("server")]
    if not failed or not shown or len(needless) != len(failed):
        return
    outcome.failure = None
    for run in needless:
        assert run.failure is not None
        step, error = run.failure
        name = run.work.part.key or "the part at the top"
        outcome.remarks.append(
            f"{name}: {step.stage.value} failed ({error.cause}); nothing of it is served, and the page is good "
            "without"
        )


def _note(state: CloneState, outcome: Outcome, byproducts: ByProducts) -> None:
    """Notes what the run did, for the next one and for reports."""
    try:
        outcome.remarks += byproducts.remarks()
        _note_folders(state)
        outcome.changes = changes_since(state, outcome.steps)
        note_run(state, outcome.outcome)
        note_run_record(state, outcome)
    except OSError as error:  # a full disk has failed a step already, and that is what counts
        outcome.remarks.append(f"what this run did could not be noted: {error.strerror or error}")


def _foreseen(work: Work, steps: Sequence[Step]) -> tuple[list[tuple[Step, StepResult, float]], Work]:
    """What a run would do for each step, as things are; behind one that would fail the rest waits. With the part as
    it would be then."""
    results: list[tuple[Step, StepResult, float]] = []
    failed = False
    for step in steps:
        if failed:
            results.append((step, waiting(step), 0.0))
            continue
        start = time.perf_counter()
        try:
            result = step.carry_out(work)
            work = work.after_stage(result.hands_on) if result.hands_on is not None else work
        except PlainfallError as error:
            place = (error.place,) if error.place else ()
            why = f"as things are it fails: {error.cause}"
            result, failed = StepResult(State.FAILED, step.title, why, place, (error.remedy,)), True
        results.append((step, result, time.perf_counter() - start))
    return results, work


def _note_folders(state: CloneState) -> None:
    """Notes which folders of packages were made, so that others of their names are not taken for them."""
    for path, row in state.made.items():
        if row.kind == PACKAGES:
            try:
                status = os.lstat(state.clone / path)
            except OSError:
                continue  # it was not made after all
            state.keep_made(path, PACKAGES, inode=(status.st_dev, status.st_ino))


def _add_choices(outcome: Outcome, work: Work) -> None:
    if work.onboarded:
        outcome.choices[work.part.key] = work.choices.rows()


def _add_contradictions(outcome: Outcome, work: Work) -> None:
    known = {one.what for one in outcome.contradictions}
    outcome.contradictions += [one for one in work.contradictions if one.what not in known]


def _gather(run: PartRun, outcome: Outcome) -> None:
    outcome.steps += run.results
    outcome.failure = outcome.failure or run.failure
    outcome.works[run.work.part.key] = run.work
    _add_choices(outcome, run.work)
    # What a page was that failed stands in the record, and the step handed nothing on.
    server = run.work.state.servers.get(run.work.part.key) or run.work.server
    if run.work.server is not None and server is not None:
        outcome.servers[run.work.part.key] = server
    _add_contradictions(outcome, run.work)
    outcome.open_settings += [one for one in run.work.settings_shown if one.origin == "open"]
