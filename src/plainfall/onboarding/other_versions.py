"""Other versions than the newest ones, where these do not work: of the runtime, of a framework, of all packages."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from msgspec.structs import replace

from plainfall.errors import PlainfallError
from plainfall.onboarding.stages import installing, serving
from plainfall.onboarding.steps import Stage, State, Step
from plainfall.onboarding.work import Work
from plainfall.repository import last_commit_time
from plainfall.surroundings import passed_on

__all__ = ["as_it_says", "of_its_time", "older_runtime", "runtime_without_build", "taken_back"]

_OF_ANOTHER_KIND = frozenset(
    "command-missing setting-missing database-unreachable connection-refused host-unknown port-taken "
    "port-privileged permission disk-full killed question refuses-root table-missing file-missing "
    "migration-pending database-file database-password database-not-there".split()
)
_RELEASE_LINES = 4  # of a framework that are tried, the newest first
_OF_ANOTHER_RUNTIME = ("module-of-another-runtime", "name-of-another-runtime", "removed-in-runtime")
_OLD = timedelta(days=365)


def older_runtime(work: Work, step: Step, error: PlainfallError) -> str:
    """A runtime whose standard library still has the module, or the name in one, that the code imports, if one
    that fits is here."""
    recognising = work.language.recognising
    if error.rule not in _OF_ANOTHER_RUNTIME or recognising is None or work.wishes.runtime is not None:
        return ""
    before = work.state.record(work.part.key, installing.NEEDED_MODULES).get("modules", [])
    if error.thing in before or not recognising.asks_for_module(error.thing):
        return ""
    work.state.keep(work.part.key, installing.NEEDED_MODULES, {"modules": [*before, error.thing]})
    had = work.chosen().taken.identity
    try:
        result = installing.runtime(work)
        if work.chosen().taken.identity != had:
            installing.environment(work)
            installing.dependencies(work)
    except PlainfallError:
        work.state.keep(work.part.key, installing.NEEDED_MODULES, {"modules": before})
        installing.runtime(work)
        installing.environment(work)
        installing.dependencies(work)
        return ""
    if work.chosen().taken.identity == had:  # what somebody asks for more strongly stands
        work.state.keep(work.part.key, installing.NEEDED_MODULES, {"modules": before})
        return ""
    if step.stage is Stage.PROBE:
        serving.server(work)
    return f"newer runtimes have no {error.thing}: {result.title} was taken"


def runtime_without_build(work: Work, error: PlainfallError) -> str:
    """A runtime for which a package that could not be built is published ready to use, if one that fits is here."""
    name, _, version = error.thing.partition(" ")
    if "could not be built from source" not in error.cause or not version or work.wishes.runtime is not None:
        return ""
    if work.state.record(work.part.key, installing.NEEDED_WHEEL) or not work.installing.may_resolve(
        work.part
    ):
        return ""
    work.state.keep(work.part.key, installing.NEEDED_WHEEL, {"pin": [name, version]})
    had = work.chosen().taken.identity
    result = installing.runtime(work)
    if work.chosen().taken.identity == had:
        work.state.forget(work.part.key, installing.NEEDED_WHEEL)
        return ""
    installing.environment(work)
    return (
        f"{name} {version} cannot be built here, and is published ready for another runtime: {result.title}"
    )


def taken_back(work: Work) -> None:
    """Versions as of a day that did not help are no choice for later runs: the next one takes the newest again."""
    record = work.state.record(work.part.key, "dependencies")
    if work.as_of_tried and record.get("as_of") == work.as_of_tried:
        work.state.keep(work.part.key, "dependencies", {**record, "as_of": "", "fingerprint": ""})


def as_it_says(work: Work, step: Step, error: PlainfallError) -> str:
    """The versions that the project says it works with, where newer ones were taken and do not work: the newest
    that it names, then the one before that. Where none of them helps, the newest ones are taken again: the failure
    was of another kind, and no clone is to stay behind for it."""
    if not _is_of_versions(step, error):
        return ""
    tried = work.wishes.install.rather
    if "none" in tried or (not tried and work.state.record(work.part.key, "dependencies").get("rather")):
        return ""  # none of them helps, or an earlier run found the one that does
    said = list(work.installing.says_to_work_with(work.tree, work.part).items())[:_RELEASE_LINES]
    names = [wish for wish, _ in said]
    for wish, place in said[names.index(tried[0]) + 1 if tried and tried[0] in names else 0 :]:
        before = work.wishes
        work.wishes = replace(before, install=replace(before.install, rather=(wish,)))
        try:
            result = installing.dependencies(work)
        except PlainfallError:
            work.wishes = before
            return ""
        if result.state is State.DONE:
            if step.stage is Stage.PROBE:
                serving.server(work)
            return f"newer ones do not work: {wish}, as the project names it, was taken ({place}): {result.title}"
    if tried:
        work.wishes = replace(work.wishes, install=replace(work.wishes.install, rather=("none",)))
        installing.dependencies(work)
    return ""


def _is_of_versions(step: Step, error: PlainfallError) -> bool:
    """Whether other versions of packages may help: dependencies, or output with an error that is not known to be
    of another kind."""
    if error.rule in _OF_ANOTHER_KIND:
        return False
    return step.stage is Stage.DEPENDENCIES or any("Error" in line for line in error.lines)


def of_its_time(work: Work, step: Step, error: PlainfallError, *, installs: bool = False) -> str:
    """The versions as of the last commit, for an old clone whose versions are not pinned; where the step
    ``installs`` or its output has an error."""
    if work.wishes.install.as_of:
        return ""
    if not installs and not _is_of_versions(step, error):
        return ""
    if not work.installing.may_resolve(work.part):
        return ""
    last = last_commit_time(
        work.clone,
        passed_on(work.surroundings.variables) | {"PATH": work.surroundings.variables.get("PATH", "")},
    )
    if last is None or datetime.now(UTC) - last < _OLD:
        return ""
    day = last.date().isoformat()
    before = work.wishes
    work.wishes = replace(before, install=replace(before.install, as_of=day))
    try:
        installing.runtime(work)
        installing.environment(work)
        result = installing.dependencies(work)
    except PlainfallError as problem:
        work.wishes = before
        error.lines = (*error.lines, f"also tried: the versions as of {day}: {problem.cause}")
        return ""
    work.as_of_tried = day
    return f"versions were taken as of {day}, when the clone was last changed: {result.title}"
