"""What a stage hands on to the later ones of its part: one frozen value, whose fields are those of ``Work``."""

from __future__ import annotations

from msgspec import Struct

from plainfall.clone.parts import Contradiction, PartFound
from plainfall.data.sqlite import DatabaseFound
from plainfall.kept_records import ServerKept
from plainfall.onboarding.part.edits import Edits
from plainfall.runtimes.choice import Choice
from plainfall.settings.setting import Setting

__all__ = [
    "EnvironmentResult",
    "PackagesResult",
    "RuntimeResult",
    "ServerResult",
    "ServicesResult",
    "SettingsResult",
    "StageResult",
    "TasksResult",
]


class StageResult(Struct, frozen=True):
    """Nothing that a later stage needs."""


class RuntimeResult(StageResult, frozen=True):
    """The runtime that was chosen."""

    choice: Choice


class EnvironmentResult(StageResult, frozen=True):
    """What watches for files of packages that somebody edited; None in a preview."""

    edits: Edits | None


class PackagesResult(StageResult, frozen=True):
    """The digest of all that the part's packages stand on."""

    packages_digest: str


class SettingsResult(StageResult, frozen=True):
    """The part's values by key; each with where it is from; the database file that they name; what in the clone
    does not agree; the digest of the values."""

    settings: dict[str, str]
    settings_shown: tuple[Setting, ...]
    database: DatabaseFound | None
    contradictions: tuple[Contradiction, ...]
    settings_digest: str


class ServicesResult(StageResult, frozen=True):
    """Which servers could not be brought up, in words; what tells the databases of those that answer from any other
    (None: not looked at); the private ones among them, as pairs of server and database."""

    lacking: tuple[str, ...]
    servers_used: tuple[str, ...] | None
    server_databases: tuple[tuple[str, str], ...]


class TasksResult(StageResult, frozen=True):
    """The part with the commands that its task runner lists."""

    part: PartFound


class ServerResult(StageResult, frozen=True):
    """The server that runs, and what its page was when it was asked for last."""

    server: ServerKept | None
