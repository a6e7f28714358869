"""Whether other versions of packages may help against a failure."""

from __future__ import annotations

from plainfall.failure_kinds import FailureKind
from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.run.changes import Failure

__all__ = ["is_of_versions"]

_OF_ANOTHER_KIND = frozenset(
    {
        FailureKind.COMMAND_MISSING,
        FailureKind.SETTING_MISSING,
        FailureKind.DATABASE_UNREACHABLE,
        FailureKind.CONNECTION_REFUSED,
        FailureKind.HOST_UNKNOWN,
        FailureKind.HOST_UNREACHED,
        FailureKind.HOST_NAMELESS,
        FailureKind.PORT_TAKEN,
        FailureKind.PORT_PRIVILEGED,
        FailureKind.PERMISSION,
        FailureKind.DISK_FULL,
        FailureKind.KILLED,
        FailureKind.QUESTION,
        FailureKind.REFUSES_ROOT,
        FailureKind.TABLE_MISSING,
        FailureKind.FILE_MISSING,
        FailureKind.MIGRATION_PENDING,
        FailureKind.DATABASE_FILE,
        FailureKind.DATABASE_PASSWORD,
        FailureKind.DATABASE_NOT_THERE,
    }
)


def is_of_versions(failure: Failure) -> bool:
    """Whether it is one of the packages themselves, or output with an error that is not known to be of another
    kind."""
    if failure.error.rule in _OF_ANOTHER_KIND:
        return False
    return failure.stage is Stage.DEPENDENCIES or any("Error" in line for line in failure.error.lines)
