"""The environment of a part, as its commands get it, for a command of the user's."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from msgspec.structs import replace

from plainfall.clone.parts import PartFound, Survey
from plainfall.clone.walk import Tree
from plainfall.data.sqlite import database_of_settings
from plainfall.ecosystems import environment_of
from plainfall.ecosystems.python.clients.bundled import bundled_client
from plainfall.errors import EnvironmentProblem, PlainfallError
from plainfall.kept_records import RuntimeTaken
from plainfall.onboarding.part.choices import Wishes
from plainfall.onboarding.part.chosen_commands import part_named
from plainfall.onboarding.part.settling import Settling
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.records.state import CloneState
from plainfall.onboarding.run.clone_root import CloneFolder, survey_of
from plainfall.surroundings import Surroundings

__all__ = ["own_client", "variables_inside", "work_inside", "work_of"]


def work_inside(place: CloneFolder, part_name: str | None, surroundings: Surroundings) -> Work:
    """A part as its steps would have it, with runtime and settings, though no step is carried out. Changes
    nothing in the clone. Raises UsageProblem for a part that does not exist."""
    clone = place.clone
    state = CloneState(clone, surroundings.state)
    names = [part_name] if part_name is not None else []
    survey, tree, parts = survey_of(place, names, state, surroundings)
    top = place.folder if len(survey.parts) > 1 and place.folder else None
    part = parts[0] if parts else part_named(survey, top)
    return work_of(clone, survey, tree, state, part, surroundings)


def work_of(
    clone: Path, survey: Survey, tree: Tree, state: CloneState, part: PartFound, surroundings: Surroundings
) -> Work:
    """A part of a survey with its runtime and settings, as ``work_inside`` gives it."""
    file = state.read(part.key, RuntimeTaken).file
    named = Path(file) if file and Path(file).exists() else None
    choice = environment_of(part.language).choose_runtime(part, surroundings, named, offline=True)
    settling = Settling(survey, tree, state, {}, surroundings.variables)
    work = Work(clone, part, tree, surroundings, state, Wishes(), lambda event: None, lambda *_: None, None)
    values: dict[str, str] = {}
    for unit in (settling.shared, settling.unit(part.path)):
        if unit is not None:
            values |= settling.settle(unit, None).values
    target = next((one.target for one in part.templates), ".env")
    database = database_of_settings(values, work.folder, target)
    return replace(work, choice=choice, settings=values, database=database)


def variables_inside(
    place: CloneFolder, part_name: str | None, surroundings: Surroundings
) -> tuple[Path, dict[str, str]]:
    """The folder of a part and the variables of its commands: the person's own, over them the part's mode,
    settings and environment.

    Raises UsageProblem for a part that does not exist, EnvironmentProblem for one that was not onboarded.
    """
    work = work_inside(place, part_name, surroundings)
    standing = work.standing()
    if standing.state != "right":
        reason = f" ({standing.reason})" if standing.reason else ""
        raise EnvironmentProblem(
            f"{work.folder / standing.path} is {standing.state}{reason}",
            remedy="Make it with: plainfall onboard",
        )
    work.prepare()
    # Unlike for the project's own commands, the person's variables are there: they typed the command.
    return work.folder, {**surroundings.variables, **work.variables()}


def own_client(folder: Path, words: list[str], variables: Mapping[str, str]) -> list[str]:
    """The command with a package client of Python's that works on the part's environment: the one that is installed
    there, else the one that the interpreter bundles. Another environment's would work on that one. Raises
    PlainfallError where there is none."""
    if words[0] not in ("pip", "pip3") or "VIRTUAL_ENV" not in variables:
        return words
    environment = Path(variables["VIRTUAL_ENV"])
    if (environment / "bin" / words[0]).exists():
        return words
    python = environment / "bin/python"
    wheel = bundled_client(python)
    if wheel is None:
        raise PlainfallError(
            f"{words[0]} is not installed in {environment}, and its interpreter bundles none",
            remedy="Add what you need to the dependency list and run: plainfall onboard",
        )
    return [str(python), str(wheel / "pip"), *words[1:]]
