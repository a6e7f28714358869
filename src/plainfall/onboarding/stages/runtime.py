"""The runtime that a part runs with."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from plainfall.kept_records import RuntimeTaken
from plainfall.onboarding.part.planning import Planned
from plainfall.onboarding.part.results import RuntimeResult
from plainfall.onboarding.part.steps import State, Step, StepResult
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.stages.stage import Stage
from plainfall.runtimes.asks import VersionAsk
from plainfall.runtimes.choice import Choice

__all__ = ["plan", "runtime", "why_runtime"]


def plan(planned: Planned) -> Iterator[Step]:
    """The step that chooses the interpreter."""
    part = planned.part
    asked = ", ".join(f"{ask.text}" for ask in part.asks) or "any version"
    why = "the clone asks for it" if part.asks else ""
    places = tuple(ask.evidence for ask in part.asks)
    yield Step(part.key, Stage.RUNTIME, f"choose an interpreter ({asked})", why, places, runtime)


def runtime(work: Work) -> StepResult:
    """Chooses the interpreter; kept if it is the one of the run before."""
    wanted = work.choices.runtime
    part, recognising = work.part, work.language.recognising
    if wanted.day and recognising is not None:
        part = replace(part, asks=(*part.asks, *recognising.asks_of_time(wanted.day)))
    if wanted.ready_package is not None and part.dependencies is not None:
        pinned = (*part.dependencies.pinned, wanted.ready_package)
        part = replace(part, dependencies=replace(part.dependencies, pinned=pinned))
    for module in wanted.standard_modules:
        if recognising is not None:
            part = replace(part, asks=(*part.asks, *recognising.asks_for_module(module)))
    choice = work.environment.choose_runtime(
        part, work.surroundings, wanted.file, work.progress, offline=work.preview
    )
    taken = choice.taken
    same = work.state.read(work.part.key, RuntimeTaken).identity == taken.identity
    if not same and not work.preview:
        record = RuntimeTaken(identity=taken.identity, file=str(taken.file), version=taken.version)
        work.state.keep(work.part.key, record)
    return StepResult(
        State.KEPT if same else State.TO_DO if work.preview else State.DONE,
        f"{work.language.title} {taken.version} at {taken.file}",
        why_runtime(part.asks, choice),
        tuple(ask.evidence for ask in part.asks),
        tuple(choice.remarks),
        {
            "asked": [
                {"text": ask.text, "source": ask.source, "evidence": [ask.evidence.as_json()]}
                for ask in part.asks
            ],
            "chosen": {"version": taken.version, "path": str(taken.path), "file": str(taken.file)},
            "rejected": [
                {"path": other.path, "version": other.version, "reason": other.reason}
                for other in choice.rejected
            ],
        },
        tuple(choice.notes),
        RuntimeResult(choice),
    )


def why_runtime(asks: Sequence[VersionAsk], choice: Choice) -> str:
    """The asks in one line, or that nothing is asked."""
    if not asks:
        return "no version is asked for; the newest release here"
    strong = sorted(asks, key=lambda ask: -ask.strength)
    asked = ", ".join(f"{ask.text} ({ask.evidence})" for ask in strong[:4])
    asked += f" and {len(strong) - 4} weaker asks" if len(strong) > 4 else ""
    others = len({other.version for other in choice.rejected if other.version != choice.taken.version})
    return f"asked for: {asked}" + (f"; other versions here: {others}" if others else "")
