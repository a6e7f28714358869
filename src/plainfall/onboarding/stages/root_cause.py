"""The root of a chain of failures: what failed steps before, and was no reason to stop there."""

from __future__ import annotations

from plainfall.errors import BuildFailed, PlainfallError
from plainfall.failure_facts import PackageNotBuilt
from plainfall.failure_kinds import FailureKind
from plainfall.kept_records import NotBuilt
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.stages.install_wishes import installed_before

__all__ = ["record_of", "with_root"]

_MISSING = (
    FailureKind.COMMAND_MISSING,
    FailureKind.PROGRAM_MISSING,
    FailureKind.MODULE_MISSING,
    FailureKind.PACKAGE_ASKED_FOR_MISSING,
)


def record_of(error: PlainfallError | None) -> NotBuilt | None:
    """What is kept of the build of the project itself that failed."""
    if error is None:
        return None
    lines = tuple(line for line in error.lines if line.strip())
    built = error.facts
    package = (built.package, built.version) if isinstance(built, PackageNotBuilt) else ("", "")
    return NotBuilt(error.cause, error.remedy, lines, error.log, *package)


def with_root(work: Work, error: PlainfallError) -> PlainfallError:
    """The failure of a later step; where it only says that something of the project itself is missing, and the
    project could not be built, the failure of that build, with what followed from it."""
    if error.rule not in _MISSING or not _is_own(work, error.facts.named):
        return error
    root = installed_before(work).not_built
    if root is None:
        return error
    return BuildFailed(
        f"the project itself is not installed: {root.cause}",
        remedy=f"Mend what these lines name in the project's own build; the whole log: {root.log}"
        if root.log
        else root.remedy,
        place=error.place,
        lines=(*root.lines, f"so later: {error.cause}"),
        log=root.log,
        rule=FailureKind.BUILD_FAILED,
        facts=PackageNotBuilt(package=root.package, version=root.version),
        command=error.command,
        another_may_do=error.another_may_do,
    )


def _is_own(work: Work, name: str) -> bool:
    """Whether a program or a module is one of the project's own."""
    recognising = work.language.recognising
    if recognising is not None and name in recognising.programs(work.tree, work.part.path):
        return True
    top = name.partition(".")[0].partition("/")[0]
    place = f"{work.part.path}/" if work.part.path else ""
    folders = (f"{place}{top}", f"{place}src/{top}")
    return bool(top) and any(f"{one}.py" in work.tree or one in work.tree.folders for one in folders)
