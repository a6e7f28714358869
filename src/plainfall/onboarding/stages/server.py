"""The server: the start command that was decided on, and what it is where none serves."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from plainfall.clone.commands import Command
from plainfall.errors import CommandFailed, PlainfallError
from plainfall.failure_kinds import FailureKind
from plainfall.kept_records import StartTime
from plainfall.onboarding.part.choices import Origin
from plainfall.onboarding.part.planning import Planned, left_out
from plainfall.onboarding.part.steps import State, Step, StepResult
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.stages.commands import USAGE
from plainfall.onboarding.stages.first_steps import files_in
from plainfall.onboarding.stages.stage import Stage
from plainfall.onboarding.stages.start_commands import (
    command_named,
    in_turn,
    means_this_project,
    names_what_is_not_here,
)
from plainfall.onboarding.stages.start_failures import CommandEnded, ServerTalks
from plainfall.onboarding.stages.starting import start_server
from plainfall.patterns import regex

__all__ = ["plan", "server", "without_server"]

# Words of a start command, or of the place that names it, that are a server's.
_SERVES = regex(
    r"serv(e|er|ing)\b|\bweb\b|\bhttps?\b|\bport\b|\$|\bhost\b|:\d{4,5}\b|\blisten|\bw?asgi\b|\bwsgi\b",
    re.IGNORECASE,
)


def plan(planned: Planned) -> Iterator[Step]:
    """The step that starts the part's server."""
    part = planned.part
    found = part.candidates("server")
    if not found:
        why = "no start command was found in process file, project scripts, README steps or main files"
        yield left_out(part, Stage.SERVER, why)
        return
    first = found[0]
    yield Step(part.key, Stage.SERVER, f"start {first.line}", first.reason, (first.evidence,), server)


def server(work: Work) -> StepResult:
    """Starts the part's server with the command that was decided on, and waits for its first answer; one that
    runs and is still right is kept. Raises ServerFailed with the lines of the log that matter."""
    command = in_turn(work)[0]
    if not _was_decided(work) and not _may_serve(work, command):
        from plainfall.onboarding.stages.programs import run_program  # most parts have a server

        try:
            result = run_program(work, command)
        except CommandFailed as error:
            if not command.may_fail or not any(USAGE.search(line) for line in error.lines):
                error.command, error.another_may_do = command.line, True
                raise
            return no_server([(command.line, error.cause)])
        if result is not None:
            return result
    files_before = files_in(work.folder) if not work.preview else frozenset()
    try:
        return _started(work, command)
    except PlainfallError as error:
        error.files_written = tuple(sorted(files_in(work.folder) - files_before))
        raise


def _started(work: Work, command: Command) -> StepResult:
    try:
        return start_server(work, command)
    except ServerTalks as error:
        if any(one.line == command.line for found in work.part.frameworks for one in found.commands):
            raise
        return StepResult(
            State.DONE,
            f"{command.line}: it runs, and takes commands on its standard input",
            f"{command.reason}; it is no server: it listens on no port",
            (command.evidence,),
            (f"it was ended again; {error.remedy[:1].lower()}{error.remedy[1:]}",),
        )
    except CommandFailed as error:
        error.command = command.line
        raise


# What a program says that it cannot do without, which this machine or its settings do not have.
_LACKS = frozenset(
    {
        FailureKind.COMMAND_MISSING,
        FailureKind.SETTING_MISSING,
        FailureKind.SECRET_KEY,
        FailureKind.TABLE_MISSING,
        FailureKind.CONNECTION_REFUSED,
        FailureKind.DATABASE_UNREACHABLE,
        FailureKind.DATABASE_NOT_THERE,
    }
)


def without_server(work: Work, failed: Sequence[PlainfallError]) -> StepResult | None:
    """The result where all start commands that were tried are guesses that ended at once, or programs that want a
    reader's own project: then there is none. None where one should have served. The first of ``failed`` is that of
    the likeliest command."""
    tried = [(command_named(work, one.command), one) for one in failed if one.command]
    if not tried or not all(
        isinstance(error, CommandEnded) or names_what_is_not_here(work, one, error) for one, error in tried
    ):
        return None
    likeliest, first = tried[0]
    if first.rule is FailureKind.NAME_MISSING:
        return None  # it would start with another version of what it imports
    if first.rule in _LACKS and _may_serve(work, likeliest):
        return None  # it would start with what it says that it lacks
    means_another = any(names_what_is_not_here(work, one, error) for one, error in tried)
    served = {command.line for found in work.part.frameworks for command in found.commands}
    is_none = all(
        one.may_fail
        or (
            isinstance(error, CommandEnded)
            and error.ended_well
            and one.line not in served
            and not means_this_project(work, one)
        )
        or names_what_is_not_here(work, one, error)
        or (means_another and any(USAGE.search(line) for line in error.lines))
        for one, error in tried
    )
    return no_server([(one.line, error.cause) for one, error in tried]) if is_none else None


def _was_decided(work: Work) -> bool:
    chosen = work.choices.server.command
    return chosen is not None and chosen.origin is Origin.FAILURE


def _may_serve(work: Work, command: Command) -> bool:
    """Whether anything tells that what is started is a server: what it was before, the person's own port, a
    framework, the words of the command and of the place that names it, the part's packages and sources."""
    recognising, listed = work.language.recognising, work.part.dependencies
    if work.state.servers.get(work.part.key) or work.state.kept(work.part.key, StartTime):
        return True
    wanted = work.choices.server
    if work.part.frameworks or wanted.port is not None or wanted.debug or recognising is None:
        return True
    if _SERVES.search(f"{command.line} {command.script} {command.reason}"):
        return True
    return recognising.may_serve(work.tree, work.part.path, listed.names if listed else ())


def no_server(tried: list[tuple[str, str]]) -> StepResult:
    """The result where nothing says how a project is started, and its own programs do not serve by themselves."""
    return StepResult(
        State.LEFT_OUT,
        "no server was started",
        "nothing says how one is started, and its own programs end at once: it may be a library or a tool",
        (),
        (
            *(f"tried: {line}: {cause}" for line, cause in tried),
            "name its start command, if it has one: plainfall serve --command COMMAND",
        ),
    )
