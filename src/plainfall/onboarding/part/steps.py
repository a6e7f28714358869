"""Steps and what comes of them."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from enum import Enum
from typing import Any

from msgspec import Struct, field

from plainfall.evidence import Evidence
from plainfall.onboarding.part.results import StageResult
from plainfall.onboarding.stages.stage import Stage

__all__ = ["Stage", "State", "Step", "StepResult"]


class State(Enum):
    """How a step ended, that it has not begun, or, in a preview, that a run would do it."""

    DONE = "done"
    KEPT = "kept"
    FAILED = "failed"
    WAITING = "waiting"
    TO_DO = "to do"
    LEFT_OUT = "left out"


class StepResult(Struct, frozen=True):
    """What came of a step: its state, what was done in a few words, why, the places it stands on, remarks for
    people, ``detail`` for programs (JSON values, never a secret), and ``notes``: remarks that only explain, and
    that nobody has to read; and what it hands on to the later stages."""

    state: State
    title: str
    why: str = ""
    evidence: tuple[Evidence, ...] = ()
    remarks: tuple[str, ...] = ()
    detail: Mapping[str, Any] = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    hands_on: StageResult | None = None


class Step(Struct, frozen=True):
    """One thing to do for one part; ``title`` and ``why`` are what a preview shows. ``carry_out`` gets the part's
    ``Work``. One that is ``on_demand`` is carried out only where a search asks for its stage."""

    part: str
    stage: Stage
    title: str
    why: str
    evidence: tuple[Evidence, ...]
    carry_out: Callable[[Any], StepResult]
    on_demand: bool = False
