"""Carrying out the steps of a clone, from the survey to the probed server."""

from __future__ import annotations

import os
import time
from collections.abc import Collection, Sequence

from msgspec.structs import replace

from plainfall.errors import PlainfallError, ValueNeeded
from plainfall.evidence import Evidence
from plainfall.onboarding.byproducts import PACKAGES, ByProducts
from plainfall.onboarding.choices import SKIPPED, skipped, with_choices, without
from plainfall.onboarding.clone_root import CloneFolder, survey_of
from plainfall.onboarding.events import Event, Listener, RunFinished, RunStarted, StepFinished
from plainfall.onboarding.inventory import note_inventory
from plainfall.onboarding.journal import Journal
from plainfall.onboarding.order import in_order, needs_of
from plainfall.onboarding.outcome import Outcome, note_run_record
from plainfall.onboarding.parts import EarlySteps, PartRun, waiting
from plainfall.onboarding.planning import plan, plan_settings
from plainfall.onboarding.restoring import bring_settings_back
from plainfall.onboarding.second_processes import running_processes
from plainfall.onboarding.settling import Settling
from plainfall.onboarding.since import changes_since, note_run
from plainfall.onboarding.stages.installing import may_install
from plainfall.onboarding.state import FOLDER, CloneState
from plainfall.onboarding.steps import Stage, State, Step, StepResult
from plainfall.onboarding.template_scripts import fit_template, template_scripts
from plainfall.onboarding.work import Wishes, Work
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
    ends its part; the outcome says so, nothing is raised for it. Raises NothingToOnboard, CloneBusy, or
    BadInput of the survey, UsageProblem for a name that is no part. Interrupted, what the running step started is
    ended, and the exception goes on.
    """
    begin = time.perf_counter()
    clone = place.clone
    state = CloneState(clone, surroundings.state)
    survey, tree, parts = survey_of(place, names, state, surroundings)
    if not preview and only is None and any(template_scripts(tree)):
        with state.locked():
            note_inventory(state)
            changed, said = fit_template(tree, state, surroundings, ask)
        if changed:
            survey, tree, parts = survey_of(place, names, state, surroundings)
        if said:
            survey = replace(survey, remarks=(*survey.remarks, *said))
    chosen = None if parts is None else {part.key for part in parts}
    survey = with_choices(survey, state)
    last = until.position if until else len(Stage)
    settling = Settling(
        survey,
        tree,
        state,
        wishes.given,
        surroundings.variables,
        port=wishes.port,
        choose=True,
        note=not preview,
    )
    clients = settling.clients
    needs = needs_of(survey.parts, {path: one.port for path, one in settling.wanted.items()}, clients, tree)
    planned = [
        (
            part,
            [step for step in steps if step.stage.position <= last and (only is None or step.stage in only)],
        )
        for part, steps in (
            *(
                (part, plan(part, settling))
                for part in in_order(survey.parts, needs, clients)
                if chosen is None or part.key in chosen
            ),
            *(
                (part, plan_settings(part, settling))
                for part in survey.others
                if part.language and chosen is None
            ),
        )
    ]
    left_out = skipped(state, wishes.skip)
    planned = [(part, [without(step, left_out) for step in steps]) for part, steps in planned]
    outcome = Outcome(clone, survey, contradictions=list(survey.contradictions))
    every = tuple(step for _, steps in planned for step in steps)
    if preview:
        listener(RunStarted(survey, every))
        for part, steps in planned:
            work = Work(
                clone, part, tree, surroundings, state, wishes, listener, lambda done, whole, unit: None, None,
                settling=settling, contradictions=outcome.contradictions, after=needs.get(part.key, {}),
                preview=True,
            )  # fmt: skip
            outcome.steps += _foreseen(work, steps)
        outcome.remarks += bring_settings_back(state, preview=True)
        outcome.seconds = time.perf_counter() - begin
        return outcome
    with state.locked():
        note_inventory(state)
        outcome.remarks += bring_settings_back(state)
        if wishes.skip:
            state.keep("", SKIPPED, {"names": sorted(left_out)})
        state.sweep()
        journal = Journal(state)

        def tell(event: Event) -> None:
            if isinstance(event, StepFinished):
                where, result = event.step.stage.value, event.result
                trace.debug("%s %s: %s (%s)", where, result.state.value, result.title, result.why)
            journal(event)
            listener(event)

        remarks = [(text, Evidence(FOLDER)) for text in state.remarks]
        survey = outcome.survey = replace(survey, remarks=(*survey.remarks, *remarks))
        tell(RunStarted(survey, every))
        byproducts = ByProducts(state, tree, survey.parts)
        runs = [
            PartRun(
                Work(
                    clone,
                    part,
                    tree,
                    surroundings,
                    state,
                    wishes,
                    tell,
                    lambda done, whole, unit: None,
                    ask,
                    settling=settling,
                    contradictions=outcome.contradictions,
                    after=needs.get(part.key, {}),
                    byproducts=byproducts,
                    ends_with_settings=last <= Stage.SETTINGS.position,
                ),
                steps,
                tell,
            )
            for part, steps in planned
        ]
        if len(runs) > 1 and any(may_install(run.work) for run in runs if run.early):
            worker_pool()  # before the threads of the further parts
        try:
            with EarlySteps(runs[1:]) as early:
                for run in runs:
                    if not early.join(run):
                        run.carry_out(run.early)
                    run.carry_out(run.late)
                    _gather(run, outcome)
        finally:
            end_workers()  # they hold the clone's lock as long as they live
        state.sweep()
        outcome.processes = running_processes(state)
        PackageCache(surroundings.cache).sweep()
        if outcome.failure:
            outcome.outcome = "open" if isinstance(outcome.failure[1], ValueNeeded) else "failed"
        outcome.seconds = time.perf_counter() - begin
        try:
            outcome.remarks += byproducts.remarks()
            _note_folders(state)
            outcome.changes = changes_since(state, outcome.steps)
            note_run(state, outcome.outcome)
            note_run_record(state, outcome)
        except OSError as error:  # a full disk has failed a step already, and that is what counts
            outcome.remarks.append(f"what this run did could not be noted: {error.strerror or error}")
        tell(RunFinished(outcome.outcome, outcome.seconds))
    return outcome


def _foreseen(work: Work, steps: Sequence[Step]) -> list[tuple[Step, StepResult, float]]:
    """What a run would do for each step, as things are; behind one that would fail the rest waits."""
    results: list[tuple[Step, StepResult, float]] = []
    failed = False
    for step in steps:
        if failed:
            results.append((step, waiting(step), 0.0))
            continue
        start = time.perf_counter()
        try:
            result = step.carry_out(work)
        except PlainfallError as error:
            place = (error.place,) if error.place else ()
            why = f"as things are it fails: {error.cause}"
            result, failed = StepResult(State.FAILED, step.title, why, place, (error.remedy,)), True
        results.append((step, result, time.perf_counter() - start))
    return results


def _note_folders(state: CloneState) -> None:
    """Notes which folders of packages were made, so that others of their names are not taken for them."""
    for path, row in state.made.items():
        if row["kind"] == PACKAGES:
            try:
                status = os.lstat(state.clone / path)
            except OSError:
                continue  # it was not made after all
            state.keep_made(path, PACKAGES, inode=[status.st_dev, status.st_ino])


def _gather(run: PartRun, outcome: Outcome) -> None:
    outcome.steps += run.results
    outcome.failure = outcome.failure or run.failure
    outcome.works[run.work.part.key] = run.work
    if run.work.server:
        outcome.servers[run.work.part.key] = run.work.server
    outcome.open_settings += [one for one in run.work.settings_shown if one.origin == "open"]
