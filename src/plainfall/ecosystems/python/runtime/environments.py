"""Python's runtimes and environments (``.venv``), in the shape that every language has."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path

from plainfall.clone.extensions import without_words
from plainfall.clone.parts import DependencyFile, PartFound
from plainfall.ecosystems.python.install.wheel_names import has_wheel
from plainfall.ecosystems.python.runtime.environment import VirtualEnvironment, make_environment, standing
from plainfall.ecosystems.python.runtime.environment_names import USUAL
from plainfall.ecosystems.python.runtime.interpreters import (
    GRAMMAR,
    interpreter_at,
    python_interpreters,
    unfit,
)
from plainfall.ecosystems.shape import CloneAccess, Debugging, DebugWish, EnvironmentStanding, Progress
from plainfall.ecosystems.shared.programs import names_folder
from plainfall.errors import NoFittingRuntime
from plainfall.runtimes.choice import Choice, choose, named_choice
from plainfall.runtimes.interpreters import Interpreter
from plainfall.surroundings import Surroundings

__all__ = ["PythonEnvironment", "virtual_environment"]


def virtual_environment(folder: Path, choice: Choice, access: CloneAccess) -> VirtualEnvironment:
    """The environment of the part in a folder."""
    line = ".".join(choice.taken.version.split(".")[:2])
    return VirtualEnvironment(folder / (access.environment or USUAL), line)


class PythonEnvironment:
    """Virtual environments as PEP 405 has them."""

    def choose_runtime(
        self,
        part: PartFound,
        surroundings: Surroundings,
        named: Path | None,
        progress: Progress | None = None,
        *,
        offline: bool = False,
    ) -> Choice:
        if named is None:
            listed = part.dependencies
            choice = self._chosen(part, surroundings, dict(listed.archives) if listed else {})
            if offline or listed is None or listed.archives or not listed.pinned:
                return choice
            return self._weighed(part, listed, surroundings, choice)
        return named_choice("Python", named, interpreter_at, part.asks, GRAMMAR)

    def _weighed(
        self, part: PartFound, listed: DependencyFile, surroundings: Surroundings, choice: Choice
    ) -> Choice:
        """The choice again, with what the index offers for the list's pins; only where another release line
        would fit too, since otherwise nothing hangs on it."""
        line = GRAMMAR.order(choice.taken.version)[:2]
        fitting = [other for other in choice.rejected if other.fits]
        if all(GRAMMAR.order(other.version)[:2] == line for other in fitting):
            return choice
        from plainfall.ecosystems.python.resolve.offered import offered_archives

        archives = offered_archives(listed, surroundings, choice.taken)
        return self._chosen(part, surroundings, archives) if archives else choice

    def _chosen(
        self, part: PartFound, surroundings: Surroundings, archives: Mapping[str, tuple[str, ...]]
    ) -> Choice:
        source_only = [
            label for label, names in archives.items() if not any(n.endswith(".whl") for n in names)
        ]

        def without_headers(interpreter: Interpreter) -> str | None:
            if source_only and not interpreter.facts.get("headers", True):
                return f"it has no C headers, which building {source_only[0]} may need"
            return not_fit(interpreter)

        def not_fit(interpreter: Interpreter) -> str | None:
            return without_words(part.extensions, interpreter) or unfit(interpreter)

        def wheels(version: str) -> int:
            return sum(has_wheel(names, version) for names in archives.values())

        result = python_interpreters(surroundings)
        try:
            choice = choose("Python", part.asks, result, GRAMMAR, without_headers, wheels)
        except NoFittingRuntime:
            # Not every source package is compiled: one without headers is better than none.
            choice = choose("Python", part.asks, result, GRAMMAR, not_fit, wheels, near=True)
        best = choice.taken.version
        remarks = []
        for other in choice.rejected:
            newer = GRAMMAR.order(other.version) > GRAMMAR.order(best)
            if newer and other.fits and wheels(other.version) < wheels(best):
                without = [
                    label
                    for label, names in archives.items()
                    if has_wheel(names, best) and not has_wheel(names, other.version)
                ]
                remarks.append(
                    f"{best} is taken: for {other.version} there is no wheel of {', '.join(without)}"
                )
        return Choice(choice.taken, choice.rejected, choice.remarks, [*choice.notes, *dict.fromkeys(remarks)])

    def standing(self, folder: Path, choice: Choice, access: CloneAccess) -> EnvironmentStanding:
        name = access.environment or USUAL
        result = standing(folder / name, choice.taken, access.seal)
        return EnvironmentStanding(result.state, name, result.reason, result.ours)

    def make(self, folder: Path, choice: Choice, prompt: str, making: Path, access: CloneAccess) -> None:
        place = folder / (access.environment or USUAL)
        make_environment(place, choice.taken, prompt, making, access.confined, access.seal)

    def prepare(self, folder: Path, choice: Choice, access: CloneAccess) -> None:
        """The names of package clients that the project's scripts may call."""
        from plainfall.ecosystems.python.clients.own_names import (
            write_names,  # a run that carries out nothing needs none
        )

        has_pip = (virtual_environment(folder, choice, access).commands / "pip").exists()
        write_names(access.confined, names_folder(folder, access), has_pip=has_pip)

    def variables(self, folder: Path, choice: Choice, access: CloneAccess) -> dict[str, str]:
        environment = virtual_environment(folder, choice, access)
        return {
            "VIRTUAL_ENV": str(environment.folder),
            "PATH": os.pathsep.join([str(names_folder(folder, access)), str(environment.commands)]),
            "PYTHONUNBUFFERED": "1",
            "BROWSER": "true",  # the command that does nothing: no dev server opens a window
        }

    def debugging(self, wish: DebugWish) -> Debugging:
        from plainfall.ecosystems.python.runtime.debugging import python_debugging

        return python_debugging(wish)

    def noting_databases(self, folder: Path, access: CloneAccess, mark: str) -> dict[str, str]:
        from plainfall.ecosystems.python.runtime.noting import noting_databases  # after a failure only

        return noting_databases(folder, access.confined, mark)
