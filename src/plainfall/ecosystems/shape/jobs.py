"""What is asked of a language's environments and installing, and what they answer: values alone."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

from msgspec import Struct, field

from plainfall.clone.parts import DependencyFile
from plainfall.confinement import Confined
from plainfall.errors import PlainfallError
from plainfall.runtimes.choice import Choice
from plainfall.sealing import Seal
from plainfall.surroundings import Surroundings

__all__ = [
    "CloneAccess",
    "DebugWish",
    "Debugging",
    "EnvironmentStanding",
    "Foreseen",
    "HandInstall",
    "InstallJob",
    "InstallWishes",
    "Installation",
    "Progress",
]

Progress = Callable[[int, int, str], None]


class EnvironmentStanding(Struct, frozen=True):
    """An environment as a stage sees it: ``state`` "right", "absent" or "wrong", the reason, whether it is
    ours to replace, its path relative to the part."""

    state: str
    path: str
    reason: str = ""
    ours: bool = False


class InstallWishes(Struct, frozen=True):
    """What the user asked for: extras and groups by the standards' words, versions to take instead of others by
    name, whether a resolved lock is to be put into the clone, names of packages whose own code may run at install,
    and for how many seconds each may; ``hosts`` are registries for which the clone's own configuration may have the
    person's variables. With ``from_imports`` packages that no list names and that the sources import are installed,
    too; ``as_of`` is a day (ISO 8601) after which nothing that is chosen was published ("": any); ``rather`` are
    wishes that versions are chosen by where there is a choice ("none" forgets earlier ones); ``with_client`` puts
    the runtime's own package client into an environment that has none. ``own_code`` tells that the clone's own
    code may run while packages are installed: not where the run ends with that, for the person asked for
    packages alone. Then names of the clone's manifests in ``allowed`` let that one's code run."""

    extras: frozenset[str] = frozenset()
    groups: frozenset[str] = frozenset()
    instead: Mapping[str, str] = field(default_factory=dict)
    keep_lock: bool = False
    allowed: frozenset[str] = frozenset()
    code_seconds: float = 600.0
    hosts: frozenset[str] = frozenset()
    from_imports: bool = False
    as_of: str = ""
    rather: tuple[str, ...] = ()
    held_back: tuple[str, ...] = ()
    with_client: bool = False
    own_code: bool = True

    def lets_run(self, manifest: str) -> bool:
        """Whether the clone's own code that a manifest (a path) names or is may run while packages are
        installed."""
        return self.own_code or manifest.rpartition("/")[2] in self.allowed


class CloneAccess(Struct, frozen=True):
    """What an environment's maker may touch and trust in a clone: where it may write, the user's seal for the
    clone, and the files that were edited through links since they were laid (their packages are laid again).
    ``environment`` is the name of the environment's folder in the part ("": the language's usual one)."""

    confined: Confined
    seal: Seal
    edited: frozenset[str] = frozenset()
    environment: str = ""


class InstallJob(Struct, frozen=True):
    """All that an installation goes by: the clone, the part's folder and list, the chosen runtime, what the
    person asked for; ``state`` is a folder to keep a resolved lock in, ``memory`` what the installation before
    handed back; ``making`` is told of each folder of packages before it is made."""

    clone: Path
    folder: Path
    listed: DependencyFile
    choice: Choice
    surroundings: Surroundings
    wishes: InstallWishes
    state: Path
    memory: Mapping[str, Any]
    progress: Progress
    access: CloneAccess
    making: Callable[[Path], None] = lambda path: None


class Installation(Struct, frozen=True):
    """What installing did: labels ("name version") by what happened, bytes fetched, remarks. ``unmanaged``
    packages were installed by someone else and are not listed. ``memory`` is handed back at the next call,
    ``layout`` lists files that must exist for it to count as still done (folder relative to the environment
    → names); ``title`` says what was done where that is no installing; ``withheld`` are packages whose own code was
    not run; ``notes`` are remarks that only explain; ``not_built`` is why the project itself is not installed."""

    laid: tuple[str, ...] = ()
    kept: tuple[str, ...] = ()
    taken_out: tuple[str, ...] = ()
    unmanaged: tuple[str, ...] = ()
    fetched: int = 0
    fetched_bytes: int = 0
    built: tuple[str, ...] = ()
    resolved: bool = False
    remarks: tuple[str, ...] = ()
    memory: Mapping[str, Any] = field(default_factory=dict)
    layout: Mapping[str, Sequence[str]] = field(default_factory=dict)
    title: str = ""
    withheld: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    not_built: PlainfallError | None = None


class HandInstall(Struct, frozen=True):
    """What a person needs to know to install a part's packages by hand: the interpreter's version and file, the
    list, the labels ("name version") of what was installed, the extras and groups that were asked for, the
    packages whose own code may run, and the part's folder."""

    version: str
    program: str
    listed: DependencyFile | None
    labels: tuple[str, ...]
    extras: tuple[str, ...]
    groups: tuple[str, ...]
    allowed: tuple[str, ...]
    folder: Path


class Foreseen(Struct, frozen=True):
    """The packages that a list comes to, as labels "name version", as far as it tells them by itself; ``unsure``
    are names of those whose versions only an installation knows."""

    labels: tuple[str, ...]
    unsure: frozenset[str] = frozenset()


class DebugWish(Struct, frozen=True):
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


class Debugging(Struct, frozen=True):
    """How a part is put under a debugger: variables; ``joined`` tells with which separator one of them is put
    before the part's own value instead of replacing it; the configuration with which an editor that speaks the
    Debug Adapter Protocol attaches."""

    variables: Mapping[str, str]
    joined: Mapping[str, str]
    attach: Mapping[str, object]
