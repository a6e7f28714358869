"""Why a start command is no server: the failure of each way in which a wait for an answer ends without one."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from plainfall.clone.commands import Command
from plainfall.diagnosis.reading import Diagnosis, is_usage, lines_that_matter, own_words, speaks_of_error
from plainfall.errors import ServerFailed
from plainfall.failure_kinds import FailureKind
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.stages.explaining import diagnose_for, mend_words
from plainfall.server.logs import end_of_log
from plainfall.server.ports import listening_ports
from plainfall.server.process import Running, belonging

if TYPE_CHECKING:  # asking over HTTP takes long to import, and most runs have a server that is kept
    from plainfall.server.readiness import Ready

__all__ = ["CommandEnded", "ServerAsks", "ServerTalks", "start_failure"]

# Reasons for which another start command may do: none that is known, and those that are about the command itself.
_ANOTHER_MAY_DO = (
    FailureKind.UNKNOWN,
    FailureKind.COMMAND_MISSING,
    FailureKind.NAME_MISSING,
    FailureKind.ATTRIBUTE_MISSING,
    FailureKind.OBJECT_LACKS,
    FailureKind.ARGUMENT_WANTED,
)


class ServerAsks(ServerFailed):
    """A server that waits for an answer to its ``question``."""

    question = ""


class ServerTalks(ServerFailed):
    """A program that waits for commands on its standard input, and listens nowhere."""


class CommandEnded(ServerFailed):
    """A start command that ended at once; ``ended_well`` tells that it ended with status 0, as a program does that
    has done its work, ``only_usage`` that it said nothing but how it is used."""

    ended_well = False
    only_usage = False


def start_failure(work: Work, command: Command, running: Running, ready: Ready) -> ServerFailed:
    """The failure of a start whose wait has ended so, with the lines of the log that matter."""
    output = work.masked(end_of_log(Path(running.log)))
    known = diagnose_for(work, output, ready.exit_status)
    if ready.state == "asks":
        first = f"Answer it yourself: plainfall inside -- {command.line}. Or settle it beforehand,"
        if "port" in ready.question.lower():
            first = "Settle it beforehand: a free port with --port N, else"
        asks = ServerAsks(
            f"the server asks a question, and there is no input here: {ready.question}",
            remedy=f"{first} by an option or a variable of that program, or its configuration.",
            place=command.evidence,
            lines=lines_that_matter(output),
            log=running.log,
        )
        asks.question = work.masked(ready.question)
        return asks
    if ready.state == "talks":
        return ServerTalks(
            f"it waits for commands on its standard input, and listens on no port after {ready.seconds:.0f} s",
            remedy=f"Talk with it: plainfall inside -- {command.line}",
            place=command.evidence,
            lines=lines_that_matter(output),
            log=running.log,
        )
    if ready.state == "circles":
        cause = f"the server restarts again and again, without an answer in {ready.seconds:.0f} s"
    elif ready.state == "ended":
        cause = f"the server ended with status {ready.exit_status} after {ready.seconds:.1f} s"
    else:
        value = listening_ports(belonging(running))
        where = f"though it listens on {', '.join(map(str, value))}" if value else "and listens on no port"
        if ready.mute:
            where += ": what it says there is no HTTP" if value else ""
        cause = f"the server gave no answer within {ready.seconds:.0f} s, {where}"
    own = own_words(lines_that_matter(output))
    # That a watcher waits says nothing of why the program ended.
    why = own or known.cause if known.rule is FailureKind.WATCHDOG_WAITS else known.cause or own
    error = (CommandEnded if ready.state == "ended" else ServerFailed)(
        cause + (f": {why}" if why else ""),
        remedy=known.remedy + mend_words(work, known)
        or (
            "Read its lines above."
            if ready.state == "ended"
            else "Give it longer with --wait SECONDS, or read its log."
        ),
        place=command.evidence,
        lines=lines_that_matter(output) or ("(no output)",),
        log=running.log,
        mend=known.mend,
        rule=known.rule,
        facts=known.facts,
        command=command.line if ready.state == "ended" else "",
        another_may_do=ready.state == "ended"
        and (known.rule in _ANOTHER_MAY_DO or _lacks_its_file(command, known)),
    )
    if isinstance(error, CommandEnded):
        error.ended_well = ready.exit_status == 0 and not speaks_of_error(output)
        error.only_usage = is_usage(output)
    return error


def _lacks_its_file(command: Command, known: Diagnosis) -> bool:
    """Whether the file that is missing is one that the command line itself names: that is wrong, and no other."""
    name = known.facts.named.rpartition("/")[2]
    return known.rule is FailureKind.FILE_MISSING and any(
        word.rpartition("/")[2] == name for word in command.line.split()
    )
