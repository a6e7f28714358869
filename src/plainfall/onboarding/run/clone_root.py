"""Which clone a folder belongs to, and which of its parts a person means by a folder in it."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

from msgspec import Struct

from plainfall.clone.parts import PartFound, Survey
from plainfall.clone.walk import Tree
from plainfall.errors import NothingToOnboard, UsageProblem
from plainfall.onboarding.part.chosen_commands import part_named
from plainfall.onboarding.records.state import FOLDER, CloneState
from plainfall.repository import repository_of
from plainfall.surroundings import Surroundings
from plainfall.survey.look import look

__all__ = ["CloneFolder", "clone_of", "survey_of"]


class CloneFolder(Struct, frozen=True):
    """A folder that was named: its clone, and its path in that ("" for the clone itself)."""

    clone: Path
    folder: str = ""

    def holds(self, part: str) -> bool:
        """Whether a part of that key is in the folder."""
        return not self.folder or part == self.folder or part.startswith(f"{self.folder}/")


def clone_of(named: Path, surroundings: Surroundings) -> CloneFolder:
    """The clone of a folder: the nearest folder upwards from it that holds records of this user's Plainfall, else
    the work tree of the repository that tracks something in it, else the folder itself.

    A folder of another owner is no clone of this user, nor is one that the home folder lies in.
    """
    if not named.is_dir():
        return CloneFolder(named)
    real = Path(os.path.realpath(named))
    if os.path.lexists(real / ".git"):
        return CloneFolder(named)
    home = Path(os.path.realpath(surroundings.home))
    for above in (real, *real.parents):
        if not _may_be_clone(above, real, home):
            break
        if (above / FOLDER).is_dir() and CloneState(above, surroundings.state).is_known():
            return CloneFolder(above, _from(above, real)) if above != real else CloneFolder(named)
        if os.path.lexists(above / ".git"):
            break
    repository = repository_of(real)
    if repository is None or repository.top == real or not _may_be_clone(repository.top, real, home):
        return CloneFolder(named)
    if not repository.is_tracked(real):
        return CloneFolder(named)
    return CloneFolder(repository.top, _from(repository.top, real))


def _may_be_clone(above: Path, real: Path, home: Path) -> bool:
    if above == real:
        return True
    owners = {os.lstat(place).st_uid for place in (above, real)}
    return owners == {os.geteuid()} and not home.is_relative_to(above)


def _from(above: Path, real: Path) -> str:
    inner = real.relative_to(above).as_posix()
    return "" if inner == "." else inner


def survey_of(
    place: CloneFolder,
    names: Sequence[str],
    state: CloneState,
    surroundings: Surroundings,
    *,
    partial: bool = False,
) -> tuple[Survey, Tree, list[PartFound] | None]:
    """The survey of the parts that are meant, the tree, and these parts where they are not all: those of the names,
    else those in the folder. A name that is no part of the clone may be a folder in it that is a project of its own
    (an example). Raises UsageProblem for a name that is neither, and what ``look`` raises."""
    made = state.settings_files()
    survey, tree = look(place.clone, surroundings.cache, made, folder=place.folder, partial=partial)
    if not names:
        return survey, tree, None
    try:
        return survey, tree, [part_named(survey, name) for name in names]
    except UsageProblem:
        folder = os.path.normpath(os.path.join(place.folder, names[0].partition("/(")[0]))
        if len(names) > 1 or folder.startswith("..") or not (place.clone / folder).is_dir():
            raise
        try:
            own, tree = look(place.clone, surroundings.cache, made, folder=folder, partial=partial)
        except NothingToOnboard:
            own = None
        if own is None or not any(CloneFolder(place.clone, folder).holds(part.path) for part in own.parts):
            raise
        return own, tree, None
