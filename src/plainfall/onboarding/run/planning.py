"""Plans the steps from the survey's result, in working order."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from plainfall.clone.parts import PartFound
from plainfall.onboarding.part.decisions import NamedService
from plainfall.onboarding.part.settling import Settling
from plainfall.onboarding.part.steps import Stage, State, Step, StepResult
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.stages import (
    configuring,
    filling_data,
    first_page,
    listed_tasks,
    seeding,
    serving,
    supporting,
    tasks,
)
from plainfall.onboarding.stages.dependencies import dependencies
from plainfall.onboarding.stages.environment import environment
from plainfall.onboarding.stages.runtime import runtime
from plainfall.services.shape import kind_named

__all__ = ["plan", "plan_settings"]


def plan(part: PartFound, settling: Settling, services: Sequence[NamedService] = ()) -> list[Step]:
    """The steps for one part; ``settling`` knows whether it has settings, ``services`` are those that a failure of
    an earlier run named."""
    asked = ", ".join(f"{ask.text}" for ask in part.asks) or "any version"
    steps = [
        Step(
            part.key,
            Stage.RUNTIME,
            f"choose an interpreter ({asked})",
            "the clone asks for it" if part.asks else "",
            tuple(ask.evidence for ask in part.asks),
            runtime,
        ),
        Step(part.key, Stage.ENVIRONMENT, "make an isolated environment", "", (), environment),
    ]
    listed = part.dependencies
    settings_first = listed is not None and listed.needs_settings
    if settings_first:
        steps += plan_settings(part, settling)
    if listed:
        verb = "imports" if listed.is_from_imports else "lists"
        title = f"install what {listed.path} {verb} ({listed.count})"
        steps.append(
            Step(
                part.key,
                Stage.DEPENDENCIES,
                title,
                listed.reason,
                (listed.evidence,),
                dependencies,
            )
        )
    else:
        steps.append(_left_out(part, Stage.DEPENDENCIES, "no dependency list was found in this part"))
    steps += [
        *([] if settings_first else plan_settings(part, settling)),
        *_services(part, settling, services),
    ]
    return [*steps, *_data(part), *_tasks(part), *_server(part)]


def _data(part: PartFound) -> Iterator[Step]:
    """The steps that make the part's tables and fill them."""
    for stage, action, late in (
        (Stage.MIGRATIONS, filling_data.migrations, listed_tasks.migrations),
        (Stage.SEEDS, seeding.seeds, listed_tasks.seeds),
    ):
        known = part.candidates(stage.value)[:1]
        for command in known or part.candidates(listed_tasks.STAGE)[:1]:
            title = f"run {command.line}" if known else f"run what `{command.line}` lists for it"
            run = action if known else late
            yield Step(part.key, stage, title, command.reason, (command.evidence,), run)


def _server(part: PartFound) -> list[Step]:
    """The step that starts the part's server, and the one that asks it for its page."""
    servers = part.candidates("server")
    if not servers:
        why = "no start command was found in process file, project scripts, README steps or main files"
        return [_left_out(part, Stage.SERVER, why)]
    first = servers[0]
    title = f"start {first.line}"
    return [
        Step(part.key, Stage.SERVER, title, first.reason, (first.evidence,), serving.server),
        Step(part.key, Stage.PROBE, "ask for the page", "", (), first_page.probe),
    ]


def plan_settings(part: PartFound, settling: Settling) -> list[Step]:
    """The step that fills the part's settings, if it has any."""
    if not settling.has_settings(part.path) or (part.is_secondary and not part.candidates("server")):
        return []  # a secondary part has no settings of its own
    result = part.settings or next(iter(part.templates), None)
    verb = "complete" if result and result.exists else "make"
    title = f"{verb} {result.target} from {result.template}" if result else "see to what the code reads"
    why = "the code loads it" if result and result.loaded else ""
    evidence = tuple(place for place in (result.evidence, result.loaded) if place) if result else ()
    return [Step(part.key, Stage.SETTINGS, title, why, evidence, configuring.settings)]


def _services(part: PartFound, settling: Settling, named: Sequence[NamedService]) -> list[Step]:
    """The step that brings up what the part addresses, as far as can be said before its settings are filled."""
    needs = settling.needs_of_part(part)
    needs = [*needs, *supporting.with_named_services(named, part, needs)]
    if not needs:
        return [
            Step(part.key, Stage.SERVICES, "bring up servers", "", (), supporting.services, on_demand=True)
        ]
    names = " and ".join(dict.fromkeys(kind_named(one.kind).title for one in needs))
    places = tuple(dict.fromkeys(one.place for one in needs))
    return [Step(part.key, Stage.SERVICES, f"bring up {names}", "", places, supporting.services)]


def _tasks(part: PartFound) -> list[Step]:
    steps = []
    commands = part.candidates("tasks")
    if commands:
        title = "run " + ", ".join(command.line for command in commands)
        evidence = tuple(command.evidence for command in commands)
        steps.append(Step(part.key, Stage.TASKS, title, commands[0].reason, evidence, tasks.tasks))
    for framework in part.frameworks:
        if framework.administrator is not None:
            place = framework.administrator.evidence
            why = f"{framework.name} has an administration page"
            steps.append(
                Step(part.key, Stage.TASKS, "make an administrator", why, (place,), tasks.administrator)
            )
    return steps


def _left_out(part: PartFound, stage: Stage, why: str) -> Step:
    def carry_out(work: Work) -> StepResult:
        return StepResult(State.LEFT_OUT, "nothing to do", why)

    return Step(part.key, stage, "nothing to do", why, (), carry_out)
