"""The shape of a language: data that describes it, and three protocols for what it does.

A language is one folder of this package with a module ``language`` that holds a ``LANGUAGE``. One that is only
recognised has no environment and no installing: its settings are looked after.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, Protocol

from msgspec import Struct, field

from plainfall.clone.checks import CheckFound
from plainfall.clone.commands import Command
from plainfall.clone.parts import Addition, DependencyFile, Extension, PartFound, PortWanted
from plainfall.clone.walk import Tree
from plainfall.confinement import Confined
from plainfall.errors import PlainfallError
from plainfall.evidence import Evidence
from plainfall.packages.consent import Withheld
from plainfall.runtimes.asks import VersionAsk
from plainfall.runtimes.choice import Choice, Grammar
from plainfall.sealing import Seal
from plainfall.sources.files import SourceReader
from plainfall.surroundings import Surroundings

__all__ = [
    "CloneAccess",
    "DebugWish",
    "Debugging",
    "Environment",
    "EnvironmentStanding",
    "Foreseen",
    "HandInstall",
    "InstallJob",
    "InstallWishes",
    "Installation",
    "Installing",
    "Language",
    "Progress",
    "Recognising",
    "TaskList",
]

Progress = Callable[[int, int, str], None]


class TaskList(Struct, frozen=True):
    """How the list of a task runner is read: the ``names`` in its output, and the ``commands`` for the stages that
    these names come to, given the command that listed them."""

    names: Callable[[str], list[str]]
    commands: Callable[[Sequence[str], Command], list[Command]]


class Language(Struct, frozen=True):
    """What a language is called, and what it is known by.

    ``name`` is its folder's name, ``title`` what people call it. ``readers`` read its sources; ``programs`` are
    commands whose lines are of this language, the runtime's own first; ``clients`` the names by which scripts
    call its package clients, ``runners`` those of them that run a command in an environment (``NAME run
    COMMAND``); ``makes_environment`` matches README commands that make one. ``port`` is what its dev servers
    usually listen on; ``manifests`` mark a part, ``mains`` one without a manifest; ``known_by`` says so in words.
    ``package_folders`` hold installed packages; ``left_behind`` what its programs leave, as ignore patterns;
    ``folder_variables`` variables whose values are folders of the part; ``commands_folder`` holds the programs of
    installed packages, from the part ("" where that differs); ``precedence`` orders the languages that have a
    part in the same folder, the smallest first; ``task_list`` reads what its task runner lists, where it has
    one; ``checks`` finds the tests, builds and the like of a part in the folder, whose packages have these names;
    ``by_hand`` gives the commands by which a person makes the environment and installs the packages;
    ``registry_files`` are the names of a clone's files that may want the person's login for a registry;
    ``honours`` names the fields of ``InstallWishes`` that its installing goes by: others are refused for its
    parts; ``reads_each_time`` tells that its servers read their sources anew with each request."""

    name: str
    title: str
    readers: tuple[SourceReader, ...]
    programs: tuple[str, ...]
    port: int
    manifests: tuple[str, ...] = ()
    mains: tuple[str, ...] = ()
    clients: tuple[str, ...] = ()
    runners: tuple[str, ...] = ()
    makes_environment: str = ""
    known_by: str = ""
    package_folders: tuple[str, ...] = ()
    left_behind: tuple[str, ...] = ()
    folder_variables: tuple[str, ...] = ()
    commands_folder: str = ""
    precedence: int = 9
    grammar: Grammar | None = None
    recognising: Recognising | None = None
    environment: Environment | None = None
    installing: Installing | None = None
    task_list: TaskList | None = None
    checks: Callable[[Tree, str, frozenset[str]], Iterator[CheckFound]] = lambda tree, folder, names: iter(())

    by_hand: Callable[[HandInstall], list[str]] = lambda job: []
    honours: frozenset[str] = frozenset()
    registry_files: tuple[str, ...] = ()
    reads_each_time: bool = False

    @property
    def endings(self) -> tuple[str, ...]:
        """The endings of its source files."""
        return tuple(
            ending for reader in self.readers if not reader.configuration for ending in reader.endings
        )

    @property
    def onboarded(self) -> bool:
        """Whether its parts are carried to a server; else only their settings are filled."""
        return self.environment is not None


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

    def extra_with(self, tree: Tree, part: PartFound, addition: Addition) -> str:
        """The extra of the part's own list that names a package, and is for running the project; "" for none."""
        ...

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
