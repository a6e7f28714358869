"""Python, in the shape that every ecosystem has."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from pathlib import Path
from typing import Any

from plainfall.clone.commands import Command
from plainfall.clone.parts import DependencyFile, PartFound
from plainfall.clone.walk import Tree
from plainfall.ecosystems import (
    CloneAccess,
    Debugging,
    DebugWish,
    EnvironmentStanding,
    Installation,
    InstallWishes,
    Progress,
)
from plainfall.ecosystems.python import survey
from plainfall.ecosystems.python.asks import python_asks
from plainfall.ecosystems.python.drivers import missing_driver
from plainfall.ecosystems.python.environment import VirtualEnvironment, make_environment, standing
from plainfall.ecosystems.python.interpreters import (
    GRAMMAR,
    interpreter_at,
    python_interpreters,
    unfit,
)
from plainfall.ecosystems.python.wheel import has_wheel
from plainfall.errors import NoFittingRuntime, ValueNeeded
from plainfall.evidence import Evidence
from plainfall.packages.consent import Withheld, withheld_words
from plainfall.runtimes.asks import VersionAsk
from plainfall.runtimes.choice import Choice, choose, named_choice
from plainfall.runtimes.interpreters import Interpreter
from plainfall.surroundings import Surroundings

__all__ = ["ECOSYSTEM", "PythonEcosystem"]

_FOLDER = ".venv"


class PythonEcosystem:
    """Python parts: ``.venv`` environments, ``requirements.txt`` lists."""

    name = "python"
    title = "Python"
    grammar = GRAMMAR

    def recognise(self, tree: Tree, folder: str) -> list[Evidence]:
        return survey.recognise_python(tree, folder)

    def asks(self, tree: Tree, folder: str, cache: Path | None) -> list[VersionAsk]:
        return python_asks(tree, folder)

    def dependencies(self, tree: Tree, folder: str) -> DependencyFile | None:
        return survey.dependency_file(tree, folder)

    def commands(self, tree: Tree, folder: str) -> list[Command]:
        return survey.python_commands(tree, folder)

    def beside(self, tree: Tree, folder: str, commands: list[Command]) -> list[Command]:
        return commands

    def needs(self, tree: Tree, folder: str) -> dict[str, Evidence]:
        return survey.needed_modules(tree, folder)

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
        return named_choice(self.title, named, interpreter_at, part.asks, GRAMMAR)

    def _weighed(
        self, part: PartFound, listed: DependencyFile, surroundings: Surroundings, choice: Choice
    ) -> Choice:
        """The choice again, with what the index offers for the list's pins; only where another release line
        would fit too, since otherwise nothing hangs on it."""
        line = GRAMMAR.order(choice.taken.version)[:2]
        fitting = [other for other in choice.rejected if other.reason.startswith("fits")]
        if all(GRAMMAR.order(other.version)[:2] == line for other in fitting):
            return choice
        from plainfall.ecosystems.python.offered import offered_archives

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
            lacking = [name for name in part.needs if not interpreter.facts.get(name, True)]
            if lacking:
                return f"it was built without {lacking[0]}, which {part.needs[lacking[0]]} imports"
            return unfit(interpreter)

        def wheels(version: str) -> int:
            return sum(has_wheel(names, version) for names in archives.values())

        found = python_interpreters(surroundings)
        try:
            choice = choose(self.title, part.asks, found, GRAMMAR, without_headers, wheels)
        except NoFittingRuntime:
            # Not every source package is compiled: one without headers is better than none.
            choice = choose(self.title, part.asks, found, GRAMMAR, not_fit, wheels)
        best = choice.taken.version
        remarks = []
        for other in choice.rejected:
            newer = GRAMMAR.order(other.version) > GRAMMAR.order(best)
            if newer and other.reason.startswith("fits") and wheels(other.version) < wheels(best):
                without = [
                    label
                    for label, names in archives.items()
                    if has_wheel(names, best) and not has_wheel(names, other.version)
                ]
                remarks.append(
                    f"{best} is taken: for {other.version} there is no wheel of {', '.join(without)}"
                )
        return Choice(choice.taken, choice.rejected, [*choice.remarks, *dict.fromkeys(remarks)])

    def missing_driver(self, settings: Mapping[str, str], names: Collection[str]) -> tuple[str, str] | None:
        return missing_driver(settings, names)

    def environment_standing(self, folder: Path, choice: Choice, access: CloneAccess) -> EnvironmentStanding:
        found = standing(folder / _FOLDER, choice.taken, access.seal)
        return EnvironmentStanding(found.state, _FOLDER, found.reason, found.ours)

    def make_environment(
        self, folder: Path, choice: Choice, prompt: str, making: Path, access: CloneAccess
    ) -> None:
        make_environment(folder / _FOLDER, choice.taken, prompt, making, access.confined, access.seal)

    def variables(self, folder: Path, choice: Choice, access: CloneAccess) -> dict[str, str]:
        environment = self._environment(folder, choice)
        return {
            "VIRTUAL_ENV": str(environment.folder),
            "PATH": str(environment.commands),
            "PYTHONUNBUFFERED": "1",
            "BROWSER": "true",  # the command that does nothing: no dev server opens a window
        }

    def debugging(self, wish: DebugWish) -> Debugging:
        from plainfall.ecosystems.python.debugging import python_debugging

        return python_debugging(wish)

    def withheld(
        self,
        clone: Path,
        folder: Path,
        listed: DependencyFile,
        surroundings: Surroundings,
        wishes: InstallWishes,
    ) -> Sequence[Withheld]:
        from plainfall.ecosystems.python.requirements import read_requirements

        if listed.kind != "requirements.txt":
            return ()
        return read_requirements(listed.path, Tree(clone, ()).text, {}, wishes.hosts).withheld

    def install(
        self,
        clone: Path,
        folder: Path,
        listed: DependencyFile,
        choice: Choice,
        surroundings: Surroundings,
        wishes: InstallWishes,
        state: Path,
        memory: Mapping[str, Any],
        progress: Progress,
        access: CloneAccess,
    ) -> Installation:
        from plainfall.ecosystems.python.dependencies import install, layout_of
        from plainfall.ecosystems.python.job import Job
        from plainfall.ecosystems.python.lists.discover import read_list, stale_remarks
        from plainfall.ecosystems.python.pins import Target

        tree = Tree(clone, ())
        markers = choice.taken.facts["markers"]
        target = Target(markers, wishes.extras, wishes.groups, surroundings.variables, wishes.hosts)
        read = read_list(tree, listed.path, listed.kind, target)
        if read.withheld:
            raise ValueNeeded(
                "the list wants something of yours that it does not get without your word",
                place=read.withheld[0].evidence,
                remedy=f"{withheld_words(read.withheld)}. It is remembered for this clone and this host.",
            )
        environment = self._environment(folder, choice)
        lock = state / "pylock.toml"
        if wishes.keep_lock and read.pins is None:
            lock = folder / "pylock.toml"
        archives = memory.get("archives", {})
        done = install(
            Job(
                clone,
                read,
                environment,
                choice.taken,
                surroundings,
                target,
                lock,
                wishes.instead,
                archives,
                progress,
                access,
            )
        )
        return Installation(
            laid=tuple(done.laid),
            kept=tuple(done.kept),
            taken_out=tuple(done.taken_out),
            strangers=tuple(done.strangers),
            fetched=done.fetched,
            fetched_bytes=done.fetched_bytes,
            built=tuple(done.built),
            resolved=done.resolved,
            remarks=(*read.remarks, *stale_remarks(tree, read, target), *done.remarks),
            memory={"archives": done.archives},
            layout=layout_of(environment),
        )

    def _environment(self, folder: Path, choice: Choice) -> VirtualEnvironment:
        line = ".".join(choice.taken.version.split(".")[:2])
        return VirtualEnvironment(folder / _FOLDER, line)


ECOSYSTEM = PythonEcosystem()
