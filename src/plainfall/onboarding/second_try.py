"""What a developer would try next after a failure, where that is safe and changes nothing of the clone: a package
that another list of the project names, or the versions of the time when the clone was last changed."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace
from datetime import UTC, datetime, timedelta

from plainfall.clone.parts import Addition
from plainfall.errors import CommandFailed, DependencyProblem, PlainfallError, ServerFailed
from plainfall.onboarding.stages import installing, serving
from plainfall.onboarding.stages.filling_data import rows_at_stake
from plainfall.onboarding.stages.starting import stop_server
from plainfall.onboarding.stages.tasks import carry_out
from plainfall.onboarding.steps import Stage, State, Step, StepResult
from plainfall.onboarding.work import IMPORT_FOLDER, Work
from plainfall.repository import last_commit_time
from plainfall.surroundings import passed_on

__all__ = ["second_try"]

_PROGRAM = re.compile(r"([\w.-]+) is not installed in the part's environment")
_RUNS_SERVER = re.compile(r"((?:python -m )?[\w.-]+) runserver\b")
_OF_ANOTHER_KIND = frozenset(
    "command-missing setting-missing database-unreachable connection-refused host-unknown port-taken "
    "port-privileged permission disk-full killed question refuses-root".split()
)
_UNKNOWN_WORD = re.compile(r"[Nn]o such command '([\w-]+)'|invalid choice: '([\w-]+)'")
_SERVING_EXTRAS = (
    "server",
    "serve",
    "web",
    "webapp",
    "app",
    "http",
    "api",
    "ui",
    "gui",
    "cli",
)  # the likeliest first
_RELEASE_LINES = 4  # of a framework that are tried, the newest first
_OLD = timedelta(days=365)
_LATER = (Stage.MIGRATIONS, Stage.SEEDS, Stage.TASKS, Stage.SERVER, Stage.PROBE)


def second_try(work: Work, step: Step, error: PlainfallError) -> str:
    """Changes what may help, and returns it in words; "" if there is nothing to try. Raises what the steps that it
    carries out raise."""
    if not isinstance(error, DependencyProblem | CommandFailed | ServerFailed):
        return ""
    if work.part.dependencies is None or step.part != work.part.key:
        return ""
    if step.stage in _LATER:
        try:
            added = _own_folder(work, step, error) or _missing_package(work, step, error)
        except DependencyProblem as problem:  # what is missing cannot be had in its newest version
            added = _of_its_time(work, step, problem, installs=True)
            if not added:
                raise
        added = added or _extra_for_a_word(work, error)
        if added:
            return added
        older = _older_runtime(work, step, error)
        if older:
            return older
        migrated = _own_migrations(work, error)
        if migrated:
            return migrated
    if step.stage is Stage.DEPENDENCIES or step.stage in _LATER:
        return _as_it_says(work, step, error) or _of_its_time(work, step, error)
    return ""


def _own_folder(work: Work, step: Step, error: PlainfallError) -> str:
    """A module of the project's own that stands in a folder above the part, and that nothing installs."""
    top = error.thing.partition(".")[0]
    if error.rule != "module-missing" or not work.part.path or not work.language.folder_variables:
        return ""
    if work.state.record(work.part.key, IMPORT_FOLDER):
        return ""
    above = work.part.path
    while above:
        above = above.rpartition("/")[0]
        for folder in (above, f"{above}/src" if above else "src"):
            place = f"{folder}/{top}" if folder else top
            if f"{place}.py" in work.tree or f"{place}/__init__.py" in work.tree:
                work.state.keep(work.part.key, IMPORT_FOLDER, {"folder": folder})
                name = work.language.folder_variables[0]
                if step.stage is Stage.PROBE:
                    stop_server(work, work.server or {})
                    serving.server(work)
                return f"{top} was missing: {folder or 'the folder at the top'} has it, and is in {name} now"
    return ""


def _missing_package(work: Work, step: Step, error: PlainfallError) -> str:
    """A module that is not installed, and that another list of the project names."""
    program = _PROGRAM.match(error.cause)
    thing = error.thing if error.rule.endswith("-missing") else program.group(1) if program else ""
    if not thing or work.part.dependencies is None:
        return ""
    addition = work.installing.package_for(work.tree, work.part, thing)
    if addition is None or any(one.text == addition.text for one in work.part.dependencies.additions):
        return ""
    extra = work.installing.extra_with(work.tree, work.part, addition)
    more = [addition]
    if addition.is_well_known:
        had = {one.text for one in (*work.part.dependencies.additions, addition)}
        more += [one for one in work.part.dependencies.unlisted if one.is_well_known and one.text not in had]
    if extra and extra not in work.wishes.install.extras:
        wishes = work.wishes.install
        work.wishes = replace(work.wishes, install=replace(wishes, extras=wishes.extras | {extra}))
        result: StepResult | None = installing.dependencies(work)
    else:
        result = _with_more(work, more)
    if result is None:
        return ""
    if step.stage is Stage.PROBE:
        serving.server(work)  # it has loaded what was there when it started
    names = " and ".join(one.text for one in more)
    what = f"the extra {extra}, which lists {addition.text}," if extra else names
    return f"{thing} was missing: {what} was installed, too ({addition.evidence}): {result.title}"


def _extra_for_a_word(work: Work, error: PlainfallError) -> str:
    """An extra that may bring a documented command of the project's own program, where the program does not know
    it."""
    unknown = next((match for line in error.lines if (match := _UNKNOWN_WORD.search(line))), None)
    listed = work.part.dependencies
    if unknown is None or listed is None:
        return ""
    known = work.wishes.install.extras | set(
        work.state.record(work.part.key, "dependencies").get("extras", ())
    )
    extra = next((one for one in _SERVING_EXTRAS if one in listed.offered[0] and one not in known), "")
    if not extra:
        return ""
    wishes = work.wishes.install
    work.wishes = replace(work.wishes, install=replace(wishes, extras=wishes.extras | {extra}))
    result = installing.dependencies(work)
    word = unknown.group(1) or unknown.group(2)
    return f"its program does not know {word!r} yet: the extra {extra} was installed, too: {result.title}"


def _older_runtime(work: Work, step: Step, error: PlainfallError) -> str:
    """A runtime whose standard library still has the module that the code imports, if one that fits is here."""
    recognising = work.language.recognising
    if error.rule != "module-of-another-runtime" or recognising is None or work.wishes.runtime is not None:
        return ""
    before = work.state.record(work.part.key, installing.NEEDED_MODULE)
    if before or not recognising.asks_for_module(error.thing):
        return ""
    work.state.keep(work.part.key, installing.NEEDED_MODULE, {"module": error.thing})
    had = work.chosen().taken.identity
    try:
        result = installing.runtime(work)
        if work.chosen().taken.identity != had:
            installing.environment(work)
            installing.dependencies(work)
    except PlainfallError:
        work.state.forget(work.part.key, installing.NEEDED_MODULE)
        installing.runtime(work)
        installing.environment(work)
        installing.dependencies(work)
        return ""
    if work.chosen().taken.identity == had:  # what somebody asks for more strongly stands
        work.state.forget(work.part.key, installing.NEEDED_MODULE)
        return ""
    if step.stage is Stage.PROBE:
        serving.server(work)
    return f"newer runtimes have no module {error.thing}: {result.title} was taken"


def _own_migrations(work: Work, error: PlainfallError) -> str:
    """The migrations of a program of the project's own that runs its framework's commands (``gauges runserver``),
    where it says that some are pending."""
    match = _RUNS_SERVER.match(str((work.server or {}).get("command", "")))
    if error.rule != "migration-pending" or match is None or work.part.candidates("migrations"):
        return ""
    line = f"{match.group(1)} migrate --noinput"
    if work.state.record(work.part.key, "own migrations") or rows_at_stake(work):
        return ""
    work.state.keep(work.part.key, "own migrations", {"line": line})
    base = work.part.candidates("server")[0]
    stop_server(work, work.server or {})  # what a command leaves running is ended, and this is not its own
    carry_out(work, "migrations", replace(base, stage="migrations", line=line, script=""))
    serving.server(work)
    return f"migrations were pending: `{line}` was run"


def _with_more(work: Work, additions: Sequence[Addition]) -> StepResult | None:
    """Adds packages to the part, in this run and in later ones; None, and nothing is added, if names that no list
    has cannot be installed."""
    before = work.state.record(work.part.key, installing.ADDED)
    rows = list(before.get("rows", []))
    for one in additions:
        place = one.evidence
        rows.append([one.text, place.path, place.line, place.text, one.in_place])
    part = work.part
    work.state.keep(work.part.key, installing.ADDED, {"rows": rows})
    try:
        return installing.dependencies(work)
    except PlainfallError:
        if not additions[0].is_well_known:
            raise
    work.part = part
    work.state.keep(part.key, installing.ADDED, {"rows": before.get("rows", [])})
    return None


def _as_it_says(work: Work, step: Step, error: PlainfallError) -> str:
    """The versions that the project says it works with, where newer ones were taken and do not work: the newest
    that it names, then the one before that."""
    if not _is_of_versions(step, error):
        return ""
    tried = work.wishes.install.rather
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
    return ""


def _is_of_versions(step: Step, error: PlainfallError) -> bool:
    """Whether other versions of packages may help: dependencies, or output with an error that is not known to be
    of another kind."""
    if error.rule in _OF_ANOTHER_KIND:
        return False
    return step.stage is Stage.DEPENDENCIES or any("Error" in line for line in error.lines)


def _of_its_time(work: Work, step: Step, error: PlainfallError, *, installs: bool = False) -> str:
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
    except PlainfallError:
        work.wishes = before
        return ""
    return f"versions were taken as of {day}, when the clone was last changed: {result.title}"
