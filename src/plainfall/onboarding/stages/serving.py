"""The server: which start command is tried, and what is done where one ends at once."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

from msgspec.structs import replace

from plainfall.clone.commands import Command
from plainfall.errors import CommandFailed
from plainfall.onboarding.commands import USAGE
from plainfall.onboarding.stages.start_commands import (
    TRIES,
    as_root,
    from_above,
    in_turn,
    keep_answering,
    names_what_is_not_here,
    with_its_file,
    with_its_word,
    without_check,
)
from plainfall.onboarding.stages.starting import CommandEnded, ServerTalks, start_server
from plainfall.onboarding.steps import State, StepResult
from plainfall.onboarding.work import Work
from plainfall.patterns import regex

__all__ = ["server"]

# Words of a start command, or of the place that names it, that are a server's.
_SERVES = regex(
    r"serv(e|er|ing)\b|\bweb\b|\bhttps?\b|\bport\b|\$|\bhost\b|:\d{4,5}\b|\blisten|\bw?asgi\b|\bwsgi\b",
    re.IGNORECASE,
)


_FIRST_STEPS = 4  # things done before a server starts, one after the other


def server(work: Work) -> StepResult:
    """Starts the part's server and waits for its first answer; one that runs and is still right is kept.

    Where a start command ends at once for a reason that is not known, the next candidate is tried, three at the
    most; a command that a person chose is the only one. Raises ServerFailed with the lines of the log that matter.
    """
    candidates = in_turn(work)
    if not _may_serve(work, candidates[0]):
        from plainfall.onboarding.stages.programs import run_program  # most parts have a server

        try:
            result = run_program(work, candidates[0])
        except CommandFailed as error:
            if not candidates[0].may_fail or not any(USAGE.search(line) for line in error.lines):
                raise
            return _no_server([(candidates[0].line, error.cause)])
        if result is not None:
            return result
    failed: list[tuple[Command, CommandEnded | CommandFailed]] = []
    prepared: list[str] = []
    while candidates:
        command = candidates.pop(0)
        files = _files_in(work.folder)
        try:
            result = start_server(work, command)
        except ServerTalks as error:
            if any(one.line == command.line for found in work.part.frameworks for one in found.commands):
                raise
            return StepResult(
                State.DONE,
                f"{command.line}: it runs, and talks with a person on the terminal",
                f"{command.reason}; it is no server: it listens on no port",
                (command.evidence,),
                (*prepared, f"it was ended again; {error.remedy[:1].lower()}{error.remedy[1:]}"),
            )
        except (CommandEnded, CommandFailed) as error:
            may_go_on = len(prepared) < _FIRST_STEPS
            again = _after_first_time(work, command, error, files) if may_go_on else ""
            moved = (
                from_above(work, command, error)
                or without_check(work, command, error)
                or with_its_file(work, command, error)
                or as_root(work, command, error)
            )
            if not again and not moved and isinstance(error, CommandEnded) and not error.another_may_do:
                raise
            if moved and not again:  # what counts is how it goes there
                keep_answering(work, moved[0])
                candidates = [*moved, *candidates[: TRIES - len(failed) - 1]]
                continue
            failed.append((command, error))
            if again:
                prepared.append(again)
                candidates = [command, *candidates]
            else:
                candidates = [*with_its_word(work, command, "\n".join(error.lines)), *candidates]
            candidates = candidates[: TRIES + len(prepared) - len(failed)]
            continue
        if failed:
            keep_answering(work, command)
            tried = [f"tried first: {one.line}: {error.cause}" for one, error in failed]
            result = replace(result, remarks=(*prepared, *tried, *result.remarks))
        return result
    if _wants_more(work, failed):
        return _no_server([(one.line, error.cause) for one, error in failed])
    first = failed[0][1]
    others = [f"also tried: {one.line}: {error.cause}" for one, error in failed[1:]]
    first.lines = (*first.lines, *(f"before that: {one}" for one in prepared), *others)
    raise first


def _wants_more(work: Work, failed: Sequence[tuple[Command, CommandEnded | CommandFailed]]) -> bool:
    """Whether all that was tried are guesses that ended at once, or programs that want a reader's own project."""
    if not all(isinstance(error, CommandEnded) for _, error in failed):
        return False
    if failed[0][1].rule == "name-missing":
        return False  # it would start with another version of what it imports
    means_another = any(names_what_is_not_here(work, one, error) for one, error in failed)
    return all(
        one.may_fail
        or names_what_is_not_here(work, one, error)
        or (means_another and any(USAGE.search(line) for line in error.lines))
        for one, error in failed
    )


def _may_serve(work: Work, command: Command) -> bool:
    """Whether anything tells that what is started is a server: what it was before, the person's own port, a
    framework, the words of the command and of the place that names it, the part's packages and sources."""
    recognising, listed = work.language.recognising, work.part.dependencies
    if work.state.servers.get(work.part.key) or work.state.record(work.part.key, "start time"):
        return True
    if work.part.frameworks or work.wishes.port is not None or work.wishes.debug or recognising is None:
        return True
    if _SERVES.search(f"{command.line} {command.script} {command.reason}"):
        return True
    return recognising.may_serve(work.tree, work.part.path, listed.names if listed else ())


def _files_in(folder: Path) -> frozenset[str]:
    """The names in a part's folder that a start may add to: no logs, nothing hidden."""
    return frozenset(
        one.name
        for one in folder.iterdir()
        if one.is_file() and not one.name.startswith(".") and one.suffix != ".log"
    )


def _no_server(tried: list[tuple[str, str]]) -> StepResult:
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


def _after_first_time(
    work: Work, command: Command, error: CommandEnded | CommandFailed, files: frozenset[str]
) -> str:
    """What was done, or happened, once before the same command is worth another start, in words; "" for nothing."""
    if isinstance(error, CommandFailed):
        return ""
    written = sorted(_files_in(work.folder) - files)
    if written:
        return f"its first start wrote {', '.join(written[:3])} and ended"
    from plainfall.onboarding.first_time import first_step  # after a failure only

    return first_step(work, command, error.lines, error.log)
