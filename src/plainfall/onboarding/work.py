"""What the steps of one part share while a run goes on."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from functools import cached_property
from pathlib import Path
from typing import Any

from msgspec import Struct, field

from plainfall.clone.parts import Contradiction, PartFound
from plainfall.clone.walk import Tree
from plainfall.data.sqlite import DatabaseFound
from plainfall.ecosystems import environment_of, installing_of, language_named
from plainfall.ecosystems.shape import (
    CloneAccess,
    Environment,
    EnvironmentStanding,
    Installing,
    InstallWishes,
    Language,
)
from plainfall.errors import PlainfallError
from plainfall.evidence import Evidence
from plainfall.onboarding.byproducts import ByProducts
from plainfall.onboarding.edits import Edits
from plainfall.onboarding.events import Listener, Making
from plainfall.onboarding.masking import masked
from plainfall.onboarding.settling import Settling
from plainfall.onboarding.state import FOLDER, CloneState
from plainfall.repository import exclude_locally
from plainfall.runtimes.choice import Choice
from plainfall.settings.setting import Asker, Setting
from plainfall.surroundings import Surroundings

__all__ = [
    "DEVELOPMENT",
    "ENVIRONMENT",
    "IMPORT_FOLDER",
    "SECRET_KEY",
    "SERVER_VARIABLES",
    "Wishes",
    "Work",
]

ENVIRONMENT = "environment folder"  # the record of its name
SERVER_VARIABLES = "server variables"  # the record of what drivers read of private servers
SECRET_KEY = "secret key"  # the record that an application gets one of Plainfall's, as variables
DEVELOPMENT = "development mode"  # the record of a settings module of ours: its folder, and the variables
IMPORT_FOLDER = "import folder"  # the record of folders beside the part that its modules are found in


class Wishes(Struct, frozen=True):
    """What the person asked for beyond the job itself. ``wait`` is in seconds; ``skip`` names stages that are left
    out, now and in later runs ("none" forgets them); ``fetch_services`` allows server programs from registries,
    now and in later runs."""

    given: Mapping[str, str] = field(default_factory=dict)
    port: int | None = None
    runtime: Path | None = None
    seed_again: bool = False
    wait: float = 60.0
    mend: bool = False
    debug: bool = False
    environment: str = ""
    skip: frozenset[str] = frozenset()
    fetch_services: bool = False
    install: InstallWishes = field(default_factory=InstallWishes)


class Work(Struct, dict=True):
    """One part under way. Each stage adds what the later ones need: ``lacking`` says which servers could not be
    brought up, ``servers_used`` tells the databases of those that answer (None: not looked at),
    ``server_databases`` names those of private servers (the server, the database), ``as_of_tried`` is the day
    whose versions were tried. In a ``preview`` each stage decides as ever, and says what it would do: nothing
    is written, started or asked of a registry."""

    clone: Path
    part: PartFound
    tree: Tree
    surroundings: Surroundings
    state: CloneState
    wishes: Wishes
    listener: Listener
    progress: Callable[[int, int, str], None]
    ask: Asker | None = None
    choice: Choice | None = None
    settings: dict[str, str] = field(default_factory=dict)
    settings_shown: tuple[Setting, ...] = ()
    database: DatabaseFound | None = None
    fingerprints: dict[str, str] = field(default_factory=dict)
    server: dict[str, Any] | None = None
    settling: Settling | None = None
    contradictions: list[Contradiction] = field(default_factory=list)
    after: Mapping[str, Evidence] = field(default_factory=dict)
    avoided: set[int] = field(default_factory=set)
    byproducts: ByProducts | None = None
    edits: Edits | None = None
    ends_with_settings: bool = False
    lacking: tuple[str, ...] = ()
    as_of_tried: str = ""
    servers_used: tuple[str, ...] | None = None
    server_databases: tuple[tuple[str, str], ...] = ()
    preview: bool = False

    @property
    def onboarded(self) -> bool:
        """Whether this is a part that is carried to a server, and not one whose settings alone are filled."""
        result = language_named(self.part.language)
        return result is not None and result.onboarded

    @property
    def language(self) -> Language:
        """The part's language. Raises PlainfallError for a part that only holds settings."""
        result = language_named(self.part.language)
        if result is None:
            raise PlainfallError(f"{self.part.path or 'the clone'} is of no language")
        return result

    @property
    def environment(self) -> Environment:
        """What makes the part's environment; only parts that are onboarded have one."""
        return environment_of(self.part.language)

    @property
    def installing(self) -> Installing:
        """What installs the part's packages; only parts that are onboarded have one."""
        return installing_of(self.part.language)

    def settled_by(self) -> Settling:
        """What knows the settings of the clone; a run makes it before the first step."""
        if self.settling is None:
            raise PlainfallError("the settings were not looked at yet")
        return self.settling

    @property
    def folder(self) -> Path:
        """The part's folder."""
        return self.clone / self.part.path if self.part.path else self.clone

    def chosen(self) -> Choice:
        """The runtime that was chosen; the runtime step always comes first."""
        if self.choice is None:
            raise PlainfallError("the runtime was not chosen yet")
        return self.choice

    def making(self, kind: str, path: Path, *, exclude: bool = True) -> None:
        """Notes something before it is made, in records and journal, and excludes it locally."""
        inner = os.path.relpath(path, self.clone) if path.is_relative_to(self.clone) else str(path)
        self.listener(Making(kind, inner))
        if inner.startswith(f"{FOLDER}/"):
            return  # excluded and taken away as a whole
        self.state.keep_made(inner, kind)
        if exclude:
            exclude_locally(self.clone, [f"/{inner}{'' if kind == 'file' else '/'}"])

    def access(self, edited: frozenset[str] = frozenset()) -> CloneAccess:
        """What the maker of the part's environment may touch and trust."""
        return CloneAccess(self.state.confined, self.state.seal, edited, self.environment_name)

    @cached_property
    def environment_name(self) -> str:
        """The name of the environment's folder in the part: the one that was asked for, now or before, else one
        that the project or the person has and that can be used; "" for the usual one."""
        wished = self.wishes.environment or self.state.record(self.part.key, ENVIRONMENT).get("folder", "")
        recognising = self.language.recognising
        if wished or recognising is None:
            return "" if wished == "none" else wished
        for name in recognising.environment_folders(self.tree, self.part.path):
            access = CloneAccess(self.state.confined, self.state.seal, environment=name)
            result = self.environment.standing(self.folder, self.chosen(), access)
            if result.state != "wrong" or result.ours:
                return name
        return ""

    def standing(self) -> EnvironmentStanding:
        """How the part's environment stands."""
        return self.environment.standing(self.folder, self.chosen(), self.access())

    def prepare(self) -> None:
        """Writes what commands find by the part's variables, in a part that has an environment."""
        if self.onboarded:
            self.environment.prepare(self.folder, self.chosen(), self.access())

    def before_command(self) -> None:
        """A command of the project is about to run: what it finds by its variables is written, and what it
        changes is watched."""
        self.prepare()
        self.watch()

    def watch(self) -> None:
        """What is new in the clone from now on, to the end of the run, comes from what this run does."""
        if self.byproducts is not None:
            self.byproducts.begin()

    def variables(self) -> dict[str, str]:
        """The whole environment of the part's commands: the short list of the developer's own variables,
        the part's settings, the part's environment first on the path."""
        variables = self.surroundings.for_project()
        own = self.environment.variables(self.folder, self.chosen(), self.access())
        first = own["PATH"].count(os.pathsep) + 1
        path = os.pathsep.join((own.pop("PATH"), variables["PATH"]))
        named = dict(self.part.variables)
        more = self.state.record(self.part.key, IMPORT_FOLDER).get("folders", [])
        development = self.state.record(self.part.key, DEVELOPMENT)
        for number, name in enumerate(self.language.folder_variables):
            places = [str(self.folder / named[name])] if name in named else []
            places += [str(self.clone / folder) for folder in more] if number == 0 else []
            places += [str(self.clone / development["folder"])] if development and number == 0 else []
            if places:
                named[name] = os.pathsep.join(places)
        return {
            **variables,
            **self._secret_key(),
            **self.state.record(self.part.key, SERVER_VARIABLES).get("variables", {}),
            **named,
            **self.settings,
            **development.get("variables", {}),
            **own,
            "PATH": self._with_bins(path, first),
        }

    def _with_bins(self, path: str, own: int) -> str:
        """The path with the programs of a secondary part in the same folder, behind the first ``own`` entries,
        which are this part's: an application may start what a manifest of another language brings."""
        survey = self.settling.survey if self.settling is not None else None
        beside = [
            str(self.folder / language.commands_folder)
            for one in (survey.parts if survey is not None and not self.part.is_secondary else ())
            if one.is_secondary and one.path == self.part.path
            if (language := language_named(one.language)) is not None and language.commands_folder
        ]
        pieces = path.split(os.pathsep)
        return os.pathsep.join([*pieces[:own], *filter(os.path.isdir, beside), *pieces[own:]])

    def _secret_key(self) -> dict[str, str]:
        """A key for sessions under the names that frameworks read by themselves, where the application has none:
        the same each time, and never written anywhere."""
        if not self.state.record(self.part.key, SECRET_KEY):
            return {}
        key = self.state.seal.mark(SECRET_KEY, self.part.key)
        return {"SECRET_KEY": key, "FLASK_SECRET_KEY": key}

    def masked(self, text: str) -> str:
        """The text with every secret value among the settings covered."""
        return masked(text, {**self._secret_key(), **self.settings})
