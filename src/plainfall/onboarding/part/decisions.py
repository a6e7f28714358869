"""What a run of a part decides beyond what clone and person say: one frozen value, which a failure may change.

A run is a function of the clone, the person's wishes and these decisions. Those under which a part came up are kept
with the clone, so that the next run begins with them and has nothing to find out.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar

from msgspec import Struct
from msgspec.structs import replace

from plainfall.clone.commands import Command
from plainfall.clone.parts import Addition
from plainfall.ecosystems.shape import InstallWishes
from plainfall.evidence import Evidence
from plainfall.kept_records import Record
from plainfall.onboarding.records.state import CloneState

__all__ = [
    "Decisions",
    "NamedService",
    "PackageAdded",
    "StartCommand",
    "decisions_of",
    "keep_decisions",
    "team_of",
    "with_wishes",
]

_VERSION = 1


class PackageAdded(Struct, frozen=True):
    """A package beyond the list: the requirement (or a folder of the clone, if ``in_place``), and the line that
    names it: its file, its number and its text. ``needs_no_list`` tells that the language itself knows its
    name."""

    requirement: str
    file: str
    line: int
    text: str = ""
    in_place: bool = False
    needs_no_list: bool = False

    @classmethod
    def of(cls, addition: Addition) -> PackageAdded:
        """The record of an addition."""
        place = addition.evidence
        return cls(
            addition.text, place.path, place.line, place.text, addition.in_place, addition.is_well_known
        )

    def as_addition(self) -> Addition:
        """The addition to a dependency list."""
        place = Evidence(self.file, self.line, self.text)
        return Addition(self.requirement, place, place, self.in_place)


class StartCommand(Struct, frozen=True):
    """A start command that is none of those that the survey found first: the line, and why."""

    line: str
    reason: str

    def as_command(self, found: Sequence[Command]) -> Command:
        """The candidate of that line among those that were found; where none has it, one made after the first."""
        for one in found:
            if one.line == self.line:
                return one
        return replace(found[0], line=self.line, reason=self.reason)


class NamedService(Struct, frozen=True):
    """A server that no setting addresses, and a failure names: its kind, and the port at which it is looked for."""

    kind: str
    port: int


class Decisions(Struct, frozen=True):
    """Everything that a failure may have changed.

    ``standard_modules`` are modules of the standard library that the runtime has to have; ``ready_package`` is a
    name and a version that have to be published ready to use for it. ``day`` (ISO 8601) is the one whose versions
    count, ``release`` the line of a framework that the project says it works with. ``packages`` come beyond the
    list, as do ``extras`` and ``groups``; ``install_code`` names packages whose own code the person let run.
    ``import_folders`` are folders of the clone in which modules are found. ``secret_key`` tells that the
    application gets a key of ours, ``development_mode`` that a settings module of ours takes the project's over.
    ``start`` is the start command, None for the survey's first one. ``held_back`` are wishes for older releases of
    packages, ``variables`` go to the part's commands, ``services`` are those that only a failure names;
    ``left_out`` are tasks that failed and that the server may do without, ``own_secrets`` names of variables under
    which the part's commands get secrets of the project's own that nobody has set."""

    standard_modules: tuple[str, ...] = ()
    ready_package: tuple[str, str] | None = None
    day: str = ""
    release: str = ""
    packages: tuple[PackageAdded, ...] = ()
    extras: tuple[str, ...] = ()
    install_code: tuple[str, ...] = ()
    import_folders: tuple[str, ...] = ()
    secret_key: bool = False
    development_mode: bool = False
    start: StartCommand | None = None
    held_back: tuple[str, ...] = ()
    variables: tuple[tuple[str, str], ...] = ()
    services: tuple[NamedService, ...] = ()
    left_out: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    own_secrets: tuple[str, ...] = ()


class DecisionsKept(Record, frozen=True):
    """The decisions of the last run, and the digest of the team's that it began with."""

    NAME: ClassVar[str] = "decisions"
    team: str = ""
    decisions: Decisions = Decisions()


def decisions_of(state: CloneState, part: str) -> Decisions | None:
    """Those of an earlier run; None where there was none, or its record cannot be read."""
    record = state.kept(part, DecisionsKept)
    return record.decisions if record is not None else None


def team_of(state: CloneState, part: str) -> str:
    """The digest of the team's decisions that those of an earlier run began with."""
    return state.read(part, DecisionsKept).team


def with_wishes(decisions: Decisions, wishes: InstallWishes) -> Decisions:
    """The decisions without what the person wishes to be forgotten (the word "none"), or decided now."""
    if wishes.as_of:
        decisions = replace(decisions, day="")
    if wishes.rather:
        decisions = replace(decisions, release="")
    if "none" in wishes.extras:
        decisions = replace(decisions, extras=())
    return decisions


def keep_decisions(state: CloneState, part: str, decisions: Decisions, team: str = "") -> None:
    """Keeps them for the next run, with the digest of the team's that they began with."""
    if decisions != decisions_of(state, part) or team != team_of(state, part):
        state.keep(part, DecisionsKept(team=team, decisions=decisions))
