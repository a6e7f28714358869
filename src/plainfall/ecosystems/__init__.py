"""The languages. Each is one folder here that offers the same shape; adding one changes nothing else."""

from __future__ import annotations

import importlib
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Protocol

from plainfall.clone.commands import Command
from plainfall.clone.parts import DependencyFile, PartFound
from plainfall.clone.walk import Tree
from plainfall.confinement import Confined
from plainfall.evidence import Evidence
from plainfall.packages.consent import Withheld
from plainfall.runtimes.asks import VersionAsk
from plainfall.runtimes.choice import Choice, Grammar
from plainfall.sealing import Seal
from plainfall.surroundings import Surroundings

__all__ = ["Ecosystem", "EnvironmentStanding", "InstallWishes", "Installation", "ecosystem", "ecosystems"]

_NAMES = ("python", "node")

Progress = Callable[[int, int, str], None]


@dataclass(frozen=True)
class EnvironmentStanding:
    """An environment as a stage sees it: ``state`` "right", "absent" or "wrong", the reason, whether it is
    ours to replace, its path relative to the part."""

    state: str
    path: str
    reason: str = ""
    ours: bool = False


@dataclass(frozen=True)
class InstallWishes:
    """What the person asked for: extras and groups by the standards' words, versions to take instead of
    others by name, whether a resolved lock is to be put into the clone, names of packages whose own code
    may run at install, and for how many seconds each may; ``hosts`` are registries for which the clone's own
    configuration may have the person's variables."""

    extras: frozenset[str] = frozenset()
    groups: frozenset[str] = frozenset()
    instead: Mapping[str, str] = field(default_factory=dict)
    keep_lock: bool = False
    allowed: frozenset[str] = frozenset()
    code_seconds: float = 600.0
    hosts: frozenset[str] = frozenset()


@dataclass(frozen=True)
class CloneAccess:
    """What an environment's maker may touch and trust in a clone: where it may write, the user's seal for the
    clone, and the files that were edited through links since they were laid (their packages are laid anew)."""

    confined: Confined
    seal: Seal
    edited: frozenset[str] = frozenset()


@dataclass(frozen=True)
class Installation:
    """What installing did: labels ("name version") by what happened, bytes fetched, remarks. ``memory`` is
    handed back at the next call, ``layout`` lists files that must be there for it to count as still done
    (folder relative to the environment → names); ``title`` says what was done where that is no installing."""

    laid: tuple[str, ...] = ()
    kept: tuple[str, ...] = ()
    taken_out: tuple[str, ...] = ()
    strangers: tuple[str, ...] = ()
    fetched: int = 0
    fetched_bytes: int = 0
    built: tuple[str, ...] = ()
    resolved: bool = False
    remarks: tuple[str, ...] = ()
    memory: Mapping[str, Any] = field(default_factory=dict)
    layout: Mapping[str, Sequence[str]] = field(default_factory=dict)
    title: str = ""


@dataclass(frozen=True)
class DebugWish:
    """Whose code is to run under a debugger, and on which loopback port; ``state`` is a folder for what that
    needs."""

    clone: Path
    folder: Path
    choice: Choice
    port: int
    surroundings: Surroundings
    state: Path
    progress: Progress
    access: CloneAccess


@dataclass(frozen=True)
class Debugging:
    """How a part is put under a debugger: variables, folders for the search path of its modules, and the
    configuration with which an editor that speaks the Debug Adapter Protocol attaches."""

    variables: Mapping[str, str]
    module_folders: tuple[str, ...]
    attach: Mapping[str, object]


class Ecosystem(Protocol):
    """What a language offers. Functions raise Plainfall's own errors and report through their arguments."""

    name: str
    title: str
    grammar: Grammar

    def recognise(self, tree: Tree, folder: str) -> list[Evidence]:
        """Evidence that this folder is a part of this language; empty if it is not."""
        ...

    def asks(self, tree: Tree, folder: str, cache: Path | None) -> list[VersionAsk]:
        """Every place that asks for a version of the runtime, in this folder or above it."""
        ...

    def dependencies(self, tree: Tree, folder: str) -> DependencyFile | None:
        """The dependency list that counts."""
        ...

    def commands(self, tree: Tree, folder: str) -> list[Command]:
        """Commands by the language's own conventions and the manifest's scripts."""
        ...

    def beside(self, tree: Tree, folder: str, commands: list[Command]) -> list[Command]:
        """Of a part's commands those that count where another language has its part in the same folder."""

    def needs(self, tree: Tree, folder: str) -> dict[str, Evidence]:
        """Optional modules of the runtime that the code cannot do without, with the line that says so."""
        ...

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

    def missing_driver(self, settings: Mapping[str, str], names: Collection[str]) -> tuple[str, str] | None:
        """The key of a database address for which no installed package speaks, and the package to add."""
        ...

    def environment_standing(self, folder: Path, choice: Choice, access: CloneAccess) -> EnvironmentStanding:
        """How the part's environment stands. Changes nothing."""
        ...

    def make_environment(
        self, folder: Path, choice: Choice, prompt: str, making: Path, access: CloneAccess
    ) -> None:
        """Makes the part's environment, or replaces one of ours."""
        ...

    def variables(self, folder: Path, choice: Choice, access: CloneAccess) -> dict[str, str]:
        """Variables that put the environment to use; PATH is the folder of commands alone."""
        ...

    def debugging(self, wish: DebugWish) -> Debugging:
        """What puts a part's code under its language's debugger. Raises what getting a package raises."""

    def withheld(
        self,
        clone: Path,
        folder: Path,
        listed: DependencyFile,
        surroundings: Surroundings,
        wishes: InstallWishes,
    ) -> Sequence[Withheld]:
        """What the clone's own configuration of registries wants of the person, and may not have yet."""
        ...

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
        """Makes the environment hold what the list says; ``state`` is a folder to keep a lock in."""
        ...


def ecosystem(name: str) -> Ecosystem:
    """The ecosystem of that name."""
    module = importlib.import_module(f"plainfall.ecosystems.{name}.ecosystem")
    found: Ecosystem = module.ECOSYSTEM
    return found


def ecosystems() -> list[Ecosystem]:
    """All of them."""
    return [ecosystem(name) for name in _NAMES]
