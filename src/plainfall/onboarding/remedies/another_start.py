"""Another start command: the program's own word for serving, then the next candidate of the survey."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from plainfall.failure_kinds import FailureKind
from plainfall.onboarding.part.decisions import StartCommand
from plainfall.onboarding.part.steps import Stage
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Change, Failure
from plainfall.onboarding.stages.start_commands import command_named, in_turn, with_its_word
from plainfall.server.faults import NO_ANSWER

ORDER = 90
_DOCUMENTED = 40  # the rank of start commands that somebody wrote down for this very project
STAGES = frozenset({Stage.SERVER, Stage.PROBE})


def propose(work: Work, failure: Failure) -> Iterator[Change]:
    """Where no reason is known for which every other command would fail, too; after a page that is none, another
    documented one."""
    error, started = failure.error, failure.command
    if failure.stage is Stage.PROBE:
        started = in_turn(work)[0].line if work.part.candidates("server") else ""
        may_do = error.rule in (FailureKind.UNKNOWN, FailureKind.ATTRIBUTE_MISSING) and error.fault in (
            "",
            NO_ANSWER,
        )
        others = [one for one in in_turn(work) if one.rank >= _DOCUMENTED]
    else:
        may_do = error.another_may_do and bool(started)
        command = command_named(work, started) if started else None
        others = [*with_its_word(work, command, "\n".join(error.lines)), *in_turn(work)] if command else []
    if not started or not may_do or work.start_is_chosen:
        return
    for one in others:
        if one.line != started:
            yield Change(
                f"{one.line} instead of {started}",
                replace(work.decisions, start=StartCommand(one.line, one.reason)),
                Stage.SERVER,
                aside=True,
            )
