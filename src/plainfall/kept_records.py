"""What is kept of a clone between runs: a struct for each kind of record, with its version.

A record is read by ``CloneState.read`` and written by ``CloneState.keep``. One of another version, or whose
fields do not have these types (another release wrote it), is set aside: the run finds out anew what it said.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, ClassVar, TypeVar

import msgspec
from msgspec import Struct

__all__ = [
    "AdministratorMade",
    "CheckKept",
    "ChecksKept",
    "DataStep",
    "DatabaseCounts",
    "DriverVariables",
    "EnvironmentFolder",
    "FirstSteps",
    "Installed",
    "LastRun",
    "LeftBehind",
    "MadeKept",
    "NotBuilt",
    "ProcessKept",
    "ProgramRun",
    "Record",
    "RegistryHosts",
    "RuntimeTaken",
    "ServerCopies",
    "ServerKept",
    "ServerPrograms",
    "ServiceKept",
    "SettingsWritten",
    "SkippedStages",
    "StartChosen",
    "StartTime",
    "StepsThatServe",
    "TaskList",
    "TasksDone",
    "TemplateAsked",
    "as_stored",
    "read_stored",
]


class Record(Struct, frozen=True):
    """What is kept under ``NAME`` for a part, or for the clone ("" for the part). ``CARRIED`` tells whether a
    copy of the clone takes it over: what is true of the files that came along."""

    NAME: ClassVar[str] = ""
    VERSION: ClassVar[int] = 1
    CARRIED: ClassVar[bool] = False


_VERSION = "record_version"  # the name of its value in what is stored

R = TypeVar("R", bound=Record)


def as_stored(record: Record) -> dict[str, Any]:
    """A record as JSON values, its version among them."""
    fields: dict[str, Any] = msgspec.to_builtins(record)
    return {_VERSION: record.VERSION, **fields}


def read_stored(stored: object, kind: type[R]) -> R | None:
    """The record of stored JSON values; None for those of another version, or that have other types. Values
    without a version are of the releases before there were any, whose fields were those of version 1.

    >>> read_stored({"record_version": 1, "seconds": 2.5}, StartTime)
    StartTime(seconds=2.5)
    >>> read_stored({"record_version": 1, "seconds": "long"}, StartTime) is None
    True
    """
    if not isinstance(stored, dict) or stored.get(_VERSION, 1) != kind.VERSION:
        return None
    try:
        return msgspec.convert({name: value for name, value in stored.items() if name != _VERSION}, kind)
    except msgspec.ValidationError:
        return None


class ProcessKept(Record, frozen=True):
    """A process that was started and is meant to stay: the leader's id and start time (seconds since 1970; 0 before
    it is known), the mark that all of it bears, the command line, the log, the port that it was given, the ids and
    start times of its other processes, its control group ("" for none), and the digest of what it stands on."""

    pid: int = 0
    started: float = 0.0
    mark: str = ""
    command: str = ""
    log: str = ""
    port: int = 0
    others: tuple[tuple[int, float], ...] = ()
    group: str = ""
    fingerprint: str = ""


class ServerKept(ProcessKept, frozen=True):
    """A part's dev server: besides, its address ("" before it answers), the port that was wished for, how an editor
    attaches to its debugger, and what its page was when it was asked for last."""

    url: str = ""
    wanted: int = 0
    attach: dict[str, Any] | None = None
    probe: dict[str, Any] | None = None


class ServiceKept(Record, frozen=True):
    """A private server of the clone, or one that is used as it is: its kind, what it is called, its port, its data
    folder with device and inode, the folder of its sockets, a digest of the accounts that were let in, which making
    of the data it is, and its process."""

    kind: str = ""
    title: str = ""
    port: int = 0
    data: str = ""
    sockets: str = ""
    accounts: str = ""
    made: str = ""
    identity: tuple[int, int] | None = None
    used: bool = False
    running: ProcessKept = ProcessKept()


class MadeKept(Record, frozen=True):
    """Something that we made in the clone, or wrote to: its kind ("folder", "file", "settings", "packages" …);
    of packages device and inode; of a settings file the digests of the texts that we wrote, whether it was
    there before (``was``, with its mode and its time in ns), and whether somebody changed it since."""

    kind: str = ""
    inode: tuple[int, int] | None = None
    text: tuple[str, ...] | None = None
    was: bool = False
    mode: int = 0
    time: int = 0
    edited: bool = False


class RuntimeTaken(Record, frozen=True):
    """The interpreter that a part was given: what identifies it, its file, its version."""

    NAME: ClassVar[str] = "runtime"
    identity: str = ""
    file: str = ""
    version: str = ""


class EnvironmentFolder(Record, frozen=True):
    """The name of the folder of the part's environment, where another one than the usual was wished for."""

    NAME: ClassVar[str] = "environment folder"
    folder: str = ""


class NotBuilt(Struct, frozen=True):
    """Why the project itself could not be built: as the error said it."""

    cause: str
    remedy: str = ""
    lines: tuple[str, ...] = ()
    log: str | None = None
    package: str = ""
    version: str = ""


class Installed(Record, frozen=True):
    """The last installation of a part: the digests that it stands on (``inputs``: of the list's files alone), the
    labels of its packages, what the language notes for the next one (``memory``) and where it laid what
    (``layout``), and what was chosen for it. ``withheld`` are packages whose own code was not allowed to run."""

    NAME: ClassVar[str] = "dependencies"
    fingerprint: str = ""
    inputs: str = ""
    names: tuple[str, ...] = ()
    memory: Mapping[str, Any] = {}
    layout: Mapping[str, Sequence[str]] = {}
    instead: dict[str, str] = {}
    extras: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    allowed: tuple[str, ...] = ()
    from_imports: bool = False
    as_of: str = ""
    rather: tuple[str, ...] = ()
    with_client: bool = False
    withheld: tuple[str, ...] = ()
    not_built: NotBuilt | None = None

    def choices(self) -> Installed:
        """What was chosen, without what was laid."""
        return Installed(
            instead=self.instead,
            extras=self.extras,
            groups=self.groups,
            allowed=self.allowed,
            from_imports=self.from_imports,
            as_of=self.as_of,
            rather=self.rather,
            with_client=self.with_client,
        )


class RegistryHosts(Record, frozen=True):
    """The registries that may have the person's login for this clone, and those that may not."""

    NAME: ClassVar[str] = "registry hosts"
    CARRIED: ClassVar[bool] = True
    allowed: tuple[str, ...] = ()
    refused: tuple[str, ...] = ()


class SettingsWritten(Record, frozen=True):
    """The settings files of a unit that we made; for each file, origin and fingerprint of each value; the keys that
    stay open, since the person wished so; the salt of the fingerprints."""

    NAME: ClassVar[str] = "settings"
    SHARED: ClassVar[str] = "shared settings"
    CARRIED: ClassVar[bool] = True
    made: tuple[str, ...] | str = ()  # one name, in records of the first releases
    origins: dict[str, dict[str, tuple[str, str]]] = {}
    skipped: tuple[str, ...] = ()
    salt: str = ""

    @property
    def files(self) -> tuple[str, ...]:
        """The files that we made."""
        return (self.made,) if isinstance(self.made, str) else self.made


class DriverVariables(Record, frozen=True):
    """The variables by which drivers find the part's private servers."""

    NAME: ClassVar[str] = "server variables"
    variables: dict[str, str] = {}


class ServerPrograms(Record, frozen=True):
    """Whether the person agreed that programs of servers are fetched."""

    NAME: ClassVar[str] = "fetching of server programs"
    agreed: bool = False


class DataStep(Record, frozen=True):
    """Migrations or seeds that ran on a database: the digest of all they stand on, or of their files alone
    (``inputs``), the mark of their processes, the database file with device and inode, the rows in it afterwards,
    the servers used, the files of migrations, the tables that were filled."""

    NAME: ClassVar[str] = "migrations"
    SEEDS: ClassVar[str] = "seeds"
    CARRIED: ClassVar[bool] = True
    fingerprint: str = ""
    inputs: str = ""
    mark: str = ""
    command: str = ""
    database: str | None = None
    inode: tuple[int, int] | None = None
    rows: dict[str, int] = {}
    servers: tuple[str, ...] | None = None
    files: tuple[str, ...] | None = None
    filled: tuple[str, ...] = ()


class ServerCopies(Record, frozen=True):
    """A step on private servers that is under way: its name, its mark, and for each database the server's name, its
    own, and that of its copy."""

    NAME: ClassVar[str] = "server step under way"
    step: str = ""
    mark: str = ""
    rows: tuple[tuple[str, str, str], ...] = ()


class AdministratorMade(Record, frozen=True):
    """The database in which a first administrator was made: its file, and device and inode."""

    NAME: ClassVar[str] = "administrator"
    CARRIED: ClassVar[bool] = True
    database: tuple[str | None, tuple[int, int] | None] = (None, None)


class FirstSteps(Record, frozen=True):
    """The first steps of the project's own that were carried out."""

    NAME: ClassVar[str] = "first step"
    lines: tuple[str, ...] = ()


class StepsThatServe(Record, frozen=True):
    """Commands that were taken for steps of the set-up, and turned out to be servers."""

    NAME: ClassVar[str] = "steps that serve"
    CARRIED: ClassVar[bool] = True
    lines: tuple[str, ...] = ()


class TasksDone(Record, frozen=True):
    """The digest of what the part's tasks stand on."""

    NAME: ClassVar[str] = "tasks"
    fingerprint: str = ""


class TaskList(Record, frozen=True):
    """The names that the project's own task runner lists, and the digest of what its answer stands on."""

    NAME: ClassVar[str] = "task list"
    fingerprint: str = ""
    names: tuple[str, ...] = ()


class ProgramRun(Record, frozen=True):
    """A program that was run and is no server: what it stands on, and what was said of it."""

    NAME: ClassVar[str] = "program"
    fingerprint: str = ""
    title: str = ""


class StartChosen(Record, frozen=True):
    """The start command that the person chose."""

    NAME: ClassVar[str] = "start command"
    CARRIED: ClassVar[bool] = True
    line: str = ""


class SkippedStages(Record, frozen=True):
    """The names of the stages that the person leaves out."""

    NAME: ClassVar[str] = "skipped stages"
    names: tuple[str, ...] = ()


class StartTime(Record, frozen=True):
    """How long the server took until its first answer, in seconds."""

    NAME: ClassVar[str] = "start time"
    seconds: float = 0.0


class TemplateAsked(Record, frozen=True):
    """The script that gives a template its name, and the name that it was run with ("": it was not)."""

    NAME: ClassVar[str] = "template script"
    path: str = ""
    name: str = ""


class LeftBehind(Record, frozen=True):
    """What the project's commands left: paths with the time at which they were seen (ns since 1970), files that are
    named and stay, the spans of time in which commands and servers ran, the span that is open with what stood
    before it, and the patterns of what may go (what is ignored and left behind, uploads)."""

    NAME: ClassVar[str] = "left behind"
    CARRIED: ClassVar[bool] = True
    paths: dict[str, int] = {}
    named: tuple[str, ...] = ()
    spans: tuple[tuple[int, int], ...] = ()
    served: tuple[tuple[int, int], ...] = ()
    open: tuple[int, tuple[str, ...]] | None = None
    patterns: tuple[tuple[str, ...], tuple[str, ...]] = ((), ())


class LastRun(Record, frozen=True):
    """When the last run ended (local time), at which commit, and how."""

    NAME: ClassVar[str] = "last run"
    at: str = ""
    commit: str = ""
    outcome: str = ""


class CheckKept(Struct, frozen=True):
    """A check's last result: its command, how it ended and why, its counts in words, seconds, when (local
    time), the names and texts of what failed, and what names the command."""

    command: str
    state: str
    why: str
    words: str
    seconds: float
    at: str
    failures: tuple[tuple[str, str], ...]
    place: str


class ChecksKept(Record, frozen=True):
    """The last result of each kind of check."""

    NAME: ClassVar[str] = "checks"
    results: dict[str, CheckKept] = {}


class DatabaseCounts(Record, frozen=True):
    """The rows of each table when the person last looked, and when that was (ISO 8601, UTC). Kept under its name
    with the database's label behind it."""

    NAME: ClassVar[str] = "look at "
    rows: dict[str, int] = {}
    when: str = ""
