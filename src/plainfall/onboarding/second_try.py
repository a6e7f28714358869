"""What a developer would try next after a failure, where that is safe and changes nothing of the clone: a package
that another list of the project names, or the versions of the time when the clone was last changed."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from pathlib import Path

from msgspec.structs import replace

from plainfall.clone.parts import Addition
from plainfall.errors import CommandFailed, DependencyProblem, PathRefused, PlainfallError, ServerFailed
from plainfall.onboarding.database_folder import made_for_database
from plainfall.onboarding.other_versions import as_it_says, of_its_time, older_runtime, runtime_without_build
from plainfall.onboarding.stages import installing, serving
from plainfall.onboarding.stages.filling_data import rows_at_stake
from plainfall.onboarding.stages.starting import stop_server
from plainfall.onboarding.stages.tasks import carry_out
from plainfall.onboarding.steps import Stage, Step, StepResult
from plainfall.onboarding.work import DEVELOPMENT, IMPORT_FOLDER, SECRET_KEY, Work
from plainfall.patterns import regex
from plainfall.server.logs import end_of_log
from plainfall.settings.setting import Question

__all__ = ["second_try"]

_PROGRAM = regex(r"([\w.-]+) is not installed in the part's environment")
_RUNS_SERVER = regex(r"((?:python -m )?[\w.-]+) runserver\b")
# What a program makes by itself, if only its folder is there.
_WRITTEN = regex(
    r"\.(log|db|sqlite3?|pid|lock|cache)$|(^|/)(logs?|data|var|tmp|cache|instance|uploads|media)/[^/]+$"
)
# What a program says that lacks a part of a package that only the package's own code makes.
_LACKS_BUILD = regex(
    r"bindings|\.node\b|native (build|module|add-?on)|node-gyp|prebuil[dt]|has not been found installed|"
    r"for another platform|npm (install|rebuild)|extensions are not built|Could not find \S+ in (any of|locally)",
    re.IGNORECASE,
)
_UNKNOWN_WORD = regex(r"[Nn]o such command '([\w-]+)'|invalid choice: '([\w-]+)'")
_OWN_SETTINGS = "plainfall_development"  # the module's name
_SERVING_EXTRAS = tuple("server serve web webapp app http api ui gui cli".split())  # the likeliest first
_LATER = (Stage.MIGRATIONS, Stage.SEEDS, Stage.TASKS, Stage.SERVER, Stage.PROBE)


def second_try(work: Work, step: Step, error: PlainfallError) -> str:
    """Changes what may help, and returns it in words; "" if there is nothing to try. Raises what the steps that it
    carries out raise."""
    if not isinstance(error, DependencyProblem | CommandFailed | ServerFailed) or step.part != work.part.key:
        return ""
    if step.stage in _LATER:
        made = _missing_folder(work, step, error) or made_for_database(work, step, error)
        if made:
            return made
        given = (
            _secret_key(work, step, error)
            or _development_mode(work, error)
            or _program_beside(work, step, error)
        )
        if given:
            return given
    if work.part.dependencies is None:
        return ""
    if step.stage in _LATER:
        allowed = _withheld_code(work, error)
        if allowed:
            return allowed
        try:
            added = _own_folder(work, step, error) or _missing_package(work, step, error)
        except DependencyProblem as problem:  # what is missing cannot be had in its newest version
            added = of_its_time(work, step, problem, installs=True)
            if not added:
                raise
        added = added or _extra_for_a_word(work, error)
        if added:
            return added
        older = older_runtime(work, step, error)
        if older:
            return older
        migrated = _own_migrations(work, error) or _own_tables(work, step, error)
        if migrated:
            return migrated
    if step.stage is Stage.DEPENDENCIES:
        ready = runtime_without_build(work, error)
        if ready:
            return ready
    if step.stage is Stage.DEPENDENCIES or step.stage in _LATER:
        return as_it_says(work, step, error) or of_its_time(work, step, error)
    return ""


def _withheld_code(work: Work, error: PlainfallError) -> str:
    """A package that lacks what its own code makes at install, which was not allowed: on a terminal it is asked,
    once, and remembered; else the remedy says so."""
    text = "\n".join([*error.lines, end_of_log(Path(error.log)) if error.log else ""])
    names = work.state.record(work.part.key, "dependencies").get("withheld", ())
    meant = [
        one
        for one in names
        if re.search(
            rf"(?<![\w./-]|/){re.escape(one)}(?![\w-])|/{re.escape(one)}/|(?<![\w/-]){re.escape(one)}-\d",
            text,
        )
    ]
    if not meant or not _LACKS_BUILD.search(text):
        return ""
    shown = " and ".join(meant)
    if work.ask is not None:
        why = "The server stops without what it makes. Write yes to let it, for this clone."
        answer = work.ask(Question(f"the code of {shown}, at install", why, (), False, "no"))
        if (answer or "").strip().lower() in ("y", "yes"):
            wishes = work.wishes.install
            work.wishes = replace(work.wishes, install=replace(wishes, allowed=wishes.allowed | set(meant)))
            result = installing.dependencies(work)
            return f"{shown} ran its own code at install, as you allowed: {result.title}"
    words = " ".join(f"--allow-install-code {one}" for one in meant)
    error.remedy = (
        f"{shown} wants to run code of its own at install, which nobody allowed yet. Allow it with: {words}"
    )
    return ""


def _own_folder(work: Work, step: Step, error: PlainfallError) -> str:
    """A module of the project's own that stands in a folder above the part, or in a project beside it, and that
    nothing installs."""
    top = error.thing.partition(".")[0]
    if error.rule != "module-missing" or not work.part.path or not work.language.folder_variables:
        return ""
    before = work.state.record(work.part.key, IMPORT_FOLDER).get("folders", [])
    folder = _folder_with(work, top)
    if folder is None or folder in before:
        return ""
    work.state.keep(work.part.key, IMPORT_FOLDER, {"folders": [*before, folder]})
    name = work.language.folder_variables[0]
    if step.stage is Stage.PROBE:
        stop_server(work, work.server or {})
        serving.server(work)
    return f"{top} was missing: {folder or 'the folder at the top'} has it, and is in {name} now"


def _folder_with(work: Work, top: str) -> str | None:
    """The folder that a module of the clone is found in: the nearest above the part; else the only project of the
    clone that has it."""
    above = work.part.path
    while above:
        above = above.rpartition("/")[0]
        for folder in (above, f"{above}/src" if above else "src"):
            place = f"{folder}/{top}" if folder else top
            if f"{place}.py" in work.tree or f"{place}/__init__.py" in work.tree:
                return folder
    ending = f"/{top}/__init__.py"
    places = {path.removesuffix(ending) for path in work.tree.files if path.endswith(ending)}
    projects = [
        place for place in places if {"setup.py", "pyproject.toml"} & set(work.tree.folders.get(place, ()))
    ]
    return projects[0] if len(projects) == 1 else None


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


def _missing_folder(work: Work, step: Step, error: PlainfallError) -> str:
    """A folder of the clone in which the program writes (its log, its data), and that nobody made yet."""
    if error.rule not in ("file-missing", "database-file") or not error.thing:
        return ""
    place = Path(os.path.normpath(work.folder / error.thing)).parent
    inner = os.path.relpath(place, work.clone)
    written = _WRITTEN.search(error.thing) is not None
    # Of folders with a dot before their names (a repository's, ours) none is any program's to fill.
    if not written or inner.startswith(".") or "/." in inner or place.exists():
        return ""
    try:
        work.state.confined.resolve(inner)
        work.making("folder", work.clone / inner)
        work.state.confined.own_folder(inner)
    except PathRefused:
        return ""
    if step.stage is Stage.PROBE:
        stop_server(work, work.server or {})
        serving.server(work)
    return f"the folder {inner} was missing, in which {Path(error.thing).name} is written: it was made"


def _secret_key(work: Work, step: Step, error: PlainfallError) -> str:
    """A key for an application that signs sessions and has none: a developer would set any."""
    if error.rule != "secret-key" or work.state.record(work.part.key, SECRET_KEY):
        return ""
    work.state.keep(work.part.key, SECRET_KEY, {"names": ["SECRET_KEY", "FLASK_SECRET_KEY"]})
    if step.stage is Stage.PROBE:
        stop_server(work, work.server or {})
        serving.server(work)
    return "the application has no secret key: it got one, as SECRET_KEY and FLASK_SECRET_KEY"


def _development_mode(work: Work, error: PlainfallError) -> str:
    """The framework's development mode, by a module of ours that takes over the project's settings."""
    modes = [one.development for one in work.part.frameworks if one.development is not None]
    mode = next((one for one in modes if one.rule == error.rule), None)
    if mode is None or work.state.record(work.part.key, DEVELOPMENT):
        return ""
    module = work.settings.get(mode.variable, mode.module)
    if re.fullmatch(r"[A-Za-z_][\w.]*", module) is None:  # the clone's template says it, and it becomes code
        return ""
    folder = work.state.folder / "tools" / work.state.name_of(work.part.key) / "development"
    text = (
        f'"""Made by Plainfall: {module}, in development mode."""\n\n'
        f"from {module} import *  # noqa: F403\n\n{mode.more}"
    )
    work.state.confined.write(folder / f"{_OWN_SETTINGS}.py", text)
    place = folder.relative_to(work.clone).as_posix()
    variables = {mode.variable: _OWN_SETTINGS}
    work.state.keep(work.part.key, DEVELOPMENT, {"folder": place, "variables": variables})
    return f"{error.cause}: settings of {place}, which add {mode.more.strip()} to {module}, are used in this clone"


def _program_beside(work: Work, step: Step, error: PlainfallError) -> str:
    if step.stage is not Stage.PROBE or not work.part.processes:
        return ""
    from plainfall.onboarding.for_the_page import started_for_page  # after a failure only

    return started_for_page(work, step, error)


def _own_tables(work: Work, step: Step, error: PlainfallError) -> str:
    """A first step of the project's own (``NAME db upgrade``), where a page lacks the tables that nothing made."""
    if step.stage is not Stage.PROBE or error.rule != "table-missing" or work.part.candidates("migrations"):
        return ""
    from plainfall.onboarding.first_time import first_step

    done = first_step(work, work.part.candidates("server")[0], error.lines, error.log)
    if done:
        stop_server(work, work.server or {})
        serving.server(work)
    return done


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
