"""A module of the project's own that stands in a folder above the part, or in a project beside it, and that nothing
installs."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from plainfall.failure_facts import ModuleMissing
from plainfall.failure_kinds import FailureKind
from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Change, Failure

ORDER = 40
STAGES = frozenset({Stage.MIGRATIONS, Stage.SEEDS, Stage.TASKS, Stage.SERVER, Stage.PROBE})


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """The folder that has the module, put on the path."""
    facts = failure.error.facts
    if not isinstance(facts, ModuleMissing) or failure.error.rule != FailureKind.MODULE_MISSING:
        return
    if not work.part.path or not work.language.folder_variables:
        return
    top = facts.module.partition(".")[0]
    folder = _folder_with(work, top)
    before = work.decisions.import_folders
    if folder is None or folder in before:
        return
    name = work.language.folder_variables[0]
    words = f"{top} was missing: {folder or 'the folder at the top'} has it, and is in {name} now"
    stage = Stage.SERVER if failure.stage is Stage.PROBE else failure.stage
    yield Change(words, replace(work.decisions, import_folders=(*before, folder)), stage)


def _folder_with(work: Work, top: str) -> str | None:
    """The folder that a module of the clone is found in: the nearest above the part; else the only project of the
    clone that has it."""
    above = work.part.path
    while above:
        above = above.rpartition("/")[0]
        for folder in (above, f"{above}/src" if above else "src"):
            place = f"{folder}/{top}" if folder else top
            if f"{place}.py" in work.tree or f"{place}/__init__.py" in work.tree:
                return folder
    ending = f"/{top}/__init__.py"
    places = {path.removesuffix(ending) for path in work.tree.files if path.endswith(ending)}
    projects = [
        place for place in places if {"setup.py", "pyproject.toml"} & set(work.tree.folders.get(place, ()))
    ]
    return projects[0] if len(projects) == 1 else None
