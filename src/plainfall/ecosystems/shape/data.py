"""What describes a language: data, and what does its work."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence

from msgspec import Struct, field

from plainfall.clone.checks import CheckFound, CheckWords
from plainfall.clone.commands import Command
from plainfall.clone.walk import Tree
from plainfall.ecosystems.shape.jobs import HandInstall
from plainfall.ecosystems.shape.protocols import Environment, Installing, Recognising
from plainfall.runtimes.choice import Grammar
from plainfall.sources.files import SourceReader

__all__ = ["Language", "TaskList"]


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
    parts; ``reads_each_time`` tells that its servers read their sources anew with each request. ``check_words`` say
    what its command lines of checks look like; ``test_mode`` are the variables under which tests run;
    ``reads_own_settings`` tells that its programs read the settings file themselves, and that variables would go
    over what its test runners set; ``program_aliases`` are other names of its programs in command lines."""

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
    check_words: CheckWords = CheckWords()
    test_mode: Mapping[str, str] = field(default_factory=dict)
    reads_own_settings: bool = False
    program_aliases: Mapping[str, str] = field(default_factory=dict)
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
