"""What most languages have nothing of: the answers of one that has not. A language's own classes say only what it
really has."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from plainfall.clone.commands import Command
from plainfall.clone.parts import Addition, Extension, PartFound, PortWanted
from plainfall.clone.walk import Tree
from plainfall.ecosystems.shape import CloneAccess, InstallJob
from plainfall.evidence import Evidence
from plainfall.packages.consent import Withheld
from plainfall.runtimes.asks import VersionAsk
from plainfall.runtimes.choice import Choice

__all__ = ["PlainInstalling", "PlainRecognising"]


class PlainInstalling:
    """Installing where packages come from locks alone: no login of the clone's, no package beyond the list."""

    def withheld(self, job: InstallJob) -> Sequence[Withheld]:
        """None: of a clone's own configuration no login is taken at all."""
        return ()

    def missing_driver(self, settings: Mapping[str, str], names: Collection[str]) -> tuple[str, str] | None:
        """None: a driver that is missing is said by a rule."""
        return None

    def package_for(self, tree: Tree, part: PartFound, module: str) -> Addition | None:
        """None: no list of the clone is asked for what is missing."""
        return None

    def holder_of(self, folder: Path, choice: Choice, access: CloneAccess, module: str) -> str:
        """ "": a package is called as it is loaded."""
        return ""

    def extra_with(self, tree: Tree, part: PartFound, addition: Addition) -> str:
        """ "": there are no extras."""
        return ""

    def group_with(self, tree: Tree, part: PartFound, addition: Addition) -> str:
        """ "": there are no groups."""
        return ""

    def says_to_work_with(self, tree: Tree, part: PartFound) -> Mapping[str, Evidence]:
        """Nothing."""
        return {}

    def may_resolve(self, part: PartFound) -> bool:
        """Whether versions can be chosen as of a day: not here."""
        return False

    def package_names(self, module: str) -> frozenset[str]:
        """The names under which a list may have a module."""
        return frozenset({module.lower()})

    def runs_own_code(self, job: InstallJob) -> Sequence[Evidence]:
        """The places of code that reading the list runs: none."""
        return ()


class PlainRecognising:
    """Recognising without environments of the person's own, modules by runtime, scripts and ports."""

    def asks_of_time(self, day: str) -> list[VersionAsk]:
        """None."""
        return []

    def environment_folders(self, tree: Tree, folder: str) -> list[str]:
        """None."""
        return []

    def asks_for_module(self, module: str) -> list[VersionAsk]:
        """None."""
        return []

    def extensions(self, tree: Tree, folder: str) -> tuple[Extension, ...]:
        """None."""
        return ()

    def programs(self, tree: Tree, folder: str) -> frozenset[str]:
        """None."""
        return frozenset()

    def after_installing(self, tree: Tree, folder: str) -> list[Command]:
        """None: what an installation builds, it builds itself."""
        return []

    def build_command(self, tree: Tree, folder: str) -> Command | None:
        """None."""
        return None

    def secondary_commands(self, tree: Tree, folder: str, commands: list[Command]) -> list[Command]:
        """The commands as they are."""
        return commands

    def starts_others(self, tree: Tree, folder: str, line: str) -> bool:
        """No command line starts the servers of other parts."""
        return False

    def script_texts(self, tree: Tree, folder: str) -> Iterable[str]:
        """None."""
        return ()

    def ports(self, tree: Tree, folder: str) -> Iterator[PortWanted]:
        """None."""
        yield from ()

    def serves_client(self, tree: Tree, folder: str) -> bool:
        """It serves its own pages."""
        return False

    def editor_command(self, row: Mapping[str, Any], words: list[str], program: str) -> str:
        """ "": no launch configuration of an editor is for it."""
        return ""
