"""The isolated environment of a part."""

from __future__ import annotations

from collections.abc import Iterator

from plainfall.kept_records import EnvironmentFolder
from plainfall.onboarding.part.byproducts import PACKAGES
from plainfall.onboarding.part.edits import Edits
from plainfall.onboarding.part.planning import Planned
from plainfall.onboarding.part.results import EnvironmentResult
from plainfall.onboarding.part.steps import State, Step, StepResult
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.stages.install_wishes import forget_installed
from plainfall.onboarding.stages.stage import Stage
from plainfall.writing import digest_of

__all__ = ["environment", "plan"]


def plan(planned: Planned) -> Iterator[Step]:
    """The step that makes the environment."""
    yield Step(planned.part.key, Stage.ENVIRONMENT, "make an isolated environment", "", (), environment)


def environment(work: Work) -> StepResult:
    """Makes the environment, keeps a right one, replaces a wrong one if it is ours."""
    standing = work.standing()
    place = work.folder / standing.path
    name = work.environment_name
    if work.state.read(work.part.key, EnvironmentFolder).folder != name and not work.preview:
        work.state.keep(work.part.key, EnvironmentFolder(folder=name))
    edits = None
    if not work.preview:
        edits = Edits.begin(work.state, work.surroundings.state, work.part.key, place)
    handed = EnvironmentResult(edits)
    detail = {"path": str(place), "state_before": standing.state, "reason": standing.reason}
    if standing.state == "right":
        why = "right for this interpreter" + ("" if standing.ours else "; not made by Plainfall")
        return StepResult(State.KEPT, standing.path, why, detail=detail, hands_on=handed)
    if work.preview:
        verb = "replace" if standing.state == "wrong" else "make"
        return StepResult(
            State.TO_DO, f"{verb} {standing.path}", standing.reason, detail=detail, hands_on=handed
        )
    work.watch()
    work.making(PACKAGES, place)
    # A folder of its own: another part may make its environment at the same time.
    making = work.state.folder / "making" / digest_of(work.part.key)[:12]
    name = work.clone.resolve().name
    work.environment.make(work.folder, work.chosen(), name, making, work.access())
    forget_installed(work)
    version = work.chosen().taken.version
    if standing.state == "wrong":
        return StepResult(
            State.DONE, f"{standing.path} replaced", standing.reason, detail=detail, hands_on=handed
        )
    return StepResult(
        State.DONE,
        f"{standing.path} made for {work.language.title} {version}",
        detail=detail,
        hands_on=handed,
    )
