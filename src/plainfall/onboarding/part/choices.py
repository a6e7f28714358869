"""Everything that a run of a part decides, as one frozen value: a run is a function of the clone and of its
choices.

The survey proposes, each choice with its evidence and with the alternatives in order; the person's options and the
team's ``plainfall.toml`` fix some; what a failure has changed (``Decisions``) lies over the proposal. Stages read
these choices and nothing else of what anybody wished.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from enum import StrEnum
from pathlib import Path
from typing import Any, Generic, TypeVar

from msgspec import Struct, field
from msgspec.structs import replace

from plainfall.clone.commands import Command
from plainfall.clone.parts import PartFound
from plainfall.ecosystems.shape import InstallWishes
from plainfall.evidence import Evidence
from plainfall.kept_records import Installed
from plainfall.onboarding.part.chosen_commands import CHOSEN_RANK
from plainfall.onboarding.part.decisions import Decisions, NamedService, PackageAdded, StartCommand
from plainfall.runtimes.asks import VersionAsk

__all__ = ["Chosen", "Choices", "Origin", "RuntimeChoice", "ServerChoice", "SettingsChoice", "Wishes"]

_WORTH_TRYING = 3  # start commands of a lower rank name what is not here
_TRIES = 3  # start commands that are tried in one run

_Value = TypeVar("_Value")


class Origin(StrEnum):
    """Who made a choice."""

    SURVEY = "the survey"
    PERSON = "the person"
    FAILURE = "a failure"


class Chosen(Struct, Generic[_Value], frozen=True):
    """One choice: its value, who made it, the lines that speak for it, and what else it could be, the likeliest
    first."""

    value: _Value
    origin: Origin
    evidence: tuple[Evidence, ...] = ()
    alternatives: tuple[_Value, ...] = ()


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
    attempts: int = 12


class RuntimeChoice(Struct, frozen=True):
    """By what the interpreter is chosen: the file that the person named (None: nobody did), the versions that are
    asked for, modules that its standard library must have, a package (name, version) that must be published ready
    to use for it, and the day (ISO 8601, "" for none) to whose versions it must fit."""

    file: Path | None
    asks: tuple[VersionAsk, ...]
    standard_modules: tuple[str, ...]
    ready_package: tuple[str, str] | None
    day: str


class SettingsChoice(Struct, frozen=True):
    """The values that the person gave, and what is laid over the part's own settings: a key for sessions of ours
    (``secret_key``), a settings module of ours for development, secrets that nobody has set (their names)."""

    given: Mapping[str, str]
    secret_key: bool
    development_mode: bool
    own_secrets: tuple[str, ...]


class ServerChoice(Struct, frozen=True):
    """How the server is started: the command (None where none was found), the port that the person asked for,
    whether a debugger can attach, and the longest wait for the first answer, in seconds."""

    command: Chosen[Command] | None
    port: int | None
    debug: bool
    wait: float


class Choices(Struct, frozen=True):
    """All of them. ``packages`` says which versions, extras, groups and whose own code, ``packages_asked`` the
    same without what failures changed: that much is kept with what was installed; ``added`` are packages beyond
    the list; ``steps`` are the commands of the stages before the server (by the stage's name, with what else
    would do); ``services`` are servers that only a failure names, ``import_folders`` folders of the clone in
    which modules are found, ``left_out`` tasks that the server may do without. ``environment`` is the name of
    the environment's folder ("": the language's usual one), ``mends`` tells that what usually only a person
    does may be done (--mend), ``seed_again`` that rows are added once more, ``fetch_services`` that a server's
    program may come from a registry."""

    runtime: RuntimeChoice
    listed: Chosen[str] | None
    packages: InstallWishes
    packages_asked: InstallWishes
    added: tuple[PackageAdded, ...]
    environment: str
    settings: SettingsChoice
    steps: Mapping[str, Chosen[Command]]
    server: ServerChoice
    variables: Mapping[str, str]
    services: tuple[NamedService, ...]
    import_folders: tuple[str, ...]
    left_out: tuple[str, ...]
    mends: bool
    seed_again: bool
    fetch_services: bool

    @classmethod
    def of(cls, part: PartFound, wishes: Wishes, decisions: Decisions, before: Installed) -> Choices:
        """What the survey proposes for a part, with what the person fixed, now and when the part was installed last
        (``before``), and what failures changed."""
        asked = _with_those_before(wishes.install, before)
        packages = _with_decisions(asked, decisions)
        return cls(
            RuntimeChoice(
                wishes.runtime,
                part.asks,
                decisions.standard_modules,
                decisions.ready_package,
                packages.as_of,
            ),
            _list(part),
            packages,
            asked,
            decisions.packages,
            wishes.environment,
            SettingsChoice(
                wishes.given, decisions.secret_key, decisions.development_mode, decisions.own_secrets
            ),
            {
                stage: Chosen(rows[0], Origin.SURVEY, (rows[0].evidence,), tuple(rows[1:]))
                for stage in ("dependencies", "migrations", "seeds", "tasks")
                if (rows := part.candidates(stage))
            },
            ServerChoice(_start(part, decisions.start), wishes.port, wishes.debug, wishes.wait),
            {**part.variables, **dict(decisions.variables)},
            decisions.services,
            decisions.import_folders,
            decisions.left_out,
            wishes.mend,
            wishes.seed_again,
            wishes.fetch_services,
        )

    def rows(self) -> list[dict[str, Any]]:
        """The choices with alternatives, for a JSON document."""
        found: list[tuple[str, Chosen[Any] | None]] = [
            ("dependency list", self.listed),
            *((stage, self.steps[stage]) for stage in self.steps),
            ("start command", self.server.command),
        ]
        return [
            {
                "choice": name,
                "value": _words(one.value),
                "made_by": str(one.origin),
                "evidence": [place.as_json() for place in one.evidence],
                "alternatives": [_words(other) for other in one.alternatives],
            }
            for name, one in found
            if one is not None
        ]


def _with_those_before(wishes: InstallWishes, before: Installed) -> InstallWishes:
    """The wishes of this run with those of earlier ones; the word "none" forgets the ones before."""
    return replace(
        wishes,
        extras=_remembered(wishes.extras, before.extras),
        groups=_remembered(wishes.groups, before.groups),
        allowed=_remembered(wishes.allowed, before.allowed),
        from_imports=wishes.from_imports or before.from_imports,
        with_client=wishes.with_client or before.with_client,
        rather=() if "none" in wishes.rather else wishes.rather or before.rather,
        as_of="" if wishes.as_of == "none" else wishes.as_of or before.as_of,
        instead={**before.instead, **wishes.instead},
    )


def _remembered(asked: frozenset[str], before: Iterable[str]) -> frozenset[str]:
    return asked - {"none"} if "none" in asked else asked | frozenset(before)


def _with_decisions(wishes: InstallWishes, decisions: Decisions) -> InstallWishes:
    """The wishes with what failures have changed, where the person does not wish otherwise."""
    return replace(
        wishes,
        extras=wishes.extras | frozenset(decisions.extras),
        groups=wishes.groups | frozenset(decisions.groups),
        allowed=wishes.allowed | frozenset(decisions.install_code),
        as_of=wishes.as_of or decisions.day,
        rather=wishes.rather or ((decisions.release,) if decisions.release else ()),
        held_back=decisions.held_back,
    )


def _words(value: object) -> str:
    return value.line if isinstance(value, Command) else str(value)


def _list(part: PartFound) -> Chosen[str] | None:
    listed = part.dependencies
    return (
        Chosen(listed.path, Origin.SURVEY, (listed.evidence,), listed.others) if listed is not None else None
    )


def _start(part: PartFound, decided: StartCommand | None) -> Chosen[Command] | None:
    """The start command: the person's own alone; one that a failure led to, then the best that were found."""
    found = part.candidates("server")
    if not found:
        return None
    if found[0].rank >= CHOSEN_RANK:
        return Chosen(found[0], Origin.PERSON, (found[0].evidence,))
    others = [one for one in found if decided is None or one.line != decided.line]
    others = [one for number, one in enumerate(others) if number == 0 or one.rank >= _WORTH_TRYING]
    if decided is None:
        return Chosen(others[0], Origin.SURVEY, (others[0].evidence,), tuple(others[1:_TRIES]))
    first = decided.as_command(found)
    return Chosen(first, Origin.FAILURE, (first.evidence,), tuple(others[: _TRIES - 1]))
