"""What a language does: three protocols."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, Protocol

from plainfall.clone.commands import Command
from plainfall.clone.parts import Addition, DependencyFile, Extension, PartFound, PortWanted
from plainfall.clone.walk import Tree
from plainfall.ecosystems.shape.jobs import (
    CloneAccess,
    Debugging,
    DebugWish,
    EnvironmentStanding,
    Foreseen,
    Installation,
    InstallJob,
    Progress,
)
from plainfall.evidence import Evidence
from plainfall.packages.consent import Withheld
from plainfall.runtimes.asks import VersionAsk
from plainfall.runtimes.choice import Choice
from plainfall.surroundings import Surroundings

__all__ = ["Environment", "Installing", "Recognising"]


class Recognising(Protocol):
    """What a language finds in a clone. Everything here reads the tree and nothing else, and raises BadInput
    for a file that matters and cannot be understood."""

    def recognise(self, tree: Tree, folder: str) -> list[Evidence]:
        """Evidence that this folder is a part of this language; empty if it is not."""
        ...

    def asks(self, tree: Tree, folder: str, cache: Path | None) -> list[VersionAsk]:
        """Every place that asks for a version of the runtime, in this folder or above it."""
        ...

    def asks_of_time(self, day: str) -> list[VersionAsk]:
        """What a developer of that day (ISO 8601) would have taken."""
        ...

    def may_serve(self, tree: Tree, folder: str, names: Collection[str]) -> bool:
        """Whether anything in a part without a framework tells that its program is a server; ``names`` are those of
        its packages."""
        ...

    def environment_folders(self, tree: Tree, folder: str) -> list[str]:
        """Names of folders that the project or the person has for the part's environment, besides the language's
        usual one: one that is here, or that the README or the ignore file names."""
        ...

    def asks_for_module(self, module: str) -> list[VersionAsk]:
        """What asks for a runtime whose standard library still has a module that newer ones lack."""
        ...

    def extensions(self, tree: Tree, folder: str) -> tuple[Extension, ...]:
        """Optional pieces of the runtime that the code cannot do without."""
        ...

    def dependencies(self, tree: Tree, folder: str) -> DependencyFile | None:
        """The dependency list that counts."""
        ...

    def commands(self, tree: Tree, folder: str) -> list[Command]:
        """Commands by the language's own conventions and the manifest's scripts."""
        ...

    def programs(self, tree: Tree, folder: str) -> frozenset[str]:
        """Names of the programs that the project's own installation brings."""
        ...

    def after_installing(self, tree: Tree, folder: str) -> list[Command]:
        """Code of the clone's own that runs once its dependencies are installed, in order of rank."""
        ...

    def build_command(self, tree: Tree, folder: str) -> Command | None:
        """The manifest's own build, for a failure that says that it was not built."""
        ...

    def secondary_commands(self, tree: Tree, folder: str, commands: list[Command]) -> list[Command]:
        """Of a part's commands those that count where another language has its part in the same folder."""
        ...

    def starts_others(self, tree: Tree, folder: str, line: str) -> bool:
        """Whether a command line only starts the servers of parts below, which start by themselves."""
        ...

    def script_texts(self, tree: Tree, folder: str) -> Iterable[str]:
        """The command lines of the manifest's development scripts."""
        ...

    def ports(self, tree: Tree, folder: str) -> Iterator[PortWanted]:
        """Ports that the manifest's scripts and the tools' configuration name."""
        ...

    def serves_client(self, tree: Tree, folder: str) -> bool:
        """Whether the part serves pages that call another part's interface, and has none of its own."""
        ...

    def editor_command(self, row: Mapping[str, Any], words: list[str], program: str) -> str:
        """The command line of a configuration in an editor's launch file ("" for another language's);
        ``words`` are its arguments, ``program`` the file that it names, both relative to the part."""
        ...


class Environment(Protocol):
    """The runtime of a part and its isolated environment."""

    def choose_runtime(
        self,
        part: PartFound,
        surroundings: Surroundings,
        named: Path | None,
        progress: Progress | None = None,
        *,
        offline: bool = False,
    ) -> Choice:
        """The interpreter to take for a part; ``named`` is one that the person named; ``offline`` keeps the
        choice from asking a registry what it offers; ``progress`` is told of what takes time."""
        ...

    def standing(self, folder: Path, choice: Choice, access: CloneAccess) -> EnvironmentStanding:
        """How the part's environment stands. Changes nothing."""
        ...

    def make(self, folder: Path, choice: Choice, prompt: str, making: Path, access: CloneAccess) -> None:
        """Makes the part's environment, or replaces one of ours."""
        ...

    def prepare(self, folder: Path, choice: Choice, access: CloneAccess) -> None:
        """Writes what the commands of the part find by the variables; called before a command runs."""
        ...

    def variables(self, folder: Path, choice: Choice, access: CloneAccess) -> dict[str, str]:
        """Variables that put the environment to use; PATH is the folders of commands alone. Reads only."""
        ...

    def debugging(self, wish: DebugWish) -> Debugging:
        """What puts a part's code under its language's debugger. Raises what getting a package raises."""
        ...

    def noting_databases(self, folder: Path, access: CloneAccess, mark: str) -> dict[str, str]:
        """Variables that make the runtime print a line on its errors for each database file that it opens: the
        mark, and the path as a literal of Python. Empty where it cannot; writes what it needs into the folder."""
        ...


class Installing(Protocol):
    """Getting the packages of a list into the environment."""

    def withheld(self, job: InstallJob) -> Sequence[Withheld]:
        """What the clone's own configuration of registries wants of the person, and may not have yet."""
        ...

    def runs_own_code(self, job: InstallJob) -> Sequence[Evidence]:
        """Where the clone's own code stands that has to run before it is known what its list asks for."""
        ...

    def foreseen(self, job: InstallJob) -> Foreseen | None:
        """What the list comes to, without asking anybody or running anything; None where only registries can tell.
        Raises Plainfall's own errors."""
        ...

    def install(self, job: InstallJob) -> Installation:
        """Makes the environment hold what the list says. Raises Plainfall's own errors."""
        ...

    def missing_driver(self, settings: Mapping[str, str], names: Collection[str]) -> tuple[str, str] | None:
        """The key of a database address for which no installed package speaks, and the package to add."""
        ...

    def package_for(self, tree: Tree, part: PartFound, module: str) -> Addition | None:
        """A package that brings a missing module: one that another list of the project names, one that is known to
        be missing from newer releases of the runtime, or one whose name the language ships."""
        ...

    def holder_of(self, folder: Path, choice: Choice, access: CloneAccess, module: str) -> str:
        """The installed package whose files hold a module, in a part's folder; "" where that is not told."""
        ...

    def extra_with(self, tree: Tree, part: PartFound, addition: Addition) -> str:
        """The extra of the part's own list that names a package, and is for running the project; "" for none."""
        ...

    def group_with(self, tree: Tree, part: PartFound, addition: Addition) -> str:
        """The name of the group of the part's list that has a package; "" where none has."""

    def says_to_work_with(self, tree: Tree, part: PartFound) -> Mapping[str, Evidence]:
        """Wishes for the release lines of its framework that a part's project says it works with, the newest first,
        and where it says so."""
        ...

    def may_resolve(self, part: PartFound) -> bool:
        """Whether versions are chosen for the part's list, so that others could be."""
        ...

    def package_names(self, module: str) -> frozenset[str]:
        """What a package that brings a module may be called."""
        ...
