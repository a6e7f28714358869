"""What a run is about, made once for a preview and for the run itself: the survey, the settings, the steps of
each part."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from plainfall.clone.parts import PartFound, Survey
from plainfall.clone.walk import Tree
from plainfall.evidence import Evidence
from plainfall.onboarding.part.byproducts import ByProducts
from plainfall.onboarding.part.choices import Wishes
from plainfall.onboarding.part.chosen_commands import skipped, with_choices, without
from plainfall.onboarding.part.decisions import Decisions, decisions_of
from plainfall.onboarding.part.events import Listener
from plainfall.onboarding.part.settling import Settling
from plainfall.onboarding.part.steps import Stage, Step
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.records.inventory import note_inventory
from plainfall.onboarding.records.state import CloneState
from plainfall.onboarding.run.clone_root import CloneFolder, survey_of
from plainfall.onboarding.run.options import check_honoured
from plainfall.onboarding.run.order import in_order, needs_of
from plainfall.onboarding.run.planning import plan, plan_settings
from plainfall.onboarding.run.template_scripts import fit_template, template_scripts
from plainfall.settings.setting import Asker
from plainfall.surroundings import Surroundings

__all__ = ["PartPlan", "RunPlan", "run_plan"]


class PartPlan(Struct, frozen=True):
    """A part with the steps of this run, and all that it has (a search may carry out any)."""

    part: PartFound
    steps: tuple[Step, ...]
    every: tuple[Step, ...]


class RunPlan(Struct, frozen=True):
    """All that is known before the first step. ``after`` says for each part which others come before, and why;
    ``last`` is the position of the last stage, ``left_out`` names the stages that the person leaves out."""

    clone: Path
    survey: Survey
    tree: Tree
    state: CloneState
    surroundings: Surroundings
    wishes: Wishes
    settling: Settling
    after: Mapping[str, Mapping[str, Evidence]]
    parts: tuple[PartPlan, ...]
    last: int
    left_out: frozenset[str]

    @property
    def steps(self) -> tuple[Step, ...]:
        """The steps of all parts, in order."""
        return tuple(step for one in self.parts for step in one.steps)

    def work_for(
        self,
        part: PartFound,
        listener: Listener,
        *,
        ask: Asker | None = None,
        byproducts: ByProducts | None = None,
        preview: bool = False,
    ) -> Work:
        """What the steps of a part share."""
        return Work(
            self.clone,
            part,
            self.tree,
            self.surroundings,
            self.state,
            self.wishes,
            listener,
            lambda done, whole, unit: None,
            ask,
            settling=self.settling,
            contradictions=self.survey.contradictions,
            after=self.after.get(part.key, {}),
            byproducts=byproducts,
            ends_with_settings=self.last <= Stage.SETTINGS.position,
            preview=preview,
        )


def run_plan(
    place: CloneFolder,
    wishes: Wishes,
    surroundings: Surroundings,
    *,
    until: Stage | None,
    only: Collection[Stage] | None,
    names: Sequence[str],
    preview: bool,
    ask: Asker | None,
) -> RunPlan:
    """Surveys the clone and plans the steps up to and with the stage ``until``, or those of the stages
    ``only``; of all parts in the folder that was named, or of those with these names. Raises NothingToOnboard,
    CloneBusy, or BadInput of the survey, UsageProblem for a name that is no part, or an option that no part
    honours."""
    state = CloneState(place.clone, surroundings.state)
    survey, tree, parts = _surveyed(place, names, state, surroundings, ask, fit=not preview and only is None)
    chosen = None if parts is None else {part.key for part in parts}
    survey = with_choices(survey, state)
    check_honoured(wishes.install, [part for part in survey.parts if chosen is None or part.key in chosen])
    last = until.position if until else len(Stage)
    own_code = last > Stage.DEPENDENCIES.position
    wishes = replace(wishes, install=replace(wishes.install, own_code=own_code))
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
    ports = {path: one.port for path, one in settling.wanted.items()}
    after = needs_of(survey.parts, ports, settling.clients, tree)
    left_out = skipped(state, wishes.skip)
    planned = []
    for part in in_order(survey.parts, after, settling.clients):
        if chosen is None or part.key in chosen:
            before = decisions_of(state, part.key) or Decisions()
            planned.append((part, plan(part, settling, before.services)))
    for part in survey.others:
        if part.language and chosen is None:
            planned.append((part, plan_settings(part, settling)))
    rows = []
    for part, steps in planned:
        every = tuple(without(step, left_out) for step in steps)
        mine = (
            one
            for one in every
            if one.stage.position <= last and (only is None or one.stage in only) and not one.on_demand
        )
        rows.append(PartPlan(part, tuple(mine), every))
    return RunPlan(
        place.clone, survey, tree, state, surroundings, wishes, settling, after, tuple(rows), last, left_out
    )


def _surveyed(
    place: CloneFolder,
    names: Sequence[str],
    state: CloneState,
    surroundings: Surroundings,
    ask: Asker | None,
    *,
    fit: bool,
) -> tuple[Survey, Tree, Sequence[PartFound] | None]:
    """The survey; of a template that its own script made fit just now, if it is to (``fit``)."""
    survey, tree, parts = survey_of(place, names, state, surroundings)
    if not fit or not any(template_scripts(tree)):
        return survey, tree, parts
    with state.locked():
        note_inventory(state)
        changed, said = fit_template(tree, state, surroundings, ask)
    if changed:
        survey, tree, parts = survey_of(place, names, state, surroundings)
    return replace(survey, remarks=(*survey.remarks, *said)), tree, parts
