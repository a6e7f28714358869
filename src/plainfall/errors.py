"""Everything that Plainfall raises on purpose.

::

    PlainfallError                 something foreseeable went wrong; has a cause and a remedy
    ├── UsageProblem               the words on the command line do not fit (exit status 2)
    ├── NothingToOnboard           no part that Plainfall knows how to onboard (exit status 4)
    ├── IntakeFailed               an address or archive did not come to a clone
    ├── CloneBusy                  another run holds the clone
    ├── BadInput                   a file of the clone cannot be understood; names file and line
    ├── PathRefused                a path leads out of the folder in which Plainfall may write
    ├── ForeignState               a state folder that this user's Plainfall did not write for this clone
    ├── NoFittingRuntime           no interpreter here satisfies what the clone asks for
    ├── EnvironmentProblem         an environment exists that is not ours to replace
    ├── DependencyProblem          the dependency list cannot be met
    ├── RegistryProblem            a package registry did not give what was asked of it
    ├── ArchiveRefused             a package archive is damaged or hostile
    │   └── HashMismatch           its bytes are not those that the lock file names
    ├── CommandFailed              a command of the project ended with an error
    │   └── BuildFailed                a package that exists as source alone could not be built
    ├── DatabaseProblem            a database could not be looked into or put back
    ├── ServerFailed               a dev server ended, did not answer, or could not be stopped
    ├── ValueNeeded                a setting that only the person knows is needed (exit status 3)
    ├── DiskFull                   no space left on the device
    └── MemoryExhausted            this program's own limit of memory is reached
"""

from __future__ import annotations

import errno
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from plainfall.evidence import Evidence
from plainfall.failure_facts import Facts
from plainfall.failure_kinds import FailureKind

__all__ = [
    "ArchiveRefused",
    "BadInput",
    "BuildFailed",
    "CloneBusy",
    "CommandFailed",
    "DatabaseProblem",
    "DependencyProblem",
    "DiskFull",
    "IntakeFailed",
    "EnvironmentProblem",
    "ForeignState",
    "HashMismatch",
    "NoFittingRuntime",
    "NothingToOnboard",
    "PathRefused",
    "PlainfallError",
    "RegistryProblem",
    "ServerFailed",
    "ServiceFailed",
    "UsageProblem",
    "ValueNeeded",
    "disk_full_explained",
]


class PlainfallError(Exception):
    """A foreseeable failure.

    ``cause`` is one sentence; ``remedy`` says what to do about it (may be empty); ``place`` is the file and line
    that it is about; ``lines`` are the lines of output that matter; ``log`` is the path of the full output;
    ``mend`` names what Plainfall itself may do about it; ``rule`` and ``facts`` are the kind that it was recognised
    as, and what is known of it. ``command`` is the start command that ended at once, "" for all else, and
    ``another_may_do`` tells that no reason is known for which every other one would fail, too; ``fault`` is what is
    wrong with a page, one of those of ``server.faults``; ``files_written`` came into the part's folder while the
    start command ran."""

    exit_status = 1

    def __init__(
        self,
        cause: str,
        *,
        remedy: str = "",
        place: Evidence | None = None,
        lines: tuple[str, ...] = (),
        log: str | None = None,
        mend: str = "",
        rule: FailureKind = FailureKind.UNKNOWN,
        facts: Facts | None = None,
        command: str = "",
        another_may_do: bool = False,
        fault: str = "",
        files_written: tuple[str, ...] = (),
    ) -> None:
        super().__init__(cause)
        self.cause = cause
        self.remedy = remedy
        self.place = place
        self.lines = lines
        self.log = log
        self.mend = mend
        self.rule = rule
        self.facts = facts if facts is not None else Facts()
        self.command = command
        self.another_may_do = another_may_do
        self.fault = fault
        self.files_written = files_written

    def __str__(self) -> str:
        return f"{self.place}: {self.cause}" if self.place else self.cause

    def __reduce__(self) -> tuple[object, ...]:
        """Errors travel between processes whole."""
        return _rebuild, (type(self), self.cause, {name: getattr(self, name) for name in _FACTS})


_FACTS = "remedy place lines log mend rule facts command another_may_do fault files_written".split()


def _rebuild(kind: type[PlainfallError], cause: str, facts: dict[str, Any]) -> PlainfallError:
    return kind(cause, **facts)


class UsageProblem(PlainfallError):
    exit_status = 2


class NothingToOnboard(PlainfallError):
    exit_status = 4


class IntakeFailed(PlainfallError):
    """An address or archive did not come to a clone."""


class CloneBusy(PlainfallError):
    pass


class BadInput(PlainfallError):
    pass


class PathRefused(PlainfallError):
    pass


class ForeignState(PlainfallError):
    pass


class NoFittingRuntime(PlainfallError):
    pass


class EnvironmentProblem(PlainfallError):
    pass


class DependencyProblem(PlainfallError):
    pass


class RegistryProblem(PlainfallError):
    pass


class ArchiveRefused(PlainfallError):
    pass


class HashMismatch(ArchiveRefused):
    pass


class CommandFailed(PlainfallError):
    pass


class BuildFailed(CommandFailed):
    """A package that could not be built; its facts are a ``PackageNotBuilt``."""


class DatabaseProblem(PlainfallError):
    pass


class ServerFailed(PlainfallError):
    pass


class ServiceFailed(PlainfallError):
    pass


class ValueNeeded(PlainfallError):
    exit_status = 3


class DiskFull(PlainfallError):
    pass


class MemoryExhausted(PlainfallError):
    pass


@contextmanager
def disk_full_explained(doing: str) -> Iterator[None]:
    """Turns "no space left" (ENOSPC, EDQUOT) inside the block into ``DiskFull``; ``doing`` says what was
    being written. Other errors pass through."""
    try:
        yield
    except OSError as error:
        if error.errno in (errno.ENOSPC, errno.EDQUOT):
            where = f" ({error.filename})" if error.filename else ""
            raise DiskFull(
                f"the disk is full: {doing}{where}",
                remedy="Free some space and run the same command again; it goes on where it stopped.",
            ) from error
        raise
