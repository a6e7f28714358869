"""Plans the steps of a part: each stage's own module says what it has to do there."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from importlib import import_module

from plainfall.clone.parts import PartFound
from plainfall.onboarding.part.decisions import NamedService
from plainfall.onboarding.part.planning import Planned
from plainfall.onboarding.part.settling import Settling
from plainfall.onboarding.part.steps import Step
from plainfall.onboarding.stages.stage import Stage

__all__ = ["plan", "plan_settings"]


def plan(part: PartFound, settling: Settling, services: Sequence[NamedService] = ()) -> list[Step]:
    """The steps for one part, in working order; ``settling`` knows whether it has settings, ``services`` are those
    that a failure of an earlier run named. Where the list is a program that reads settings, these come first."""
    order = list(Stage)
    listed = part.dependencies
    if listed is not None and listed.needs_settings:
        order.remove(Stage.SETTINGS)
        order.insert(order.index(Stage.DEPENDENCIES), Stage.SETTINGS)
    return _planned(Planned(part, settling, services), order)


def plan_settings(part: PartFound, settling: Settling) -> list[Step]:
    """The step that fills the part's settings, if it has any."""
    return _planned(Planned(part, settling), [Stage.SETTINGS])


def _planned(planned: Planned, order: Iterable[Stage]) -> list[Step]:
    modules = [import_module(f"plainfall.onboarding.stages.{stage.value}") for stage in order]
    return [step for module in modules for step in module.plan(planned)]
