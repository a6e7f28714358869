"""What the steps of one part share while a run goes on."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Mapping
from functools import cached_property
from pathlib import Path

from msgspec import Struct, field
from msgspec.structs import replace

from plainfall.clone.frameworks import DevelopmentMode
from plainfall.clone.parts import Contradiction, PartFound
from plainfall.clone.walk import Tree
from plainfall.data.sqlite import DatabaseFound
from plainfall.ecosystems import environment_of, installing_of, language_named
from plainfall.ecosystems.shape import (
    CloneAccess,
    Environment,
    EnvironmentStanding,
    Installing,
    Language,
)
from plainfall.errors import PlainfallError
from plainfall.evidence import Evidence
from plainfall.failure_kinds import FailureKind
from plainfall.kept_records import DriverVariables, EnvironmentFolder, Installed, ServerKept
from plainfall.onboarding.part.byproducts import ByProducts
from plainfall.onboarding.part.choices import Choices, Origin, Wishes
from plainfall.onboarding.part.decisions import Decisions, decisions_of, team_of, with_wishes
from plainfall.onboarding.part.edits import Edits
from plainfall.onboarding.part.events import Listener, Making
from plainfall.onboarding.part.masking import masked
from plainfall.onboarding.part.results import StageResult
from plainfall.onboarding.part.settling import Settling
from plainfall.onboarding.part.team_decisions import decisions_of_team, digest_of_team
from plainfall.onboarding.records.state import FOLDER, CloneState
from plainfall.repository import exclude_locally
from plainfall.runtimes.choice import Choice
from plainfall.settings.setting import Asker, Setting
from plainfall.surroundings import Surroundings

__all__ = ["Work"]

_KEY = "secret key"  # what the key of an application that has none is made of
_OWN_SETTINGS = "plainfall_development"  # the name of the settings module of ours


class Work(Struct, frozen=True, dict=True):
    """One part under way, as a stage gets it: what the run was begun with, what failures have changed so far
    (``decided``, and whether a search of this run did: ``searched``), the ports to ``avoid``, and what the stages
    before handed on (the fields of ``part/results.py``). Nobody changes one: ``after_stage`` makes the next.

    In a ``preview`` each stage decides as ever, and says what it would do: nothing is written, started or asked
    of a registry."""

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
    server: ServerKept | None = None
    settling: Settling | None = None
    contradictions: tuple[Contradiction, ...] = ()
    after: Mapping[str, Evidence] = field(default_factory=dict)
    avoided: frozenset[int] = frozenset()
    byproducts: ByProducts | None = None
    edits: Edits | None = None
    ends_with_settings: bool = False
    lacking: tuple[str, ...] = ()
    decided: Decisions | None = None
    searched: bool = False
    servers_used: tuple[str, ...] | None = None
    server_databases: tuple[tuple[str, str], ...] = ()
    packages_digest: str = ""
    settings_digest: str = ""
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

    @property
    def decisions(self) -> Decisions:
        """What was decided in this run, or in the one before, or by the team. Raises BadInput for the team's
        file."""
        return self.decided if self.decided is not None else self._first_decisions

    @cached_property
    def _first_decisions(self) -> Decisions:
        known = decisions_of(self.state, self.part.key)
        team = digest_of_team(self.tree, self.part.path)
        if known is None or team_of(self.state, self.part.key) != team:
            known = decisions_of_team(self.tree, self.part.path)
        return with_wishes(known, self.wishes.install)

    @cached_property
    def choices(self) -> Choices:
        """Everything that this run of the part decides. Raises BadInput for the team's file."""
        before = self.state.read(self.part.key, Installed)
        return Choices.of(self.part, self.wishes, self.decisions, before)

    def after_stage(self, result: StageResult) -> Work:
        """What the stage behind one with this result gets."""
        return replace(self, **{name: getattr(result, name) for name in result.__struct_fields__})

    @property
    def fingerprints(self) -> dict[str, str]:
        """What tells whether the runtime, the packages or the settings changed, by stage; of those that were
        reached."""
        found = {
            "runtime": self.choice.taken.identity if self.choice is not None else "",
            "dependencies": self.packages_digest,
            "settings": self.settings_digest,
        }
        return {stage: value for stage, value in found.items() if value}

    def decisions_of_commands(self) -> list[object]:
        """Those that every command of the part stands on; none where nothing was decided."""
        own = self.decisions
        return (
            [(own.import_folders, own.secret_key, own.development_mode, own.variables, own.own_secrets)]
            if own != Decisions()
            else []
        )

    @property
    def start_is_chosen(self) -> bool:
        """Whether the person said which start command it is."""
        command = self.choices.server.command
        return command is not None and command.origin is Origin.PERSON

    def development_mode(self, rule: FailureKind = FailureKind.UNKNOWN) -> DevelopmentMode | None:
        """That of the part's framework whose rule recognised a failure (UNKNOWN: any); None where no framework has
        one, or its settings module is no name: the clone's template says it, and it becomes code."""
        modes = [one.development for one in self.part.frameworks if one.development is not None]
        mode = next((one for one in modes if rule is FailureKind.UNKNOWN or rule in one.adds), None)
        if mode is None or not re.fullmatch(
            r"[A-Za-z_][\w.]*", self.settings.get(mode.variable, mode.module)
        ):
            return None
        return mode

    def development_folder(self) -> Path:
        """Where the settings module of ours lies."""
        return self.state.folder / "tools" / self.state.name_of(self.part.key) / "development"

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
        wished = self.choices.environment or self.state.read(self.part.key, EnvironmentFolder).folder
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
        if not self.onboarded:
            return
        self.environment.prepare(self.folder, self.chosen(), self.access())
        mode = self.development_mode() if self.choices.settings.development_mode else None
        if mode is not None:
            module = self.settings.get(mode.variable, mode.module)
            text = (
                f'"""Made by Plainfall: {module}, in development mode."""\n\n'
                f"from {module} import *  # noqa: F403\n\n{mode.more}"
            )
            self.state.confined.write(self.development_folder() / f"{_OWN_SETTINGS}.py", text)

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
        named = dict(self.choices.variables)
        mode = self.development_mode() if self.choices.settings.development_mode else None
        for number, name in enumerate(self.language.folder_variables):
            places = [str(self.folder / named[name])] if name in named else []
            if number == 0:
                places += [str(self.clone / folder) for folder in self.choices.import_folders]
                places += [str(self.development_folder())] if mode is not None else []
            if places:
                named[name] = os.pathsep.join(places)
        return {
            **variables,
            **self._secret_key(),
            **self.state.read(self.part.key, DriverVariables).variables,
            **named,
            **self.settings,
            **({mode.variable: _OWN_SETTINGS} if mode is not None else {}),
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
        """A key for sessions under the names that frameworks read by themselves, where the application has none,
        and the secrets of its own that it asked for: the same each time, and never written anywhere."""
        chosen = self.choices.settings
        secrets = {name: self.state.seal.mark(_KEY, self.part.key, name) for name in chosen.own_secrets}
        if chosen.secret_key:
            secrets |= dict.fromkeys(
                ("SECRET_KEY", "FLASK_SECRET_KEY"), self.state.seal.mark(_KEY, self.part.key)
            )
        return secrets

    def masked(self, text: str) -> str:
        """The text with every secret value among the settings covered."""
        return masked(text, {**self._secret_key(), **self.settings})
